package content

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"hash/crc32"
	"io"
	"io/fs"
	"slices"
	"time"
)

// UBIFS (Linux kernel, fs/ubifs/ubifs-media.h), little-endian, lies in logical erase blocks
// (LEB) and consists of nodes at multiples of eight bytes:
//
//	0 magic 0x06101831, 4 CRC over all from 8 on (begun with all ones, not inverted), 8 sequence number, 16 length, 20 type
//
// LEB 0 holds the superblock, LEBs 1 and 2 the master node, of which the last one counts, LEBs from 3 on the log. The
// master node leads to the root of the index, a tree whose leaves give the place of each inode, of each entry of a folder
// and of each block of 4096 bytes of a file. What was written since stands in the LEBs to which the log refers, and is
// put over it in the order of the sequence numbers.
type ubifs struct {
	at    io.ReaderAt
	size  int64
	leb   int64
	count int64

	inodes map[uint32]ubifsPlace
	names  map[uint32][]ubifsName
	blocks map[uint32][]ubifsBlock
	leaves int
	nodes  int
	work   int
	unpack inflater
	buf    []byte
}

type ubifsPlace struct {
	at     int64
	length int32
}

type ubifsName struct {
	name string
	ino  uint32
}

type ubifsBlock struct {
	number uint32
	place  ubifsPlace
}

const (
	ubifsMagic = 0x06101831
	ubifsHead  = 24
	ubifsRoot  = 1
	ubifsPage  = 4096
	ubifsLog   = 3 // first LEB of the log

	ubifsInodeHead = 160
	ubifsNameHead  = 56
	ubifsDataHead  = 48
	ubifsKey       = 24 // where the key stands in inodes, names and data

	// ubifsLeaves is how many leaves of the index are read: 8 GiB of blocks.
	ubifsLeaves = 2 << 20
	ubifsLevels = 64
)

// Types of a node.
const (
	ubifsInode  = 0
	ubifsData   = 1
	ubifsEntry  = 2
	ubifsCut    = 4
	ubifsPad    = 5
	ubifsSuper  = 6
	ubifsMaster = 7
	ubifsRef    = 8
	ubifsIndex  = 9
	ubifsCommit = 10
)

// ubifsSigned is a flag of the superblock: the index has digests.
const ubifsSigned = 0x20

func init() {
	register(Kind{Name: "ubifs", Title: "UBIFS", Open: OpenUBIFS, From: "Linux, fs/ubifs/ubifs-media.h",
		Reads: "bare or in a UBI volume, zlib, lzo, zstd, plain; what its journal holds is put over its index; every CRC is held",
		Lacks: "one whose index is signed, or files that are encrypted"})
}

func ubifsSum(b []byte) uint32 { return ^crc32.ChecksumIEEE(b) }

// OpenUBIFS opens a UBIFS that takes up to size bytes. It reads its whole index.
func OpenUBIFS(at io.ReaderAt, size int64) (FileSystem, error) {
	u := &ubifs{at: at, size: size, inodes: map[uint32]ubifsPlace{}, names: map[uint32][]ubifsName{}, blocks: map[uint32][]ubifsBlock{}}
	le := binary.LittleEndian
	var h [128]byte
	if err := readAt(at, size, 0, h[:]); err != nil {
		return nil, err
	}
	u.leb, u.count = int64(le.Uint32(h[36:])), int64(le.Uint32(h[40:]))
	if le.Uint32(h[:]) != ubifsMagic || h[20] != ubifsSuper || u.leb < 4<<10 || u.leb > 8<<20 || u.count < 4 {
		return nil, damaged("it does not begin with the superblock of a UBIFS")
	}
	flags, logs := le.Uint32(h[28:]), int64(le.Uint32(h[56:]))
	if flags&ubifsSigned != 0 {
		return nil, unsupported("its index is signed (authentication), which fitcheck does not follow")
	}
	master, err := u.master()
	if err != nil {
		return nil, err
	}
	root := ubifsPlace{int64(le.Uint32(master[48:]))*u.leb + int64(le.Uint32(master[52:])), int32(le.Uint32(master[56:]))}
	if err := u.index(root, -1); err != nil {
		return nil, within(err, "its index")
	}
	if err := u.replay(int64(le.Uint32(master[44:])), logs, le.Uint64(master[32:])); err != nil {
		return nil, within(err, "its journal")
	}
	for _, all := range u.blocks {
		slices.SortFunc(all, func(a, b ubifsBlock) int { return cmp.Compare(a.number, b.number) })
	}
	return u, nil
}

