package boot

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
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
	register(&image.Format{Name: "uimage",
		Doc:   image.Doc{Told: "magic 0x27051956, or a header checksum that holds without it; all types, multi-file and script with their list of sizes", Sums: "header crc32, payload crc32", Facts: "arch, os, type, title, built, component", From: "U-Boot, include/image.h"},
		Title: "U-Boot legacy image", Firmware: true, Deep: true, DeepMagics: []image.Magic{{At: 0, Bytes: "\x27\x05\x19\x56"}}, Rank: 5, Sniff: sniffUImage, Read: readUImage, Members: payloadMembers})
}

// payloadMembers opens the parts of which something is known: the payload of an image that is
// none of the known formats says nothing beyond what the image does.
func payloadMembers(m *image.Image, c *archive.Content) ([]archive.Member, error) {
	out, err := image.PartMembers(m, c)
	return slices.DeleteFunc(out, func(o archive.Member) bool {
		return slices.ContainsFunc(m.Parts, func(p image.Part) bool { return p.Name == o.Name && p.Kind == "unknown" })
	}), err
}

var uimageOS = map[uint64]string{
	1: "openbsd", 2: "netbsd", 3: "freebsd", 4: "4.4bsd", 5: "linux", 6: "svr4", 7: "esix", 8: "solaris", 9: "irix", 10: "sco", 11: "dell", 12: "ncr", 13: "lynxos", 14: "vxworks", 15: "psos", 16: "qnx",
	17: "u-boot", 18: "rtems", 19: "artos", 20: "unity", 21: "integrity", 22: "ose", 23: "plan9", 24: "openrtos",
	25: "arm-trusted-firmware", 26: "tee", 27: "opensbi", 28: "efi", 29: "elf",
}

// uimageArch gives the architecture names; alternatives joined by "|" where
// the number leaves byte order or width open.
var uimageArch = map[uint64]string{
	1: "alpha", 2: "arm", 3: "x86", 4: "ia64", 5: "mips|mipsel", 6: "mips64|mips64el", 7: "ppc", 8: "s390", 9: "sh", 10: "sparc", 11: "sparc64",
	12: "m68k", 13: "nios", 14: "microblaze", 15: "nios2", 16: "blackfin", 17: "avr32", 18: "st200", 19: "sandbox", 20: "nds32",
	21: "openrisc", 22: "arm64", 23: "arc", 24: "x86_64", 25: "xtensa", 26: "riscv64|riscv32",
}

var uimageType = map[uint64]string{
	1: "standalone", 2: "kernel", 3: "ramdisk", 4: "multi", 5: "firmware", 6: "script", 7: "filesystem", 8: "flat_dt", 9: "kwbimage",
	10: "imximage", 11: "ublimage", 12: "omapimage", 13: "aisimage", 14: "kernel_noload", 15: "pblimage", 16: "mxsimage", 17: "gpimage",
	18: "atmelimage", 19: "socfpgaimage", 20: "x86_setup", 21: "lpc32xximage", 22: "loadable", 23: "rkimage", 24: "rksd", 25: "rkspi",
	26: "zynqimage", 27: "zynqmpimage", 28: "zynqmpbif", 29: "fpga", 30: "vybridimage", 31: "tee", 32: "firmware_ivt", 33: "pmmc",
	34: "stm32image", 35: "socfpgaimage_v1", 36: "mtkimage", 37: "imx8mimage", 38: "imx8image", 39: "copro", 40: "sunxi_egon", 41: "sunxi_toc0",
	42: "fdt_legacy", 43: "spkgimage", 44: "sfspl",
}

var uimageCompression = map[uint64]string{0: "none", 1: "gzip", 2: "bzip2", 3: "lzma", 4: "lzo", 5: "lz4", 6: "zstd"}

// uimageStarted are the types whose payload is started, or tells the started one its
// hardware.
var uimageStarted = map[string]bool{"standalone": true, "kernel": true, "firmware": true, "flat_dt": true, "kernel_noload": true, "loadable": true, "tee": true, "firmware_ivt": true}

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

