package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"time"

	"github.com/hashicorp/golang-lru/v2/simplelru"
)

// SquashFS of version 4 (Linux kernel, fs/squashfs/squashfs_fs.h), little-endian. What
// describes the files stands in metadata blocks of up to 8192 bytes, each behind a word of
// 16 bits: its packed length, and bit 15 where it is not packed. A place in them is
// the offset of the block times 65536 plus the offset in what it inflates to.
//
//	superblock:  12 block size, 16 fragments, 20 compression, 26 ids, 28 major, 32 root inode, 40 bytes used,
//	             48 ids, 64 inodes, 72 directories, 80 fragments
//	inode:       0 type, 2 permissions, 4 uid, 6 gid (places in the table of ids), 8 time, 12 number; then by type
//	1 folder     16 block, 20 links, 24 length + 3, 26 offset, 28 parent
//	8 folder     16 links, 20 length + 3, 24 block, 28 parent, 32 entries of its index, 34 offset, 36 xattrs
//	2 file       16 first block, 20 fragment, 24 offset in it, 28 size, 32 lengths of its blocks
//	9 file       16 first block, 24 size, 32 sparse, 40 links, 44 fragment, 48 offset in it, 52 xattrs, 56 lengths
//	3, 10 link   16 links, 20 length, 24 target
//	4, 5, 11, 12 device: 16 links, 20 number;  6, 7, 13, 14 pipe or socket: 16 links
//	directory:   runs of 0 entries - 1, 4 block of their inodes, 8 number of the first; each with
//	             0 offset of its inode, 2 number's difference, 4 type, 6 length - 1, 8 name
//	fragment:    0 offset, 8 length
//
// The length of a data block or fragment has bit 24 where it is not packed; 0 is a
// block of zeros.
type squash struct {
	at        io.ReaderAt
	size      int64 // of the file system
	blockSize int64
	method    string
	root      uint64
	inodes    int64
	folders   int64
	fragments int64
	nFragment uint32
	idTable   int64
	nIDs      int

	unpack inflater
	meta   *simplelru.LRU[int64, *metaBlock]
	frags  *simplelru.LRU[uint32, []byte]
	ids    []uint32
	packed []byte // the packed block that is being read
	zeros  []byte
}

const (
	squashMeta    = 8192
	squashHead    = 96
	metaKept      = 512     // metadata blocks: 4 MiB
	fragmentBytes = 4 << 20 // kept of fragments
	noFragment    = 0xffffffff
	notPacked     = 1 << 24
)

func init() {
	register(Kind{Name: "squashfs", Title: "SquashFS", Open: OpenSquashFS, From: "Linux, fs/squashfs/squashfs_fs.h",
		Reads: "every compression of the format (gzip, lzma, lzo, xz with branch filters, lz4, zstd), fragments, holes, several names of one file, lists of any length",
		Lacks: "extended attributes are passed over; of version 3 and before, only the superblock is read"})
}

var squashMethods = map[uint16]string{1: "gzip", 2: "lzma", 3: "lzo", 4: "xz", 5: "lz4", 6: "zstd"}

