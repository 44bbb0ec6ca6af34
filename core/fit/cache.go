package fit

import (
	"slices"
	"sync"

	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

// Cache keeps what a match works out of packages alone, so that it is done
// once when many devices are held against the same surveys. It may be used
// from several goroutines at once; a nil one keeps nothing.
type Cache struct {
	mu     sync.RWMutex
	checks map[about][]Check
	items  map[about][]*survey.Item
	ways   map[about]string
}

// NewCache makes an empty cache.
func NewCache() *Cache {
	return &Cache{checks: map[about][]Check{}, items: map[about][]*survey.Item{}, ways: map[about]string{}}
}

// about is everything that what is kept depends on.
type about struct {
	what      string
	survey    *survey.Survey
	item      *survey.Item
	component string
	rb        *rulebook.Rulebook
	model     *y.Entry[rulebook.Model]
	family    string
	release   *rulebook.Release
	text      string
}

// keptChecks returns what is kept, or makes it. Whoever gets it may append to
// its sources without harm to others.
func (c *Cache) keptChecks(key about, make func() []Check) []Check {
	if c == nil {
		return make()
	}
	c.mu.RLock()
	kept, ok := c.checks[key]
	c.mu.RUnlock()
	if ok {
		return kept
	}
	kept = slices.Clip(make())
	for i := range kept {
		kept[i].Sources = slices.Clip(kept[i].Sources)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.checks[key] = kept
	return kept
}

func (c *Cache) keptItems(key about, make func() []*survey.Item) []*survey.Item {
	if c == nil {
		return make()
	}
	c.mu.RLock()
	kept, ok := c.items[key]
	c.mu.RUnlock()
	if ok {
		return kept
	}
	kept = slices.Clip(make())
	c.mu.Lock()
	defer c.mu.Unlock()
	c.items[key] = kept
	return kept
}

// key is what everything that is kept of a component's items depends on.
func (j *judge) key(what string, c component, it *survey.Item) about {
	return about{what: what, survey: j.s, item: it, component: c.name, rb: j.rb, model: j.model, family: j.family()}
}

// keptWay is the same for the way to a release, in words.
func (c *Cache) keptWay(key about, make func() string) string {
	if c == nil {
		return make()
	}
	c.mu.RLock()
	kept, ok := c.ways[key]
	c.mu.RUnlock()
	if ok {
		return kept
	}
	kept = make()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ways[key] = kept
	return kept
}
