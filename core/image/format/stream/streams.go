package stream

import (
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"math/bits"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Compressed streams, by their own headers. What they hold is inflated, and
// their own checksums over it are held, where they are opened as archives.

func init() {
	stream := func(method archive.Compression, title string, doc image.Doc, rank int, read func(*image.Source) (*image.Image, error), suffixes []string, magics ...string) {
		f := &image.Format{Name: string(method), Title: title, Doc: doc, Rank: rank, Sniff: func(h []byte) bool { return archive.CompressionOf(h) == method }, Read: read, Suffixes: suffixes, Stream: true}
		for _, m := range magics {
			f.DeepMagics = append(f.DeepMagics, image.Magic{At: 0, Bytes: m})
		}
		register(f)
	}
	stream(archive.GzipStream, "gzip stream",
		image.Doc{Told: "1f 8b 08", Sums: "header crc16; the content's CRC-32 and length", Facts: "title (original name), built", From: "RFC 1952"},
		1, readGzip, []string{".gz", ".tgz"}, "\x1f\x8b\x08")
	stream(archive.Bzip2Stream, "bzip2 stream",
		image.Doc{Told: `"BZh" and the block magic`, Sums: "the content's, when inflated", From: "bzip2 1.0"},
		1, readBzip2, []string{".bz2", ".tbz2"}, "BZh")
	stream(archive.XzStream, "xz stream",
		image.Doc{Told: `fd "7zXZ"`, Sums: "header crc32; the content's, when inflated", From: "The .xz File Format 1.2"},
		1, readXz, []string{".xz", ".txz"}, "\xfd7zXZ\x00")
	stream(archive.Lz4Stream, "LZ4 stream",
		image.Doc{Told: "frame and legacy frame", Sums: "header checksum; the content's, when inflated", From: "LZ4 Frame Format 1.6.4"},
		1, readLz4, []string{".lz4"}, "\x04\x22\x4d\x18")
	stream(archive.ZstdStream, "Zstandard stream",
		image.Doc{Told: "28 b5 2f fd", Sums: "the content's, when inflated", From: "RFC 8878"},
		1, readZstd, []string{".zst"}, "\x28\xb5\x2f\xfd")
	stream(archive.LzmaStream, "LZMA stream",
		image.Doc{Told: "sane properties, dictionary and size", From: "XZ Utils, lzma-file-format.txt"},
		-3, readLzma, []string{".lzma"}, "\x5d\x00\x00", "\x6d\x00\x00") // no magic of its own
}

// readGzip (RFC 1952, section 2.3): 0 magic, 2 method, 3 flags, 4 time, 8
// extra flags, 9 system; then, by the flags, extra, name, comment, CRC16.
func readGzip(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a gzip header", 0, 10, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 2, "gzip")
	h.Named("method", 2, 1, map[uint64]string{8: "deflate"})
	flags := h.Hex("flags", 3, 1, "")
	if t := int64(h.Hex("time", 4, 4, "none")); t != 0 {
		h.Mean("%s", image.UnixTime(t))
		h.Fact(fact.Built, image.UnixTime(t))
	}
	h.Dec("extra_flags", 8, 1, "")
	h.Named("system", 9, 1, map[uint64]string{0: "FAT", 3: "Unix", 7: "Macintosh", 10: "NTFS", 11: "NTFS", 255: "not said"})
	at := int64(10)
	if flags&4 != 0 {
		b, err := s.Bytes(at, 2)
		if err != nil {
			return m, err
		}
		at += 2 + int64(binary.LittleEndian.Uint16(b))
	}
	for bit, name := range map[uint64]string{8: "name", 16: "comment"} {
		if flags&bit == 0 || bit == 16 && flags&8 != 0 {
			continue // the comment stands behind the name, see below
		}
		if at, err = gzipText(m, s, at, name); err != nil {
			return m, err
		}
	}
	if flags&24 == 24 {
		if at, err = gzipText(m, s, at, "comment"); err != nil {
			return m, err
		}
	}
	if flags&2 != 0 {
		b, err := s.Bytes(0, int(at)+2)
		if err != nil {
			return m, err
		}
		want := binary.LittleEndian.Uint16(b[at:])
		m.Field("header_crc", at, b[at:], fmt.Sprintf("0x%04x", want), "lower half of the CRC-32 over the header")
		m.Checked("header crc16", fmt.Sprintf("%04x", want), fmt.Sprintf("%04x", crc32.ChecksumIEEE(b[:at])&0xffff), digest.Between(0, at), at)
	}
	m.Compression = "gzip"
	return m, nil
}

func gzipText(m *image.Image, s *image.Source, at int64, name string) (int64, error) {
	b, err := s.UpTo(at, 1024)
	if err == image.ErrBeyond {
		b, err = s.UpTo(at, 64)
	}
	if err != nil {
		return at, err
	}
	t := image.CString(b)
	for i, c := range b {
		if c == 0 {
			m.Field(name, at, b[:i+1], t, "as the one who packed it gave it")
			if name == "name" {
				m.Fact(fact.Title, t, at, int64(i))
			}
			return at + int64(i) + 1, nil
		}
	}
	return at, fmt.Errorf("the %s in its header does not end", name)
}

func readBzip2(s *image.Source) (*image.Image, error) {
	m := &image.Image{Compression: "bzip2"}
	h, err := m.Header(s, "a bzip2 header", 0, 10, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	h.Text("magic", 0, 3, "bzip2")
	h.Text("level", 3, 1, fmt.Sprintf("blocks of %d00 kB", h.Bytes[3]-'0'))
	h.Hex("block_magic", 4, 6, "")
	return m, nil
}

// readXz (The .xz File Format 1.2.0, section 2.1.1): 0 magic, 6 flags, 8
// CRC-32 over the flags.
func readXz(s *image.Source) (*image.Image, error) {
	m := &image.Image{Compression: "xz"}
	h, err := m.Header(s, "an xz header", 0, 12, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Raw("magic", 0, 6, "xz")
	h.Raw("flags", 6, 2, "")
	h.Mean("check: %s", map[byte]string{0: "none", 1: "CRC-32", 4: "CRC-64", 10: "SHA-256"}[h.Bytes[7]&15])
	want := h.Hex("header_crc", 8, 4, "over the flags")
	m.Checked("header crc32", fmt.Sprintf("%08x", want), fmt.Sprintf("%08x", crc32.ChecksumIEEE(h.Bytes[6:8])), digest.Between(6, 8), 8)
	return m, nil
}

// readLzma (lzma-file-format.txt of XZ Utils): 0 properties, 1 dictionary, 5
// size of what it holds.
func readLzma(s *image.Source) (*image.Image, error) {
	m := &image.Image{Compression: "lzma"}
	h, err := m.Header(s, "an LZMA header", 0, 13, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	p := h.Dec("properties", 0, 1, "")
	h.Mean("lc %d, lp %d, pb %d", p%9, p/9%5, p/45)
	h.Dec("dictionary", 1, 4, "bytes")
	if n := h.Get(5, 8); n == 1<<64-1 {
		h.Hex("size", 5, 8, "not said")
	} else {
		h.Dec("size", 5, 8, "bytes that it holds")
	}
	return m, nil
}

// readLz4 (LZ4 Frame Format 1.6.4): 0 magic, 4 flags, 5 block descriptor, then
// by the flags the size of the content and a dictionary; the last byte is the
// second one of the xxHash-32 over the descriptor.
func readLz4(s *image.Source) (*image.Image, error) {
	m := &image.Image{Compression: "lz4"}
	h, err := m.Header(s, "an LZ4 header", 0, 7, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	if h.Hex("magic", 0, 4, "LZ4 frame") == 0x184c2102 {
		h.Mean("LZ4 legacy frame, without checksums")
		return m, nil
	}
	flags := h.Hex("flags", 4, 1, "")
	h.Hex("block_descriptor", 5, 1, "")
	n := 6
	if flags&8 != 0 {
		n += 8
	}
	if flags&1 != 0 {
		n += 4
	}
	if h, err = m.Header(s, "an LZ4 header", 0, n+1, binary.LittleEndian); err != nil {
		return m, err
	}
	if flags&8 != 0 {
		h.Dec("content_size", 6, 8, "bytes that it holds")
	}
	want := h.Hex("header_checksum", n, 1, "over the descriptor")
	m.Checked("header checksum", fmt.Sprintf("%02x", want), fmt.Sprintf("%02x", xxh32(h.Bytes[4:n])>>8&0xff), digest.Between(4, int64(n)), int64(n))
	return m, nil
}

// xxh32 is xxHash-32 with seed 0 of fewer than 16 bytes.
func xxh32(b []byte) uint32 {
	const p1, p2, p3, p4, p5 = 2654435761, 2246822519, 3266489917, 668265263, 374761393
	h := uint32(p5) + uint32(len(b))
	for ; len(b) >= 4; b = b[4:] {
		h = bits.RotateLeft32(h+binary.LittleEndian.Uint32(b)*p3, 17) * p4
	}
	for _, c := range b {
		h = bits.RotateLeft32(h+uint32(c)*p5, 11) * p1
	}
	h = (h ^ h>>15) * p2
	h = (h ^ h>>13) * p3
	return h ^ h>>16
}

// readZstd (RFC 8878, section 3.1.1.1): 0 magic, 4 descriptor, then by that
// the window, the dictionary and the size of the content.
func readZstd(s *image.Source) (*image.Image, error) {
	m := &image.Image{Compression: "zstd"}
	h, err := m.Header(s, "a Zstandard header", 0, 5, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 4, "Zstandard frame")
	d := h.Hex("descriptor", 4, 1, "")
	if d&4 != 0 {
		h.Mean("ends with a checksum over the content")
	}
	at, single := 5, d&0x20 != 0
	dict := []int{0, 1, 2, 4}[d&3]
	size := []int{0, 2, 4, 8}[d>>6]
	if single && size == 0 {
		size = 1
	}
	if !single {
		at++
	}
	if h, err = m.Header(s, "a Zstandard header", 0, at+dict+size, binary.LittleEndian); err != nil {
		return m, err
	}
	if !single {
		w := h.Hex("window", 5, 1, "")
		base := uint64(1) << (10 + w>>3)
		h.Mean("a window of %d bytes", base+base/8*(w&7))
	}
	if dict > 0 {
		h.Hex("dictionary", at, dict, "needs this dictionary")
	}
	if size > 0 {
		n := h.Dec("content_size", at+dict, size, "bytes that it holds")
		if size == 2 {
			h.Mean("bytes that it holds, less 256: %d", n+256)
		}
	}
	return m, nil
}