// OpenSquashFS opens a SquashFS of version 4 that takes up to size bytes.
func OpenSquashFS(at io.ReaderAt, size int64) (FileSystem, error) {
	le := binary.LittleEndian
	h := make([]byte, squashHead)
	if n, err := at.ReadAt(h, 0); n < len(h) {
		return nil, short(err)
	}
	switch {
	case string(h[:4]) == "sqsh" || string(h[:4]) == "hsqs" && le.Uint16(h[28:]) != 4:
		return nil, unsupported("of a SquashFS of a version before 4, only the header is read")
	case string(h[:4]) != "hsqs":
		return nil, damaged("it does not begin as a SquashFS")
	}
	s := &squash{
		at: at, size: min(size, int64(le.Uint64(h[40:]))), blockSize: int64(le.Uint32(h[12:])), method: squashMethods[le.Uint16(h[20:])],
		root: le.Uint64(h[32:]), inodes: int64(le.Uint64(h[64:])), folders: int64(le.Uint64(h[72:])),
		fragments: int64(le.Uint64(h[80:])), nFragment: le.Uint32(h[16:]), idTable: int64(le.Uint64(h[48:])), nIDs: int(le.Uint16(h[26:])),
	}
	switch {
	case s.blockSize < 1<<12 || s.blockSize > 1<<20 || s.blockSize&(s.blockSize-1) != 0:
		return nil, damaged("its superblock announces blocks of %d bytes", s.blockSize)
	case s.size < squashHead || s.inodes < squashHead || s.inodes >= s.size || s.folders < s.inodes || s.folders > s.size:
		return nil, damaged("its superblock puts the tables outside of its %d bytes", uint64(s.size))
	case s.method == "":
		return nil, unsupported("its blocks are packed by a method (%d) that fitcheck does not know", le.Uint16(h[20:]))
	}
	s.meta, _ = simplelru.NewLRU[int64, *metaBlock](metaKept, nil)
	s.frags, _ = simplelru.NewLRU[uint32, []byte](int(max(2, fragmentBytes/s.blockSize)), nil)
	return s, nil
}

// readAt reads n bytes of a file system of a size.
func readAt(at io.ReaderAt, size, from int64, b []byte) error {
	if from < 0 || from > size-int64(len(b)) {
		return damaged("truncated: it refers to %d bytes at byte %d, and has %d", len(b), from, size)
	}
	if n, err := at.ReadAt(b, from); n < len(b) {
		return short(err)
	}
	return nil
}

// short is the error where less could be read than there is to be.
func short(err error) error {
	if err == nil || err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
		return damaged("truncated: it ends before what it announces")
	}
	return err
}

// metaBlock is a metadata block, inflated.
type metaBlock struct {
	data []byte
	next int64 // offset of the block behind it
}

func (s *squash) block(at int64) (*metaBlock, error) {
	if b, ok := s.meta.Get(at); ok {
		return b, nil
	}
	if at < squashHead || at+2 > s.size {
		return nil, damaged("it refers to a metadata block at byte %d, which is not in it", uint64(at))
	}
	var head [2]byte
	if n, err := s.at.ReadAt(head[:], at); n < len(head) {
		return nil, short(err)
	}
	n := int64(binary.LittleEndian.Uint16(head[:]))
	plain := n&0x8000 != 0
	if n &= 0x7fff; n == 0 || n > squashMeta || at+2+n > s.size {
		return nil, damaged("its metadata block at byte %d announces %d bytes", at, n)
	}
	packed, err := s.read(at+2, n)
	if err != nil {
		return nil, err
	}
	b := &metaBlock{next: at + 2 + n}
	if plain {
		b.data = bytes.Clone(packed)
	} else {
		var whole [squashMeta]byte
		k, err := s.unpack.inflate(s.method, whole[:], packed)
		if err != nil {
			return nil, within(err, "its metadata block at byte %d", at)
		}
		b.data = bytes.Clone(whole[:k])
	}
	s.meta.Add(at, b)
	return b, nil
}

// read reads packed bytes into a buffer that the next call takes again.
func (s *squash) read(at, n int64) ([]byte, error) {
	if at < 0 || n < 0 || at > s.size-n {
		return nil, damaged("truncated: a block of %d bytes at byte %d lies outside of it", n, uint64(at))
	}
	if int64(cap(s.packed)) < n {
		s.packed = make([]byte, max(n, squashMeta))
	}
	b := s.packed[:n]
	if k, err := s.at.ReadAt(b, at); int64(k) < n {
		return nil, short(err)
	}
	return b, nil
}

// cursor reads on through metadata blocks.
type cursor struct {
	s    *squash
	at   int64 // offset of the block
	from int   // in what it inflates to
}

func (s *squash) cursor(table int64, place uint64) *cursor {
	block := int64(place >> 16)
	if block > s.size {
		block = s.size // refused when it is read
	}
	return &cursor{s, table + block, int(place & 0xffff)}
}

