package boot

import (
	"encoding/binary"

	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Kernel images with the 64-byte header of arm64 (Linux kernel,
// Documentation/arch/arm64/booting.rst) and of RISC-V
// (Documentation/arch/riscv/boot-image-header.rst). Little-endian.
//
//	 0  code0, code1
//	 8  text_offset  from the beginning of memory
//	16  image_size   in memory, which is no less than in the file
//	24  flags        bit 0: big-endian
//	32  RISC-V: version of this header
//	48  RISC-V: magic "RISCV"
//	56  magic        "ARM\x64", "RSC\x05"
//	60  offset of a PE header

func init() {
	register(&image.Format{Name: "arm64-image",
		Doc:   image.Doc{Told: `"ARM\x64" at 56`, Facts: "arch, os, type, component, linux; boards of an appended tree", From: "Linux, Documentation/arch/arm64/booting.rst"},
		Title: "arm64 kernel image", Firmware: true, Rank: 8, Magics: []image.Magic{{At: 56, Bytes: "ARM\x64"}}, Read: readFlatKernel})
	register(&image.Format{Name: "riscv-image",
		Doc:   image.Doc{Told: `"RSC\x05" at 56`, Facts: "arch, os, type, component, linux; boards of an appended tree", From: "Linux, Documentation/arch/riscv/boot-image-header.rst"},
		Title: "RISC-V kernel image", Firmware: true, Rank: 8, Magics: []image.Magic{{At: 56, Bytes: "RSC\x05"}, {At: 48, Bytes: "RISCV\x00\x00\x00"}}, Read: readFlatKernel})
}

func readFlatKernel(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "the header of a kernel image", 0, 64, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("code0", 0, 4, "")
	h.Hex("code1", 4, 4, "")
	h.Hex("text_offset", 8, 8, "from the beginning of memory")
	h.Dec("image_size", 16, 8, "bytes in memory")
	flags := h.Hex("flags", 24, 8, "little-endian")
	if flags&1 != 0 {
		h.Mean("big-endian")
	}
	arch, at, size := "arm64", int64(56), int64(4)
	if string(h.Bytes[56:60]) == "ARM\x64" {
		if flags&1 != 0 {
			arch = "arm64eb"
		}
		h.Text("magic", 56, 4, "arm64")
	} else {
		arch = "riscv64|riscv32"
		v := h.Hex("version", 32, 4, "")
		h.Mean("header version %d.%d", v>>16, v&0xffff)
		h.Text("magic", 48, 8, "RISC-V")
		h.Text("magic2", 56, 4, "RISC-V")
		if string(h.Bytes[56:60]) != "RSC\x05" {
			at, size = 48, 8
		}
	}
	m.Fact(fact.Arch, arch, at, size)
	h.Hex("pe_offset", 60, 4, "where it is an EFI program, too")
	m.Fact(fact.OS, "linux", at, size)
	m.Fact(fact.Type, "kernel", at, size)
	m.Fact(fact.Component, "main", at, size)
	peExtent(m, s)
	appendedTree(m, s, 0)
	return m, nil
}
