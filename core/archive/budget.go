package archive

import (
	"context"
	"errors"
	"io"
)

// reader passes bytes on and books them against the bounds. For the package
// itself (path set) a read error is the system's, not the content's.
type reader struct {
	w    *walker
	item string
	r    io.Reader
	path string
	// packed tells how many packed bytes the ones read so far came from; nil
	// where nothing is inflated.
	packed func() int64
	n      int64
	guess  bool // that there is a stream at all is a guess
}

func (r *reader) Read(p []byte) (int, error) {
	if err := r.w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := r.r.Read(p)
	r.n += int64(n)
	if r.path != "" {
		r.w.progress.add(int64(n))
	}
	if bound := r.w.book(r, int64(n)); bound != nil {
		return n, bound
	}
	if err != nil && err != io.EOF {
		if r.path != "" {
			err = r.w.failure.note(r.path, err)
		} else if !r.guess {
			err = bounded(r.item, r.w.limits, err)
		}
	}
	return n, err
}

func (w *walker) book(r *reader, n int64) error {
	l := w.limits
	total := w.bytes.Add(n)
	if total > l.Bytes {
		return &BoundError{r.item, BoundBytes, l.Bytes}
	}
	if r.packed == nil {
		return nil
	}
	if r.n > l.ItemFree && r.n/l.ItemRatio > r.packed() {
		return &BoundError{r.item, BoundItemRatio, l.ItemRatio}
	}
	if total > l.TotalFree && total/l.TotalRatio > w.packed.Load() {
		return &BoundError{r.item, BoundTotalRatio, l.TotalRatio}
	}
	return nil
}

func (w *walker) countItem(address string) error {
	if w.items.Add(1) > w.limits.Items {
		return &BoundError{address, BoundItems, w.limits.Items}
	}
	return nil
}

func (w *walker) enter(it *Item, levels int) error {
	if it.Depth+levels > w.limits.Depth {
		return &BoundError{it.Address, BoundDepth, int64(w.limits.Depth)}
	}
	return nil
}

// fatal tells errors that end the walk from those that are the content's.
func fatal(err error) bool {
	var b *BoundError
	var o *OpenError
	var v *visitorError
	return errors.As(err, &b) || errors.As(err, &o) || errors.As(err, &v) || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

// visitorError is what a visitor failed with, which says nothing of the package.
type visitorError struct{ error }

func (e *visitorError) Unwrap() error { return e.error }

func byVisitor(err error) error {
	if err == nil {
		return nil
	}
	return &visitorError{err}
}

// disk is random access to a file of the system's: where it cannot be read, that is no damage of what it holds.
type disk struct {
	at      io.ReaderAt
	path    string
	failure *failure
}

func (d *disk) ReadAt(p []byte, off int64) (int, error) {
	n, err := d.at.ReadAt(p, off)
	if err != nil && err != io.EOF && off >= 0 { // what lies before the beginning is no fault of the disk's
		err = d.failure.note(d.path, err)
	}
	return n, err
}

// progressAt is random access to a package on disk whose reads show as
// progress.
type progressAt struct {
	at io.ReaderAt
	w  *walker
}

func (c *progressAt) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.at.ReadAt(p, off)
	c.w.progress.add(int64(n))
	return n, err
}

// counted gives an item's content for random access. Of the package itself
// the reads count as progress.
func (w *walker) counted(p *pass) io.ReaderAt {
	if p.it.Depth > 0 {
		return p.at
	}
	w.progress.expect(p.it.Size)
	return &progressAt{p.at, w}
}
