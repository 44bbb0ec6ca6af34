package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"slices"
	"unicode/utf8"

	"fitcheck/core/wording"
)

// What a zip says twice must agree, or two programs could unpack two
// different packages out of one file: where the directory begins and what follows from
// its size, the local header of each entry with the directory, the record behind an
// entry's data with both; no two entries may share bytes, and no entry may lie where
// only programs that read from the front would find it.

var (
	errTooManyEntries = errors.New("too many entries")
	errNoDirectory    = errors.New("no directory")
)

// zipDir is where the directory of a zip is.
type zipDir struct {
	at, end int64 // of the directory; end is also where its end record begins
	record  int64 // where the last end record begins
	stop    int64 // where that record ends, its comment included
	base    int64 // where the zip begins: what lies before is something else
	entries int64 // that its bytes list
	stated  int64 // that its end record announces
	used    int64 // its bytes that list entries
	doubt   string
}

const (
	zipEndRecord   = 22
	zipDirEntry    = 46
	zipLocalHeader = 30
	zip64Locator   = 20
	zip64Record    = 56
)

// zipDirectory finds the directory and counts its entries, before anything is
// allocated for them (APPNOTE.TXT 6.3.10, sections 4.3.12 to 4.3.16).
//
// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
func zipDirectory(at io.ReaderAt, size, most int64) (zipDir, error) {
	tail := make([]byte, min(size, zipEndRecord+64<<10))
	if _, err := at.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return zipDir{}, err
	}
	le := binary.LittleEndian
	end := -1
	for i := len(tail) - zipEndRecord; i >= 0; i-- {
		if bytes.HasPrefix(tail[i:], []byte("PK\x05\x06")) && i+zipEndRecord+int(le.Uint16(tail[i+20:])) <= len(tail) {
			end = i
			break
		}
	}
	if end < 0 {
		return zipDir{}, errNoDirectory
	}
	rec := tail[end:]
	d := zipDir{end: size - int64(len(tail)) + int64(end)}
	d.record = d.end
	d.stop = d.end + zipEndRecord + int64(le.Uint16(rec[20:]))
	if bytes.Contains(tail[end+4:], []byte("PK\x05\x06")) {
		d.doubt = "what follows the end of its directory holds a further end record"
	}
	d.stated = int64(le.Uint16(rec[10:]))
	if le.Uint16(rec[4:]) != 0 && le.Uint16(rec[4:]) != 0xffff || le.Uint16(rec[6:]) != 0 && le.Uint16(rec[6:]) != 0xffff || le.Uint16(rec[8:]) != le.Uint16(rec[10:]) {
		d.doubt = "its end record speaks of several disks"
	}
	length, start := int64(le.Uint32(rec[12:])), int64(le.Uint32(rec[16:]))
	if length == 0xffffffff || start == 0xffffffff || d.stated == 0xffff { // zip64: its record stands before a locator
		if err := d.zip64(at, &length, &start); err != nil && (length == 0xffffffff || start == 0xffffffff) {
			return zipDir{}, err
		}
	}
	d.at = d.end - length
	if length < 0 || d.at < 0 || start < 0 {
		return zipDir{}, errNoDirectory
	}
	d.base = d.at - start
	if d.base != 0 && d.doubt == "" {
		magic := make([]byte, 4)
		n, _ := at.ReadAt(magic, start)
		switch {
		case d.base < 0:
			d.doubt = fmt.Sprintf("its end record puts the directory at byte %d, and by its size it begins at %d", start, d.at)
		case n == 4 && (bytes.Equal(magic, []byte("PK\x01\x02")) || bytes.Equal(magic, []byte("PK\x05\x06")) || bytes.Equal(magic, []byte("PK\x06\x06"))):
			d.doubt = fmt.Sprintf("it has two directories: one at byte %d, where its end record says, and one at %d, by its size", start, d.at)
		}
	}
	if d.base < 0 {
		d.base = 0
	}
	r := bufio.NewReaderSize(io.NewSectionReader(at, d.at, d.end-d.at), 64<<10)
	for {
		h, err := r.Peek(zipDirEntry)
		if err != nil || !bytes.HasPrefix(h, []byte("PK\x01\x02")) {
			return d, nil // where it ends too early, the reader says so
		}
		if d.entries >= most {
			return d, errTooManyEntries
		}
		d.entries++
		n := zipDirEntry + int(le.Uint16(h[28:])) + int(le.Uint16(h[30:])) + int(le.Uint16(h[32:]))
		d.used += int64(n)
		if _, err := r.Discard(n); err != nil {
			return d, nil
		}
	}
}