func (c *cursor) read(p []byte) error {
	for len(p) > 0 {
		b, err := c.s.block(c.at)
		if err != nil {
			return err
		}
		if c.from > len(b.data) {
			return damaged("it refers to byte %d of a metadata block of %d bytes, at byte %d", c.from, len(b.data), c.at)
		}
		n := copy(p, b.data[c.from:])
		if p, c.from = p[n:], c.from+n; c.from == len(b.data) {
			c.at, c.from = b.next, 0
		}
	}
	return nil
}

// squashNode is an inode, as far as it says what its entry is.
type squashNode struct {
	kind     uint16
	file     File
	folder   *cursor // of a folder: its list
	length   int64   // of that
	first    int64   // of a file: offset of its first block
	fragment uint32
	offset   uint32
	lengths  *cursor
}

var squashKinds = [15]fs.FileMode{
	1: fs.ModeDir, 8: fs.ModeDir, 3: fs.ModeSymlink, 10: fs.ModeSymlink, 4: fs.ModeDevice, 11: fs.ModeDevice,
	5: fs.ModeDevice | fs.ModeCharDevice, 12: fs.ModeDevice | fs.ModeCharDevice, 6: fs.ModeNamedPipe, 13: fs.ModeNamedPipe,
	7: fs.ModeSocket, 14: fs.ModeSocket,
}

// squashLengths is how long the fixed part of an inode is, by its type.
var squashLengths = [15]int{1: 32, 8: 40, 2: 32, 9: 56, 3: 24, 10: 24, 4: 24, 5: 24, 11: 24, 12: 24, 6: 20, 7: 20, 13: 20, 14: 20}

// In one piece: the fields follow each other as they lie on the disk.
func (s *squash) node(place uint64) (*squashNode, error) {
	le := binary.LittleEndian
	c := s.cursor(s.inodes, place)
	var b [56]byte
	if err := c.read(b[:16]); err != nil {
		return nil, err
	}
	n := &squashNode{kind: le.Uint16(b[:]), fragment: noFragment}
	f := &n.file
	if n.kind == 0 || int(n.kind) >= len(squashKinds) {
		return nil, damaged("an inode is of the type %d, which there is not", n.kind)
	}
	f.Mode = squashKinds[n.kind] | unixMode(uint32(le.Uint16(b[2:])))
	f.Modified = time.Unix(int64(le.Uint32(b[8:])), 0).UTC()
	f.Node, f.Links = uint64(le.Uint32(b[12:])), 1
	var err error
	if f.UID, err = s.id(le.Uint16(b[4:])); err == nil {
		f.GID, err = s.id(le.Uint16(b[6:]))
	}
	if err != nil {
		return nil, err
	}
	if err := c.read(b[16:squashLengths[n.kind]]); err != nil {
		return nil, err
	}
	switch n.kind {
	case 1:
		n.length = int64(le.Uint16(b[24:])) - 3
		n.folder = s.cursor(s.folders, uint64(le.Uint32(b[16:]))<<16|uint64(le.Uint16(b[26:])))
	case 8:
		n.length = int64(le.Uint32(b[20:])) - 3
		n.folder = s.cursor(s.folders, uint64(le.Uint32(b[24:]))<<16|uint64(le.Uint16(b[34:])))
	case 2:
		n.first, f.Size = int64(le.Uint32(b[16:])), int64(le.Uint32(b[28:]))
		n.fragment, n.offset = le.Uint32(b[20:]), le.Uint32(b[24:])
	case 9:
		n.first, f.Size, f.Links = int64(le.Uint64(b[16:])), int64(le.Uint64(b[24:])), int(le.Uint32(b[40:]))
		n.fragment, n.offset = le.Uint32(b[44:]), le.Uint32(b[48:])
	case 3, 10:
		length := le.Uint32(b[20:])
		if length > 65535 {
			return nil, damaged("the target of a symbolic link announces %d bytes", length)
		}
		target := make([]byte, length)
		if err := c.read(target); err != nil {
			return nil, err
		}
		f.Target = string(target)
	case 4, 5, 11, 12: // as the kernel packs a device's number in 32 bits: 12 of major, 20 of minor
		d := le.Uint32(b[20:])
		f.Major, f.Minor = d>>8&0xfff, d&0xff|d>>12&0xfff00
	}
	if n.kind != 2 && n.kind != 9 {
		return n, nil
	}
	if f.Size < 0 || n.first < 0 {
		return nil, damaged("a file announces %d bytes at byte %d", uint64(f.Size), uint64(n.first))
	}
	n.lengths = c
	f.open = func() io.Reader { return &squashFile{s: s, node: n, lengths: *c, at: n.first, left: f.Size} }
	return n, nil
}

