package archive

import (
	"fmt"
	"io"
)

// A quick look reads heads: of a stream no more is inflated than QuickBytes, and what lies behind
// them is told to be not looked at.

// QuickBytes is how much of one stream a quick look inflates, and slowBytes how much of one that inflates
// slowly.
const (
	QuickBytes = 1 << 20
	slowBytes  = 512 << 10
)

// errQuick ends the reading of a stream of which no more is wanted; it is no damage.
type errQuick struct{ after int } // bytes

func (*errQuick) Error() string { return "no more of the stream is wanted" }

// quick tells whether the content of a pass is not wanted beyond what tells what it is.
func (p *pass) quick() bool {
	s, ok := p.sink.(Skipper)
	return ok && s.Skip()
}

// quickReader reads the beginning of a stream.
type quickReader struct {
	r        io.Reader
	all, got int
}

func (q *quickReader) Read(b []byte) (int, error) {
	if q.got >= q.all {
		return 0, &errQuick{q.all}
	}
	n, err := q.r.Read(b[:min(len(b), q.all-q.got)])
	q.got += n
	return n, err
}

// passOver ends a pass of which no more is wanted.
func (p *pass) passOver() {
	p.skipped = true
	if p.it.Size >= 0 {
		p.n.Store(p.it.Size)
	}
}

// stopped ends a pass whose stream holds more than a quick look inflates.
func (p *pass) stopped(after int) {
	if !p.skipped {
		p.problem(Note, fmt.Sprintf("what lies behind its first %d KiB is not listed (-quick)", after>>10), "")
	}
	p.passOver()
}

// passOver shows an item to the visitor that lies too deep in a stream for a quick look.
func (w *walker) passOver(it *Item) error {
	if err := w.countItem(it.Address); err != nil {
		return err
	}
	return byVisitor(w.visitor.Begin(it, nil).End(&Content{w: w, address: it.Address, size: max(0, it.Size), depth: it.Depth, skipped: true}, nil))
}
