package content

import (
	"context"
	"encoding/binary"
	"io"
	"io/fs"
	"time"
)

// ext2, ext3 and ext4 (Linux kernel, Documentation/filesystems/ext4), little-endian.
//
//	superblock, at byte 1024: 0 inodes, 20 block of the superblock, 24 log of the block size - 10, 32 blocks of a
//	             group, 40 inodes of a group, 56 magic 0xef53, 76 revision, 88 size of an inode, 96 features that a
//	             reader has to know, 254 size of a group's descriptor
//	group, from the next block on: 8 block of its table of inodes, 40 the upper bits of it
//	inode:       0 mode, 2 uid, 4 size, 16 time, 24 gid, 26 links, 32 flags, 40 map or content (60 bytes), 108 upper
//	             bits of the size, 120 of uid, 122 of gid, 128 size of what follows, then extended attributes
//	map:         twelve blocks, then one of blocks, one of those, one of those; or extents: 0 magic 0xf30a, 2 number,
//	             6 depth, 12 each with 0 first block, 4 length (beyond 32768: not written), 6 upper bits, 8 where;
//	             above the leaves 0 first block, 4 where, 8 upper bits
//	folder:      0 inode, 4 length of the entry, 6 length of the name, 7 type, 8 name
type ext struct {
	at        io.ReaderAt
	size      int64
	block     int64
	inodes    uint32
	perGroup  uint32
	inodeSize int64
	descSize  int64
	groups    int64 // offset of the descriptors
	wide      bool  // of 64 bits
	sums      extSums
}

func init() {
	register(Kind{Name: "ext", Title: "ext2, ext3, ext4", Open: OpenExt, From: "Linux, Documentation/filesystems/ext4",
		Reads: "maps of blocks and extents, 64 bit, content that stands in an inode, holes, folders with an index; the checksums of groups, inodes, folders and maps are held, where it has them",
		Lacks: "one whose journal has to be replayed first, or that is encrypted"})
}

// Features that a reader has to know, and those that this one knows.
const (
	extNeedsReplay = 0x4
	ext64          = 0x80
	extKnown       = 0x2 | extNeedsReplay | 0x40 | ext64 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x20000

	extExtents   = 0x80000    // flags of an inode
	extInline    = 0x10000000 // its content stands in it
	extEncrypted = 0x800
	extRoot      = 2
	extMaxNodes  = 1 << 16 // blocks of one file's map
	extMaxRuns   = 1 << 20 // runs of blocks of one file: 24 MiB
)

// OpenExt opens an ext2, ext3 or ext4 that takes up to size bytes.
func OpenExt(at io.ReaderAt, size int64) (FileSystem, error) {
	le := binary.LittleEndian
	var h [1024]byte
	if err := readAt(at, size, 1024, h[:]); err != nil {
		return nil, err
	}
	log := le.Uint32(h[24:])
	switch {
	case le.Uint16(h[56:]) != 0xef53:
		return nil, damaged("it has no superblock of an ext file system")
	case log > 6:
		return nil, damaged("its superblock announces blocks of 2^%d bytes", uint64(log)+10)
	}
	x := &ext{at: at, size: size, block: 1024 << log, inodes: le.Uint32(h[:]), perGroup: le.Uint32(h[40:]), inodeSize: 128, descSize: 32}
	features := uint32(0)
	if le.Uint32(h[76:]) > 0 {
		x.inodeSize, features = int64(le.Uint16(h[88:])), le.Uint32(h[96:])
	}
	if x.wide = features&ext64 != 0; x.wide {
		x.descSize = int64(le.Uint16(h[254:]))
	}
	x.readSums(h[:], features)
	x.groups = (int64(le.Uint32(h[20:])) + 1) * x.block
	switch {
	case features&^extKnown != 0:
		return nil, unsupported("it uses features (0x%x) that fitcheck does not know", features&^extKnown)
	case features&extNeedsReplay != 0:
		return nil, unsupported("its journal has to be replayed before its files are read: it was not unmounted")
	case x.inodeSize < 128 || x.inodeSize > x.block || x.descSize < 32 || x.descSize > 1024 || x.wide && x.descSize < 64 || x.perGroup == 0:
		return nil, damaged("its superblock contradicts itself: inodes of %d bytes, %d in a group", x.inodeSize, x.perGroup)
	}
	return x, nil
}

