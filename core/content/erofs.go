package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"io/fs"
	"sort"
	"time"
)

// EROFS (Linux kernel, fs/erofs/erofs_fs.h), little-endian. The superblock stands at 1024:
//
//	0 magic, 12 log of the block size, 14 number of the root, 40 block where inodes begin, 80 features that one must
//	know, 96 number of the inode that holds ends of files
//	inode: 32 or 64 bytes, numbered by places of 32 bytes:
//	       0 format (bit 0: 64 bytes; 1 to 3 layout), 2 extended attributes, 4 mode, 6 links, 8 size, 16 block, device or
//	       chunk format, 24 uid, 26 gid; long: 8 size (64 bits), 24 uid, 28 gid, 32 modified, 44 links
//	folder: blocks of entries of 12 bytes: 0 inode, 8 offset of the name, 10 type; the names stand behind the entries
//
// A file lies in one run of blocks, its end behind the inode (layout 2) or not (0); in chunks (4); or packed (1, 3), see
// erofsmap.go.
type erofs struct {
	at       io.ReaderAt
	size     int64
	bits     uint // log of the block size
	meta     int64
	root     uint64
	features uint32
	packed   uint64 // inode
	ends     *erofsFile
	unpack   inflater
}

const (
	erofsAt    = 1024
	erofsMagic = 0xe0f5e1e2
	erofsSlot  = 32
	erofsEntry = 12
)

// Features that a reader must know.
const (
	erofsZeroPadding = 0x01
	erofsKnown       = 0x7f
)

// Layouts of a file.
const (
	erofsPlain   = 0
	erofsFull    = 1
	erofsInline  = 2
	erofsCompact = 3
	erofsChunks  = 4
)

func init() {
	register(Kind{Name: "erofs", Title: "EROFS", Open: OpenEROFS, From: "Linux, fs/erofs/erofs_fs.h",
		Reads: "plain, ends of files behind their inodes, chunks; packed by LZ4, deflate or Zstandard, in parts of one block or several; ends of files in a file of their own",
		Lacks: "parts packed by LZMA, files on further devices"})
}

// OpenEROFS opens an EROFS that takes up to size bytes.
func OpenEROFS(at io.ReaderAt, size int64) (FileSystem, error) {
	var b [128]byte
	if err := readAt(at, size, erofsAt, b[:]); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	e := &erofs{at: at, size: size, bits: uint(b[12]), root: uint64(le.Uint16(b[14:])), features: le.Uint32(b[80:]), packed: le.Uint64(b[96:])}
	switch {
	case le.Uint32(b[:]) != erofsMagic:
		return nil, damaged("it does not begin as an EROFS")
	case e.bits < 9 || e.bits > 16:
		return nil, damaged("its superblock announces blocks of 2^%d bytes", e.bits)
	case e.features&^erofsKnown != 0:
		return nil, unsupported("it uses features of EROFS (0x%x) that fitcheck does not know", e.features&^erofsKnown)
	}
	e.meta = int64(le.Uint32(b[40:])) << e.bits
	return e, nil
}

// erofsInode is an inode.
type erofsInode struct {
	file   File
	layout int
	length int64
	raw    uint32 // block, device, or format of chunks
	end    int64  // offset behind the inode and its attributes
}

func (e *erofs) inode(nid uint64) (*erofsInode, error) {
	if nid > 1<<50 {
		return nil, damaged("it refers to inode %d", nid)
	}
	at := e.meta + int64(nid)*erofsSlot
	var b [2 * erofsSlot]byte
	if err := readAt(e.at, e.size, at, b[:erofsSlot]); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	format := le.Uint16(b[:])
	n := &erofsInode{layout: int(format >> 1 & 7), raw: le.Uint32(b[16:]), end: at + erofsSlot}
	f := &n.file
	f.Mode, f.Node = UnixMode(uint32(le.Uint16(b[4:]))), nid
	if format&1 == 0 {
		n.length = int64(le.Uint32(b[8:]))
		f.Links, f.UID, f.GID = int(le.Uint16(b[6:])), uint32(le.Uint16(b[24:])), uint32(le.Uint16(b[26:]))
	} else {
		if err := readAt(e.at, e.size, at+erofsSlot, b[erofsSlot:]); err != nil {
			return nil, err
		}
		n.end += erofsSlot
		n.length = int64(le.Uint64(b[8:]))
		f.UID, f.GID, f.Links = le.Uint32(b[24:]), le.Uint32(b[28:]), int(le.Uint32(b[44:]))
		f.Modified = time.Unix(int64(le.Uint64(b[32:])), 0).UTC()
	}
	if count := int64(le.Uint16(b[2:])); count > 0 {
		n.end += 12 + (count-1)*4
	}
	if n.length < 0 {
		return nil, damaged("inode %d announces %d bytes", nid, uint64(n.length))
	}
	return n, nil
}

