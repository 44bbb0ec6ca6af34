package archive

import (
	"io"
	"sync"

	"fitcheck/core/fault"
)

// aside visits members of a stream on another goroutine, where one is free, while the stream goes
// on: what lies in a RAM disk takes longer to look through than the RAM disk itself takes to pass.
// A member is kept aside for that, in memory or in a temporary file, and waits its turn.
type aside struct {
	w    *walker
	busy sync.WaitGroup

	mu      sync.Mutex
	change  *sync.Cond // waiting or ended has changed
	waiting []asideMember
	ended   bool  // no more will come
	bytes   int64 // of those that are kept
	err     error // the first that ends the walk
}

// asideMember is a member that waits.
type asideMember struct {
	it   *Item
	src  source
	kept *spool // what src reads from, where it had to be kept
	// data are its bytes, where all of them could be read.
	data *io.SectionReader
}

const (
	asideFrom = 256 << 10 // a smaller member is visited at once
	asideMost = 256 << 20 // bytes that are kept at once: they must not fill the temporary folder
)

// item visits a member, whose content is read before it returns. p is the pass over the stream.
func (a *aside) item(p *pass, it *Item, data io.Reader) error {
	return a.visit(p, it, source{r: data}, true)
}

// visit is item; keep says that the content has to be kept, since it comes but once.
func (a *aside) visit(p *pass, it *Item, src source, keep bool) error {
	if err := a.failed(); err != nil {
		return err
	}
	if it.Size < asideFrom || p.quick() || !a.room(it.Size) {
		return a.w.item(it, src)
	}
	m := asideMember{it: it, src: src}
	if src.at != nil {
		m.data = io.NewSectionReader(src.at, 0, it.Size)
	}
	if keep {
		s, damage, err := a.w.spoolFrom(src.r)
		if err != nil {
			return err
		}
		rest := io.Reader(eof{})
		if m.data = io.NewSectionReader(s, 0, s.size); damage != nil {
			rest, m.data = failing{damage}, nil
		}
		m.kept, m.src.r = s, io.MultiReader(io.NewSectionReader(s, 0, s.size), rest)
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.waiting = append(a.waiting, m)
	a.change.Signal()
	return a.err
}

// room tells whether a member of so many bytes can be kept, and another goroutine will visit it.
func (a *aside) room(size int64) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.bytes+size > asideMost {
		return false
	}
	if a.change == nil {
		select {
		case a.w.slots <- struct{}{}:
		default:
			return false
		}
		a.change = sync.NewCond(&a.mu)
		a.busy.Go(func() {
			defer func() { <-a.w.slots }()
			for a.next(true) {
			}
		})
	}
	a.bytes += size
	return true
}

// next visits the next member that waits, and tells whether there was one. wait says whether it
// waits for one that is still to come. Once the walk has failed, members are let go of unvisited.
func (a *aside) next(wait bool) bool {
	a.mu.Lock()
	for wait && len(a.waiting) == 0 && !a.ended {
		a.change.Wait()
	}
	if len(a.waiting) == 0 {
		a.mu.Unlock()
		return false
	}
	m, failed := a.waiting[0], a.err != nil
	a.waiting = a.waiting[1:]
	a.mu.Unlock()
	var err error
	if !failed {
		err = fault.Do(func() error { return a.w.once(m.it, m.data, packedAs{}, func() error { return a.w.item(m.it, m.src) }) })
	}
	if m.kept != nil {
		m.kept.Close()
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.bytes -= m.it.Size
	if a.err == nil {
		a.err = err
	}
	return true
}

func (a *aside) failed() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.err
}

// wait visits what is left, together with the other goroutine. err is what the stream itself ended
// with: where it is damaged, what came before the damage is visited all the same.
func (a *aside) wait(err error) error {
	a.mu.Lock()
	if a.ended = true; a.change != nil {
		a.change.Broadcast()
	}
	if a.err == nil && err != nil && fatal(err) {
		a.err = err
	}
	a.mu.Unlock()
	for a.next(false) {
	}
	a.busy.Wait()
	if failed := a.failed(); failed != nil {
		return failed
	}
	return err
}
