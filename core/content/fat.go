package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"io/fs"
	"strings"
	"time"
	"unicode/utf16"
)

// FAT (ECMA-107; the layout of FAT32 and of long names as in the Linux kernel, fs/fat and
// include/uapi/linux/msdos_fs.h), little-endian:
//
//	0: 11 bytes a sector, 13 sectors a cluster, 14 sectors in front of the tables, 16 tables, 17 entries of the root,
//	19 or 32 sectors in all, 22 or 36 sectors a table, 44 the root's first cluster (FAT32)
//
// The tables are followed by the root, of FAT32 by the clusters, counted from 2. A table gives
// for each cluster the one that follows; the kind of table is known by the number of clusters.
// An entry of a folder:
//
//	0 name, 8 suffix, 11 attributes, 12 of which letters are small, 20 first cluster (upper half), 22 time, 24 date,
//	26 first cluster, 28 size
//
// Entries of the attributes 0x0f in front of it hold its long name, the last part first.
type fat struct {
	at       io.ReaderAt
	size     int64
	bits     int // of an entry of the table
	cluster  int64
	table    int64 // offset
	root     int64 // offset of the root of FAT12 and FAT16
	rootSize int64
	first    uint32 // cluster of the root of FAT32
	data     int64  // offset of cluster 2
	clusters uint32
	cache    window
}

const (
	fatEntry  = 32
	fatLong   = 0x0f // attributes
	fatFolder = 0x10
	fatLabel  = 0x08
	fatLocked = 0x01
	// fatMaxFolder is what a folder may take: 65 536 entries.
	fatMaxFolder = 2 << 20
)

func init() {
	register(Kind{Name: "fat", Title: "FAT", Open: OpenFAT, From: "Microsoft FAT specification; ECMA-107",
		Reads: "long names, case of short ones",
		Lacks: "letters beyond ASCII in short names are told as %NN"})
}

// fatRoot is the reference of the root, which no entry names.
const fatRoot = 1 << 63

// FATBits is how many bits an entry of a FAT's tables has, by the number of its clusters (Microsoft FAT specification,
// "FAT type determination"). wide: the length of its tables stands in the field of FAT32; that is FAT32, however few they are.
func FATBits(clusters int64, wide bool) int {
	switch {
	case wide || clusters >= 65525:
		return 32
	case clusters < 4085:
		return 12
	}
	return 16
}

// OpenFAT opens a FAT file system that takes up to size bytes.
func OpenFAT(at io.ReaderAt, size int64) (FileSystem, error) {
	var b [512]byte
	if err := readAt(at, size, 0, b[:]); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	u16 := func(i int) int64 { return int64(le.Uint16(b[i:])) }
	u32 := func(i int) int64 { return int64(le.Uint32(b[i:])) }
	sector, tables := u16(11), int64(b[16])
	f := &fat{at: at, size: size, cluster: sector * int64(b[13])}
	if sector < 128 || sector > 4096 || sector&(sector-1) != 0 || f.cluster == 0 || b[13]&(b[13]-1) != 0 || tables == 0 || u16(14) == 0 {
		return nil, damaged("its boot sector announces %d bytes a sector, %d sectors a cluster, %d tables", sector, b[13], tables)
	}
	total, length := u16(19), u16(22)
	if total == 0 {
		total = u32(32)
	}
	wide := length == 0
	if wide {
		length = u32(36)
	}
	f.table = u16(14) * sector
	f.root = f.table + tables*length*sector
	f.rootSize = u16(17) * fatEntry
	f.data = f.root + (f.rootSize+sector-1)/sector*sector
	n := (total*sector - f.data) / f.cluster
	if length == 0 || n < 1 || n > 1<<28 {
		return nil, damaged("its boot sector announces %d sectors, and its tables take %d each", total, length)
	}
	if f.bits = FATBits(n, wide); f.bits == 32 {
		f.first = uint32(u32(44))
	}
	f.clusters = uint32(n)
	if length*sector*8/int64(f.bits) < n+2 {
		return nil, damaged("its tables of %d sectors are too short for its %d clusters", length, n)
	}
	f.cache = window{at: at, size: size}
	return f, nil
}

