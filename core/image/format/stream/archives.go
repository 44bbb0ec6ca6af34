package stream

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io"
	"strconv"
	"strings"
	"time"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/digest"
	"fitcheck/core/image"
)

// Archives, by the header that they begin with. What they hold are items of
// their own where they are opened.

func init() {
	register(&image.Format{Name: "zip",
		Doc:      image.Doc{Told: `"PK"`, Sums: "each entry's CRC-32", From: "APPNOTE 6.3"},
		Suffixes: []string{".zip"}, Title: "zip archive", Deep: true, Measure: measureZip, DeepMagics: []image.Magic{{At: 0, Bytes: "PK\x03\x04"}}, Rank: 1, Magics: []image.Magic{{At: 0, Bytes: "PK\x03\x04"}, {At: 0, Bytes: "PK\x05\x06"}}, Read: readZip})
	register(&image.Format{Name: "tar",
		Doc:      image.Doc{Told: "the checksum of its first header", Sums: "that checksum", Facts: "os-release and version files", From: "POSIX.1-2017 pax, ustar"},
		Suffixes: []string{".tar"}, Title: "tar archive", HoldsFiles: true, Deep: true, Measure: measureTar, DeepMagics: []image.Magic{{At: 257, Bytes: "ustar"}}, Rank: -1, Sniff: archive.IsTar, Read: readTar})
	register(&image.Format{Name: "cpio",
		Doc:      image.Doc{Told: "new, checksummed, portable and binary form", Facts: "os-release and version files", From: "Linux, early-userspace/buffer-format.rst"},
		Suffixes: []string{".cpio"}, Title: "cpio archive", HoldsFiles: true, Deep: true, Measure: measureCpio, DeepMagics: []image.Magic{{At: 0, Bytes: "070701"}, {At: 0, Bytes: "070702"}, {At: 0, Bytes: "070707"}}, Rank: 1, Magics: []image.Magic{{At: 0, Bytes: "070701"}, {At: 0, Bytes: "070702"}, {At: 0, Bytes: "070707"}, {At: 0, Bytes: "\xc7\x71"}}, Sniff: sniffCpio, Read: readCpio})
	register(&image.Format{Name: "7z",
		Doc:      image.Doc{Told: `"7z" bc af 27 1c`, Sums: "start header and end header crc32; that of each file, when opened", From: "7zFormat.txt"},
		Suffixes: []string{".7z"}, Title: "7z archive", Deep: true, Rank: 1, Magics: []image.Magic{{At: 0, Bytes: "7z\xbc\xaf\x27\x1c"}}, Read: read7z})
	register(&image.Format{Name: "ar",
		Doc:      image.Doc{Told: `"!<arch>"`, From: "ar(5)"},
		Suffixes: []string{".ar", ".deb"}, Title: "ar archive", Rank: 1, Magics: []image.Magic{{At: 0, Bytes: "!<arch>\n"}}, Read: readAr})
}

// readZip (APPNOTE.TXT 6.3.10, section 4.3.7): the first local header.
func readZip(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	if b, err := s.Bytes(0, 4); err != nil || b[2] == 5 {
		return m, err // an empty archive is only its directory's end
	}
	h, err := m.Header(s, "a zip entry's header", 0, 30, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 4, "first entry")
	h.Dec("needs", 4, 2, "version needed to unpack")
	flags := h.Hex("flags", 6, 2, "")
	if flags&1 != 0 {
		h.Mean("encrypted")
	}
	h.Named("method", 8, 2, map[uint64]string{0: "stored", 8: "deflate", 9: "deflate64", 12: "bzip2", 14: "lzma", 93: "zstd", 95: "xz", 99: "AES"})
	h.Hex("crc32", 14, 4, "over the content")
	h.Dec("packed", 18, 4, "bytes")
	h.Dec("size", 22, 4, "bytes")
	n := int(h.Dec("name_length", 26, 2, ""))
	h.Dec("extra_length", 28, 2, "")
	if b, err := s.UpTo(30, n); err == nil {
		m.Field("name", 30, b, image.CString(b), "")
	}
	return m, nil
}