// unixMode turns the permissions of Unix into those of io/fs.
// UnixMode is a mode of Unix with its type (POSIX, sys/stat.h).
func UnixMode(m uint32) fs.FileMode { return unixType(m) | unixMode(m) }

func unixMode(m uint32) fs.FileMode {
	mode := fs.FileMode(m & 0o777)
	if m&0o4000 != 0 {
		mode |= fs.ModeSetuid
	}
	if m&0o2000 != 0 {
		mode |= fs.ModeSetgid
	}
	if m&0o1000 != 0 {
		mode |= fs.ModeSticky
	}
	return mode
}

// id looks up a user or group.
func (s *squash) id(i uint16) (uint32, error) {
	if s.ids == nil {
		table := make([]byte, 4*s.nIDs)
		if err := s.table(s.idTable, table); err != nil {
			return 0, err
		}
		s.ids = make([]uint32, s.nIDs)
		for k := range s.ids {
			s.ids[k] = binary.LittleEndian.Uint32(table[4*k:])
		}
	}
	if int(i) >= len(s.ids) {
		return 0, damaged("an inode is of the owner %d of %d", i, len(s.ids))
	}
	return s.ids[i], nil
}

// table reads a table from its beginning on; the offsets of its metadata blocks stand in a
// list.
func (s *squash) table(list int64, into []byte) error {
	for i := 0; i*squashMeta < len(into); i++ {
		c, err := s.tableBlock(list, int64(i))
		if err != nil {
			return err
		}
		if err := c.read(into[i*squashMeta : min(len(into), (i+1)*squashMeta)]); err != nil {
			return err
		}
	}
	return nil
}

func (s *squash) tableBlock(list, i int64) (*cursor, error) {
	var b [8]byte
	at := list + 8*i
	if list < squashHead || at > s.size-8 {
		return nil, damaged("a table of it lies at byte %d, which is not in it", uint64(list))
	}
	if n, err := s.at.ReadAt(b[:], at); n < len(b) {
		return nil, short(err)
	}
	return &cursor{s: s, at: int64(binary.LittleEndian.Uint64(b[:]))}, nil
}

// tail inflates the block that holds the ends of several files.
func (s *squash) tail(i uint32) ([]byte, error) {
	if b, ok := s.frags.Get(i); ok {
		return b, nil
	}
	if i >= s.nFragment {
		return nil, damaged("a file ends in the fragment %d of %d", i, s.nFragment)
	}
	c, err := s.tableBlock(s.fragments, int64(i)/(squashMeta/16))
	if err != nil {
		return nil, err
	}
	c.from = int(i) % (squashMeta / 16) * 16
	var e [16]byte
	if err := c.read(e[:]); err != nil {
		return nil, err
	}
	at := int64(binary.LittleEndian.Uint64(e[:]))
	b := make([]byte, s.blockSize)
	n, err := s.data(b, at, binary.LittleEndian.Uint32(e[8:]))
	if err != nil {
		return nil, err
	}
	s.frags.Add(i, b[:n])
	return b[:n], nil
}

