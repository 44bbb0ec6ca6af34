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

// keep returns what is kept, or makes it.
func keep[T any](c *Cache, kept func(*Cache) map[about]T, key about, make func() T) T {
	if c == nil {
		return make()
	}
	c.mu.RLock()
	one, ok := kept(c)[key]
	c.mu.RUnlock()
	if ok {
		return one
	}
	one = make()
	c.mu.Lock()
	defer c.mu.Unlock()
	kept(c)[key] = one
	return one
}

// keptChecks keeps checks. Whoever gets them may append to their sources
// without harm to others.
func (c *Cache) keptChecks(key about, make func() []Check) []Check {
	return keep(c, func(c *Cache) map[about][]Check { return c.checks }, key, func() []Check {
		all := slices.Clip(make())
		for i := range all {
			all[i].Sources = slices.Clip(all[i].Sources)
		}
		return all
	})
}

func (c *Cache) keptItems(key about, make func() []*survey.Item) []*survey.Item {
	return keep(c, func(c *Cache) map[about][]*survey.Item { return c.items }, key, func() []*survey.Item { return slices.Clip(make()) })
}

// keptWay keeps the way to a release, in words.
func (c *Cache) keptWay(key about, make func() string) string {
	return keep(c, func(c *Cache) map[about]string { return c.ways }, key, make)
}

// key is what everything that is kept of a component's items depends on.
func (j *judge) key(what string, c component, it *survey.Item) about {
	return about{what: what, survey: j.s, item: it, component: c.name, rb: j.rb, model: j.model, family: j.family()}
}