// readTar (POSIX.1-2017, pax, ustar Interchange Format): the first header.
func readTar(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a tar header", 0, 512, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	octal := func(name string, at, size int, meaning string) int64 {
		t := strings.Trim(string(h.Bytes[at:at+size]), " \x00")
		n, _ := strconv.ParseInt(t, 8, 64)
		h.Add(name, at, size, t, meaning)
		return n
	}
	h.Text("name", 0, 100, "first entry")
	octal("mode", 100, 8, "")
	octal("size", 124, 12, "octal")
	t := octal("time", 136, 12, "")
	h.Mean("%s", image.UnixTime(t))
	want := octal("checksum", 148, 8, "octal, over the header")
	h.Named("type", 156, 1, map[uint64]string{'0': "file", 0: "file", '1': "hard link", '2': "symbolic link", '5': "folder", 'x': "pax header", 'g': "global pax header", 'L': "GNU long name", 'V': "volume label"})
	h.Text("magic", 257, 6, "")
	sum := int64(0)
	for i, c := range h.Bytes {
		if i >= 148 && i < 156 {
			c = ' '
		}
		sum += int64(c)
	}
	m.Checked("checksum of the first header", fmt.Sprintf("%06o", want), fmt.Sprintf("%06o", sum), digest.Between(0, 512), 148)
	return m, nil
}

func sniffCpio(h []byte) bool {
	if h[0] == 0xc7 { // binary: a small device, a sane name
		return len(h) >= 26 && binary.LittleEndian.Uint16(h[20:]) > 0 && binary.LittleEndian.Uint16(h[20:]) < 4096 && h[25+int(min(uint16(len(h)-26), binary.LittleEndian.Uint16(h[20:])))] == 0
	}
	return len(h) >= 76 && strings.Trim(string(h[6:40]), "0123456789abcdefABCDEF") == ""
}

// readCpio (Linux kernel, Documentation/driver-api/early-userspace/
// buffer-format.rst, for the new form; POSIX.1-1988 for the older ones): the
// first header.
func readCpio(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	b, err := s.Bytes(0, 6)
	if err != nil {
		return nil, err
	}
	m.Field("magic", 0, b, string(b), map[string]string{"070701": "new form", "070702": "new form with checksums", "070707": "portable form"}[string(b)])
	if string(b[:4]) != "0707" || b[5] == '7' {
		return m, nil
	}
	h, err := m.Header(s, "a cpio header", 0, 110, binary.BigEndian)
	if err != nil {
		return m, err
	}
	for i, name := range []string{"inode", "mode", "uid", "gid", "links", "time", "size", "dev_major", "dev_minor", "rdev_major", "rdev_minor", "name_length", "checksum"} {
		t := string(h.Bytes[6+8*i : 14+8*i])
		meaning := ""
		if n, err := strconv.ParseUint(t, 16, 32); err == nil && name == "time" {
			meaning = time.Unix(int64(n), 0).UTC().Format(time.RFC3339)
		} else if err == nil && (name == "size" || name == "name_length") {
			meaning = fmt.Sprintf("%d bytes", n)
		}
		h.Add(name, 6+8*i, 8, t, meaning)
	}
	n, _ := strconv.ParseUint(string(h.Bytes[94:102]), 16, 32)
	if name, err := s.UpTo(110, int(min(n, 4096))); err == nil {
		m.Field("name", 110, name, image.CString(name), "first entry")
	}
	return m, nil
}

// read7z (7zFormat.txt of the LZMA SDK): 0 magic, 6 version, 8 CRC-32 over the
// 20 bytes that follow: place, size and CRC-32 of the header at the end.
func read7z(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a 7z header", 0, 32, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Raw("magic", 0, 6, "7z archive")
	h.Raw("version", 6, 2, fmt.Sprintf("%d.%d", h.Bytes[6], h.Bytes[7]))
	want := h.Hex("start_crc", 8, 4, "over the 20 bytes that follow")
	at, n := int64(h.Dec("next_offset", 12, 8, "of the header at the end, from here")), int64(h.Dec("next_size", 20, 8, "bytes"))
	next := h.Hex("next_crc", 28, 4, "over the header at the end")
	m.Checked("start header crc32", fmt.Sprintf("%08x", want), fmt.Sprintf("%08x", crc32.ChecksumIEEE(h.Bytes[12:32])), digest.Between(12, 32), 8)
	if at < 0 || n < 0 || at > 1<<50 || n > 1<<30 {
		return m, fmt.Errorf("the header at its end is said to be at %d, %d bytes", at, n)
	}
	m.Extent = 32 + at + n
	if n > 16<<20 {
		m.Notes = append(m.Notes, "its directory is too large for its checksum to be recomputed with the header; opening the archive does")
		return m, nil
	}
	b, err := s.Bytes(32+at, int(n))
	if err != nil {
		return m, err
	}
	m.Checked("end header crc32", fmt.Sprintf("%08x", next), fmt.Sprintf("%08x", crc32.ChecksumIEEE(b)), digest.Between(32+at, 32+at+n), 28)
	return m, nil
}

