package fit

import (
	"slices"
	"sync"

	"fitcheck/core/fit/check"
	"fitcheck/core/survey"
)

// Cache keeps what a match works out of packages alone, so that it is done once
// when many devices are held against the same surveys. It may be used from several
// goroutines at once; a nil one keeps nothing.
type Cache struct {
	mu     sync.RWMutex
	checks map[check.Key][]Check
	items  map[check.Key][]*survey.Item
	ways   map[check.Key]string
}

// NewCache makes an empty cache.
func NewCache() *Cache {
	return &Cache{checks: map[check.Key][]Check{}, items: map[check.Key][]*survey.Item{}, ways: map[check.Key]string{}}
}

// keep returns what is kept, or makes it.
func keep[T any](c *Cache, kept func(*Cache) map[check.Key]T, key check.Key, make func() T) T {
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

// Lines keeps lines. Whoever gets them may append to their sources without harm to
// others.
func (c *Cache) Lines(key check.Key, make func() []Check) []Check {
	return keep(c, func(c *Cache) map[check.Key][]Check { return c.checks }, key, func() []Check {
		all := slices.Clip(make())
		for i := range all {
			all[i].Sources = slices.Clip(all[i].Sources)
		}
		return all
	})
}

func (c *Cache) lines(key check.Key, make func() []Check) []Check { return c.Lines(key, make) }

// Items keeps items.
func (c *Cache) Items(key check.Key, make func() []*survey.Item) []*survey.Item {
	return keep(c, func(c *Cache) map[check.Key][]*survey.Item { return c.items }, key, func() []*survey.Item { return slices.Clip(make()) })
}

// keptWay keeps the way to a release, in words.
func (c *Cache) keptWay(key check.Key, make func() string) string {
	return keep(c, func(c *Cache) map[check.Key]string { return c.ways }, key, make)
}
