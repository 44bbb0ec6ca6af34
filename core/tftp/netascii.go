package tftp

import "io"

// netascii is a file in the mode of that name (RFC 1350, section 1; RFC 764): a line feed
// goes as carriage return and line feed, a carriage return as carriage return and NUL. A
// client that asks for it turns it back.
type netascii struct {
	r    io.Reader
	in   [2048]byte
	left []byte // of in
	next int    // a byte that follows what went last; -1 is none
	err  error
}

func newNetascii(r io.Reader) *netascii { return &netascii{r: r, next: -1} }

func (n *netascii) Read(b []byte) (int, error) {
	done := 0
	for done < len(b) {
		if n.next >= 0 {
			b[done] = byte(n.next)
			n.next = -1
			done++
			continue
		}
		if len(n.left) == 0 {
			if n.err != nil {
				break
			}
			k, err := n.r.Read(n.in[:])
			n.left, n.err = n.in[:k], err
			continue
		}
		c := n.left[0]
		n.left = n.left[1:]
		switch c {
		case '\n':
			c, n.next = '\r', '\n'
		case '\r':
			n.next = 0
		}
		b[done] = c
		done++
	}
	if done == 0 && n.err != nil {
		return 0, n.err
	}
	return done, nil
}
