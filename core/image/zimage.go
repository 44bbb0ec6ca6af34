package image

import (
	"encoding/binary"

	"fitcheck/core/fact"
)

// ARM zImage, as in the Linux kernel's Documentation/arch/arm/booting.rst and
// arch/arm/boot/compressed/head.S: code, and at 0x24
//
//	0x24  magic   0x016f2818 in the kernel's byte order
//	0x28  start   address it is linked to
//	0x2c  end     address of its end; end - start is its length
//	0x30  0x04030201 in the kernel's byte order, in newer ones

func init() {
	Register(&Format{Name: "zimage", Title: "ARM zImage", Firmware: true, Rank: 8, Magics: []Magic{{0x24, "\x18\x28\x6f\x01"}, {0x24, "\x01\x6f\x28\x18"}}, Read: readZImage})
}

func readZImage(s *Source) (*Image, error) {
	m := &Image{}
	h, err := m.header(s, "the beginning of a zImage", 0, 0x34, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	arch := "arm"
	if h.b[0x24] == 1 {
		h.order, arch = binary.BigEndian, "armeb"
	}
	h.x("magic", 0x24, 4, "ARM zImage")
	h.fact(fact.Arch, arch)
	start, end := h.x("start", 0x28, 4, "address it is linked to"), h.x("end", 0x2c, 4, "")
	h.mean("its length is %d bytes", int64(end)-int64(start))
	m.fact(fact.OS, "linux", 0x24, 4)
	m.fact(fact.Type, "kernel", 0x24, 4)
	m.fact(fact.Component, "main", 0x24, 4)
	if end <= start {
		m.problem("it ends (0x%x) before it starts (0x%x)", end, start)
		return m, nil
	}
	m.Extent = int64(end - start)
	m.compressedKernel(s, 0x34, m.Extent)
	m.appendedTree(s, m.Extent)
	return m, nil
}
