package content

import (
	"bytes"
	"cmp"
	"container/heap"
	"context"
	"encoding/binary"
	"hash/crc32"
	"io"
	"io/fs"
	"slices"
	"time"
)

// JFFS2 (Linux kernel, include/uapi/linux/jffs2.h), of either byte order, is a log of nodes
// at multiples of four bytes, in any order. Of nodes that speak of the same, that of the
// highest version counts.
//
//	node:   0 magic 0x1985, 2 type, 4 length, 8 CRC over the 8 bytes before
//	dirent: 12 inode of the folder, 16 version, 20 inode (0: the name is deleted), 28 length of the name,
//	        29 type, 32 CRC over the 32 bytes before, 36 CRC of the name, 40 name
//	inode:  12 inode, 16 version, 20 mode, 24 uid, 26 gid, 28 size of the file, 36 modified, 44 offset in the
//	        file, 48 packed bytes, 52 bytes, 56 method, 60 CRC of the packed bytes, 64 CRC over the first 60, 68 data
//
// A CRC is CRC-32 begun with 0 and not inverted.
type jffs2 struct {
	at    io.ReaderAt
	size  int64
	order binary.ByteOrder

	names  map[uint32][]jffs2Name // by folder
	nodes  map[uint32][]jffs2Node // by inode
	links  map[uint32]int
	unpack inflater
	broken int // nodes whose CRC does not hold
}

type jffs2Name struct {
	name    string
	version uint32
	ino     uint32
}

// jffs2Node is a stretch of a file.
type jffs2Node struct {
	at      int64 // of the node
	version uint32
	offset  uint32
	length  uint32
}

const (
	jffs2Magic   = 0x1985
	jffs2Dirent  = 0xe001
	jffs2Inode   = 0xe002
	jffs2Root    = 1
	jffs2DirHead = 40
	jffs2InoHead = 68
	// jffs2Page is how much one node may hold; one of zeros alone may stand for more.
	jffs2Page = 1 << 20
	// jffs2Most is how many nodes are listed, 8 GiB of a file's pages.
	jffs2Most = 2 << 20
)

// Methods by which the data of a node is packed.
const (
	jffs2Plain = 0
	jffs2Zero  = 1
	jffs2Rtime = 2
	jffs2Copy  = 4
	jffs2Zlib  = 6
	jffs2Lzo   = 7
)

func init() {
	register(Kind{Name: "jffs2", Title: "JFFS2", Open: OpenJFFS2, From: "Linux, uapi/linux/jffs2.h",
		Reads: "both byte orders, zlib, rtime, lzo and zeros; of nodes that speak of the same the newest counts; every CRC is held",
		Lacks: "data packed by rubin or lzma"})
}

// OpenJFFS2 opens a JFFS2 that takes up to size bytes. It reads all nodes' headers.
func OpenJFFS2(at io.ReaderAt, size int64) (FileSystem, error) {
	j := &jffs2{at: at, size: size, names: map[uint32][]jffs2Name{}, nodes: map[uint32][]jffs2Node{}, links: map[uint32]int{}}
	if err := j.scan(); err != nil {
		return nil, err
	}
	if len(j.names) == 0 && len(j.nodes) == 0 {
		return nil, damaged("it holds no file or folder of a JFFS2")
	}
	j.newest()
	return j, nil
}

func jffs2Sum(b []byte) uint32 { return ^crc32.Update(0xffffffff, crc32.IEEETable, b) }

// window reads an image onwards, in steps of its own.
type window struct {
	at   io.ReaderAt
	size int64
	from int64 // of buf
	buf  []byte
}

const windowSize = 256 << 10

// peek gives n bytes from a place on, fewer where the image ends. They hold until the next call.
func (w *window) peek(at int64, n int) ([]byte, error) {
	if at < w.from || at+int64(n) > w.from+int64(len(w.buf)) {
		if w.buf == nil {
			w.buf = make([]byte, windowSize)
		}
		w.buf, w.from = w.buf[:max(0, min(int64(cap(w.buf)), w.size-at))], at
		if err := readAt(w.at, w.size, at, w.buf); err != nil {
			w.buf = w.buf[:0]
			return nil, err
		}
	}
	b := w.buf[at-w.from:]
	return b[:min(n, len(b))], nil
}