// node reads a node. It holds until the next call.
func (u *ubifs) node(p ubifsPlace, kind byte) ([]byte, error) {
	if p.length < ubifsHead || int64(p.length) > u.leb || p.at < 0 || p.at%u.leb+int64(p.length) > u.leb {
		return nil, damaged("a node of %d bytes is said to stand at byte %d", p.length, p.at)
	}
	if int(p.length) > len(u.buf) {
		u.buf = make([]byte, p.length)
	}
	b := u.buf[:p.length]
	if err := readAt(u.at, u.size, p.at, b); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	switch {
	case le.Uint32(b) != ubifsMagic || int32(le.Uint32(b[16:])) != p.length || b[20] != kind:
		return nil, damaged("at byte %d, where a node of type %d is due, there is none", p.at, kind)
	case le.Uint32(b[4:]) != ubifsSum(b[8:]):
		return nil, damaged("the CRC of the node at byte %d does not hold", p.at)
	}
	return b, nil
}

// scan visits the nodes of a LEB from an offset on, up to where there are none; a node whose
// CRC does not hold ends it, as one that was never written in full.
func (u *ubifs) scan(leb, from int64, visit func(at int64, b []byte) error) error {
	le := binary.LittleEndian
	for off := from; off+ubifsHead <= u.leb; {
		var h [ubifsHead]byte
		at := leb*u.leb + off
		if leb < 0 || at+ubifsHead > u.size {
			return nil
		}
		if err := readAt(u.at, u.size, at, h[:]); err != nil {
			return err
		}
		n := int64(le.Uint32(h[16:]))
		if le.Uint32(h[:]) != ubifsMagic || n < ubifsHead || off+n > u.leb {
			return nil
		}
		b, err := u.node(ubifsPlace{at, int32(n)}, h[20])
		if err != nil {
			if fatal(err) {
				return err
			}
			return nil
		}
		if h[20] == ubifsPad && n >= 28 {
			off += int64(le.Uint32(b[24:]))
		} else if err := visit(at, b); err != nil {
			return err
		}
		off += (n + 7) &^ 7
	}
	return nil
}

