package boot

import (
	"encoding/binary"

	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// ARM zImage, as in the Linux kernel's Documentation/arch/arm/booting.rst and
// arch/arm/boot/compressed/head.S: code, and at 0x24
//
//	0x24  magic   0x016f2818 in the kernel's byte order
//	0x28  start   address it is linked to
//	0x2c  end     address of its end; end - start is its length
//	0x30  0x04030201 in the kernel's byte order, in newer ones

func init() {
	register(&image.Format{Name: "zimage",
		Doc:   image.Doc{Told: "0x016f2818 at 0x24, both byte orders", Facts: "arch, os, type, component; boards of an appended tree", From: "Linux, Documentation/arch/arm/booting.rst"},
		Title: "ARM zImage", Firmware: true, Rank: 8, Magics: []image.Magic{{At: 0x24, Bytes: "\x18\x28\x6f\x01"}, {At: 0x24, Bytes: "\x01\x6f\x28\x18"}}, Read: readZImage})
}

func readZImage(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "the beginning of a zImage", 0, 0x34, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	arch := "arm"
	if h.Bytes[0x24] == 1 {
		h.Order, arch = binary.BigEndian, "armeb"
	}
	h.Hex("magic", 0x24, 4, "ARM zImage")
	h.Fact(fact.Arch, arch)
	start, end := h.Hex("start", 0x28, 4, "address it is linked to"), h.Hex("end", 0x2c, 4, "")
	h.Mean("its length is %d bytes", int64(end)-int64(start))
	m.Fact(fact.OS, "linux", 0x24, 4)
	m.Fact(fact.Type, "kernel", 0x24, 4)
	m.Fact(fact.Component, "main", 0x24, 4)
	if end <= start {
		m.Problem("it ends (0x%x) before it starts (0x%x)", end, start)
		return m, nil
	}
	m.Extent = int64(end - start)
	compressedKernel(m, s, 0x34, m.Extent)
	appendedTree(m, s, m.Extent)
	return m, nil
}
