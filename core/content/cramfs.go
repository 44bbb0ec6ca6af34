package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"io/fs"
)

// cramfs (Linux kernel, include/uapi/linux/cramfs_fs.h), of either byte order, at the
// beginning or behind 512 bytes; all offsets count from the beginning.
//
//	superblock: 0 magic 0x28cd3d45, 4 size, 8 flags, 64 the root's inode
//	inode:      16 bits mode, 16 uid; 24 size, 8 gid; 6 length of the name, 26 offset, both in words of four bytes.
//	            In the lower bits stands the first field little-endian, the last one big-endian.
//	folder:     inodes, each with its name behind it, filled up with NUL
//	file:       the ends of its blocks, 4 bytes each, then the blocks of 4096 bytes, each by zlib; one that is
//	            empty is zeros. Flag 0x800: bit 31 says that a block is not packed, bit 30 that it stands elsewhere
type cramfs struct {
	at     io.ReaderAt
	size   int64
	start  int64
	flags  uint32
	order  binary.ByteOrder
	unpack inflater
}

func init() {
	register(Kind{Name: "cramfs", Title: "cramfs", Open: OpenCramfs, From: "Linux, uapi/linux/cramfs_fs.h",
		Reads: "both byte orders, behind 512 bytes too, holes, blocks that are not packed",
		Lacks: "blocks that stand apart from each other, of files that a system runs in place"})
}

const (
	cramfsMagic    = 0x28cd3d45
	cramfsInode    = 12
	cramfsBlock    = 4096
	cramfsPointers = 0x800 // flag
	cramfsPlain    = 1 << 31
	cramfsDirect   = 1 << 30
)

// OpenCramfs opens a cramfs that takes up to size bytes.
func OpenCramfs(at io.ReaderAt, size int64) (FileSystem, error) {
	for _, start := range []int64{0, 512} {
		var h [16]byte
		if err := readAt(at, size, start, h[:]); err != nil {
			return nil, err
		}
		for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
			if order.Uint32(h[:]) == cramfsMagic {
				return &cramfs{at: at, size: size, start: start, flags: order.Uint32(h[8:]), order: order}, nil
			}
		}
	}
	return nil, damaged("it does not begin as a cramfs")
}

// cramfsNode is an inode.
type cramfsNode struct {
	file   File
	length int64 // of its content
	offset int64
	name   int // length of it
}

func (c *cramfs) node(b []byte) cramfsNode {
	var n cramfsNode
	f := &n.file
	w0, w1, w2 := c.order.Uint32(b), c.order.Uint32(b[4:]), c.order.Uint32(b[8:])
	mode := w0 >> 16
	f.UID, n.length, f.GID = w0&0xffff, int64(w1>>8), w1&0xff
	n.name, n.offset = int(w2>>26)*4, int64(w2&0x3ffffff)*4
	if c.order == binary.LittleEndian {
		mode, f.UID = w0&0xffff, w0>>16
		n.length, f.GID = int64(w1&0xffffff), w1>>24
		n.name, n.offset = int(w2&0x3f)*4, int64(w2>>6)*4
	}
	f.Mode, f.Links = unixType(mode)|unixMode(mode), 1
	switch {
	case f.Mode.IsRegular():
		f.Size = n.length
		f.Node = uint64(n.offset)
		f.open = func() io.Reader { return &cramfsFile{c: c, n: n} }
	case f.Mode&fs.ModeDevice != 0:
		f.Major, f.Minor = uint32(n.length)>>8, uint32(n.length)&0xff
	}
	return n
}

// unixType is what the upper bits of a mode of Unix say (POSIX, sys/stat.h).
func unixType(m uint32) fs.FileMode {
	switch m & 0o170000 {
	case 0o100000:
		return 0
	case 0o040000:
		return fs.ModeDir
	case 0o120000:
		return fs.ModeSymlink
	case 0o060000:
		return fs.ModeDevice
	case 0o020000:
		return fs.ModeDevice | fs.ModeCharDevice
	case 0o010000:
		return fs.ModeNamedPipe
	case 0o140000:
		return fs.ModeSocket
	}
	return fs.ModeIrregular
}

// cramfsFile reads a file's content.
type cramfsFile struct {
	c     *cramfs
	n     cramfsNode
	block int64
	rest  []byte
	err   error
}