// scan reads the headers of all nodes.
func (j *jffs2) scan() error {
	w := &window{at: j.at, size: j.size}
	total, at := 0, int64(0)
	for at+12 <= j.size {
		b, err := w.peek(at, windowSize/2)
		if err != nil {
			return err
		}
		n := 0
		for n+12 <= len(b) && !j.begins(b[n:]) {
			n += 4
		}
		if n > 0 {
			at += int64(n)
			continue
		}
		length := int64(j.order.Uint32(b[4:]))
		if total++; total > jffs2Most {
			return unsupported("it holds more than %d nodes, and fitcheck lists no more", jffs2Most)
		}
		if at+length > j.size {
			return damaged("truncated: the node at byte %d announces %d bytes, and the image ends at %d", at, length, j.size)
		}
		if length > int64(len(b)) {
			length = int64(len(b)) // its head is within
		}
		j.node(b[:length], at)
		at += (int64(j.order.Uint32(b[4:])) + 3) &^ 3
	}
	if at >= j.size || j.order == nil {
		return nil
	}
	rest, err := w.peek(at, int(j.size-at)) // less than the beginning of a node
	magic := make([]byte, 2)
	j.order.PutUint16(magic, jffs2Magic)
	if err == nil && bytes.HasPrefix(rest, magic[:min(len(rest), len(magic))]) {
		return damaged("truncated: a node begins at byte %d, and the image ends at %d", at, j.size)
	}
	return err
}

// begins tells whether a node begins here, and takes the byte order from the first.
func (j *jffs2) begins(b []byte) bool {
	order := j.order
	switch {
	case b[0] == jffs2Magic&0xff && b[1] == jffs2Magic>>8 && order != binary.BigEndian:
		order = binary.LittleEndian
	case b[0] == jffs2Magic>>8 && b[1] == jffs2Magic&0xff && order != binary.LittleEndian:
		order = binary.BigEndian
	default:
		return false
	}
	if order.Uint32(b[4:]) < 12 || order.Uint32(b[8:]) != jffs2Sum(b[:8]) {
		return false
	}
	j.order = order
	return true
}

// node takes what a node's header says.
func (j *jffs2) node(b []byte, at int64) {
	u32 := func(i int) uint32 { return j.order.Uint32(b[i:]) }
	switch j.order.Uint16(b[2:]) {
	case jffs2Dirent:
		if len(b) < jffs2DirHead || u32(32) != jffs2Sum(b[:32]) {
			j.broken++
			return
		}
		name := b[jffs2DirHead:]
		if int(b[28]) > len(name) || u32(36) != jffs2Sum(name[:b[28]]) {
			j.broken++
			return
		}
		parent := u32(12)
		j.names[parent] = append(j.names[parent], jffs2Name{string(name[:b[28]]), u32(16), u32(20)})
	case jffs2Inode:
		if len(b) < jffs2InoHead || u32(64) != jffs2Sum(b[:60]) {
			j.broken++
			return
		}
		ino := u32(12)
		j.nodes[ino] = append(j.nodes[ino], jffs2Node{at, u32(16), u32(44), u32(52)})
	}
}

// newest leaves of the names of a folder those that count, and orders the nodes of a file.
func (j *jffs2) newest() {
	for parent, all := range j.names {
		slices.SortStableFunc(all, func(a, b jffs2Name) int {
			return cmp.Or(cmp.Compare(a.name, b.name), cmp.Compare(b.version, a.version))
		})
		all = slices.CompactFunc(all, func(a, b jffs2Name) bool { return a.name == b.name })
		all = slices.DeleteFunc(all, func(n jffs2Name) bool { return n.ino == 0 })
		for _, n := range all {
			j.links[n.ino]++
		}
		j.names[parent] = all
	}
	for _, all := range j.nodes {
		slices.SortStableFunc(all, func(a, b jffs2Node) int { return cmp.Compare(a.version, b.version) })
	}
}

// Walk implements FileSystem. A reference is the number of an inode.
func (j *jffs2) Walk(ctx context.Context, visit func(*File) error) error {
	if err := walk(ctx, jffs2Root, j.resolve, visit); err != nil {
		return err
	}
	if j.broken > 0 {
		return damaged("of %d of its nodes the CRC does not hold", j.broken)
	}
	return nil
}

