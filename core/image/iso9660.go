package image

import (
	"encoding/binary"
	"fmt"

	"fitcheck/core/fact"
)

// ISO 9660 (ECMA-119): the primary volume descriptor stands at 0x8000.
//
//	  0  type 1, 1 "CD001", 8 system, 40 volume, 80 blocks (both byte orders), 128 bytes of a block (both), 318 publisher,
//	446  preparer, 574 application, 813 created
const isoAt = 0x8000

func init() {
	Register(&Format{Name: "iso9660", Suffixes: []string{".iso"}, Title: "ISO 9660 file system", HoldsFiles: true, Firmware: true, Deep: true, Rank: 4, Magics: []Magic{{isoAt + 1, "CD001"}}, Read: readISO})
}

func readISO(s *Source) (*Image, error) {
	m := &Image{}
	h, err := m.header(s, "a volume descriptor", isoAt, 2048, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.u("type", 0, 1, "1 is the primary volume descriptor")
	h.text("magic", 1, 5, "ISO 9660")
	h.text("system", 8, 32, "")
	h.fact(fact.Title, h.text("volume", 40, 32, "the volume's name"))
	blocks := int64(h.u("blocks", 80, 4, "in all"))
	size := int64(h.u("block_size", 128, 2, "bytes"))
	h.text("publisher", 318, 128, "")
	h.text("preparer", 446, 128, "")
	h.text("application", 574, 128, "")
	if t := h.text("created", 813, 16, ""); len(t) == 16 {
		built := fmt.Sprintf("%s-%s-%sT%s:%s:%sZ", t[:4], t[4:6], t[6:8], t[8:10], t[10:12], t[12:14])
		h.fact(fact.Built, built)
	}
	if big := int64(binary.BigEndian.Uint32(h.b[84:])); big != blocks || int64(binary.BigEndian.Uint16(h.b[130:])) != size {
		m.problem("its volume descriptor contradicts itself: %d blocks by one byte order, %d by the other", blocks, big)
	}
	m.fact(fact.Type, "filesystem", isoAt, 6)
	m.Extent = blocks * size
	return m, nil
}