// next gives the cluster that follows one; 0 at the end.
func (f *fat) next(c uint32) (uint32, error) {
	var v, end uint32
	switch f.bits {
	case 12:
		b, err := f.cache.peek(f.table+int64(c)*3/2, 2)
		if err != nil || len(b) < 2 {
			return 0, orShort(err)
		}
		v, end = uint32(binary.LittleEndian.Uint16(b)), 0xff8
		if c%2 == 1 {
			v >>= 4
		}
		v &= 0xfff
	case 16:
		b, err := f.cache.peek(f.table+int64(c)*2, 2)
		if err != nil || len(b) < 2 {
			return 0, orShort(err)
		}
		v, end = uint32(binary.LittleEndian.Uint16(b)), 0xfff8
	default:
		b, err := f.cache.peek(f.table+int64(c)*4, 4)
		if err != nil || len(b) < 4 {
			return 0, orShort(err)
		}
		v, end = binary.LittleEndian.Uint32(b)&0x0fffffff, 0x0ffffff8
	}
	switch {
	case v >= end:
		return 0, nil
	case !f.valid(v):
		return 0, damaged("cluster %d is followed by %d, and there are %d", c, v, f.clusters)
	}
	return v, nil
}

func orShort(err error) error {
	if err == nil {
		err = damaged("truncated: its tables lie beyond its end")
	}
	return err
}

func (f *fat) valid(c uint32) bool { return c >= 2 && c < f.clusters+2 }

func (f *fat) offset(c uint32) int64 { return f.data + int64(c-2)*f.cluster }

// Walk implements FileSystem. A reference is the offset of an entry.
func (f *fat) Walk(ctx context.Context, visit func(*File) error) error {
	return walk(ctx, fatRoot, func(ref uint64) (node, error) {
		if ref == fatRoot {
			return node{file: File{Mode: fs.ModeDir | 0o755}, folder: ref, list: func() ([]entry, error) { return f.list(f.first, f.bits != 32) }}, nil
		}
		var b [fatEntry]byte
		if err := readAt(f.at, f.size, int64(ref), b[:]); err != nil {
			return node{}, err
		}
		return f.node(b[:], ref), nil
	}, visit)
}

func (f *fat) node(b []byte, ref uint64) node {
	le := binary.LittleEndian
	first := uint32(le.Uint16(b[26:]))
	if f.bits == 32 {
		first |= uint32(le.Uint16(b[20:])) << 16
	}
	date, clock := int(le.Uint16(b[24:])), int(le.Uint16(b[22:]))
	out := node{file: File{Mode: 0o644, Links: 1, Node: ref, Modified: time.Date(1980+date>>9, time.Month(date>>5&15), date&31, clock>>11, clock>>5&63, clock&31*2, 0, time.UTC)}}
	if b[11]&fatLocked != 0 {
		out.file.Mode = 0o444
	}
	if b[11]&fatFolder != 0 {
		out.file.Mode |= fs.ModeDir | 0o111
		out.folder, out.list = uint64(first), func() ([]entry, error) { return f.list(first, false) }
		if first == 0 { // empty, and shared with none
			out.folder = fatRoot - 1 - ref
		}
		return out
	}
	out.file.Size = int64(le.Uint32(b[28:]))
	size := out.file.Size
	out.file.open = func() io.Reader { return &fatFile{f: f, cluster: first, left: size} }
	return out
}

// fatFile reads a file's content.
type fatFile struct {
	f       *fat
	cluster uint32
	within  int64 // the cluster
	left    int64
	err     error
}

func (r *fatFile) Read(p []byte) (int, error) {
	if r.err == nil && r.left == 0 {
		r.err = io.EOF
	}
	if r.err == nil && r.within == r.f.cluster {
		if r.cluster, r.err = r.f.next(r.cluster); r.err == nil {
			r.within = 0
		}
	}
	if r.err == nil && !r.f.valid(r.cluster) {
		r.err = damaged("its clusters end, and %d bytes are still due", r.left)
	}
	if r.err != nil {
		return 0, r.err
	}
	p = p[:min(int64(len(p)), r.left, r.f.cluster-r.within)]
	if r.err = readAt(r.f.at, r.f.size, r.f.offset(r.cluster)+r.within, p); r.err != nil {
		return 0, r.err
	}
	r.within += int64(len(p))
	r.left -= int64(len(p))
	return len(p), nil
}