// Walk implements FileSystem. A reference is the number of an inode.
func (e *erofs) Walk(ctx context.Context, visit func(*File) error) error {
	return walk(ctx, e.root, func(nid uint64) (node, error) {
		n, err := e.inode(nid)
		if err != nil {
			return node{}, err
		}
		out := node{file: n.file, folder: nid}
		f := &out.file
		switch {
		case f.Mode.IsDir():
			out.list = func() ([]entry, error) { return e.list(n) }
		case f.Mode.IsRegular():
			f.Size = n.length
			f.open = func() io.Reader { return e.open(n) }
		case f.Mode&fs.ModeSymlink != 0:
			target, err := io.ReadAll(io.LimitReader(e.open(n), 1<<16))
			if fatal(err) {
				return node{}, err
			}
			f.Target, f.Err = string(target), err
		case f.Mode&fs.ModeDevice != 0:
			f.Major, f.Minor = deviceNumbers(n.raw)
		}
		return out, nil
	}, visit)
}

// list reads what a folder lists; with an error, what comes before it.
func (e *erofs) list(n *erofsInode) ([]entry, error) {
	if n.length > maxFolder {
		return nil, tooLong(n.length)
	}
	b := make([]byte, n.length)
	if _, err := io.ReadFull(e.open(n), b); err != nil {
		return nil, err
	}
	var out []entry
	block := 1 << e.bits
	le := binary.LittleEndian
	for ; len(b) > 0; b = b[min(block, len(b)):] {
		d := b[:min(block, len(b))]
		if len(d) < erofsEntry {
			return out, damaged("a folder's list ends within an entry")
		}
		names := int(le.Uint16(d[8:]))
		if names < erofsEntry || names%erofsEntry != 0 || names > len(d) {
			return out, damaged("the names in a folder's list begin at byte %d of a block", names)
		}
		for i := 0; i < names; i += erofsEntry {
			from, to := int(le.Uint16(d[i+8:])), len(d)
			if i+erofsEntry < names {
				to = int(le.Uint16(d[i+erofsEntry+8:]))
			}
			if from < names || from > to || to > len(d) {
				return out, damaged("a name in a folder's list goes from byte %d to %d of a block", from, to)
			}
			name, _, _ := bytes.Cut(d[from:to], []byte{0})
			if text := string(name); text != "." && text != ".." {
				out = append(out, entry{text, le.Uint64(d[i:])})
			}
		}
	}
	return out, nil
}

// open reads a file's content.
func (e *erofs) open(n *erofsInode) io.Reader {
	switch n.layout {
	case erofsPlain, erofsInline:
		return &erofsRun{e: e, n: n}
	case erofsChunks:
		return &erofsChunked{e: e, n: n}
	case erofsFull, erofsCompact:
		f := &erofsFile{e: e, n: n}
		return &fileReader{read: f.at, length: n.length}
	}
	return failing{unsupported("a file is laid out in a way (%d) that fitcheck does not know", n.layout)}
}

// fileReader reads a file by stretches: read fills p from an offset on as far as the stretch
// there goes.
type fileReader struct {
	read   func(p []byte, off int64) (int, error)
	length int64
	pos    int64
	err    error
}

func (r *fileReader) Read(p []byte) (int, error) {
	if r.err == nil && r.pos >= r.length {
		r.err = io.EOF
	}
	if r.err != nil {
		return 0, r.err
	}
	n, err := r.read(p[:min(int64(len(p)), r.length-r.pos)], r.pos)
	r.pos += int64(n)
	if r.err = err; n > 0 {
		return n, nil
	}
	return 0, err
}

// erofsRun reads a file that lies in one run.
type erofsRun struct {
	e   *erofs
	n   *erofsInode
	pos int64
}