// data reads a data block into dst.
func (s *squash) data(dst []byte, at int64, length uint32) (int, error) {
	n := int64(length &^ notPacked)
	if n > s.blockSize {
		return 0, damaged("a data block at byte %d announces %d bytes", at, n)
	}
	packed, err := s.read(at, n)
	if err != nil {
		return 0, err
	}
	if length&notPacked != 0 {
		return copy(dst, packed), nil
	}
	k, err := s.unpack.inflate(s.method, dst, packed)
	return k, within(err, "its data block at byte %d", at)
}

// squashFile reads a file's content.
type squashFile struct {
	s       *squash
	node    *squashNode
	lengths cursor
	at      int64 // of the next block
	left    int64
	buf     []byte // of a block
	rest    []byte // of what is read and not yet taken
	err     error
}

func (f *squashFile) Read(p []byte) (int, error) {
	for len(f.rest) == 0 {
		if f.err == nil && f.left == 0 {
			f.err = io.EOF
		}
		if f.err != nil {
			return 0, f.err
		}
		f.rest, f.err = f.next()
		f.left -= int64(len(f.rest))
	}
	n := copy(p, f.rest)
	f.rest = f.rest[n:]
	return n, nil
}

// next reads a block, or the end of the file out of its fragment.
func (f *squashFile) next() ([]byte, error) {
	want := min(f.left, f.s.blockSize)
	if want < f.s.blockSize && f.node.fragment != noFragment {
		b, err := f.s.tail(f.node.fragment)
		if err != nil {
			return nil, err
		}
		from := int64(f.node.offset)
		if from > int64(len(b))-want {
			return nil, damaged("a file's end of %d bytes lies at byte %d of a fragment of %d", want, from, len(b))
		}
		return b[from : from+want], nil
	}
	var word [4]byte
	if err := f.lengths.read(word[:]); err != nil {
		return nil, err
	}
	length := binary.LittleEndian.Uint32(word[:])
	if length == 0 { // zeros
		if f.s.zeros == nil {
			f.s.zeros = make([]byte, f.s.blockSize)
		}
		return f.s.zeros[:want], nil
	}
	if f.buf == nil {
		f.buf = make([]byte, f.s.blockSize)
	}
	n, err := f.s.data(f.buf, f.at, length)
	if err == nil && int64(n) != want {
		err = damaged("its data block at byte %d holds %d bytes, and %d are due", f.at, n, want)
	}
	f.at += int64(length &^ notPacked)
	return f.buf[:min(int64(n), want)], err
}

// Walk implements FileSystem.
func (s *squash) Walk(ctx context.Context, visit func(*File) error) error {
	return walk(ctx, s.root, func(place uint64) (node, error) {
		n, err := s.node(place)
		if err != nil {
			return node{}, err
		}
		out := node{file: n.file, folder: place}
		if n.folder != nil {
			out.list = func() ([]entry, error) { return s.list(n) }
		}
		return out, nil
	}, visit)
}

// list reads what a folder lists; with an error, what comes before it.
func (s *squash) list(n *squashNode) ([]entry, error) {
	le := binary.LittleEndian
	var out []entry
	left := n.length
	if left > maxFolder {
		return nil, tooLong(left)
	}
	var b [12]byte
	for left > 0 {
		if err := n.folder.read(b[:]); err != nil {
			return out, err
		}
		left -= 12
		count, block := int(le.Uint32(b[:]))+1, uint64(le.Uint32(b[4:]))
		if count > 256 {
			return out, damaged("a run of a folder's list announces %d entries", count)
		}
		for range count {
			if left <= 0 {
				return out, damaged("a folder's list ends within a run of its entries")
			}
			if err := n.folder.read(b[:8]); err != nil {
				return out, err
			}
			offset, length := le.Uint16(b[:]), int(le.Uint16(b[6:]))+1
			if length > 256 {
				return out, damaged("a name announces %d bytes", length)
			}
			name := make([]byte, length)
			if err := n.folder.read(name); err != nil {
				return out, err
			}
			left -= int64(8 + length)
			out = append(out, entry{string(name), block<<16 | uint64(offset)})
		}
	}
	return out, nil
}