func (f *cramfsFile) Read(p []byte) (int, error) {
	for len(f.rest) == 0 {
		if f.err == nil && f.block*cramfsBlock >= f.n.length {
			f.err = io.EOF
		}
		if f.err != nil {
			return 0, f.err
		}
		f.rest, f.err = f.next()
	}
	n := copy(p, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

func (f *cramfsFile) next() ([]byte, error) {
	c := f.c
	var b [8]byte
	blocks := (f.n.length + cramfsBlock - 1) / cramfsBlock
	at := f.n.offset + 4*f.block
	want := min(cramfsBlock, f.n.length-f.block*cramfsBlock)
	before := b[4:] // the pointer in front, where there is one
	if f.block > 0 {
		if err := readAt(c.at, c.size, at-4, before); err != nil {
			return nil, err
		}
	}
	if err := readAt(c.at, c.size, at, b[:4]); err != nil {
		return nil, err
	}
	end, start := c.order.Uint32(b[:]), uint32(f.n.offset+4*blocks)
	if f.block > 0 {
		start = c.order.Uint32(before)
	}
	f.block++
	plain := false
	if c.flags&cramfsPointers != 0 {
		plain = end&cramfsPlain != 0
		if end&cramfsDirect != 0 || f.block > 1 && start&cramfsDirect != 0 {
			return nil, unsupported("a file's blocks stand apart from each other, which fitcheck does not follow")
		}
		end &^= cramfsPlain
		if f.block > 1 {
			start &^= cramfsPlain
		}
	}
	length := int64(end) - int64(start)
	switch {
	case length == 0:
		return make([]byte, want), nil
	case length < 0 || length > 2*cramfsBlock:
		return nil, damaged("a file's block from byte %d to %d makes no sense", start, end)
	}
	packed := make([]byte, length)
	if err := readAt(c.at, c.size, int64(start), packed); err != nil {
		return nil, err
	}
	dst := packed
	if !plain {
		dst = make([]byte, cramfsBlock)
		n, err := c.unpack.inflate("gzip", dst, packed)
		if err != nil {
			return nil, within(err, "its block at byte %d", start)
		}
		dst = dst[:n]
	}
	if int64(len(dst)) != want {
		return nil, damaged("its block at byte %d holds %d bytes, and %d are due", start, len(dst), want)
	}
	return dst, nil
}

// Walk implements FileSystem. A reference is the offset of an inode.
func (c *cramfs) Walk(ctx context.Context, visit func(*File) error) error {
	return walk(ctx, uint64(c.start+64), func(at uint64) (node, error) {
		var b [cramfsInode]byte
		if err := readAt(c.at, c.size, int64(at), b[:]); err != nil {
			return node{}, err
		}
		n := c.node(b[:])
		out := node{file: n.file, folder: uint64(n.offset)}
		switch {
		case n.file.Mode.IsDir():
			if n.length == 0 { // it has no list, and shares none
				out.folder = 1<<63 | at
			}
			out.list = func() ([]entry, error) { return c.list(&n) }
		case n.file.Mode&fs.ModeSymlink != 0:
			target, err := io.ReadAll(io.LimitReader(&cramfsFile{c: c, n: n}, 1<<16))
			if fatal(err) {
				return node{}, err
			}
			out.file.Target, out.file.Err = string(target), err
		}
		return out, nil
	}, visit)
}

// list reads what a folder lists; with an error, what comes before it.
func (c *cramfs) list(n *cramfsNode) ([]entry, error) {
	if n.length > maxFolder {
		return nil, tooLong(n.length)
	}
	b := make([]byte, n.length)
	if err := readAt(c.at, c.size, n.offset, b); err != nil {
		return nil, err
	}
	var out []entry
	for from := 0; from < len(b); {
		if len(b)-from < cramfsInode {
			return out, damaged("a folder's list ends within an entry")
		}
		e := c.node(b[from:])
		name := b[from+cramfsInode:]
		if e.name == 0 || e.name > len(name) {
			return out, damaged("a name in a folder's list announces %d bytes", e.name)
		}
		out = append(out, entry{string(bytes.TrimRight(name[:e.name], "\x00")), uint64(n.offset) + uint64(from)})
		from += cramfsInode + e.name
	}
	return out, nil
}
