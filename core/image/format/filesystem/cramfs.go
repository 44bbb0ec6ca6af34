package filesystem

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// cramfs (Linux kernel, include/uapi/linux/cramfs_fs.h), in the byte order of
// the machine it is for.
//
//	 0  magic 0x28cd3d45, 4 size, 8 flags, 12 future, 16 "Compressed ROMFS"
//	32  CRC-32 over all, this field as zero, 36 edition, 40 blocks, 44 files
//	48  name, 16 bytes

func init() {
	register(&image.Format{Name: "cramfs",
		Doc:   image.Doc{Told: "0x28cd3d45, both byte orders, also behind 512 bytes for a boot block", Sums: "crc32", Facts: "title, type", From: "Linux, uapi/linux/cramfs_fs.h"},
		Title: "cramfs file system", HoldsFiles: true, Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: "\x45\x3d\xcd\x28"}, {At: 0, Bytes: "\x28\xcd\x3d\x45"}, {At: cramfsPad, Bytes: "\x45\x3d\xcd\x28"}, {At: cramfsPad, Bytes: "\x28\xcd\x3d\x45"}}, Sniff: func(h []byte) bool {
			at := cramfsAt(h)
			return len(h) >= at+76 && string(h[at+16:at+32]) == "Compressed ROMFS"
		}, DeepMagics: []image.Magic{{At: 0, Bytes: "\x45\x3d\xcd\x28"}, {At: 0, Bytes: "\x28\xcd\x3d\x45"}}, Read: readCramfs})
}

// cramfsPad is how much room may be left for a boot block in front of the superblock; the
// size counts it, and the CRC does not.
const cramfsPad = 512

func cramfsAt(head []byte) int {
	if (image.Magic{At: 0, Bytes: "\x45\x3d\xcd\x28"}).In(head) || (image.Magic{At: 0, Bytes: "\x28\xcd\x3d\x45"}).In(head) {
		return 0
	}
	return cramfsPad
}

func readCramfs(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	first, err := s.UpTo(0, 4)
	if err != nil {
		return nil, err
	}
	base := int64(cramfsAt(first))
	h, err := m.Header(s, "a cramfs superblock", base, 76, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	order := "little-endian"
	if h.Bytes[0] == 0x28 {
		h.Order, order = binary.BigEndian, "big-endian"
	}
	h.Hex("magic", 0, 4, "cramfs, "+order)
	size := int64(h.Dec("size", 4, 4, "bytes in all"))
	flags := h.Hex("flags", 8, 4, "")
	h.Hex("future", 12, 4, "")
	h.Text("signature", 16, 16, "")
	crc := h.Hex("crc32", 32, 4, "over all, this field as zero")
	h.Dec("edition", 36, 4, "")
	h.Dec("blocks", 40, 4, "")
	h.Dec("files", 44, 4, "")
	h.Fact(fact.Title, h.Text("name", 48, 16, "the maker's title"))
	m.Fact(fact.Type, "filesystem", base, 4)
	m.Compression = "gzip"
	m.Extent = size
	switch {
	case size < base+76:
		m.Problem("its superblock announces %d bytes in all", size)
	case flags&1 == 0:
		m.Note("it is of the old form, without a checksum")
		m.LeaveOpen(0, size)
	default:
		want := make([]byte, 4)
		binary.BigEndian.PutUint32(want, uint32(crc))
		m.Sum("crc32", digest.CRC32, digest.Options{}, digest.Between(base, size), digest.Between(base+32, base+36), hex.EncodeToString(want), base+32)
	}
	return m, nil
}

// romfs (Linux kernel, Documentation/filesystems/romfs.rst), big-endian.
//
//	0  "-rom1fs-", 8 size, 12 checksum: the 32-bit words of the first 512 bytes
//	   add up to zero, 16 name, ended by NUL and padded to 16 bytes

func init() {
	register(&image.Format{Name: "romfs",
		Doc:   image.Doc{Told: `"-rom1fs-"`, Sums: "checksum of the first 512 bytes", Facts: "title, type", From: "Linux, Documentation/filesystems/romfs.rst"},
		Title: "romfs file system", HoldsFiles: true, Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: "-rom1fs-"}}, Read: readRomfs})
}

// romfsName is how long the name of a volume may be.
const romfsName = 1 << 10

func readRomfs(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a romfs superblock", 0, 32, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	h.Text("magic", 0, 8, "romfs")
	size := int64(h.Dec("size", 8, 4, "bytes in all"))
	h.Hex("checksum", 12, 4, "makes the first 512 bytes add up to zero")
	long, err := s.UpTo(16, romfsName)
	if err != nil {
		return m, err
	}
	if name := image.CString(long); name != "" {
		raw := long[:min(len(long), len(name)+1)]
		m.Field("name", 16, raw, name, "the volume's name")
		m.Fact(fact.Title, name, 16, int64(len(raw)-1))
	}
	m.Fact(fact.Type, "filesystem", 0, 8)
	m.Extent = size
	n := int(min(512, size)) &^ 3
	if n < 32 {
		return m, fmt.Errorf("its superblock announces %d bytes in all", size)
	}
	b, err := s.Bytes(0, n)
	if err != nil {
		return m, err
	}
	var total uint32
	for i := 0; i < n; i += 4 {
		total += binary.BigEndian.Uint32(b[i:])
	}
	m.Checked("checksum", "00000000", fmt.Sprintf("%08x", total), digest.Between(0, int64(n)), 12)
	return m, nil
}
