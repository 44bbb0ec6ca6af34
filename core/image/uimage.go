package image

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

// U-Boot legacy image, as defined by struct legacy_img_hdr in U-Boot's
// include/image.h. All numbers are big-endian.
//
//	 0  magic        0x27051956
//	 4  header crc32 over these 64 bytes, with this field as zero
//	 8  time         seconds since 1970, UTC
//	12  size         of the payload, in bytes
//	16  load         address to put the payload at
//	20  entry        address to start at
//	24  data crc32   over the payload
//	28  os, arch, type, compression: one byte each
//	32  name         32 bytes, padded with NUL
//
// Multi-file and script images begin their payload with a list of 32-bit
// sizes that ends with a zero; the files follow, each padded to 4 bytes.
const (
	uimageMagic  = 0x27051956
	uimageHeader = 64

	uimageTypeKernel       = 2
	uimageTypeMulti        = 4
	uimageTypeFirmware     = 5
	uimageTypeScript       = 6
	uimageTypeKernelNoload = 14
	uimageOSUBoot          = 17
)

func init() {
	Register(&Format{Name: "uimage", Title: "U-Boot legacy image", Firmware: true, Sniff: sniffUImage, Read: readUImage})
}

var uimageOS = map[byte]string{
	1: "openbsd", 2: "netbsd", 3: "freebsd", 4: "4.4bsd", 5: "linux", 6: "svr4", 13: "lynxos", 14: "vxworks", 15: "psos", 16: "qnx",
	17: "u-boot", 18: "rtems", 19: "artos", 20: "unity", 21: "integrity", 22: "ose", 23: "plan9", 24: "openrtos",
	25: "arm-trusted-firmware", 26: "tee", 27: "opensbi", 28: "efi", 29: "elf",
}

// uimageArch gives the architecture names; alternatives joined by "|" where
// the number leaves byte order or width open.
var uimageArch = map[byte]string{
	1: "alpha", 2: "arm", 3: "x86", 4: "ia64", 5: "mips|mipsel", 6: "mips64|mips64el", 7: "ppc", 8: "s390", 9: "sh", 10: "sparc", 11: "sparc64",
	12: "m68k", 13: "nios", 14: "microblaze", 15: "nios2", 16: "blackfin", 17: "avr32", 18: "st200", 19: "sandbox", 20: "nds32",
	21: "openrisc", 22: "arm64", 23: "arc", 24: "x86_64", 25: "xtensa", 26: "riscv64|riscv32",
}

var uimageType = map[byte]string{
	1: "standalone", 2: "kernel", 3: "ramdisk", 4: "multi", 5: "firmware", 6: "script", 7: "filesystem", 8: "flat_dt", 9: "kwbimage",
	10: "imximage", 11: "ublimage", 12: "omapimage", 13: "aisimage", 14: "kernel_noload", 15: "pblimage", 16: "mxsimage", 17: "gpimage",
	18: "atmelimage", 19: "socfpgaimage", 20: "x86_setup", 21: "lpc32xximage", 22: "loadable", 23: "rkimage", 24: "rksd", 25: "rkspi",
	26: "zynqimage", 27: "zynqmpimage", 28: "zynqmpbif", 29: "fpga", 30: "vybridimage", 31: "tee", 32: "firmware_ivt", 33: "pmmc",
	34: "stm32image", 35: "socfpgaimage_v1", 36: "mtkimage", 37: "imx8mimage", 38: "imx8image", 39: "copro", 40: "sunxi_egon", 41: "sunxi_toc0",
}

var uimageCompression = map[byte]string{0: "none", 1: "gzip", 2: "bzip2", 3: "lzma", 4: "lzo", 5: "lz4", 6: "zstd"}

// uimageCRC recomputes the header checksum as if the magic were right.
func uimageCRC(h []byte) uint32 {
	var fixed [uimageHeader]byte
	copy(fixed[:], h)
	binary.BigEndian.PutUint32(fixed[0:], uimageMagic)
	clear(fixed[4:8])
	return crc32.ChecksumIEEE(fixed[:])
}

// sniffUImage goes by the magic; a header whose magic alone is damaged is
// still known by its checksum, so that the damage can be named.
func sniffUImage(head []byte) bool {
	if len(head) < 4 {
		return false
	}
	if binary.BigEndian.Uint32(head) == uimageMagic {
		return true
	}
	return len(head) >= uimageHeader && binary.BigEndian.Uint32(head[4:]) == uimageCRC(head)
}