// extNode is an inode.
type extNode struct {
	file  File
	flags uint32
	size  int64
	b     []byte // all of it
	seed  uint32 // of the checksums of what belongs to it
}

// In one piece: the fields follow each other as they lie on the disk.
func (x *ext) node(i uint32) (*extNode, error) {
	le := binary.LittleEndian
	if i == 0 || i > x.inodes {
		return nil, damaged("it refers to the inode %d of %d", i, x.inodes)
	}
	d := make([]byte, x.descSize)
	if err := readAt(x.at, x.size, x.groups+int64((i-1)/x.perGroup)*x.descSize, d); err != nil {
		return nil, err
	}
	if err := x.checkGroup((i-1)/x.perGroup, d); err != nil {
		return nil, err
	}
	table := int64(le.Uint32(d[8:]))
	if x.wide {
		table |= int64(le.Uint32(d[40:])) << 32
	}
	if table < 0 || table > x.size/x.block {
		return nil, damaged("a table of inodes is at the block %d, which is not in it", uint64(table))
	}
	n := &extNode{b: make([]byte, x.inodeSize)}
	if err := readAt(x.at, x.size, table*x.block+int64((i-1)%x.perGroup)*x.inodeSize, n.b); err != nil {
		return nil, err
	}
	var err error
	if n.seed, err = x.checkInode(i, n.b); err != nil {
		return nil, err
	}
	b, f := n.b, &n.file
	mode := uint32(le.Uint16(b))
	n.flags, n.size = le.Uint32(b[32:]), int64(le.Uint32(b[4:]))|int64(le.Uint32(b[108:]))<<32
	f.Mode, f.Node, f.Links = unixType(mode)|unixMode(mode), uint64(i), int(le.Uint16(b[26:]))
	f.UID, f.GID = uint32(le.Uint16(b[2:]))|uint32(le.Uint16(b[120:]))<<16, uint32(le.Uint16(b[24:]))|uint32(le.Uint16(b[122:]))<<16
	f.Modified = time.Unix(int64(int32(le.Uint32(b[16:]))), 0).UTC()
	switch {
	case n.size < 0:
		return nil, damaged("the inode %d announces %d bytes", i, uint64(n.size))
	case n.flags&extEncrypted != 0:
		return nil, unsupported("it is encrypted")
	case f.Mode.IsRegular():
		f.Size = n.size
		f.open = func() io.Reader { return x.content(n) }
	case f.Mode&fs.ModeSymlink != 0:
		if n.size > 65535 {
			return nil, damaged("the target of a symbolic link announces %d bytes", n.size)
		}
		if n.size < 60 && n.flags&(extExtents|extInline) == 0 {
			f.Target = string(b[40 : 40+n.size])
			break
		}
		target, err := io.ReadAll(x.content(n))
		if err != nil {
			return nil, err
		}
		f.Target = string(target)
	case f.Mode&fs.ModeDevice != 0:
		if old := le.Uint32(b[40:]); old != 0 {
			f.Major, f.Minor = old>>8&0xff, old&0xff
		} else {
			d := le.Uint32(b[44:])
			f.Major, f.Minor = d>>8&0xfff, d&0xff|d>>12&0xfff00
		}
	}
	return n, nil
}

