package archive

import (
	"errors"
	"io"
	"sync"

	"fitcheck/core/fault"
)

// aside visits members of a stream on another goroutine, where one is free, while the stream goes
// on: what lies in a RAM disk takes longer to look through than the RAM disk itself takes to pass.
// A member is kept aside for that, in memory or in a temporary file.
type aside struct {
	w    *walker
	busy sync.WaitGroup
	mu   sync.Mutex
	err  error // the first that ends the walk
}

const (
	asideFrom = 256 << 10 // a smaller member is visited at once
	asideMost = 256 << 20 // and one that is larger: it would fill the temporary folder
)

// item visits a member, whose content is read before it returns. p is the pass over the stream.
func (a *aside) item(p *pass, it *Item, data io.Reader) error {
	return a.visit(p, it, source{r: data}, true)
}

// visit is item; kept says that the content has to be kept, since it comes but once.
func (a *aside) visit(p *pass, it *Item, src source, kept bool) error {
	if err := a.failed(); err != nil {
		return err
	}
	if it.Size < asideFrom || it.Size > asideMost || p.quick() {
		return a.w.item(it, src)
	}
	select {
	case a.w.slots <- struct{}{}:
	default:
		return a.w.item(it, src)
	}
	done := func() { <-a.w.slots }
	if kept {
		s, damage, err := a.w.spoolFrom(src.r)
		if err != nil {
			done()
			return err
		}
		rest := io.Reader(eof{})
		if damage != nil {
			rest = failing{damage}
		}
		src.r = io.MultiReader(io.NewSectionReader(s, 0, s.size), rest)
		done = func() { s.Close(); <-a.w.slots }
	}
	a.busy.Go(func() {
		defer done()
		if err := fault.Do(func() error { return a.w.item(it, src) }); err != nil {
			a.fail(err)
		}
	})
	return nil
}

func (a *aside) fail(err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.err == nil {
		a.err = err
	}
}

func (a *aside) failed() error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.err
}

// wait waits until all members have been visited. err is what the stream itself ended with.
func (a *aside) wait(err error) error {
	a.busy.Wait()
	if failed := a.failed(); failed != nil && (err == nil || !errors.Is(failed, err)) {
		return failed
	}
	return err
}