func readUImage(head []byte, _ int64) (*Image, error) {
	if len(head) < uimageHeader {
		return nil, fmt.Errorf("truncated: a U-Boot legacy header has %d bytes, and there are %d", uimageHeader, len(head))
	}
	h := bytes.Clone(head[:uimageHeader])
	u32 := func(at int) uint32 { return binary.BigEndian.Uint32(h[at:]) }
	m := &Image{}

	number := func(name string, at int, meaning string) {
		m.field(name, at, h[at:at+4], fmt.Sprintf("0x%08x", u32(at)), meaning)
	}
	named := func(name string, at int, table map[byte]string) string {
		meaning, known := table[h[at]]
		if !known {
			meaning = "not known"
		}
		m.field(name, at, h[at:at+1], fmt.Sprint(h[at]), strings.ReplaceAll(meaning, "|", " or ")+open(meaning))
		if !known {
			return ""
		}
		return meaning
	}

	magic := "U-Boot legacy image"
	if u32(0) != uimageMagic {
		magic = "damaged: 0x27051956 belongs here"
	}
	size := int64(u32(12))
	number("magic", 0, magic)
	number("header_crc32", 4, "over the 64 bytes of the header, this field as zero")
	number("time", 8, unixTime(int64(u32(8))))
	m.field("size", 12, h[12:16], fmt.Sprint(size), "bytes of payload")
	number("load", 16, "address to put the payload at")
	number("entry", 20, "address to start at")
	number("data_crc32", 24, "over the payload")
	osName := named("os", 28, uimageOS)
	arch := named("arch", 29, uimageArch)
	kind := named("type", 30, uimageType)
	m.Compression = named("compression", 31, uimageCompression)
	name, _, _ := bytes.Cut(h[32:], []byte{0})
	title := strings.TrimSpace(strings.ToValidUTF8(string(name), "\uFFFD"))
	m.field("name", 32, h[32:], title, "the maker's title")

	load, entry := uint64(u32(16)), uint64(u32(20))
	m.Load, m.Entry = &load, &entry
	if u32(8) != 0 {
		m.fact(fact.Built, unixTime(int64(u32(8))), 8, 4)
	}
	m.fact(fact.OS, osName, 28, 1)
	m.fact(fact.Arch, arch, 29, 1)
	if strings.Contains(arch, "|") {
		m.Facts[len(m.Facts)-1].Open = true
	}
	m.fact(fact.Type, kind, 30, 1)
	m.fact(fact.Title, title, 32, 32)
	switch {
	case h[28] == uimageOSUBoot:
		m.fact(fact.Component, "boot", 28, 1)
	case h[30] == uimageTypeKernel || h[30] == uimageTypeKernelNoload || h[30] == uimageTypeMulti:
		m.fact(fact.Component, "main", 30, 1)
	}

	m.Extent = uimageHeader + size
	m.Sums = []Sum{
		{"header crc32", digest.Partial{Algorithm: digest.CRC32, Over: digest.Stretch{From: 0, To: uimageHeader}, Zeroed: []digest.Stretch{{From: 4, To: 8}}}, hex.EncodeToString(h[4:8]), 4},
		{"payload crc32", digest.Partial{Algorithm: digest.CRC32, Over: digest.Stretch{From: uimageHeader, To: m.Extent}}, hex.EncodeToString(h[24:28]), 24},
	}
	if size == 0 {
		m.Problems = append(m.Problems, "its header announces a payload of no bytes")
	}
	if h[30] == uimageTypeMulti || h[30] == uimageTypeScript {
		if err := m.uimageFiles(head, size); err != nil {
			m.Problems = append(m.Problems, err.Error())
		}
	}
	return m, nil
}

// uimageFiles reads the list of sizes at the beginning of the payload.
func (m *Image) uimageFiles(head []byte, size int64) error {
	var sizes []int64
	at := uimageHeader
	for {
		if at+4 > len(head) {
			return errors.New("the list of sizes in its payload does not end")
		}
		n := int64(binary.BigEndian.Uint32(head[at:]))
		meaning := fmt.Sprintf("bytes of file %d", len(sizes))
		if n == 0 {
			meaning = "end of the list of sizes"
		}
		m.field(fmt.Sprintf("file_size[%d]", len(sizes)), at, bytes.Clone(head[at:at+4]), fmt.Sprint(n), meaning)
		at += 4
		if n == 0 {
			break
		}
		sizes = append(sizes, n)
	}
	offset, end := int64(at), uimageHeader+size
	for i, n := range sizes {
		if offset+n > end {
			return fmt.Errorf("file %d of its payload (%d bytes from 0x%x on) reaches past the payload's end at 0x%x", i, n, offset, end)
		}
		m.Parts = append(m.Parts, Part{fmt.Sprintf("file %d", i), offset, n})
		offset += (n + 3) &^ 3
	}
	return nil
}

// open says what a value with alternatives leaves open.
func open(value string) string {
	if strings.Contains(value, "|") {
		return " (the header does not say which)"
	}
	return ""
}