// inline is the content that stands in the inode: in place of its map, and on in an
// extended attribute.
func (n *extNode) inline() ([]byte, error) {
	le := binary.LittleEndian
	out := append([]byte(nil), n.b[40:100]...)
	if n.size <= int64(len(out)) {
		return out[:n.size], nil
	}
	if len(n.b) > 132 {
		if at := 128 + int(le.Uint16(n.b[128:])); at+4 <= len(n.b) && le.Uint32(n.b[at:]) == 0xea020000 {
			area := n.b[at+4:]
			for e := area; len(e) >= 16 && le.Uint32(e) != 0; {
				length := int(e[0])
				from, size := int(le.Uint16(e[2:])), int(le.Uint32(e[8:]))
				if 16+length > len(e) {
					break
				}
				if e[1] == 7 && string(e[16:16+length]) == "data" && le.Uint32(e[4:]) == 0 && size >= 0 && from <= len(area) && size <= len(area)-from {
					out = append(out, area[from:from+size]...)
					break
				}
				e = e[min(len(e), (16+length+3)&^3):]
			}
		}
	}
	if int64(len(out)) < n.size {
		return nil, damaged("the content in an inode holds %d bytes, and %d are due", len(out), n.size)
	}
	return out[:n.size], nil
}

// content reads what an inode holds.
func (x *ext) content(n *extNode) io.Reader {
	f := &extFile{x: x, n: n, left: n.size}
	switch {
	case n.flags&extInline != 0:
		f.rest, f.err = n.inline()
		if f.left = 0; f.err == nil {
			f.err = io.EOF
		}
	case n.flags&extExtents != 0:
		f.err = x.extents(n.b[40:100], f, -1, new(int))
	}
	return f
}

// extRun is a run of blocks of a file.
type extRun struct{ first, length, at int64 }

// extents lists the runs of a file in their order. depth is what the node is to be of, -1
// for the uppermost one.
func (x *ext) extents(b []byte, f *extFile, depth int, nodes *int) error {
	le := binary.LittleEndian
	count, deep := int(le.Uint16(b[2:])), int(le.Uint16(b[6:]))
	switch {
	case le.Uint16(b) != 0xf30a || 12+12*count > len(b) || deep > 5 || depth >= 0 && deep != depth:
		return damaged("the map of a file makes no sense")
	case *nodes >= extMaxNodes || len(f.runs) > extMaxRuns:
		return unsupported("a file lies in more than %d pieces", extMaxRuns)
	}
	*nodes++
	for i := range count {
		e := b[12+12*i:]
		first := int64(le.Uint32(e))
		if deep > 0 {
			inner := make([]byte, x.block)
			at := int64(le.Uint32(e[4:])) | int64(le.Uint16(e[8:]))<<32
			if err := readAt(x.at, x.size, at*x.block, inner); err != nil {
				return err
			}
			if err := x.checkExtents(f.n, inner); err != nil {
				return err
			}
			if err := x.extents(inner, f, deep-1, nodes); err != nil {
				return err
			}
			continue
		}
		r := extRun{first, int64(le.Uint16(e[4:])), int64(le.Uint16(e[6:]))<<32 | int64(le.Uint32(e[8:]))}
		if r.length > 32768 { // set aside, and not written
			r.length, r.at = r.length-32768, 0
		}
		if k := len(f.runs); k > 0 && r.first < f.runs[k-1].first+f.runs[k-1].length {
			return damaged("the map of a file lists the block %d twice", r.first)
		}
		f.runs = append(f.runs, r)
	}
	return nil
}

// extFile reads a file's content.
type extFile struct {
	x    *ext
	n    *extNode
	runs []extRun // of one with extents: those that are not passed
	next int64    // block of the file
	left int64
	buf  []byte
	rest []byte
	err  error
	maps [3]extMap
}

// extMap is a block of a file's map, of one level.
type extMap struct {
	at int64
	b  []byte
}

