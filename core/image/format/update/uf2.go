package update

import (
	"encoding/binary"
	"fmt"
	"io"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// UF2, the USB flashing format of its published specification: blocks of 512
// bytes, little-endian.
//
//	  0  magic 0x0a324655, 4 magic 0x9e5d5157, 8 flags, 12 address, 16 bytes of
//	     payload, 20 number of the block, 24 number of blocks, 28 family or size
//	 32  476 bytes of data
//	508  magic 0x0ab16f30
const uf2Block = 512

func init() {
	register(&image.Format{Name: "uf2",
		Doc:      image.Doc{Told: `"UF2\n" and the second magic`, Sums: "the structure of every block", Facts: "board (family), arch", From: "the UF2 specification"},
		Suffixes: []string{".uf2"}, Title: "UF2 file", Firmware: true, Magics: []image.Magic{{At: 0, Bytes: "UF2\n\x57\x51\x5d\x9e"}}, Read: readUF2})
}

// uf2Families gives architectures to families whose number the specification
// registers.
var uf2Families = map[uint64]string{
	0x16573617: "avr", 0xe48bff56: "arm", 0xe48bff59: "arm", 0xe48bff5a: "riscv32", 0xe48bff5b: "arm", 0x68ed2b88: "arm", 0x55114460: "arm", 0xada52840: "arm", 0x57755a57: "arm",
	0x5ee21072: "arm", 0x1c5f21b0: "xtensa", 0xbfdd4eee: "xtensa", 0xc47e5767: "xtensa", 0xd42ba06c: "riscv32", 0x2b88d29c: "riscv32", 0x332726f6: "riscv32",
}

func readUF2(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a UF2 block", 0, uf2Block, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 4, "UF2 file")
	h.Hex("magic2", 4, 4, "")
	flags := h.Hex("flags", 8, 4, "")
	start := h.Hex("address", 12, 4, "of the first block")
	m.Load = &start
	h.Dec("payload_size", 16, 4, "bytes of payload in a block")
	h.Dec("block", 20, 4, "")
	total := h.Dec("blocks", 24, 4, "in all")
	if flags&0x2000 != 0 {
		family := h.Hex("family", 28, 4, "what it is for")
		h.Fact(fact.Board, fmt.Sprintf("uf2:%08x", family))
		h.Fact(fact.Arch, uf2Families[family])
	} else {
		h.Dec("file_size", 28, 4, "bytes")
	}
	h.Hex("magic_end", 508, 4, "")
	m.Extent = int64(total) * uf2Block
	if s.Size() < 0 && !s.Whole() {
		return m, nil
	}
	r, err := s.Reader(0)
	if err != nil {
		return m, err
	}
	b := make([]byte, uf2Block)
	var tally image.Tally
	blocks := s.Size() / uf2Block
	for i := range blocks {
		if _, err := io.ReadFull(r, b); err != nil {
			return m, err
		}
		le := binary.LittleEndian
		tally.Add(le.Uint32(b) == 0x0a324655 && le.Uint32(b[4:]) == 0x9e5d5157 && le.Uint32(b[508:]) == 0x0ab16f30 && le.Uint32(b[16:]) <= 476 &&
			le.Uint32(b[20:]) < le.Uint32(b[24:]), i*uf2Block)
	}
	m.Tallied("structure of its blocks", "at 0x%x", tally, digest.Between(0, 0), 0)
	return m, nil
}
