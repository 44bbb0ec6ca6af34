package boot

import (
	"encoding/binary"

	"fitcheck/core/image"
)

// peExtent takes the size of a kernel that is an EFI program, too, from the sections that
// its PE header lists; a flat kernel's own header says only what it takes in memory.
func peExtent(m *image.Image, s *image.Source) {
	le := binary.LittleEndian
	b, err := s.UpTo(0x3c, 4)
	if err != nil || len(b) < 4 {
		return
	}
	base := int64(le.Uint32(b))
	h, err := s.UpTo(base, 24)
	if err != nil || len(h) < 24 || string(h[:4]) != "PE\x00\x00" {
		return
	}
	n, optional := int(le.Uint16(h[6:])), int64(le.Uint16(h[20:]))
	table, err := s.UpTo(base+24+optional, 40*min(n, 96))
	if err != nil {
		return
	}
	for ; len(table) >= 40; table = table[40:] {
		m.Extent = max(m.Extent, int64(le.Uint32(table[16:]))+int64(le.Uint32(table[20:])))
	}
	if off, size := peSignatures(s); off >= m.Extent && off-m.Extent < 4096 {
		m.Extent = off + size
	}
}