func (j *jffs2) resolve(ref uint64) (node, error) {
	ino := uint32(ref)
	list := func() ([]entry, error) {
		var out []entry
		for _, n := range j.names[ino] {
			out = append(out, entry{n.name, uint64(n.ino)})
		}
		return out, nil
	}
	all := j.nodes[ino]
	if len(all) == 0 {
		if ino == jffs2Root { // it may have no node of its own
			return node{file: File{Mode: fs.ModeDir | 0o755}, folder: ref, list: list}, nil
		}
		return node{}, damaged("the inode %d, which a folder names, is not there", ino)
	}
	var b [jffs2InoHead]byte
	last := all[len(all)-1] // the newest says what the file is
	if err := readAt(j.at, j.size, last.at, b[:]); err != nil {
		return node{}, err
	}
	f := File{Mode: UnixMode(j.order.Uint32(b[20:])), UID: uint32(j.order.Uint16(b[24:])), GID: uint32(j.order.Uint16(b[26:])), Node: ref, Links: j.links[ino],
		Modified: time.Unix(int64(j.order.Uint32(b[36:])), 0).UTC()}
	length := int64(j.order.Uint32(b[28:]))
	out := node{file: f}
	content := func() io.Reader { return &jffs2File{j: j, pieces: newestOf(all, length), length: length} }
	switch {
	case f.Mode.IsDir():
		out.folder, out.list = ref, list
	case f.Mode.IsRegular():
		out.file.Size, out.file.open = length, content
	case f.Mode&fs.ModeSymlink != 0, f.Mode&fs.ModeDevice != 0:
		if length == 0 { // of a device, and as some writers leave it
			length = int64(last.length)
		}
		text, err := io.ReadAll(io.LimitReader(content(), 4<<10))
		if fatal(err) {
			return node{}, err
		}
		switch {
		case f.Mode&fs.ModeSymlink != 0:
			out.file.Target = string(bytes.TrimRight(text, "\x00"))
		case len(text) == 2:
			dev := j.order.Uint16(text)
			out.file.Major, out.file.Minor = uint32(dev>>8), uint32(dev&0xff)
		case len(text) == 4:
			out.file.Major, out.file.Minor = deviceNumbers(j.order.Uint32(text))
		}
		out.file.Err = err
	}
	return out, nil
}

// deviceNumbers takes a device's number apart (Linux kernel, include/linux/kdev_t.h,
// new_decode_dev).
func deviceNumbers(dev uint32) (major, minor uint32) {
	return dev & 0xfff00 >> 8, dev&0xff | dev>>12&0xfff00
}

// piece is a stretch of a file, and the node that holds it.
type piece struct {
	from, to int64
	node     *jffs2Node
}

// newestOf cuts a file into stretches, each with the newest node that holds it. The nodes
// come in the order of their versions; of two of one version the later counts.
func newestOf(nodes []jffs2Node, length int64) []piece {
	byOffset := make([]int, 0, len(nodes))
	var ends []int64
	for i, n := range nodes {
		if n.length > 0 && int64(n.offset) < length {
			byOffset = append(byOffset, i)
			ends = append(ends, int64(n.offset), min(length, int64(n.offset)+int64(n.length)))
		}
	}
	slices.SortStableFunc(byOffset, func(a, b int) int { return cmp.Compare(nodes[a].offset, nodes[b].offset) })
	slices.Sort(ends)
	ends = slices.Compact(ends)
	var out []piece
	var active versions
	for i := 0; i+1 < len(ends); i++ {
		from, to := ends[i], ends[i+1]
		for len(byOffset) > 0 && int64(nodes[byOffset[0]].offset) <= from {
			heap.Push(&active, byOffset[0])
			byOffset = byOffset[1:]
		}
		for len(active) > 0 && int64(nodes[active[0]].offset)+int64(nodes[active[0]].length) <= from {
			heap.Pop(&active)
		}
		if len(active) == 0 {
			continue
		}
		n := &nodes[active[0]]
		if k := len(out); k > 0 && out[k-1].node == n && out[k-1].to == from {
			out[k-1].to = to
		} else {
			out = append(out, piece{from, to, n})
		}
	}
	return out
}

// versions is a heap of nodes, the newest first.
type versions []int