func readUImage(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a U-Boot legacy header", 0, uimageHeader, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	if magic := h.Hex("magic", 0, 4, "U-Boot legacy image"); magic != uimageMagic {
		h.Mean("damaged: 0x27051956 belongs here")
	}
	h.Hex("header_crc32", 4, 4, "over the 64 bytes of the header, this field as zero")
	built := h.Hex("time", 8, 4, "")
	h.Mean("%s", image.UnixTime(int64(built)))
	if built != 0 {
		h.Fact(fact.Built, image.UnixTime(int64(built)))
	}
	size := int64(h.Dec("size", 12, 4, "bytes of payload"))
	load := h.Hex("load", 16, 4, "address to put the payload at")
	entry := h.Hex("entry", 20, 4, "address to start at")
	m.Load, m.Entry = &load, &entry
	h.Hex("data_crc32", 24, 4, "over the payload")
	h.Fact(fact.OS, h.Named("os", 28, 1, uimageOS))
	h.Fact(fact.Arch, h.Named("arch", 29, 1, uimageArch))
	h.Fact(fact.Type, h.Named("type", 30, 1, uimageType))
	m.Compression = h.Named("compression", 31, 1, uimageCompression)
	h.Fact(fact.Title, h.Text("name", 32, 32, "the maker's title"))
	kind := h.Get(30, 1)
	switch {
	case h.Get(28, 1) == uimageOSUBoot:
		m.Fact(fact.Component, "boot", 28, 1)
	case kind == uimageTypeKernel || kind == uimageTypeKernelNoload || kind == uimageTypeMulti:
		m.Fact(fact.Component, "main", 30, 1)
	}

	m.Extent = uimageHeader + size
	m.Sum("header crc32", digest.CRC32, digest.Options{}, digest.Stretch{To: uimageHeader}, digest.Stretch{From: 4, To: 8}, hex.EncodeToString(h.Bytes[4:8]), 4)
	m.Sum("payload crc32", digest.CRC32, digest.Options{}, digest.Stretch{From: uimageHeader, To: m.Extent}, digest.Stretch{}, hex.EncodeToString(h.Bytes[24:28]), 24)
	if size == 0 {
		m.Problem("its header announces a payload of no bytes")
		return m, nil
	}
	if kind == uimageTypeMulti || kind == uimageTypeScript {
		if err := uimageFiles(m, s, size, kind); err != nil {
			if err == image.ErrBeyond {
				return m, err
			}
			m.Problem("%v", err)
		}
		return m, nil
	}
	m.Part("payload", uimageHeader, size).Starts = uimageStarted[m.FirstText(fact.Type)]
	return m, nil
}

// uimageFiles reads the list of sizes at the beginning of the payload.
func uimageFiles(m *image.Image, s *image.Source, size int64, kind uint64) error {
	const maxFiles = 256
	var sizes []int64
	at, end := int64(uimageHeader), uimageHeader+size
	for {
		b, err := s.UpTo(at, 4)
		if err == image.ErrBeyond {
			return err
		}
		if err != nil || len(b) < 4 || at+4 > end || len(sizes) > maxFiles {
			return errors.New("the list of sizes in its payload does not end")
		}
		n := int64(binary.BigEndian.Uint32(b))
		meaning := fmt.Sprintf("bytes of file %d", len(sizes))
		if n == 0 {
			meaning = "end of the list of sizes"
		}
		m.Field(fmt.Sprintf("file_size[%d]", len(sizes)), at, b, fmt.Sprint(n), meaning)
		at += 4
		if n == 0 {
			break
		}
		sizes = append(sizes, n)
	}
	offset := at
	for i, n := range sizes {
		if offset+n > end {
			return fmt.Errorf("file %d of its payload (%d bytes from 0x%x on) reaches past the payload's end at 0x%x", i, n, offset, end)
		}
		// The first file is started; the second is its RAM disk, the third its tree.
		m.Part(fmt.Sprintf("file %d", i), offset, n).Starts = kind == uimageTypeMulti && i != 1
		offset += (n + 3) &^ 3
	}
	return nil
}
