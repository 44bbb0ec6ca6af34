package survey

import (
	"slices"
	"sync"
	"sync/atomic"

	"github.com/hashicorp/golang-lru/v2/simplelru"

	"fitcheck/core/archive"
	"fitcheck/core/image"
)

// Seen keeps what content was found to be, so that its equal in another package of the kit, or elsewhere in
// the same, is not looked into again. One may serve several surveys at once; those that are asked for
// something else take nothing over from one another.
type Seen struct {
	mu    sync.Mutex
	found *simplelru.LRU[seenKey, *snapshot]
	of    map[*archive.Item]*snapshot
	items int
	parts map[view]*image.Known // what lies inside images
	taken atomic.Int64          // how often something was taken over
}

// seenKey is content, and what was asked of it.
type seenKey struct {
	archive.Key
	view
}

// view is what a survey asks of items beside their content and names, which are compared. The formats themselves are
// part of it, since each kit has its own.
type view struct {
	deep, contents, texts, undigested, names bool
	formats                                  *image.Set
	limits                                   archive.Limits
}

// snapshot is what an item and all that lies in it was found to be, before the package as a whole was judged.
type snapshot struct {
	of      *archive.Item
	items   []*Item
	reports []archive.Problem
}

// Of how many items it is kept what they were found to be, in all and of one. An item takes about a KiB.
const (
	maxSeen     = 20_000
	maxSnapshot = 2_000
)

// NewSeen makes an empty one.
func NewSeen() *Seen {
	s := &Seen{of: map[*archive.Item]*snapshot{}, parts: map[view]*image.Known{}}
	s.found, _ = simplelru.NewLRU(maxSeen, func(_ seenKey, old *snapshot) { // it fails on a size that is none
		delete(s.of, old.of)
		s.items -= len(old.items)
	})
	return s
}

func (s *Seen) known(k seenKey) *archive.Item {
	s.mu.Lock()
	defer s.mu.Unlock()
	if found, ok := s.found.Get(k); ok {
		return found.of
	}
	return nil
}

func (s *Seen) snapshot(of *archive.Item) *snapshot {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.of[of]
}

func (s *Seen) keep(k seenKey, found *snapshot) {
	if len(found.items) == 0 || len(found.items) > maxSnapshot {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.found.Contains(k) {
		return
	}
	s.found.Add(k, found)
	s.of[found.of] = found
	for s.items += len(found.items); s.items > maxSeen; {
		s.found.RemoveOldest()
	}
}

// partsOf is what parts of images were found to hold by surveys that ask the same.
func (s *Seen) partsOf(v view) *image.Known {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.parts[v] == nil {
		s.parts[v] = image.NewKnown()
	}
	return s.parts[v]
}

// Across implements archive.Sharer.
func (c *collector) Across() bool { return c.across }

// Known implements archive.Sharer.
func (c *collector) Known(k archive.Key) *archive.Item { return c.seen.known(seenKey{k, c.view}) }

// Keep implements archive.Sharer.
func (c *collector) Keep(k archive.Key, it *archive.Item) {
	c.mu.Lock()
	led := slices.Clone(c.led[it])
	found := &snapshot{of: it, reports: c.reportsIn(it)}
	c.mu.Unlock()
	if it.Streamed && len(found.reports) > 0 {
		return // they may be of another member of its name
	}
	same := func(address string) string { return address }
	for _, o := range led {
		found.items = append(found.items, o.under(o.Item, same))
	}
	c.seen.keep(seenKey{k, c.view}, found)
}