// master finds the last master node.
func (u *ubifs) master() (out []byte, err error) {
	for leb := int64(1); leb <= 2; leb++ {
		err := u.scan(leb, 0, func(_ int64, b []byte) error {
			if b[20] == ubifsMaster && len(b) >= 64 && (out == nil || binary.LittleEndian.Uint64(b[8:]) >= binary.LittleEndian.Uint64(out[8:])) {
				out = bytes.Clone(b)
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	if out == nil {
		return nil, damaged("it has no master node whose CRC holds")
	}
	return out, nil
}

// index reads the index below a node of a level, which is one less than that of its parent;
// -1 for the root's.
func (u *ubifs) index(p ubifsPlace, level int) error {
	const branch = 20 // LEB, offset, length, key of 8 bytes
	if u.nodes++; u.nodes > ubifsLeaves {
		return unsupported("it has more than %d nodes, and fitcheck reads no more", ubifsLeaves)
	}
	b, err := u.node(p, ubifsIndex)
	if err != nil {
		return err
	}
	b = bytes.Clone(b)
	le := binary.LittleEndian
	n, own := int(le.Uint16(b[24:])), int(le.Uint16(b[26:]))
	switch {
	case 28+n*branch > len(b):
		return damaged("the node at byte %d announces %d branches", p.at, n)
	case level >= 0 && own != level || own > ubifsLevels:
		return damaged("the node at byte %d stands at level %d", p.at, own)
	}
	for i := range n {
		r := b[28+i*branch:]
		place := ubifsPlace{int64(le.Uint32(r))*u.leb + int64(le.Uint32(r[4:])), int32(le.Uint32(r[8:]))}
		if own > 0 {
			err = u.index(place, own-1)
		} else {
			err = u.leaf(place, r[12:20])
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// leaf takes what the index says of a key: of an inode 0, a block 1, an entry of a folder 2.
func (u *ubifs) leaf(p ubifsPlace, key []byte) error {
	if u.leaves++; u.leaves > ubifsLeaves {
		return unsupported("it has more than %d leaves, and fitcheck reads no more", ubifsLeaves)
	}
	ino, kind, rest := ubifsKeyOf(key)
	switch kind {
	case ubifsInode:
		u.inodes[ino] = p
	case ubifsData:
		u.blocks[ino] = append(u.blocks[ino], ubifsBlock{rest, p})
	case ubifsEntry:
		b, err := u.node(p, ubifsEntry)
		if err != nil {
			return err
		}
		n, err := ubifsNameOf(b)
		if err != nil {
			return err
		}
		u.names[ino] = append(u.names[ino], n)
	}
	return nil
}

func ubifsKeyOf(key []byte) (ino uint32, kind int, rest uint32) {
	v := binary.LittleEndian.Uint32(key[4:])
	return binary.LittleEndian.Uint32(key), int(v >> 29), v & (1<<29 - 1)
}

func ubifsNameOf(b []byte) (ubifsName, error) {
	if len(b) < ubifsNameHead {
		return ubifsName{}, damaged("an entry of a folder takes %d bytes", len(b))
	}
	n := int(binary.LittleEndian.Uint16(b[50:]))
	if ubifsNameHead+n > len(b) {
		return ubifsName{}, damaged("an entry of a folder announces a name of %d bytes", n)
	}
	return ubifsName{string(b[ubifsNameHead : ubifsNameHead+n]), uint32(binary.LittleEndian.Uint64(b[40:]))}, nil
}

// written is a node of the journal.
type written struct {
	sequence uint64
	place    ubifsPlace
	kind     byte
}

// bud is where nodes were written since the index was.
type bud struct{ leb, off int64 }

// buds are those that the log refers to since a commit, and the sequence number of that.
func (u *ubifs) buds(first, logs int64, commit uint64) (buds []bud, since uint64, err error) {
	le := binary.LittleEndian
	for i := range min(logs, 1<<16) {
		leb := ubifsLog + (first-ubifsLog+i)%logs
		n, old := 0, false
		err := u.scan(leb, 0, func(_ int64, b []byte) error {
			n++
			switch {
			case b[20] == ubifsCommit && len(b) >= 32 && since == 0 && le.Uint64(b[24:]) == commit:
				since = le.Uint64(b[8:])
			case since == 0 || le.Uint64(b[8:]) < since:
				old = true
			case b[20] == ubifsRef && len(b) >= 32:
				if len(buds) >= 1<<16 {
					return damaged("it refers to more than %d blocks", len(buds))
				}
				buds = append(buds, bud{int64(le.Uint32(b[24:])), int64(le.Uint32(b[28:]))})
			}
			return nil
		})
		if err != nil {
			return nil, 0, err
		}
		if n == 0 || old {
			break
		}
	}
	return buds, since, nil
}

// replay puts over the index what was written since.
func (u *ubifs) replay(first, logs int64, commit uint64) error {
	buds, since, err := u.buds(first, logs, commit)
	if err != nil {
		return err
	}
	var all []written
	for _, b := range buds {
		err := u.scan(b.leb, b.off, func(at int64, n []byte) error {
			if len(all) >= ubifsLeaves {
				return unsupported("it has more than %d nodes, and fitcheck reads no more", ubifsLeaves)
			}
			if sequence := binary.LittleEndian.Uint64(n[8:]); sequence > since {
				all = append(all, written{sequence, ubifsPlace{at, int32(len(n))}, n[20]})
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	slices.SortStableFunc(all, func(a, b written) int { return cmp.Compare(a.sequence, b.sequence) })
	for _, w := range all {
		b, err := u.node(w.place, w.kind)
		if err != nil {
			return err
		}
		if err := u.apply(w, b); err != nil {
			return err
		}
	}
	return nil
}

// ubifsWork bounds the steps that putting the journal over the index takes.
const ubifsWork = 1 << 28

var errLongJournal = unsupported("its journal is longer than fitcheck follows")

// apply puts one node of the journal over what is known.
func (u *ubifs) apply(w written, b []byte) error {
	le := binary.LittleEndian
	switch w.kind {
	case ubifsInode:
		if len(b) < ubifsInodeHead {
			return damaged("an inode takes %d bytes", len(b))
		}
		ino, _, _ := ubifsKeyOf(b[ubifsKey:])
		if le.Uint32(b[92:]) == 0 { // no name is left
			delete(u.inodes, ino)
			delete(u.blocks, ino)
			return nil
		}
		u.inodes[ino] = w.place
	case ubifsData:
		if len(b) < ubifsDataHead {
			return damaged("a block takes %d bytes", len(b))
		}
		ino, _, number := ubifsKeyOf(b[ubifsKey:])
		all := u.blocks[ino]
		if u.work += len(all); u.work > ubifsWork {
			return errLongJournal
		}
		if i := slices.IndexFunc(all, func(o ubifsBlock) bool { return o.number == number }); i >= 0 {
			all[i].place = w.place
		} else {
			u.blocks[ino] = append(all, ubifsBlock{number, w.place})
		}
	case ubifsEntry:
		ino, _, _ := ubifsKeyOf(b[ubifsKey : ubifsKey+8])
		n, err := ubifsNameOf(b)
		if err != nil {
			return err
		}
		if u.work += len(u.names[ino]); u.work > ubifsWork {
			return errLongJournal
		}
		all := slices.DeleteFunc(u.names[ino], func(o ubifsName) bool { return o.name == n.name })
		if n.ino != 0 {
			all = append(all, n)
		}
		u.names[ino] = all
	case ubifsCut:
		if len(b) < 56 {
			return damaged("a cut of a file takes %d bytes", len(b))
		}
		ino, left := le.Uint32(b[24:]), le.Uint64(b[48:])
		if u.work += len(u.blocks[ino]); u.work > ubifsWork {
			return errLongJournal
		}
		u.blocks[ino] = slices.DeleteFunc(u.blocks[ino], func(o ubifsBlock) bool { return uint64(o.number)*ubifsPage >= left })
	}
	return nil
}

// Walk implements FileSystem. A reference is the number of an inode.
func (u *ubifs) Walk(ctx context.Context, visit func(*File) error) error {
	return walk(ctx, ubifsRoot, u.resolve, visit)
}

func (u *ubifs) resolve(ref uint64) (node, error) {
	ino := uint32(ref)
	place, ok := u.inodes[ino]
	if !ok {
		return node{}, damaged("the inode %d, which a folder names, is not there", ino)
	}
	b, err := u.node(place, ubifsInode)
	if err != nil {
		return node{}, err
	}
	le := binary.LittleEndian
	if len(b) < ubifsInodeHead || ubifsInodeHead+int64(le.Uint32(b[112:])) > int64(len(b)) {
		return node{}, damaged("the inode %d takes %d bytes", ino, len(b))
	}
	size := int64(le.Uint64(b[48:]))
	data := bytes.Clone(b[ubifsInodeHead : ubifsInodeHead+le.Uint32(b[112:])])
	f := File{Mode: UnixMode(le.Uint32(b[104:])), UID: le.Uint32(b[96:]), GID: le.Uint32(b[100:]), Links: int(le.Uint32(b[92:])), Node: ref, Modified: time.Unix(int64(le.Uint64(b[72:])), 0).UTC()}
	out := node{folder: ref}
	switch {
	case f.Mode.IsDir():
		out.list = func() ([]entry, error) {
			var all []entry
			for _, n := range u.names[ino] {
				all = append(all, entry{n.name, uint64(n.ino)})
			}
			return all, nil
		}
	case f.Mode.IsRegular():
		const secret = 0x40
		if size < 0 {
			return node{}, damaged("the inode %d announces %d bytes", ino, uint64(size))
		}
		f.Size = size
		f.open = func() io.Reader { return &fileReader{read: (&ubifsFile{u: u, blocks: u.blocks[ino]}).at, length: size} }
		if le.Uint32(b[108:])&secret != 0 {
			f.open = func() io.Reader { return failing{unsupported("it is encrypted")} }
		}
	case f.Mode&fs.ModeSymlink != 0:
		f.Target = string(data)
	case f.Mode&fs.ModeDevice != 0 && len(data) >= 4:
		f.Major, f.Minor = deviceNumbers(le.Uint32(data))
	}
	out.file = f
	return out, nil
}

// ubifsFile reads a file's blocks in order.
type ubifsFile struct {
	u      *ubifs
	blocks []ubifsBlock
	held   int64 // number of the block in data, plus one
	data   []byte
}

func (f *ubifsFile) at(p []byte, off int64) (int, error) {
	number := off / ubifsPage
	for len(f.blocks) > 0 && int64(f.blocks[0].number) < number {
		f.blocks = f.blocks[1:]
	}
	if len(f.blocks) == 0 || int64(f.blocks[0].number) > number { // a hole up to the next block, or to the end
		if len(f.blocks) > 0 {
			p = p[:min(int64(len(p)), int64(f.blocks[0].number)*ubifsPage-off)]
		}
		clear(p)
		return len(p), nil
	}
	within := off % ubifsPage
	p = p[:min(int64(len(p)), ubifsPage-within)]
	if f.held != number+1 {
		var err error
		if f.data, err = f.u.block(f.blocks[0].place); err != nil {
			return 0, err
		}
		f.held = number + 1
	}
	clear(p)
	if within < int64(len(f.data)) {
		copy(p, f.data[within:])
	}
	return len(p), nil
}

// block inflates a block of a file.
func (u *ubifs) block(p ubifsPlace) ([]byte, error) {
	b, err := u.node(p, ubifsData)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	if len(b) < ubifsDataHead {
		return nil, damaged("the block at byte %d takes %d bytes", p.at, len(b))
	}
	length, method, src := le.Uint32(b[40:]), le.Uint16(b[44:]), b[ubifsDataHead:]
	if length > ubifsPage {
		return nil, damaged("the block at byte %d announces %d bytes", p.at, length)
	}
	dst, n := make([]byte, length), 0
	switch method {
	case 0:
		n = copy(dst, src)
	case 1:
		n, err = u.unpack.inflate("lzo", dst, src)
	case 2:
		n, err = u.unpack.inflate("deflate", dst, src)
	case 3:
		n, err = u.unpack.inflate("zstd", dst, src)
	default:
		return nil, unsupported("its blocks are packed by method %d of UBIFS, which fitcheck does not know", method)
	}
	switch {
	case err != nil:
		return nil, within(err, "its block at byte %d", p.at)
	case n != int(length):
		return nil, damaged("its block at byte %d holds %d bytes, and %d are due", p.at, n, length)
	}
	return dst, nil
}
