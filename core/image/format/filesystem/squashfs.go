package filesystem

import (
	"encoding/binary"
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// SquashFS 4 (Linux kernel, fs/squashfs/squashfs_fs.h; little-endian) and 3
// (big-endian, as older firmware holds it). Both have the magic at 0, the
// major version at 28 and the minor at 30.
//
//	version 4:  0 magic "hsqs", 4 inodes, 8 time, 12 block size, 16 fragments, 20 compression, 22 block log, 24 flags,
//	           26 ids, 28 major, 30 minor, 32 root inode, 40 bytes used, 48 … 88 places of the tables
//	version 3:  0 magic "sqsh", 4 inodes, 28 major, 30 minor, 32 block size (16 bits), 34 block log, 36 flags, 37 uids,
//	           38 gids, 39 time, 43 root inode, 51 block size, 55 fragments, 63 bytes used, 71 … places of the tables

func init() {
	register(&image.Format{Name: "squashfs",
		Doc:      image.Doc{Told: `"hsqs" version 4; "sqsh" version 3, big-endian`, Sums: "structure", Facts: "type, built, os-release and version files (version 4)", From: "Linux, fs/squashfs/squashfs_fs.h"},
		Suffixes: []string{".squashfs", ".sqsh", ".sqfs"}, Title: "SquashFS file system", HoldsFiles: true, Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: "hsqs"}, {At: 0, Bytes: "sqsh"}}, Sniff: func(h []byte) bool {
			return len(h) >= 96 && (h[0] == 'h' && binary.LittleEndian.Uint16(h[28:]) == 4 || h[0] == 's' && binary.BigEndian.Uint16(h[28:]) == 3)
		}, Read: readSquashFS})
}

var squashCompressions = map[uint64]string{1: "gzip", 2: "lzma", 3: "lzo", 4: "xz", 5: "lz4", 6: "zstd"}

func readSquashFS(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a SquashFS superblock", 0, 96, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	var used, size, log int64
	var tables []int64
	if h.Bytes[0] == 'h' {
		h.Text("magic", 0, 4, "SquashFS, little-endian")
		h.Dec("inodes", 4, 4, "files and folders")
		built := int64(h.Hex("time", 8, 4, ""))
		h.Mean("%s", image.UnixTime(built))
		h.Fact(fact.Built, image.UnixTime(built))
		size = int64(h.Dec("block_size", 12, 4, "bytes"))
		h.Dec("fragments", 16, 4, "")
		m.Compression = h.Named("compression", 20, 2, squashCompressions)
		log = int64(h.Dec("block_log", 22, 2, ""))
		h.Hex("flags", 24, 2, "")
		h.Dec("ids", 26, 2, "")
		h.Dec("major", 28, 2, "")
		h.Dec("minor", 30, 2, "")
		h.Hex("root_inode", 32, 8, "")
		used = int64(h.Dec("bytes_used", 40, 8, "bytes of the file system"))
		for i, name := range []string{"id_table", "xattr_table", "inode_table", "directory_table", "fragment_table", "export_table"} {
			tables = append(tables, int64(h.Hex(name, 48+8*i, 8, "")))
		}
	} else {
		h.Order = binary.BigEndian
		h.Text("magic", 0, 4, "SquashFS, big-endian")
		h.Dec("inodes", 4, 4, "files and folders")
		h.Dec("major", 28, 2, "")
		h.Dec("minor", 30, 2, "")
		log = int64(h.Dec("block_log", 34, 2, ""))
		h.Hex("flags", 36, 1, "")
		built := int64(h.Hex("time", 39, 4, ""))
		h.Mean("%s", image.UnixTime(built))
		h.Fact(fact.Built, image.UnixTime(built))
		h.Hex("root_inode", 43, 8, "")
		size = int64(h.Dec("block_size", 51, 4, "bytes"))
		h.Dec("fragments", 55, 4, "")
		used = int64(h.Dec("bytes_used", 63, 8, "bytes of the file system"))
		m.Compression = "gzip"
	}
	if used < 96 || log < 12 || log > 20 || size != 1<<log {
		return m, fmt.Errorf("its superblock contradicts itself: blocks of %d bytes (log %d), %d bytes in all", size, log, uint64(used))
	}
	for _, at := range tables {
		if at != -1 && (at < 96 || at > used) {
			return m, fmt.Errorf("one of its tables is at 0x%x, and it ends at 0x%x", uint64(at), used)
		}
	}
	m.Extent = used
	m.Fact(fact.Type, "filesystem", 0, 4)
	return m, nil
}
