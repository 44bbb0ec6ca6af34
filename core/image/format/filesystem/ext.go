package filesystem

import (
	"encoding/binary"
	"fmt"
	"math"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/guid"
	"fitcheck/core/image"
)

// ext2, ext3 and ext4 (Linux kernel, Documentation/filesystems/ext4): the
// superblock stands at 1024; little-endian.
//
//	  0  inodes, 4 blocks, 24 log of the block size less 10, 44 mounted, 48 written, 56 magic 0xef53, 58 state, 76 revision,
//	 92  features: compatible, 96 incompatible, 100 read-only; 104 UUID, 120 name, 136 last mounted on, 336 blocks (high)
//	1020 CRC-32C over the first 1020 bytes, not inverted, where metadata has checksums
const extAt = 1024

func init() {
	register(&image.Format{Name: "ext",
		Doc:   image.Doc{Told: "0xef53 at 1080 and a sane superblock", Sums: "superblock crc32c, where there is one", Facts: "type (ext2, ext3, ext4), title, built", From: "Linux, Documentation/filesystems/ext4"},
		Title: "ext2, ext3 or ext4 file system", HoldsFiles: true, Firmware: true, Deep: true, Measure: measureFiles("ext", extSize), Magics: []image.Magic{{At: extAt + 56, Bytes: "\x53\xef"}}, Sniff: func(h []byte) bool {
			return len(h) >= extAt+1024 && binary.LittleEndian.Uint32(h[extAt+24:]) < 7 && binary.LittleEndian.Uint32(h[extAt+76:]) < 2 &&
				binary.LittleEndian.Uint32(h[extAt:]) > 0 && binary.LittleEndian.Uint32(h[extAt+4:]) > 0
		}, Read: readExt})
}

func readExt(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "an ext superblock", extAt, 1024, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Dec("inodes", 0, 4, "")
	blocks := h.Dec("blocks", 4, 4, "")
	log := h.Dec("log_block_size", 24, 4, "")
	h.Mean("blocks of %d bytes", int64(1024)<<log)
	written := int64(h.Hex("written", 48, 4, ""))
	h.Mean("%s", image.UnixTime(written))
	if written > 0 {
		h.Fact(fact.Built, image.UnixTime(written))
	}
	h.Hex("magic", 56, 2, "ext file system")
	state := h.Dec("state", 58, 2, "cleanly unmounted")
	if state&1 == 0 {
		h.Mean("not cleanly unmounted")
	}
	h.Dec("revision", 76, 4, "")
	compat, incompat, ro := h.Hex("features", 92, 4, ""), h.Hex("features_incompatible", 96, 4, ""), h.Hex("features_read_only", 100, 4, "")
	kind := "ext2"
	switch {
	case incompat&0x2c0 != 0 || ro&0x478 != 0: // extents, 64bit, flex_bg; huge_file and later
		kind = "ext4"
	case compat&4 != 0:
		kind = "ext3"
	}
	m.Fact(fact.Type, kind, extAt+92, 12)
	h.Add("uuid", 104, 16, guid.UUID(h.Bytes[104:120]), "")
	h.Fact(fact.Title, h.Text("name", 120, 16, "the volume's name"))
	h.Text("last_mounted", 136, 64, "")
	if incompat&0x80 != 0 {
		blocks |= h.Dec("blocks_high", 336, 4, "") << 32
	}
	if blocks > math.MaxInt64>>(log+10) {
		return m, fmt.Errorf("it announces %d blocks", blocks)
	}
	m.Extent = int64(blocks) << (log + 10)
	if ro&0x400 != 0 {
		h.Hex("checksum", 1020, 4, "CRC-32C over the superblock")
		want := fmt.Sprintf("%08x", h.Get(1020, 4))
		m.Sum("superblock crc32c", digest.CRC32C, digest.Options{Invert: true}, digest.Between(extAt, extAt+1020), digest.Stretch{}, want, extAt+1020)
	}
	return m, nil
}

// EROFS (Linux kernel, fs/erofs/erofs_fs.h): the superblock stands at 1024;
// little-endian.
//
//	0  magic 0xe0f5e1e2, 4 CRC-32C over the rest of its block, this field as zero, not inverted, 8 features, 12 log of the
//	   block size, 16 inodes, 24 time, 36 blocks, 48 UUID, 64 name, 80 incompatible features

func init() {
	register(&image.Format{Name: "erofs",
		Doc:   image.Doc{Told: "0xe0f5e1e2 at 1024", Sums: "superblock crc32c, where there is one", Facts: "title, built", From: "Linux, fs/erofs/erofs_fs.h"},
		Title: "EROFS file system", HoldsFiles: true, Firmware: true, Deep: true, Magics: []image.Magic{{At: extAt, Bytes: "\xe2\xe1\xf5\xe0"}}, Read: readEROFS})
}

func readEROFS(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "an EROFS superblock", extAt, 128, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 4, "EROFS")
	h.Hex("checksum", 4, 4, "CRC-32C over the superblock's block")
	features := h.Hex("features", 8, 4, "")
	log := int64(h.Dec("log_block_size", 12, 1, ""))
	h.Dec("inodes", 16, 8, "")
	built := int64(h.Hex("time", 24, 8, ""))
	if built > 0 && built < 1<<40 {
		h.Mean("%s", image.UnixTime(built))
		h.Fact(fact.Built, image.UnixTime(built))
	}
	blocks := int64(h.Dec("blocks", 36, 4, ""))
	h.Add("uuid", 48, 16, guid.UUID(h.Bytes[48:64]), "")
	h.Fact(fact.Title, h.Text("name", 64, 16, "the volume's name"))
	h.Hex("features_incompatible", 80, 4, "")
	m.Fact(fact.Type, "filesystem", extAt, 4)
	if log < 9 || log > 16 {
		return m, fmt.Errorf("its blocks have 2^%d bytes, which makes no sense", log)
	}
	m.Extent = blocks << log
	end := int64(1) << log
	if end <= extAt {
		end = extAt + 1<<log
	}
	if features&1 == 0 {
		m.LeaveOpen(extAt, end)
	} else {
		m.Sum("superblock crc32c", digest.CRC32C, digest.Options{Invert: true}, digest.Between(extAt, end), digest.Between(extAt+4, extAt+8), fmt.Sprintf("%08x", h.Get(4, 4)), extAt+4)
	}
	return m, nil
}

func extSize(h []byte) int64 {
	if len(h) < extAt+1024 {
		return 0
	}
	sb := h[extAt:]
	le := binary.LittleEndian
	log := le.Uint32(sb[24:])
	if log > 6 || le.Uint32(sb[0:]) == 0 {
		return 0
	}
	blocks := int64(le.Uint32(sb[4:]))
	if le.Uint32(sb[96:])&0x80 != 0 { // 64 bits
		blocks |= int64(le.Uint32(sb[336:])) << 32
	}
	if blocks <= 0 || blocks > 1<<40 {
		return 0
	}
	return blocks << (10 + log)
}
