package update

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// USB DFU suffix, as in the Device Firmware Upgrade Specification 1.1,
// appendix B: the last 16 bytes of a file. Little-endian.
//
//	 0  release of the device, 2 product, 4 vendor: 0xffff for any
//	 6  version of the specification, 0x0100 or 0x011a
//	 8  "UFD"
//	11  length of the suffix, 16
//	12  CRC-32 over the file up to here, without final inversion
const dfuSuffix = 16

func init() {
	register(&image.Format{Name: "dfu",
		Doc:      image.Doc{Told: `the suffix "UFD" at the end`, Sums: "suffix crc32", Facts: "board (usb:vendor:product), build (release)", From: "USB DFU 1.1, appendix B"},
		Suffixes: []string{".dfu"}, Title: "file with a DFU suffix", Firmware: true, Trailer: func() image.Trailer { return &dfuTrailer{} }})
}

// dfuTrailer keeps the last bytes of a stream, and the CRC-32 of all in front of
// the last four of them.
type dfuTrailer struct {
	last []byte
	crc  uint32
}

// Write implements io.Writer.
func (t *dfuTrailer) Write(p []byte) (int, error) {
	n := len(p)
	// The CRC lags four bytes behind, since those may be its own place.
	joint := t.last
	if len(joint) > 4 {
		joint = joint[len(joint)-4:]
	}
	switch {
	case len(p) >= 4:
		t.crc = crc32.Update(t.crc, crc32.IEEETable, joint)
		t.crc = crc32.Update(t.crc, crc32.IEEETable, p[:len(p)-4])
	case len(joint)+len(p) > 4:
		t.crc = crc32.Update(t.crc, crc32.IEEETable, joint[:len(joint)+len(p)-4])
	}
	if len(p) >= dfuSuffix {
		t.last = append(t.last[:0], p[len(p)-dfuSuffix:]...)
		return n, nil
	}
	t.last = append(t.last, p...)
	if over := len(t.last) - dfuSuffix; over > 0 {
		t.last = append(t.last[:0], t.last[over:]...)
	}
	return n, nil
}

// Image reads the suffix, or returns nil when there is none.
func (t *dfuTrailer) Image(total int64) *image.Image {
	b := t.last
	if len(b) < dfuSuffix || string(b[8:11]) != "UFD" || b[11] < dfuSuffix || int64(b[11]) > total {
		return nil
	}
	if v := binary.LittleEndian.Uint16(b[6:]); v != 0x100 && v != 0x11a {
		return nil
	}
	m := &image.Image{Extent: total}
	base := total - dfuSuffix
	h := m.Block(b, base, binary.LittleEndian)
	release := h.Hex("device_release", 0, 2, "release of the device")
	product, vendor := h.Hex("product", 2, 2, "USB product"), h.Hex("vendor", 4, 2, "USB vendor")
	if vendor != 0xffff {
		id := fmt.Sprintf("usb:%04x:%04x", vendor, product)
		if product == 0xffff {
			id = fmt.Sprintf("usb:%04x", vendor)
		}
		m.Fact(fact.Board, id, base+2, 4)
	}
	if release != 0xffff {
		m.Fact(fact.Build, fmt.Sprintf("%04x", release), base, 2)
	}
	h.Hex("dfu_version", 6, 2, "version of the specification")
	h.Text("signature", 8, 3, "DFU suffix")
	h.Dec("length", 11, 1, "bytes of the suffix")
	want := h.Hex("crc32", 12, 4, "over all in front of it")
	m.Checked("suffix crc32", fmt.Sprintf("%08x", want), fmt.Sprintf("%08x", ^t.crc), digest.Between(0, total-4), total-4)
	m.Part("firmware", 0, total-int64(b[11])).Opaque = true
	return m
}