// zip64 reads the end record of a large zip.
func (d *zipDir) zip64(at io.ReaderAt, length, start *int64) error {
	le := binary.LittleEndian
	rec := make([]byte, zip64Locator)
	if _, err := at.ReadAt(rec, d.end-zip64Locator); err != nil || !bytes.HasPrefix(rec, []byte("PK\x06\x07")) {
		return errNoDirectory
	}
	place := int64(le.Uint64(rec[8:]))
	big := make([]byte, zip64Record)
	// What stands in front of the zip shifts it; then it ends right before the locator.
	if _, err := at.ReadAt(big, place); err != nil || !bytes.HasPrefix(big, []byte("PK\x06\x06")) {
		place = d.end - zip64Locator - zip64Record
		if _, err := at.ReadAt(big, place); err != nil || !bytes.HasPrefix(big, []byte("PK\x06\x06")) {
			return errNoDirectory
		}
	}
	d.stated, *length, *start, d.end = int64(le.Uint64(big[32:])), int64(le.Uint64(big[40:])), int64(le.Uint64(big[48:])), place
	return nil
}

// shiftedZip shows a zip to the library as if nothing stood before it, and its end
// record as if it said where the directory begins by its size.
type shiftedZip struct {
	at  io.ReaderAt
	dir zipDir
}

func (s *shiftedZip) ReadAt(p []byte, off int64) (int, error) {
	n, err := s.at.ReadAt(p, off+s.dir.base)
	place := make([]byte, 4)
	if start := s.dir.at - s.dir.base; start < 0xffffffff {
		binary.LittleEndian.PutUint32(place, uint32(start))
		for i, b := range place { // the field at byte 16 of the end record
			if k := s.dir.record - s.dir.base + 16 + int64(i) - off; k >= 0 && k < int64(n) && s.dir.end == s.dir.record {
				p[k] = b
			}
		}
	}
	return n, err
}

// zipName is the name of an entry. A program that packs names in an old encoding gives
// them once more in Unicode (section 4.6.9), which holds as long as it belongs to the
// name that it stands beside.
func zipName(f *zip.File) string {
	if name, ok := unicodeName(f.Extra, f.Name); ok && !utf8.ValidString(f.Name) {
		return name
	}
	return f.Name
}

// unicodeName finds the Unicode Path extra field: 0x7075, size, version 1, CRC-32 of
// the name beside it, the name.
func unicodeName(extra []byte, name string) (string, bool) {
	le := binary.LittleEndian
	for len(extra) >= 4 {
		id, n := le.Uint16(extra), int(le.Uint16(extra[2:]))
		if len(extra) < 4+n {
			return "", false
		}
		b := extra[4 : 4+n]
		if id == 0x7075 && n > 5 && b[0] == 1 && le.Uint32(b[1:]) == crc32.ChecksumIEEE([]byte(name)) {
			return string(b[5:]), true
		}
		extra = extra[4+n:]
	}
	return "", false
}

// zipStretch are the bytes that an entry takes, its local header included.
type zipStretch struct {
	from, to int64
	name     string
}

// zipStructure reports what contradicts itself, and what stands around.
func (w *walker) zipStructure(p *pass, at io.ReaderAt, size int64, files []*zip.File, dir zipDir) {
	told := &reporter{p: p}
	if dir.doubt != "" {
		told.damaged("programs read it differently: %s", dir.doubt)
	}
	if dir.stated != dir.entries && dir.stated != dir.entries&0xffff {
		told.damaged("its directory lists %d entries, and its end record announces %d", dir.entries, dir.stated)
	}
	if rest := dir.end - dir.at - dir.used; rest > 0 && !startsWith(at, dir.at+dir.used, "PK\x05\x05") {
		told.damaged("its directory ends with %s, from byte %d on, in which nothing is listed", wording.Count(rest, "byte"), dir.at+dir.used)
	}
	all := zipEntries(told, at, files, dir.base)
	zipGaps(told, at, all, dir)
	if dir.base > 0 {
		told.note("its first entry begins only after %s", wording.Count(dir.base, "byte"))
		if place, ok := findEnd(at, dir.base); ok {
			told.damaged("what stands before it holds a zip of its own, which ends at byte %d: some programs read that one", place)
		}
	}
	if tail := size - dir.stop; tail > 0 {
		told.note("its end is followed by %s", wording.Count(tail, "byte"))
	}
	told.end()
}

