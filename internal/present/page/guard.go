package page

import (
	"bytes"
	"fmt"
	"io"
	"unicode/utf8"

	"fitcheck/core/archive"
)

// Guard is the one way to a terminal, a page or a file: whatever character of an input
// could act on who reads it, or hide, leaves it as a visible escape. Of escape sequences
// only the colours of this program pass, and only where it paints.
type Guard struct {
	w      io.Writer
	colors bool
	rest   []byte // the beginning of a character whose end has not come yet
}

// NewGuard guards a writer.
func NewGuard(w io.Writer, colors bool) *Guard { return &Guard{w: w, colors: colors} }

// painted are the codes that the styles consist of, and the one that ends them.
var painted = func() map[string]bool {
	out := map[string]bool{"0": true}
	for _, st := range looks {
		for _, c := range st {
			out[fmt.Sprint(int(c))] = true
		}
	}
	return out
}()

// Write implements io.Writer.
func (g *Guard) Write(p []byte) (int, error) {
	n := len(p)
	if len(g.rest) > 0 {
		p = append(g.rest, p...)
		g.rest = nil
	}
	if harmless(p) {
		if _, err := g.w.Write(p); err != nil {
			return 0, err
		}
		return n, nil
	}
	var b bytes.Buffer
	for i := 0; i < len(p); {
		c := p[i]
		if c >= ' ' && c < 0x7f || c == '\n' || c == '\t' {
			b.WriteByte(c)
			i++
			continue
		}
		if c == 0x1b && g.colors {
			if k := sequence(p[i:]); k > 0 {
				b.Write(p[i : i+k])
				i += k
				continue
			}
		}
		if !utf8.FullRune(p[i:]) {
			g.rest = bytes.Clone(p[i:])
			break
		}
		r, k := utf8.DecodeRune(p[i:])
		switch {
		case r == utf8.RuneError && k == 1:
			fmt.Fprintf(&b, `\x%02x`, c)
		case archive.Invisible(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		i += k
	}
	if _, err := g.w.Write(b.Bytes()); err != nil {
		return 0, err
	}
	return n, nil
}

func harmless(p []byte) bool {
	for _, c := range p {
		if (c < ' ' || c >= 0x7f) && c != '\n' {
			return false
		}
	}
	return true
}

// sequence is the length of the style that a text begins with: ESC, "[", codes of the
// styles, "m"; 0 for anything else.
func sequence(p []byte) int {
	const longest = 16
	end := bytes.IndexByte(p[:min(len(p), longest)], 'm')
	if end < 3 || p[1] != '[' {
		return 0
	}
	for code := range bytes.SplitSeq(p[2:end], []byte{';'}) {
		if !painted[string(code)] {
			return 0
		}
	}
	return end + 1
}

// Flush writes what is left of a character that was never ended.
func (g *Guard) Flush() error {
	rest := g.rest
	g.rest = nil
	for _, c := range rest {
		if _, err := fmt.Fprintf(g.w, `\x%02x`, c); err != nil {
			return err
		}
	}
	return nil
}