func (r *erofsRun) Read(p []byte) (int, error) {
	if r.pos >= r.n.length {
		return 0, io.EOF
	}
	block := int64(1) << r.e.bits
	at, until := int64(r.n.raw)<<r.e.bits+r.pos, r.n.length
	if last := (r.n.length - 1) / block * block; r.n.layout == erofsInline {
		if r.pos < last {
			until = last
		} else {
			at = r.n.end + r.pos - last
		}
	}
	p = p[:min(int64(len(p)), until-r.pos)]
	if err := readAt(r.e.at, r.e.size, at, p); err != nil {
		return 0, err
	}
	r.pos += int64(len(p))
	return len(p), nil
}

// erofsChunked reads a file that lies in chunks.
type erofsChunked struct {
	e   *erofs
	n   *erofsInode
	pos int64
}

func (r *erofsChunked) Read(p []byte) (int, error) {
	const (
		sizeBits = 0x1f // of the chunk's format
		indexes  = 0x20
		known    = 0x3f
		hole     = 1<<32 - 1
	)
	format := r.n.raw & 0xffff
	switch {
	case r.pos >= r.n.length:
		return 0, io.EOF
	case format&^known != 0:
		return 0, unsupported("a file's chunks have a format (0x%x) that fitcheck does not know", format)
	}
	bits := min(r.e.bits+uint(format&sizeBits), 62)
	unit := int64(4)
	if format&indexes != 0 {
		unit = 8
	}
	index := (r.n.end+unit-1)/unit*unit + r.pos>>bits*unit
	var b [8]byte
	if err := readAt(r.e.at, r.e.size, index, b[:unit]); err != nil {
		return 0, err
	}
	block := binary.LittleEndian.Uint32(b[unit-4:])
	if unit == 8 && binary.LittleEndian.Uint16(b[2:]) != 0 && block != hole {
		return 0, unsupported("a file lies on a further device of the file system, which is not here")
	}
	within := r.pos & (1<<bits - 1)
	p = p[:min(int64(len(p)), r.n.length-r.pos, 1<<bits-within)]
	if block == hole {
		clear(p)
	} else if err := readAt(r.e.at, r.e.size, int64(block)<<r.e.bits+within, p); err != nil {
		return 0, err
	}
	r.pos += int64(len(p))
	return len(p), nil
}

// erofsFile reads a file that is packed.
type erofsFile struct {
	e     *erofs
	n     *erofsInode
	m     *erofsMap
	held  int // extent that is inflated
	data  []byte
	ready bool
}

// at reads from an offset on, as far as the extent there goes.
func (f *erofsFile) at(p []byte, off int64) (int, error) {
	if !f.ready {
		m, err := f.e.mapOf(f.n)
		if err != nil {
			return 0, err
		}
		f.m, f.ready, f.held = m, true, -1
	}
	if f.m.fragment >= 0 && off >= f.m.tail { // it stands in the file of ends
		if f.n.file.Node == f.e.packed {
			return 0, damaged("the end of the file of ends lies in itself")
		}
		if f.e.ends == nil {
			n, err := f.e.inode(f.e.packed)
			if err != nil {
				return 0, err
			}
			f.e.ends = &erofsFile{e: f.e, n: n}
		}
		return f.e.ends.end(p, f.m.fragment+off-f.m.tail)
	}
	all := f.m.extents
	i := sort.Search(len(all), func(i int) bool { return all[i].from > off }) - 1
	if i < 0 {
		return 0, damaged("no part of it holds its byte %d", off)
	}
	x := all[i]
	to := f.m.tail
	if i+1 < len(all) {
		to = all[i+1].from
	}
	if off >= to {
		return 0, damaged("no part of it holds its byte %d", off)
	}
	if f.held != i {
		data, err := f.e.inflate(x, to-x.from)
		if err != nil {
			return 0, within(err, "its part at byte %d", x.from)
		}
		f.data, f.held = data, i
	}
	return copy(p, f.data[off-x.from:]), nil
}

// end reads from the file of ends, which lies in any of the layouts but is not long.
func (f *erofsFile) end(p []byte, off int64) (int, error) {
	if off < 0 || off >= f.n.length {
		return 0, damaged("its end lies at byte %d of the file of ends, and that is %d bytes long", off, f.n.length)
	}
	p = p[:min(int64(len(p)), f.n.length-off)]
	if f.n.layout == erofsFull || f.n.layout == erofsCompact {
		return f.at(p, off)
	}
	if f.n.layout == erofsChunks {
		return (&erofsChunked{e: f.e, n: f.n, pos: off}).Read(p)
	}
	return (&erofsRun{e: f.e, n: f.n, pos: off}).Read(p)
}