// zipEntries holds the local headers against the directory, and tells where the entries lie.
func zipEntries(told *reporter, at io.ReaderAt, files []*zip.File, base int64) (all []zipStretch) {
	for _, f := range files {
		data, err := f.DataOffset()
		if err != nil {
			continue // that its local header is missing, opening it says
		}
		data += base
		name := shortName(f.Name)
		local, start := localHeader(at, data)
		end := data + int64(f.CompressedSize64)
		if local == nil {
			start = data
		} else if what := disagrees(f, local); what != "" {
			told.damaged("the local header of %s disagrees with the directory: %s", name, what)
		}
		if other, ok := unicodeName(f.Extra, f.Name); ok && utf8.ValidString(f.Name) && other != f.Name {
			told.damaged("the entry %s bears the name %s, too, in Unicode", name, shortName(other))
		}
		if f.Flags&8 != 0 {
			n, what := descriptor(f, at, end)
			if what != "" {
				told.damaged("the record behind the data of %s disagrees with the directory: %s", name, what)
			}
			end += n
		}
		all = append(all, zipStretch{start, end, name})
	}
	return all
}

// zipGaps tells of entries that overlap, and of bytes that belong to none.
func zipGaps(told *reporter, at io.ReaderAt, all []zipStretch, dir zipDir) {
	slices.SortFunc(all, func(a, b zipStretch) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	reached := dir.base
	gap := func(to int64, before string) {
		if to <= reached {
			return
		}
		if place, ok := findLocal(at, reached, to); ok {
			told.damaged("an entry that its directory does not list begins at byte %d, before %s", place, before)
		} else {
			told.note("bytes %d to %d, before %s, belong to no entry", reached, to, before)
		}
	}
	for i, s := range all {
		if i > 0 && s.from < reached {
			told.damaged("the entries %s and %s overlap by %s, from byte %d on", all[i-1].name, s.name, wording.Count(min(reached, s.to)-s.from, "byte"), s.from)
		}
		if i == 0 && s.from > reached && dir.base == 0 { // what stands before the first entry
			told.note("its first entry begins only after %s", wording.Count(s.from, "byte"))
			if _, ok := findLocal(at, 0, s.from); ok {
				told.damaged("an entry that its directory does not list stands before its first one")
			}
		} else {
			gap(s.from, s.name)
		}
		reached = max(reached, s.to)
	}
	if len(all) > 0 && reached > dir.at {
		told.damaged("the entry %s reaches %s into the directory", all[len(all)-1].name, wording.Count(reached-dir.at, "byte"))
	} else {
		gap(dir.at, "its directory")
	}
}

func startsWith(at io.ReaderAt, off int64, magic string) bool {
	b := make([]byte, len(magic))
	n, _ := at.ReadAt(b, off)
	return string(b[:n]) == magic
}

// findLocal finds a local header between two places.
func findLocal(at io.ReaderAt, from, to int64) (int64, bool) {
	return find(at, from, to, []byte("PK\x03\x04"))
}

// findEnd finds, before a place, an end record whose directory is there.
func findEnd(at io.ReaderAt, to int64) (int64, bool) {
	for from := int64(0); ; from++ {
		place, ok := find(at, from, to, []byte("PK\x05\x06"))
		if !ok {
			return 0, false
		}
		rec := make([]byte, zipEndRecord)
		if n, _ := at.ReadAt(rec, place); n == len(rec) {
			length := int64(binary.LittleEndian.Uint32(rec[12:]))
			if length >= zipDirEntry && startsWith(at, place-length, "PK\x01\x02") {
				return place, true
			}
		}
		from = place
	}
}

func find(at io.ReaderAt, from, to int64, magic []byte) (int64, bool) {
	const chunk = 64 << 10
	b := make([]byte, chunk+len(magic)-1)
	for ; from < to && to-from > 0; from += chunk {
		n, err := at.ReadAt(b[:min(int64(len(b)), to-from)], from)
		if i := bytes.Index(b[:n], magic); i >= 0 {
			return from + int64(i), true
		}
		if err != nil {
			break
		}
	}
	return 0, false
}

// descriptor reads the record behind the data of an entry whose sizes were not known
// when it was begun (section 4.3.9): with or without its magic, sizes of 4 or 8 bytes.
// It tells the record's length.
func descriptor(f *zip.File, at io.ReaderAt, from int64) (n int64, what string) {
	le := binary.LittleEndian
	b := make([]byte, 24)
	got, _ := at.ReadAt(b, from)
	b = b[:got]
	skip := 0
	if bytes.HasPrefix(b, []byte("PK\x07\x08")) {
		skip = 4
	}
	for _, wide := range []bool{false, true} {
		length := skip + 12
		if wide {
			length += 8
		}
		if len(b) < length {
			continue
		}
		r := b[skip:]
		packed, size := uint64(le.Uint32(r[4:])), uint64(le.Uint32(r[8:]))
		if wide {
			packed, size = le.Uint64(r[4:]), le.Uint64(r[12:])
		}
		if le.Uint32(r) == f.CRC32 && packed == f.CompressedSize64 && size == f.UncompressedSize64 {
			return int64(length), ""
		}
	}
	if skip == 0 {
		return 0, "there is none"
	}
	return int64(skip + 12), fmt.Sprintf("it says CRC-32 %08x, and the directory %08x, or other sizes", le.Uint32(append(b[skip:], 0, 0, 0, 0)), f.CRC32)
}

// localHeader finds the local header whose data begins at an offset.
func localHeader(at io.ReaderAt, data int64) ([]byte, int64) {
	for _, room := range []int64{1 << 10, 132 << 10} {
		from := max(0, data-room)
		b := make([]byte, data-from)
		if _, err := at.ReadAt(b, from); err != nil && err != io.EOF {
			return nil, 0
		}
		for i := len(b) - zipLocalHeader; i >= 0; i-- {
			if b[i] == 'P' && bytes.HasPrefix(b[i:], []byte("PK\x03\x04")) {
				n := zipLocalHeader + int(binary.LittleEndian.Uint16(b[i+26:])) + int(binary.LittleEndian.Uint16(b[i+28:]))
				if i+n == len(b) {
					return b[i:], from + int64(i)
				}
			}
		}
	}
	return nil, 0
}

// disagrees compares a local header with the directory's entry.
func disagrees(f *zip.File, h []byte) string {
	le := binary.LittleEndian
	n := zipLocalHeader + int(le.Uint16(h[26:]))
	name, extra := string(h[zipLocalHeader:n]), h[n:]
	flags := le.Uint16(h[6:])
	crc, packed, size := le.Uint32(h[14:]), le.Uint32(h[18:]), le.Uint32(h[22:])
	other, named := unicodeName(extra, name)
	switch {
	case name != f.Name:
		return fmt.Sprintf("it bears the name %s", shortName(name))
	case named && other != zipName(f):
		return fmt.Sprintf("it bears the name %s in Unicode", shortName(other))
	case le.Uint16(h[8:]) != f.Method:
		return fmt.Sprintf("it says method %d, and the directory %d", le.Uint16(h[8:]), f.Method)
	case flags&1 != f.Flags&1:
		return "one says that it is encrypted, and the other does not"
	case flags&8 != f.Flags&8:
		return "one says that sizes follow the data, and the other does not"
	case crc != f.CRC32 && (flags&8 == 0 || crc != 0): // else sizes and CRC follow the data

		return fmt.Sprintf("it says CRC-32 %08x, and the directory %08x", crc, f.CRC32)
	case packed != 0xffffffff && uint64(packed) != f.CompressedSize64 && (flags&8 == 0 || packed != 0):
		return fmt.Sprintf("it says %d packed bytes, and the directory %d", packed, f.CompressedSize64)
	case size != 0xffffffff && uint64(size) != f.UncompressedSize64 && (flags&8 == 0 || size != 0):
		return fmt.Sprintf("it says %d bytes, and the directory %d", size, f.UncompressedSize64)
	}
	return ""
}