func (f *extFile) Read(p []byte) (int, error) {
	for len(f.rest) == 0 {
		if f.err == nil && f.left == 0 {
			f.err = io.EOF
		}
		if f.err != nil {
			return 0, f.err
		}
		if f.err = f.fill(); f.err != nil {
			return 0, f.err
		}
	}
	n := copy(p, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

func (f *extFile) fill() error {
	x := f.x
	at, err := f.locate()
	if err != nil {
		return err
	}
	want := min(f.left, x.block)
	if f.buf == nil {
		f.buf = make([]byte, x.block)
	}
	if at == 0 {
		clear(f.buf)
	} else if at > x.size/x.block {
		return damaged("a file's block is at %d, which is not in it", at)
	} else if err := readAt(x.at, x.size, at*x.block, f.buf[:want]); err != nil {
		return err
	}
	f.rest = f.buf[:want]
	f.left -= want
	f.next++
	return nil
}

// locate finds where the next block stands; 0 is a hole.
func (f *extFile) locate() (int64, error) {
	if f.n.flags&extExtents != 0 {
		for len(f.runs) > 0 && f.next >= f.runs[0].first+f.runs[0].length {
			f.runs = f.runs[1:]
		}
		if len(f.runs) == 0 || f.next < f.runs[0].first || f.runs[0].at == 0 {
			return 0, nil
		}
		return f.runs[0].at + f.next - f.runs[0].first, nil
	}
	le := binary.LittleEndian
	pointers := f.n.b[40:100]
	i := f.next
	if i < 12 {
		return int64(le.Uint32(pointers[4*i:])), nil
	}
	i -= 12
	per := f.x.block / 4
	span := per // blocks below one pointer of the level
	for level := range 3 {
		if i >= span {
			i -= span
			span *= per
			continue
		}
		at := int64(le.Uint32(pointers[4*(12+level):]))
		for k := level; k >= 0 && at != 0; k-- {
			span /= per
			b, err := f.mapBlock(k, at)
			if err != nil {
				return 0, err
			}
			at = int64(le.Uint32(b[4*(i/span):]))
			i %= span
		}
		return at, nil
	}
	return 0, damaged("a file is longer than its map")
}

func (f *extFile) mapBlock(level int, at int64) ([]byte, error) {
	m := &f.maps[level]
	if m.b != nil && m.at == at {
		return m.b, nil
	}
	if m.b == nil {
		m.b = make([]byte, f.x.block)
	}
	m.at = at
	return m.b, readAt(f.x.at, f.x.size, at*f.x.block, m.b)
}

// Walk implements FileSystem.
func (x *ext) Walk(ctx context.Context, visit func(*File) error) error {
	return walk(ctx, extRoot, func(inode uint64) (node, error) {
		n, err := x.node(uint32(inode))
		if err != nil {
			return node{}, err
		}
		out := node{file: n.file, folder: inode}
		if n.file.Mode.IsDir() {
			out.list = func() ([]entry, error) { return x.list(n) }
		}
		return out, nil
	}, visit)
}

// list reads what a folder lists; with an error, what comes before it.
func (x *ext) list(n *extNode) ([]entry, error) {
	if n.size > x.size {
		return nil, damaged("a folder announces %d bytes", n.size)
	}
	if n.size > maxFolder {
		return nil, tooLong(n.size)
	}
	if n.flags&extInline != 0 { // 0 the folder around it, then two lists
		b, err := n.inline()
		if err != nil || len(b) < 4 {
			return nil, err
		}
		out, err := entries(nil, b[4:min(60, len(b))])
		if err == nil && len(b) > 60 {
			out, err = entries(out, b[60:])
		}
		return out, err
	}
	var out []entry
	r := x.content(n)
	b := make([]byte, x.block)
	for left := n.size; left > 0; left -= x.block {
		k, err := io.ReadFull(r, b)
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			err = nil
		}
		if err == nil {
			err = x.checkFolder(n, b[:k])
		}
		if err == nil {
			out, err = entries(out, b[:k])
		}
		if err != nil {
			return out, err
		}
	}
	return out, nil
}

func entries(out []entry, b []byte) ([]entry, error) {
	le := binary.LittleEndian
	for len(b) >= 8 {
		inode, length, name := le.Uint32(b), int(le.Uint16(b[4:])), int(b[6])
		if length == 0 && inode == 0 { // a hole, or the end of a list in an inode
			return out, nil
		}
		if length == 65535 || length == 0 && len(b) == 65536 { // of blocks of 64 KiB
			length = 65536
		}
		if length < 8 || length > len(b) || 8+name > length {
			return out, damaged("an entry of a folder announces %d bytes, with a name of %d", length, name)
		}
		if s := string(b[8 : 8+name]); inode != 0 && s != "." && s != ".." {
			out = append(out, entry{s, uint64(inode)})
		}
		b = b[length:]
	}
	return out, nil
}