func (v versions) Len() int           { return len(v) }
func (v versions) Less(a, b int) bool { return v[a] > v[b] }
func (v versions) Swap(a, b int)      { v[a], v[b] = v[b], v[a] }
func (v *versions) Push(x any)        { *v = append(*v, x.(int)) }
func (v *versions) Pop() any {
	old := *v
	x := old[len(old)-1]
	*v = old[:len(old)-1]
	return x
}

// jffs2File reads a file's content.
type jffs2File struct {
	j      *jffs2
	pieces []piece
	length int64
	pos    int64
	held   *jffs2Node // whose data is in data
	data   []byte     // nil for zeros
	err    error
}

func (f *jffs2File) Read(p []byte) (int, error) {
	if f.err != nil {
		return 0, f.err
	}
	if f.pos >= f.length {
		return 0, io.EOF
	}
	for len(f.pieces) > 0 && f.pieces[0].to <= f.pos {
		f.pieces = f.pieces[1:]
	}
	until := f.length
	var n *jffs2Node
	if len(f.pieces) > 0 {
		if first := f.pieces[0]; first.from > f.pos {
			until = first.from
		} else {
			until, n = first.to, first.node
		}
	}
	p = p[:min(int64(len(p)), until-f.pos)]
	if n != nil && f.held != n {
		if f.data, f.err = f.j.data(n); f.err != nil {
			return 0, f.err
		}
		f.held = n
	}
	if n == nil || f.data == nil { // a hole
		clear(p)
	} else {
		copy(p, f.data[f.pos-int64(n.offset):])
	}
	f.pos += int64(len(p))
	return len(p), nil
}

// data inflates what a node holds; nil for zeros.
func (j *jffs2) data(n *jffs2Node) ([]byte, error) {
	var b [jffs2InoHead]byte
	if err := readAt(j.at, j.size, n.at, b[:]); err != nil {
		return nil, err
	}
	packed, length, method := int64(j.order.Uint32(b[48:])), int64(n.length), b[56]
	total := int64(j.order.Uint32(b[4:]))
	switch {
	case packed > total-jffs2InoHead:
		return nil, damaged("its node at byte %d announces %d bytes of data, and is %d long", n.at, packed, total)
	case method != jffs2Zero && length > jffs2Page:
		return nil, damaged("its node at byte %d announces that it holds %d bytes", n.at, length)
	}
	src := make([]byte, packed)
	if err := readAt(j.at, j.size, n.at+jffs2InoHead, src); err != nil {
		return nil, err
	}
	if j.order.Uint32(b[60:]) != jffs2Sum(src) {
		return nil, damaged("the CRC of its node at byte %d does not hold", n.at)
	}
	if method == jffs2Zero {
		return nil, nil
	}
	dst := make([]byte, length)
	got, err := len(src), error(nil)
	switch method {
	case jffs2Plain, jffs2Copy:
		dst = src
	case jffs2Rtime:
		got, err = rtime(dst, src)
	case jffs2Zlib:
		got, err = j.unpack.inflate("gzip", dst, src)
	case jffs2Lzo:
		got, err = j.unpack.inflate("lzo", dst, src)
	default:
		return nil, unsupported("its data is packed by method %d of JFFS2, which fitcheck does not know", method)
	}
	switch {
	case err != nil:
		return nil, within(err, "its node at byte %d", n.at)
	case int64(got) != length:
		return nil, damaged("its node at byte %d holds %d bytes, and %d are due", n.at, got, length)
	}
	return dst, nil
}

// rtime inflates a run of pairs: a byte, and how many bytes to repeat from behind the
// place where that byte stood last (Linux kernel, fs/jffs2/compr_rtime.c).
func rtime(dst, src []byte) (int, error) {
	var last [256]int
	out := 0
	for in := 0; out < len(dst); in += 2 {
		if in+2 > len(src) {
			return out, damaged("its data ends before its time")
		}
		value, repeat := src[in], int(src[in+1])
		dst[out] = value
		out++
		from := last[value]
		last[value] = out
		if out+repeat > len(dst) {
			return out, damaged("its data repeats more than it holds")
		}
		for range repeat {
			dst[out] = dst[from]
			out++
			from++
		}
	}
	return out, nil
}