// readAr (the common form of ar archives, as in ar(5)): the first member.
func readAr(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	b, err := s.UpTo(0, 68)
	if err != nil {
		return nil, err
	}
	m.Field("magic", 0, b[:8], "!<arch>", "ar archive")
	if len(b) < 68 {
		return m, nil
	}
	h := m.Block(b, 0, binary.BigEndian)
	h.Text("name", 8, 16, "first member")
	t := h.Text("time", 24, 12, "")
	if n, err := strconv.ParseInt(t, 10, 64); err == nil {
		h.Mean("%s", image.UnixTime(n))
	}
	h.Text("mode", 48, 8, "octal")
	h.Text("size", 56, 10, "bytes")
	if string(b[66:68]) != "`\n" {
		m.Problem("the header of its first member does not end as it must")
	}
	return m, nil
}

// measureTar follows the headers, each known by its checksum, to the zeros that end a tar.
func measureTar(c *archive.Content) (int64, error) {
	const block = 512
	b := make([]byte, block)
	for at, n := int64(0), 0; ; n++ {
		if k, err := c.ReadAt(b, at); k < block {
			return 0, archive.OnlyFatal(err)
		}
		if image.AllOf(b, 0) {
			if k, err := c.ReadAt(b, at+block); k < block || !image.AllOf(b, 0) {
				return 0, archive.OnlyFatal(err)
			}
			if n == 0 {
				return 0, nil
			}
			return at + 2*block, nil
		}
		if !archive.IsTar(b) || string(b[257:262]) != "ustar" {
			return 0, nil
		}
		size := tarSize(b[124:136])
		if size < 0 || size > c.Size()-at {
			return 0, nil
		}
		at += block + (size+block-1)/block*block
	}
}

// tarSize reads a size: octal digits, or a binary number whose first bit is set.
func tarSize(b []byte) int64 {
	if b[0]&0x80 != 0 {
		v := int64(b[0] & 0x7f)
		for _, c := range b[1:] {
			if v > 1<<48 {
				return -1
			}
			v = v<<8 | int64(c)
		}
		return v
	}
	v := int64(0)
	for _, c := range bytes.Trim(b, " \x00") {
		if c < '0' || c > '7' {
			return -1
		}
		v = v<<3 | int64(c-'0')
	}
	return v
}

// measureCpio follows the members to the trailer, of all archives that follow each other.
func measureCpio(c *archive.Content) (int64, error) {
	n, files, err := content.CpioLength(c.Reader(0, c.Size()))
	if err != nil || files == 0 {
		return 0, archive.OnlyFatal(err)
	}
	return n, nil
}

// measureZip looks for the end of the directory that begins where it says.
func measureZip(c *archive.Content) (int64, error) {
	const chunk, record = 256 << 10, 22
	buf := make([]byte, chunk)
	le := binary.LittleEndian
	for at := int64(0); at < c.Size(); at += chunk - record {
		n, err := c.ReadAt(buf, at)
		if err != nil && err != io.EOF {
			return 0, archive.OnlyFatal(err)
		}
		for b := buf[:n]; ; {
			i := bytes.Index(b, []byte("PK\x05\x06"))
			if i < 0 || len(b)-i < record {
				break
			}
			b = b[i:]
			end := at + int64(n-len(b))
			entries, length, from, note := le.Uint16(b[10:]), int64(le.Uint32(b[12:])), int64(le.Uint32(b[16:])), int64(le.Uint16(b[20:]))
			var head [4]byte
			if from+length == end && entries > 0 && end+record+note <= c.Size() {
				if _, err := c.ReadAt(head[:], from); err != nil && err != io.EOF {
					return 0, archive.OnlyFatal(err)
				}
				if string(head[:]) == "PK\x01\x02" {
					return end + record + note, nil
				}
			}
			b = b[4:]
		}
		if n < chunk {
			break
		}
	}
	return 0, nil
}
