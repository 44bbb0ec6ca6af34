package filesystem

import (
	"encoding/binary"
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// ISO 9660 (ECMA-119): the primary volume descriptor stands at 0x8000.
//
//	  0  type 1, 1 "CD001", 8 system, 40 volume, 80 blocks (both byte orders), 128 bytes of a block (both), 318 publisher,
//	446  preparer, 574 application, 813 created
const isoAt = 0x8000

func init() {
	register(&image.Format{Name: "iso9660",
		Doc:      image.Doc{Told: `"CD001" at 0x8001`, Sums: "both byte orders agree", Facts: "title, built", From: "ECMA-119"},
		Suffixes: []string{".iso"}, Title: "ISO 9660 file system", HoldsFiles: true, Firmware: true, Deep: true, Rank: 4, Magics: []image.Magic{{At: isoAt + 1, Bytes: "CD001"}}, Read: readISO})
}

func readISO(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a volume descriptor", isoAt, 2048, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Dec("type", 0, 1, "1 is the primary volume descriptor")
	h.Text("magic", 1, 5, "ISO 9660")
	h.Text("system", 8, 32, "")
	h.Fact(fact.Title, h.Text("volume", 40, 32, "the volume's name"))
	blocks := int64(h.Dec("blocks", 80, 4, "in all"))
	size := int64(h.Dec("block_size", 128, 2, "bytes"))
	h.Text("publisher", 318, 128, "")
	h.Text("preparer", 446, 128, "")
	h.Text("application", 574, 128, "")
	if t := h.Text("created", 813, 16, ""); len(t) == 16 {
		built := fmt.Sprintf("%s-%s-%sT%s:%s:%sZ", t[:4], t[4:6], t[6:8], t[8:10], t[10:12], t[12:14])
		h.Fact(fact.Built, built)
	}
	if big := int64(binary.BigEndian.Uint32(h.Bytes[84:])); big != blocks {
		m.Problem("its volume descriptor contradicts itself: %d blocks by one byte order, %d by the other", blocks, big)
	}
	if big := int64(binary.BigEndian.Uint16(h.Bytes[130:])); big != size {
		m.Problem("its volume descriptor contradicts itself: blocks of %d bytes by one byte order, of %d by the other", size, big)
	}
	m.Fact(fact.Type, "filesystem", isoAt, 6)
	m.Extent = blocks * size
	return m, nil
}
