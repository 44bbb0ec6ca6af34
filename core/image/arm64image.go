package image

import (
	"encoding/binary"

	"fitcheck/core/fact"
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
	Register(&Format{Name: "arm64-image", Title: "arm64 kernel image", Firmware: true, Rank: 8, Magics: []Magic{{56, "ARM\x64"}}, Read: readFlatKernel})
	Register(&Format{Name: "riscv-image", Title: "RISC-V kernel image", Firmware: true, Rank: 8, Magics: []Magic{{56, "RSC\x05"}, {48, "RISCV\x00\x00\x00"}}, Read: readFlatKernel})
}

func readFlatKernel(s *Source) (*Image, error) {
	m := &Image{}
	h, err := m.header(s, "the header of a kernel image", 0, 64, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.x("code0", 0, 4, "")
	h.x("code1", 4, 4, "")
	h.x("text_offset", 8, 8, "from the beginning of memory")
	h.u("image_size", 16, 8, "bytes in memory")
	flags := h.x("flags", 24, 8, "little-endian")
	if flags&1 != 0 {
		h.mean("big-endian")
	}
	arch, at, size := "arm64", int64(56), int64(4)
	if string(h.b[56:60]) == "ARM\x64" {
		if flags&1 != 0 {
			arch = "arm64eb"
		}
		h.text("magic", 56, 4, "arm64")
	} else {
		arch = "riscv64|riscv32"
		v := h.x("version", 32, 4, "")
		h.mean("header version %d.%d", v>>16, v&0xffff)
		h.text("magic", 48, 8, "RISC-V")
		h.text("magic2", 56, 4, "RISC-V")
		if string(h.b[56:60]) != "RSC\x05" {
			at, size = 48, 8
		}
	}
	m.fact(fact.Arch, arch, at, size)
	h.x("pe_offset", 60, 4, "where it is an EFI program, too")
	m.fact(fact.OS, "linux", at, size)
	m.fact(fact.Type, "kernel", at, size)
	m.fact(fact.Component, "main", at, size)
	m.peExtent(s)
	m.appendedTree(s, 0)
	return m, nil
}
