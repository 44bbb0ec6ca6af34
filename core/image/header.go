package image

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"

	"fitcheck/core/fact"
)

// Header reads the fields of a block of bytes and notes each of them.
type Header struct {
	m     *Image
	Bytes []byte
	Base  int64 // offset of the block in the file
	Order binary.ByteOrder
	last  int // index of the last field, -1 before any
}

// Header prepares to read a block of n bytes; title names it in the message
// for a file that ends too early.
func (m *Image) Header(s *Source, title string, offset int64, n int, order binary.ByteOrder) (*Header, error) {
	b, err := s.UpTo(offset, n)
	if err != nil {
		return nil, err
	}
	if len(b) < n {
		return nil, fmt.Errorf("truncated: %s has %d bytes from 0x%x on, and there are %d", title, n, offset, len(b))
	}
	return m.Block(b, offset, order), nil
}

// Block reads the fields of bytes that were read already, from base on.
func (m *Image) Block(b []byte, base int64, order binary.ByteOrder) *Header {
	return &Header{m: m, Bytes: b, Base: base, Order: order, last: -1}
}

// Get reads an unsigned number of 1 to 8 bytes without noting a field.
func (h *Header) Get(at, size int) uint64 {
	var n uint64
	for i := range size {
		b := uint64(h.Bytes[at+i])
		if h.Order == binary.BigEndian {
			n = n<<8 | b
		} else {
			n |= b << (8 * i)
		}
	}
	return n
}

// Add notes a field whose value was worked out otherwise.
func (h *Header) Add(name string, at, size int, value, meaning string) {
	h.m.Field(name, h.Base+int64(at), h.Bytes[at:at+size:at+size], value, meaning)
	h.last = len(h.m.Fields) - 1
}

// Dec notes a number shown in decimal.
func (h *Header) Dec(name string, at, size int, meaning string) uint64 {
	n := h.Get(at, size)
	h.Add(name, at, size, fmt.Sprint(n), meaning)
	return n
}

// Hex notes a number shown in hexadecimal.
func (h *Header) Hex(name string, at, size int, meaning string) uint64 {
	n := h.Get(at, size)
	h.Add(name, at, size, fmt.Sprintf("0x%0*x", 2*size, n), meaning)
	return n
}

// Named notes a number with a meaning from a table; "" when it has none.
func (h *Header) Named(name string, at, size int, table map[uint64]string) string {
	n := h.Get(at, size)
	meaning := table[n]
	shown := strings.ReplaceAll(meaning, "|", " or ") + OpenNote(meaning)
	if meaning == "" {
		shown = "not known"
	}
	h.Add(name, at, size, fmt.Sprint(n), shown)
	return meaning
}

// Text notes a text that ends at the first NUL.
func (h *Header) Text(name string, at, size int, meaning string) string {
	t := CString(h.Bytes[at : at+size])
	h.Add(name, at, size, t, meaning)
	return t
}

// Raw notes bytes that are shown in hexadecimal only.
func (h *Header) Raw(name string, at, size int, meaning string) []byte {
	h.Add(name, at, size, hex.EncodeToString(h.Bytes[at:at+min(size, 32)]), meaning)
	return h.Bytes[at : at+size]
}

// Mean sets the meaning of the last field.
func (h *Header) Mean(format string, args ...any) {
	if h.last >= 0 {
		h.m.Fields[h.last].Meaning = fmt.Sprintf(format, args...)
	}
}

// Fact takes the last field for a fact.
func (h *Header) Fact(about fact.Name, value string) {
	if h.last < 0 {
		return
	}
	f := h.m.Fields[h.last]
	got := h.m.Fact(about, value, f.Offset, int64(len(f.Raw)))
	got.Open = strings.Contains(value, "|")
}

// CString is a text that ends at the first NUL, without blanks around it.
func CString(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return strings.TrimSpace(strings.ToValidUTF8(string(b), "\uFFFD"))
}

// OpenNote says what a value with alternatives leaves open.
func OpenNote(value string) string {
	if strings.Contains(value, "|") {
		return " (the header does not say which)"
	}
	return ""
}
