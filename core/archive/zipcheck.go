package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// What a zip says twice must agree, or two programs could unpack two
// different packages out of one file: the local header of each entry with the
// directory, and no two entries may share bytes.

var (
	errTooManyEntries = errors.New("too many entries")
	errNoDirectory    = errors.New("no directory")
)

// zipDir is where the directory of a zip is.
type zipDir struct {
	at, end int64 // of the directory; end is also where its end record begins
	tail    int64 // bytes that follow the end record and its comment
}

const (
	zipEndRecord   = 22
	zipDirEntry    = 46
	zipLocalHeader = 30
)

// zipDirectory finds the directory and counts its entries, before anything is
// allocated for them (APPNOTE.TXT 6.3.10, sections 4.3.12 and 4.3.16).
func zipDirectory(at io.ReaderAt, size, most int64) (zipDir, error) {
	tail := make([]byte, min(size, zipEndRecord+64<<10))
	if _, err := at.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return zipDir{}, err
	}
	end := -1
	for i := len(tail) - zipEndRecord; i >= 0; i-- {
		if bytes.HasPrefix(tail[i:], []byte("PK\x05\x06")) && i+zipEndRecord+int(binary.LittleEndian.Uint16(tail[i+20:])) <= len(tail) {
			end = i
			break
		}
	}
	if end < 0 {
		return zipDir{}, errNoDirectory
	}
	le := binary.LittleEndian
	d := zipDir{end: size - int64(len(tail)) + int64(end)}
	d.tail = size - d.end - zipEndRecord - int64(le.Uint16(tail[end+20:]))
	length := int64(le.Uint32(tail[end+12:]))
	if length == 0xffffffff { // zip64: its record stands before a locator of 20 bytes
		rec := make([]byte, 20)
		if _, err := at.ReadAt(rec, d.end-20); err != nil || !bytes.HasPrefix(rec, []byte("PK\x06\x07")) {
			return zipDir{}, errNoDirectory
		}
		place := int64(le.Uint64(rec[8:]))
		big := make([]byte, 56)
		if _, err := at.ReadAt(big, place); err != nil || !bytes.HasPrefix(big, []byte("PK\x06\x06")) {
			return zipDir{}, errNoDirectory
		}
		length, d.end = int64(le.Uint64(big[40:])), place
	}
	d.at = d.end - length
	if length < 0 || d.at < 0 {
		return zipDir{}, errNoDirectory
	}
	r := bufio.NewReaderSize(io.NewSectionReader(at, d.at, d.end-d.at), 64<<10)
	for n := int64(0); ; n++ {
		h, err := r.Peek(zipDirEntry)
		if err != nil || !bytes.HasPrefix(h, []byte("PK\x01\x02")) {
			return d, nil // where it ends too early, the reader says so
		}
		if n >= most {
			return d, errTooManyEntries
		}
		if _, err := r.Discard(zipDirEntry + int(le.Uint16(h[28:])) + int(le.Uint16(h[30:])) + int(le.Uint16(h[32:]))); err != nil {
			return d, nil
		}
	}
}

// zipStructure reports what contradicts itself, and what stands around.
func (w *walker) zipStructure(p *pass, at io.ReaderAt, files []*zip.File, dir zipDir) {
	const again = "get the package from its maker again; do not guess which one is meant"
	for _, twice := range twins(files) {
		p.problem(Damaged, fmt.Sprintf("two entries bear the name %s and differ in content", printable(twice)), again)
	}
	type stretch struct {
		from, to int64
		name     string
	}
	var all []stretch
	told := 0
	tell := func(format string, args ...any) {
		if told++; told <= maxTold {
			p.problem(Damaged, fmt.Sprintf(format, args...), again)
		}
	}
	for _, f := range files {
		data, err := f.DataOffset()
		if err != nil {
			continue // that its local header is missing, opening it says
		}
		name := printable(f.Name)
		local, start := localHeader(at, data)
		if local == nil {
			start = data
		} else if what := disagrees(f, local); what != "" {
			tell("the local header of %s disagrees with the directory: %s", name, what)
		}
		all = append(all, stretch{start, data + int64(f.CompressedSize64), name})
	}
	slices.SortFunc(all, func(a, b stretch) int { return cmp.Or(cmp.Compare(a.from, b.from), cmp.Compare(a.to, b.to)) })
	for i := 1; i < len(all); i++ {
		if all[i].from < all[i-1].to {
			tell("the entries %s and %s overlap", all[i-1].name, all[i].name)
		}
	}
	if len(all) > 0 && all[len(all)-1].to > dir.at && told == 0 {
		tell("the entry %s reaches into the directory", all[len(all)-1].name)
	}
	if told > maxTold {
		p.problem(Damaged, fmt.Sprintf("and %d more of the kind", told-maxTold), again)
	}
	if len(all) > 0 && all[0].from > 0 {
		p.problem(Note, fmt.Sprintf("%d bytes stand before its first entry", all[0].from), "")
	}
	if dir.tail > 0 {
		p.problem(Note, fmt.Sprintf("%d bytes follow its end", dir.tail), "")
	}
}

// maxTold is how many faults of one kind are told one by one.
const maxTold = 8

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
	name := string(h[zipLocalHeader : zipLocalHeader+int(le.Uint16(h[26:]))])
	flags := le.Uint16(h[6:])
	crc, packed, size := le.Uint32(h[14:]), le.Uint32(h[18:]), le.Uint32(h[22:])
	switch {
	case name != f.Name:
		return fmt.Sprintf("it bears the name %s", printable(name))
	case le.Uint16(h[8:]) != f.Method:
		return fmt.Sprintf("it says method %d, and the directory %d", le.Uint16(h[8:]), f.Method)
	case flags&1 != f.Flags&1:
		return "one says that it is encrypted, and the other does not"
	case flags&8 != 0: // sizes and CRC follow the data
		return ""
	case crc != f.CRC32:
		return fmt.Sprintf("it says CRC-32 %08x, and the directory %08x", crc, f.CRC32)
	case packed != 0xffffffff && uint64(packed) != f.CompressedSize64:
		return fmt.Sprintf("it says %d packed bytes, and the directory %d", packed, f.CompressedSize64)
	case size != 0xffffffff && uint64(size) != f.UncompressedSize64:
		return fmt.Sprintf("it says %d bytes, and the directory %d", size, f.UncompressedSize64)
	}
	return ""
}
