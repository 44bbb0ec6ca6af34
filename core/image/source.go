package image

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

// Source is the content that a format reads: the first bytes of a file while
// it passes by, or all of it.
type Source struct {
	head   []byte
	size   int64 // -1: not known
	c      *archive.Content
	beyond bool
	fatal  error
}

// errBeyond: the bytes asked for have not passed yet.
var errBeyond = errors.New("beyond the first bytes")

// Size is the number of bytes of the file; -1 while it is not known.
func (s *Source) Size() int64 { return s.size }

// Bytes returns n bytes from offset on, in a slice of their own.
func (s *Source) Bytes(offset int64, n int) ([]byte, error) {
	b, err := s.UpTo(offset, n)
	if err == nil && (len(b) < n || s.size >= 0 && offset > s.size) {
		return nil, fmt.Errorf("truncated: %d bytes from 0x%x on belong there, and the file ends after %d", n, offset, s.size)
	}
	return b, err
}

// UpTo returns as many of n bytes from offset on as there are.
func (s *Source) UpTo(offset int64, n int) ([]byte, error) {
	switch {
	case offset < 0 || n < 0 || n > 16<<20:
		return nil, fmt.Errorf("its header leads to %d bytes from %d on, which makes no sense", n, offset)
	case offset+int64(n) <= int64(len(s.head)):
		return bytes.Clone(s.head[offset : offset+int64(n)]), nil
	case s.size == int64(len(s.head)):
		return bytes.Clone(s.head[min(offset, s.size):]), nil
	case s.c == nil:
		s.beyond = true
		return nil, errBeyond
	}
	b := make([]byte, max(0, min(int64(n), s.size-offset)))
	got, err := s.c.ReadAt(b, offset)
	if err != nil && err != io.EOF {
		s.fatal = fatalOf(s.fatal, err)
		return nil, err
	}
	return b[:got], nil
}

// Reader reads from offset on to the end.
func (s *Source) Reader(offset int64) (io.Reader, error) {
	switch {
	case s.size == int64(len(s.head)):
		return bytes.NewReader(s.head[min(offset, s.size):]), nil
	case s.c == nil:
		s.beyond = true
		return nil, errBeyond
	}
	return &sourceReader{s, s.c.Reader(offset, s.size)}, nil
}

// sourceReader remembers an error that ends the walk, whatever the format makes of it.
type sourceReader struct {
	s *Source
	r io.Reader
}

func (r *sourceReader) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.s.fatal = fatalOf(r.s.fatal, err)
	return n, err
}

// Whole tells whether all of the content is at hand. Where it is not, Read
// comes to be called again.
func (s *Source) Whole() bool {
	if s.c == nil && s.size != int64(len(s.head)) {
		s.beyond = true
		return false
	}
	return true
}

func fatalOf(have, err error) error {
	if have == nil && archive.Fatal(err) {
		return err
	}
	return have
}

// ReadAt implements io.ReaderAt over the whole content.
func (s *Source) ReadAt(p []byte, off int64) (int, error) {
	if s.size == int64(len(s.head)) {
		return bytes.NewReader(s.head).ReadAt(p, off)
	}
	if s.c == nil {
		s.beyond = true
		return 0, errBeyond
	}
	n, err := s.c.ReadAt(p, off)
	s.fatal = fatalOf(s.fatal, err)
	return n, err
}

// header reads the fields of a block of bytes and notes each of them.
type header struct {
	m     *Image
	b     []byte
	base  int64 // offset of the block in the file
	order binary.ByteOrder
	last  int // index of the last field, -1 before any
}

// header prepares to read a block of n bytes; title names it in the message
// for a file that ends too early.
func (m *Image) header(s *Source, title string, offset int64, n int, order binary.ByteOrder) (*header, error) {
	b, err := s.UpTo(offset, n)
	if err != nil {
		return nil, err
	}
	if len(b) < n {
		return nil, fmt.Errorf("truncated: %s has %d bytes from 0x%x on, and there are %d", title, n, offset, len(b))
	}
	return m.block(b, offset, order), nil
}

func (m *Image) block(b []byte, base int64, order binary.ByteOrder) *header {
	return &header{m: m, b: b, base: base, order: order, last: -1}
}

// get reads an unsigned number of 1 to 8 bytes without noting a field.
func (h *header) get(at, size int) uint64 {
	var n uint64
	for i := range size {
		b := uint64(h.b[at+i])
		if h.order == binary.BigEndian {
			n = n<<8 | b
		} else {
			n |= b << (8 * i)
		}
	}
	return n
}

func (h *header) add(name string, at, size int, value, meaning string) {
	h.m.field(name, h.base+int64(at), h.b[at:at+size:at+size], value, meaning)
	h.last = len(h.m.Fields) - 1
}

// u notes a number shown in decimal.
func (h *header) u(name string, at, size int, meaning string) uint64 {
	n := h.get(at, size)
	h.add(name, at, size, fmt.Sprint(n), meaning)
	return n
}

// x notes a number shown in hexadecimal.
func (h *header) x(name string, at, size int, meaning string) uint64 {
	n := h.get(at, size)
	h.add(name, at, size, fmt.Sprintf("0x%0*x", 2*size, n), meaning)
	return n
}

// named notes a number with a meaning from a table; "" when it has none.
func (h *header) named(name string, at, size int, table map[uint64]string) string {
	n := h.get(at, size)
	meaning := table[n]
	shown := strings.ReplaceAll(meaning, "|", " or ") + open(meaning)
	if meaning == "" {
		shown = "not known"
	}
	h.add(name, at, size, fmt.Sprint(n), shown)
	return meaning
}

// text notes a text that ends at the first NUL.
func (h *header) text(name string, at, size int, meaning string) string {
	t := cText(h.b[at : at+size])
	h.add(name, at, size, t, meaning)
	return t
}

// raw notes bytes that are shown in hexadecimal only.
func (h *header) raw(name string, at, size int, meaning string) []byte {
	h.add(name, at, size, hex.EncodeToString(h.b[at:at+min(size, 32)]), meaning)
	return h.b[at : at+size]
}

// mean sets the meaning of the last field.
func (h *header) mean(format string, args ...any) {
	if h.last >= 0 {
		h.m.Fields[h.last].Meaning = fmt.Sprintf(format, args...)
	}
}

// fact takes the last field for a fact.
func (h *header) fact(about fact.Name, value string) {
	if h.last < 0 {
		return
	}
	f := h.m.Fields[h.last]
	got := h.m.fact(about, value, f.Offset, int64(len(f.Raw)))
	got.Open = strings.Contains(value, "|")
}

// cText is a text that ends at the first NUL, without blanks around it.
func cText(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return strings.TrimSpace(strings.ToValidUTF8(string(b), "\uFFFD"))
}

// open says what a value with alternatives leaves open.
func open(value string) string {
	if strings.Contains(value, "|") {
		return " (the header does not say which)"
	}
	return ""
}
