package boot

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"

	"fitcheck/core/digest"
	"fitcheck/core/image"
)

// TRX, the container of flash images of many routers, as read by the Linux
// kernel's drivers/mtd/parsers/parser_trx.c. Little-endian.
//
//	 0  magic    "HDR0"
//	 4  length   of the whole, header included
//	 8  crc32    over the bytes from 12 up to length, without final inversion
//	12  flags    16 bits
//	14  version  16 bits: 1 has three offsets (28 bytes), 2 has four (32 bytes)
//	16  offsets  of the partitions, from the header's beginning; 0 for none

func init() {
	register(&image.Format{Name: "trx",
		Doc:      image.Doc{Told: `"HDR0", version 1 or 2`, Sums: "crc32", Facts: "parts", From: "Linux, drivers/mtd/parsers/parser_trx.c"},
		Suffixes: []string{".trx"}, Title: "TRX image", Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: "HDR0"}}, Sniff: func(h []byte) bool {
			return len(h) >= 28 && (binary.LittleEndian.Uint16(h[14:]) == 1 || binary.LittleEndian.Uint16(h[14:]) == 2)
		}, Read: readTRX, Members: image.PartMembers})
}

func readTRX(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a TRX header", 0, 28, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	offsets, size := 3, int64(28)
	if h.Get(14, 2) == 2 {
		offsets, size = 4, 32
		if h, err = m.Header(s, "a TRX header of version 2", 0, 32, binary.LittleEndian); err != nil {
			return nil, err
		}
	}
	h.Text("magic", 0, 4, "TRX image")
	length := int64(h.Dec("length", 4, 4, "bytes in all, header included"))
	h.Hex("crc32", 8, 4, "over what follows, from 0xc up to the length")
	h.Hex("flags", 12, 2, "")
	h.Dec("version", 14, 2, "")
	m.Extent = length
	crc := hex.EncodeToString([]byte{h.Bytes[11], h.Bytes[10], h.Bytes[9], h.Bytes[8]})
	if length < size {
		m.Problem("its header announces %d bytes in all, and is itself %d bytes long", length, size)
		m.Extent = size
	}
	m.Sum("crc32", digest.CRC32, digest.Options{Invert: true}, digest.Stretch{From: 12, To: max(12, length)}, digest.Stretch{}, crc, 8)
	var starts []int64
	for i := range offsets {
		at := int64(h.Hex(fmt.Sprintf("offset[%d]", i), 16+4*i, 4, fmt.Sprintf("beginning of partition %d", i)))
		if at == 0 {
			h.Mean("no partition %d", i)
			continue
		}
		if at < size || at >= length {
			m.Problem("its partition %d begins at 0x%x, outside of the image", i, at)
			continue
		}
		if len(starts) > 0 && at <= starts[len(starts)-1] {
			m.Problem("its partition %d begins at 0x%x, before the one in front of it", i, at)
			continue
		}
		starts = append(starts, at)
	}
	for i, at := range starts {
		end := length
		if i+1 < len(starts) {
			end = starts[i+1]
		}
		m.Part(fmt.Sprintf("partition %d", i), at, end-at).Starts = i == 0
	}
	if len(starts) == 0 {
		m.Problem("it has no partition")
	}
	return m, nil
}
