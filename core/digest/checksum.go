package digest

import (
	"encoding/binary"
	"fmt"
	"hash"
	"hash/adler32"
	"hash/crc32"
)

// The checksums that headers carry, besides CRC32 and the digests.
const (
	CRC32C  Algorithm = "crc32c"       // Castagnoli, reflected (RFC 3720)
	CCITT   Algorithm = "crc16-ccitt"  // polynomial 0x1021 from 0xFFFF
	Modbus  Algorithm = "crc16-modbus" // polynomial 0x8005, reflected, from 0xFFFF
	Adler32 Algorithm = "adler32"      // RFC 1950
	Sum8    Algorithm = "sum8"
	Sum16   Algorithm = "sum16"
	Sum32   Algorithm = "sum32"
	Xor8    Algorithm = "xor8"
)

// Checksums lists every algorithm that New and NewWith make.
func Checksums() []Algorithm {
	return append(Algorithms(), CRC32C, CCITT, Modbus, Adler32, Sum8, Sum16, Sum32, Xor8)
}

// Options vary a checksum.
type Options struct {
	// Init is the start value of a CRC's register or of a sum; nil is the
	// algorithm's own.
	Init *uint32
	// Invert complements the result, as where a CRC is kept without its
	// final inversion.
	Invert bool
	// Unit is the width of the numbers that sum8, sum16 and sum32 add: 8
	// (the default), 16 or 32 bits, in the order Order (nil: big-endian).
	Unit  int
	Order binary.ByteOrder
}

// NewWith makes a hash for an algorithm with options. Its Sum is big-endian.
func NewWith(a Algorithm, o Options) (hash.Hash, error) {
	var h hash.Hash
	switch a {
	case CRC32, CRC32C:
		h = &crc{table: map[Algorithm]*crc32.Table{CRC32: crc32.IEEETable, CRC32C: crc32.MakeTable(crc32.Castagnoli)}[a], start: ^or(o.Init, 0xffffffff)}
	case CCITT:
		h = &crc16{start: uint16(or(o.Init, 0xffff))}
	case Modbus:
		h = &crc16{start: uint16(or(o.Init, 0xffff)), reflected: true}
	case Sum8, Sum16, Sum32:
		s := &sum{size: map[Algorithm]int{Sum8: 1, Sum16: 2, Sum32: 4}[a], unit: max(1, o.Unit/8), order: o.Order, start: or(o.Init, 0)}
		if s.order == nil {
			s.order = binary.BigEndian
		}
		h = s
	case Xor8:
		h = &xor{start: byte(or(o.Init, 0))}
	case Adler32:
		h = adler32.New()
	default:
		if h = New(a); h == nil {
			return nil, fmt.Errorf("the checksum %q is not known", a)
		}
	}
	if o.Init != nil && (a == Adler32 || makers[a] != nil && a != CRC32) {
		return nil, fmt.Errorf("%s takes no init", a)
	}
	h.Reset()
	if o.Invert {
		return inverted{h}, nil
	}
	return h, nil
}

func or(p *uint32, otherwise uint32) uint32 {
	if p != nil {
		return *p
	}
	return otherwise
}

// inverted complements the result of a hash.
type inverted struct{ hash.Hash }

func (i inverted) Sum(b []byte) []byte {
	n := len(b)
	b = i.Hash.Sum(b)
	for j := n; j < len(b); j++ {
		b[j] = ^b[j]
	}
	return b
}

type crc struct {
	table        *crc32.Table
	start, state uint32
}

func (c *crc) Write(p []byte) (int, error) {
	c.state = crc32.Update(c.state, c.table, p)
	return len(p), nil
}
func (c *crc) Sum(b []byte) []byte { return binary.BigEndian.AppendUint32(b, c.state) }
func (c *crc) Reset()              { c.state = c.start }
func (c *crc) Size() int           { return 4 }
func (c *crc) BlockSize() int      { return 1 }

type crc16 struct {
	start, state uint16
	reflected    bool
}

func (c *crc16) Write(p []byte) (int, error) {
	s := c.state
	for _, b := range p {
		if c.reflected {
			s = modbusTable[byte(s)^b] ^ s>>8
		} else {
			s = ccittTable[byte(s>>8)^b] ^ s<<8
		}
	}
	c.state = s
	return len(p), nil
}
func (c *crc16) Sum(b []byte) []byte { return binary.BigEndian.AppendUint16(b, c.state) }
func (c *crc16) Reset()              { c.state = c.start }
func (c *crc16) Size() int           { return 2 }
func (c *crc16) BlockSize() int      { return 1 }

var ccittTable, modbusTable = tables16()

func tables16() (ccitt, modbus [256]uint16) {
	for i := range 256 {
		a, b := uint16(i)<<8, uint16(i)
		for range 8 {
			if a&0x8000 != 0 {
				a = a<<1 ^ 0x1021
			} else {
				a <<= 1
			}
			if b&1 != 0 {
				b = b>>1 ^ 0xa001
			} else {
				b >>= 1
			}
		}
		ccitt[i], modbus[i] = a, b
	}
	return ccitt, modbus
}

// sum adds bytes or words; what is left of an incomplete word counts as if
// zeros followed.
type sum struct {
	size, unit   int
	order        binary.ByteOrder
	start, state uint32
	rest         []byte
}

func (s *sum) Write(p []byte) (int, error) {
	n := len(p)
	if s.unit == 1 {
		for _, b := range p {
			s.state += uint32(b)
		}
		return n, nil
	}
	for len(s.rest) > 0 && len(p) > 0 {
		s.rest, p = append(s.rest, p[0]), p[1:]
		if len(s.rest) == s.unit {
			s.state += s.word(s.rest)
			s.rest = s.rest[:0]
		}
	}
	for ; len(p) >= s.unit; p = p[s.unit:] {
		s.state += s.word(p)
	}
	s.rest = append(s.rest, p...)
	return n, nil
}

func (s *sum) word(p []byte) uint32 {
	if s.unit == 2 {
		return uint32(s.order.Uint16(p))
	}
	return s.order.Uint32(p)
}

func (s *sum) Sum(b []byte) []byte {
	total := s.state
	if len(s.rest) > 0 {
		padded := make([]byte, s.unit)
		copy(padded, s.rest)
		total += s.word(padded)
	}
	full := binary.BigEndian.AppendUint32(nil, total)
	return append(b, full[4-s.size:]...)
}
func (s *sum) Reset()         { s.state, s.rest = s.start, s.rest[:0] }
func (s *sum) Size() int      { return s.size }
func (s *sum) BlockSize() int { return s.unit }

type xor struct{ start, state byte }

func (x *xor) Write(p []byte) (int, error) {
	for _, b := range p {
		x.state ^= b
	}
	return len(p), nil
}
func (x *xor) Sum(b []byte) []byte { return append(b, x.state) }
func (x *xor) Reset()              { x.state = x.start }
func (x *xor) Size() int           { return 1 }
func (x *xor) BlockSize() int      { return 1 }
