package archive

import "sync/atomic"

// Progress tells how far a walk has come: bytes of the package that were
// read, and how many there are to read in all. The zero value is ready; a nil
// one counts nothing.
type Progress struct {
	done, total atomic.Int64
}

// Done and Total may be asked at any time.
func (p *Progress) Done() int64 { return p.done.Load() }

// Total grows when more is found to be read.
func (p *Progress) Total() int64 { return p.total.Load() }

func (p *Progress) add(n int64) {
	if p != nil {
		p.done.Add(n)
	}
}

func (p *Progress) expect(n int64) {
	if p != nil {
		p.total.Add(n)
	}
}
