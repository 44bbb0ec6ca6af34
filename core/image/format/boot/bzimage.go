package boot

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"regexp"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// x86 bzImage, as in the Linux kernel's Documentation/arch/x86/boot.rst. The
// setup header begins at 0x1f1; little-endian.
//
//	0x1f1  setup_sects     512-byte sectors of setup code, 0 stands for 4
//	0x1f4  syssize         of what follows the setup, in 16-byte units
//	0x1fe  boot_flag       0xaa55
//	0x202  header          "HdrS"
//	0x206  version         of the protocol
//	0x20e  kernel_version  where its version text stands, less 0x200
//	0x236  xloadflags      bit 0: a 64-bit kernel
//	0x248  payload_offset  of the compressed kernel, from the end of the setup
//	0x24c  payload_length
//
// From protocol 2.08 on, the last four bytes make the CRC-32 of the file zero;
// what signs a kernel changes it without keeping to that.
func init() {
	register(&image.Format{Name: "bzimage",
		Doc:   image.Doc{Told: `"HdrS" at 0x202`, Sums: "CRC-32 of the file, reported where it holds (signing a kernel breaks it)", Facts: "arch, os, type, component, linux", From: "Linux, Documentation/arch/x86/boot.rst"},
		Title: "x86 bzImage", Firmware: true, Rank: 8, Magics: []image.Magic{{At: 0x202, Bytes: "HdrS"}}, Sniff: func(h []byte) bool {
			return binary.LittleEndian.Uint16(h[0x1fe:]) == 0xaa55
		}, Read: readBzImage})
}

var kernelVersion = regexp.MustCompile(`^\d+\.\d+[^\s]*`)

func readBzImage(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "the setup header of a bzImage", 0, 0x268, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	sects := int64(h.Dec("setup_sects", 0x1f1, 1, "512-byte sectors of setup code"))
	if sects == 0 {
		sects = 4
		h.Mean("0 stands for 4")
	}
	syssize := int64(h.Dec("syssize", 0x1f4, 4, "16-byte units of what follows the setup"))
	h.Hex("boot_flag", 0x1fe, 2, "")
	h.Text("header", 0x202, 4, "bzImage")
	protocol := h.Hex("version", 0x206, 2, "")
	h.Mean("boot protocol %d.%02d", protocol>>8, protocol&0xff)
	text := int64(h.Hex("kernel_version", 0x20e, 2, "where its version text stands, less 0x200"))
	m.Fact(fact.OS, "linux", 0x202, 4)
	m.Fact(fact.Type, "kernel", 0x202, 4)
	m.Fact(fact.Component, "main", 0x202, 4)
	setup := (sects + 1) * 512
	if text > 0 && text+0x200 < setup {
		if b, err := s.UpTo(text+0x200, 256); err == nil && len(b) > 0 {
			raw, _, _ := bytes.Cut(b, []byte{0})
			t := image.CString(raw)
			m.Field("version_text", text+0x200, raw, t, "the kernel's version, and who built it")
			m.Fact(image.Linux, kernelVersion.FindString(t), text+0x200, int64(len(kernelVersion.FindString(t))))
		}
	}
	arch := "x86"
	if protocol >= 0x20c {
		flags := h.Hex("xloadflags", 0x236, 2, "a 32-bit kernel")
		if flags&1 != 0 {
			arch = "x86_64"
			h.Mean("a 64-bit kernel")
		}
		h.Fact(fact.Arch, arch)
	}
	m.Extent = setup + syssize*16
	// A signed one is an EFI program, too, and says where its signatures are.
	if off, n := peSignatures(s); off >= m.Extent && off-m.Extent < 4096 {
		m.Field("signatures", off, nil, fmt.Sprint(n), "bytes of signatures of the EFI program")
		m.Extent = off + n
	}
	if protocol >= 0x208 {
		at, n := int64(h.Hex("payload_offset", 0x248, 4, "of the compressed kernel, from the end of the setup")), int64(h.Dec("payload_length", 0x24c, 4, "bytes"))
		if at+n > syssize*16 {
			m.Problem("its compressed kernel reaches past its end")
		} else if n > 0 {
			m.Part("kernel", setup+at, n).Starts = true
		}
		bzImageCRC(m, s)
	}
	return m, nil
}

func bzImageCRC(m *image.Image, s *image.Source) {
	r, err := s.Reader(0)
	if err != nil {
		return
	}
	crc := crc32.NewIEEE()
	n, err := io.Copy(crc, io.LimitReader(r, m.Extent))
	switch {
	case err != nil || n < m.Extent:
	case crc.Sum32() == 0xffffffff:
		m.Checked("crc32", "ffffffff", "ffffffff", digest.Between(0, m.Extent), m.Extent-4)
	default:
		m.Note("its CRC-32 does not hold; what signs a kernel leaves it so, and newer kernels have none, so that it decides nothing")
	}
}
