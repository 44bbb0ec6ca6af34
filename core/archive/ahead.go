package archive

import (
	"io"
	"sync"

	"fitcheck/core/fault"
)

// readAhead inflates a stream on a goroutine of its own, some chunks ahead of who reads it: so the
// stream is hashed and inflated on one core, and what comes out of it looked through on another.
//
// While it runs, the pass that the stream is read from belongs to that goroutine, but for what is
// wrong with its content, which the reader tells; see pass.ahead.
type readAhead struct {
	p      *pass
	chunks chan chunk
	free   chan *[]byte
	quit   chan struct{}
	once   sync.Once
	over   sync.WaitGroup

	now  chunk
	left []byte
}

type chunk struct {
	buf *[]byte
	n   int
	err error // what the stream ended with, after these bytes
}

const (
	aheadChunks = 4       // of 128 KiB
	aheadFrom   = 1 << 20 // a smaller stream is inflated by who reads it
)

// ahead begins to read r, which reads the pass, where another goroutine may work; nil where not. Who
// gets one stops it before the pass is used otherwise.
func (w *walker) ahead(p *pass, r io.Reader) *readAhead {
	if p.quick() || p.it.Size >= 0 && p.it.Size < aheadFrom {
		return nil
	}
	select {
	case w.aheads <- struct{}{}:
	default:
		return nil
	}
	a := &readAhead{p: p, chunks: make(chan chunk, aheadChunks), free: make(chan *[]byte, aheadChunks), quit: make(chan struct{})}
	for range aheadChunks {
		a.free <- buffers.Get().(*[]byte)
	}
	p.ahead = true
	a.over.Go(func() {
		defer func() { <-w.aheads }()
		a.run(r)
	})
	return a
}

func (a *readAhead) run(r io.Reader) {
	for {
		var buf *[]byte
		select {
		case <-a.quit:
			return
		case buf = <-a.free:
		}
		c := chunk{buf: buf}
		c.err = fault.Do(func() (err error) {
			c.n, err = r.Read(*buf)
			return err
		})
		select {
		case <-a.quit:
			buffers.Put(buf)
			return
		case a.chunks <- c:
		}
		if c.err != nil {
			return
		}
	}
}

func (a *readAhead) Read(b []byte) (int, error) {
	for len(a.left) == 0 {
		if a.now.err != nil {
			return 0, a.now.err
		}
		if a.now.buf != nil {
			a.free <- a.now.buf
		}
		a.now = <-a.chunks
		a.left = (*a.now.buf)[:a.now.n]
		if a.now.err != nil {
			a.stop()
		}
	}
	n := copy(b, a.left)
	a.left = a.left[n:]
	return n, nil
}

// stop ends the reading, and gives the pass back.
func (a *readAhead) stop() {
	if a == nil {
		return
	}
	a.once.Do(func() {
		close(a.quit)
		a.over.Wait()
		a.p.ahead = false
		a.p.broken = a.p.broken || a.p.hit
	})
}