// list reads what a folder lists; with an error, what comes before it.
func (f *fat) list(first uint32, fixed bool) ([]entry, error) {
	var out []entry
	long := &fatName{}
	if fixed {
		_, err := f.entries(f.root, f.rootSize, long, &out)
		return out, err
	}
	if first == 0 {
		return nil, nil
	}
	var size int64
	for c := first; c != 0; {
		if !f.valid(c) {
			return out, damaged("a folder lies in cluster %d, and there are %d", c, f.clusters)
		}
		if size += f.cluster; size > fatMaxFolder+f.cluster {
			return out, damaged("a folder takes more clusters than one may: they go in a circle")
		}
		end, err := f.entries(f.offset(c), f.cluster, long, &out)
		if err != nil || end {
			return out, err
		}
		if c, err = f.next(c); err != nil {
			return out, err
		}
	}
	return out, nil
}

// entries reads the entries of a stretch; end says that the last one was met.
func (f *fat) entries(at, size int64, long *fatName, out *[]entry) (end bool, err error) {
	b := make([]byte, size)
	if err := readAt(f.at, f.size, at, b); err != nil {
		return true, err
	}
	for i := int64(0); i+fatEntry <= size; i += fatEntry {
		e := b[i : i+fatEntry]
		switch {
		case e[0] == 0:
			return true, nil
		case e[0] == 0xe5: // deleted
			long.reset()
			continue
		case e[11]&0x3f == fatLong:
			long.add(e)
			continue
		case e[11]&fatLabel != 0:
			long.reset()
			continue
		}
		name := long.of(e)
		long.reset()
		if name != "." && name != ".." {
			*out = append(*out, entry{name, uint64(at + i)})
		}
	}
	return false, nil
}

// fatName gathers a long name.
type fatName struct {
	parts [][]uint16
	next  byte // number that is due
	sum   byte
}

func (n *fatName) reset() { *n = fatName{} }

func (n *fatName) add(e []byte) {
	number := e[0] & 0x3f
	if e[0]&0x40 != 0 {
		*n = fatName{next: number, sum: e[13]}
	}
	if number == 0 || number != n.next || e[13] != n.sum || len(n.parts) >= 20 {
		n.reset()
		return
	}
	n.next--
	var u []uint16
	for _, at := range []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
		c := binary.LittleEndian.Uint16(e[at:])
		if c == 0 {
			break
		}
		u = append(u, c)
	}
	n.parts = append(n.parts, u)
}

// of is the name of an entry: the long one in front of it, where that belongs to it, else
// the short one.
func (n *fatName) of(e []byte) string {
	var sum byte
	for _, c := range e[:11] {
		sum = sum>>1 | sum<<7
		sum += c
	}
	if len(n.parts) > 0 && n.next == 0 && n.sum == sum {
		var u []uint16
		for i := len(n.parts) - 1; i >= 0; i-- {
			u = append(u, n.parts[i]...)
		}
		return string(utf16.Decode(u))
	}
	base, suffix := strings.TrimRight(oldLetters(e[:8]), " "), strings.TrimRight(oldLetters(e[8:11]), " ")
	if e[12]&0x08 != 0 {
		base = strings.ToLower(base)
	}
	if e[12]&0x10 != 0 {
		suffix = strings.ToLower(suffix)
	}
	if suffix != "" {
		base += "." + suffix
	}
	return base
}

// oldLetters are those of code page 437, of which only ASCII is told; others become %NN.
func oldLetters(b []byte) string {
	var out strings.Builder
	const hex = "0123456789ABCDEF"
	for i, c := range b {
		if i == 0 && c == 0x05 { // stands for 0xe5, which means deleted
			c = 0xe5
		}
		if c < 0x80 {
			out.WriteByte(c)
		} else {
			out.WriteString("%" + hex[c>>4:c>>4+1] + hex[c&15:c&15+1])
		}
	}
	return out.String()
}

// IsFAT tells a FAT by its boot sector.
func IsFAT(head []byte) bool {
	if len(head) < 512 || head[510] != 0x55 || head[511] != 0xaa || head[0] != 0xeb && head[0] != 0xe9 || head[16] > 2 || head[21] < 0xf0 || head[12] < 2 {
		return false
	}
	_, err := OpenFAT(bytes.NewReader(head[:512]), 512)
	return err == nil
}
