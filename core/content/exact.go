package content

import "io"

// Exact reads what has to be as long as is said of it.
type Exact struct {
	r    io.Reader
	left int64
	// Short: it ended too early.
	Short bool
}

// Exactly reads n bytes; fewer are io.ErrUnexpectedEOF.
func Exactly(r io.Reader, n int64) *Exact { return &Exact{r: io.LimitReader(r, n), left: n} }

// Read implements io.Reader.
func (e *Exact) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	if e.left -= int64(n); err == io.EOF && e.left > 0 {
		e.Short = true
		err = io.ErrUnexpectedEOF
	}
	return n, err
}
