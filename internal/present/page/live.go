package page

import (
	"bytes"
	"fmt"
	"io"
)

// Live is a few lines at the bottom of a terminal that are drawn again and again.
type Live struct {
	Out   io.Writer
	Width int
	Color bool
	lines int
}

// Draw puts a page in place of the one that was drawn before; nil takes it away.
func (l *Live) Draw(p *Page) {
	var b bytes.Buffer
	if p != nil {
		s := &Screen{Out: &b, Width: l.Width, Color: l.Color}
		s.Show(p)
	}
	out := l.erase()
	out = append(out, b.Bytes()...)
	l.lines = bytes.Count(b.Bytes(), []byte("\n"))
	if len(out) > 0 {
		_, _ = l.Out.Write(out)
	}
}

// erase is what takes the lines away: up to the first of them, and all below cleared
// (ECMA-48, CUU and ED).
func (l *Live) erase() []byte {
	if l.lines == 0 {
		return nil
	}
	n := l.lines
	l.lines = 0
	return fmt.Appendf(nil, "\x1b[%dA\r\x1b[J", n)
}
