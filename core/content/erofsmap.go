package content

import (
	"bytes"
	"encoding/binary"
)

// Where the parts of a packed file lie (Linux kernel, fs/erofs/zmap.c). Behind the inode stand,
// at a multiple of 8, a header and an index of what the file is cut into:
//
//	header: 0 place in the file of ends (32 bits), or 2 bytes that the last part takes; 4 advice, 6 methods (4 bits
//	        each), 7 log of the cut, above the block's; bit 7: all of it stands in the file of ends (the place is then
//	        the other 63 bits)
//
// Of each cut, the index gives whether a part begins in it (and where, and in which block it lies), and if not, how
// far the beginning is. Layout 1 has 8 bytes for each: 0 kind, 2 offset, 4 block. Layout 3 has packs of 2 in 8 bytes or of
// 16 in 32: offset and kind in few bits each, and at the end the block that stands before the pack's first part.
type erofsMap struct {
	extents  []erofsExtent
	tail     int64 // where what the extents hold ends
	fragment int64 // place of the rest in the file of ends; negative for none
}

// erofsExtent is a part of a file: the offset where it begins, and what it lies in.
type erofsExtent struct {
	from   int64
	at     int64 // in the image
	packed int64 // bytes
	method int   // that of the header; erofsAsIs for data that lies there plainly
	turned int64 // plain data that begins here in its block, and goes on at the block's beginning
}

const (
	erofsLZ4     = 0
	erofsLZMA    = 1
	erofsDeflate = 2
	erofsZstd    = 3
	erofsAsIs    = -1

	// erofsLongest is how much one part may hold (Z_EROFS_PCLUSTER_MAX_DSIZE).
	erofsLongest = 12 << 20
	// erofsCuts is how many cuts of one file are read: 8 GiB of 4 KiB.
	erofsCuts = 2 << 20
)

// Advice of the header.
const (
	erofsPacks16    = 0x01 // packs of 16
	erofsBig1       = 0x02 // parts of the first method may take several blocks
	erofsBig2       = 0x04
	erofsLastInline = 0x08 // the last part stands behind the index
	erofsTurned     = 0x10
	erofsFragment   = 0x20 // the last part stands in the file of ends
	erofsAdvice     = 0x3f
)

// Kinds of a cut.
const (
	erofsCutPlain = 0
	erofsCutHead  = 1
	erofsCutInner = 2
	erofsCutHead2 = 3
)

// erofsCut is one entry of the index.
type erofsCut struct {
	kind   int
	offset int64 // where in the cut a part begins
	block  uint32
	blocks int64 // of the part whose first inner cut this is; 0 where it does not say
}

// In one piece: the fields follow each other as they lie on the disk.
func (e *erofs) mapOf(n *erofsInode) (*erofsMap, error) {
	le := binary.LittleEndian
	var h [8]byte
	at := (n.end + 7) &^ 7
	if err := readAt(e.at, e.size, at, h[:]); err != nil {
		return nil, err
	}
	m := &erofsMap{fragment: -1, tail: n.length}
	if h[7]&0x80 != 0 {
		m.tail, m.fragment = 0, int64(le.Uint64(h[:])&(1<<63-1))
		return m, nil
	}
	advice, bits := le.Uint16(h[4:]), e.bits+uint(h[7]&7)
	if advice&^erofsAdvice != 0 {
		return nil, unsupported("a packed file uses features (0x%x) that fitcheck does not know", advice&^erofsAdvice)
	}
	count := (n.length + 1<<bits - 1) >> bits
	if count > erofsCuts {
		return nil, unsupported("a packed file of %d bytes is longer than fitcheck reads", n.length)
	}
	cuts := &erofsIndex{e: e, base: at + 8, bits: bits, count: count, full: n.layout == erofsFull, packs16: advice&erofsPacks16 != 0, big: advice&(erofsBig1|erofsBig2) != 0, window: window{at: e.at, size: e.size}}
	if cuts.full {
		cuts.base += 8
	}
	big := func(kind int) bool {
		return kind == erofsCutHead && advice&erofsBig1 != 0 || kind == erofsCutHead2 && advice&erofsBig2 != 0
	}
	size := int64(1) << bits
	kind := 0 // of the last head
	fresh := false
	for i := range count {
		c, err := cuts.at(i)
		if err != nil {
			return nil, err
		}
		if c.kind == erofsCutInner {
			switch k := len(m.extents); {
			case k == 0:
				return nil, damaged("its index begins within a part")
			case fresh && big(kind) && c.blocks > 0:
				m.extents[k-1].packed = c.blocks << e.bits
			}
			fresh = false
			continue
		}
		if i == 0 && c.offset != 0 || c.offset >= size {
			return nil, damaged("a part of it begins at byte %d of its place %d", c.offset, i)
		}
		x := erofsExtent{from: i<<bits + c.offset, at: int64(c.block) << e.bits, packed: size, method: erofsAsIs}
		if big(c.kind) {
			x.packed = 1 << e.bits
		}
		switch c.kind {
		case erofsCutHead:
			x.method = int(h[6] & 15)
		case erofsCutHead2:
			x.method = int(h[6] >> 4)
		default:
			if advice&erofsTurned != 0 {
				x.turned = x.from & (1<<e.bits - 1)
			}
		}
		if x.from >= n.length {
			break
		}
		m.extents = append(m.extents, x)
		kind, fresh = c.kind, true
	}
	if len(m.extents) == 0 {
		return m, nil
	}
	last := &m.extents[len(m.extents)-1]
	switch {
	case advice&erofsLastInline != 0:
		last.at, last.packed = cuts.end(), int64(le.Uint16(h[2:]))
		if last.method == erofsAsIs {
			last.turned = 0
		}
	case advice&erofsFragment != 0:
		m.tail, m.fragment = last.from, int64(le.Uint32(h[:]))|last.at>>e.bits<<32
		m.extents = m.extents[:len(m.extents)-1]
	}
	return m, nil
}

// erofsIndex reads the index.
type erofsIndex struct {
	e       *erofs
	base    int64
	bits    uint
	count   int64
	full    bool
	packs16 bool
	big     bool
	window  window
}

// place gives the pack in which a cut stands, how many it holds, and the cut's number in it.
func (x *erofsIndex) place(i int64) (at, pack int64, n int) {
	first := (32 - x.base%32) / 4 % 8 // packs of 2 before those of 16 begin
	long := int64(0)
	if x.packs16 && first < x.count {
		long = (x.count - first) / 16 * 16
	}
	switch {
	case i < first:
		return x.base + i/2*8, 2, int(i % 2)
	case i < first+long:
		i -= first
		return x.base + first*4 + i/16*32, 16, int(i % 16)
	}
	i -= first + long
	return x.base + first*4 + long*2 + i/2*8, 2, int(i % 2)
}

// end is where the index ends.
func (x *erofsIndex) end() int64 {
	if x.full {
		return x.base + x.count*8
	}
	at, pack, _ := x.place(x.count - 1)
	return at + packSize(pack)
}

func packSize(pack int64) int64 {
	if pack == 16 {
		return 32
	}
	return 8
}

// In one piece: the fields follow each other as they lie on the disk.
func (x *erofsIndex) at(i int64) (erofsCut, error) {
	le := binary.LittleEndian
	if x.full {
		b, err := x.window.peek(x.base+i*8, 8)
		if err != nil || len(b) < 8 {
			return erofsCut{}, orBeyond(err)
		}
		c := erofsCut{kind: int(le.Uint16(b) & 3), offset: int64(le.Uint16(b[2:])), block: le.Uint32(b[4:])}
		if c.kind == erofsCutInner {
			if back := int64(le.Uint16(b[4:])); back&erofsBlockCount != 0 {
				c.blocks = back &^ erofsBlockCount
			}
		}
		return c, nil
	}
	at, pack, n := x.place(i)
	size := packSize(pack)
	b, err := x.window.peek(at, int(size))
	if err != nil || int64(len(b)) < size {
		return erofsCut{}, orBeyond(err)
	}
	if pack == 2 && x.bits > 14 || pack == 16 && x.bits > 12 {
		return erofsCut{}, unsupported("a packed file is cut into pieces of 2^%d bytes, which its index cannot hold", x.bits)
	}
	low := max(x.bits, 12)
	width := uint(size-4) * 8 / uint(pack)
	get := func(k int) (lo int64, kind int) {
		pos := width * uint(k)
		var w [8]byte
		copy(w[:], b[pos/8:])
		v := le.Uint64(w[:]) >> (pos & 7)
		return int64(v & (1<<low - 1)), int(v >> low & 3)
	}
	lo, kind := get(n)
	c := erofsCut{kind: kind, offset: lo}
	if kind == erofsCutInner {
		if lo&erofsBlockCount != 0 {
			c.blocks = lo &^ erofsBlockCount
		}
		return c, nil
	}
	before := int64(0) // blocks between the pack's first and this part's
	if !x.big {
		before = 1
	}
	for k := n; k > 0; {
		k--
		lo, kind := get(k)
		switch {
		case !x.big:
			if kind == erofsCutInner {
				k -= int(lo)
			}
			if k >= 0 {
				before++
			}
		case kind != erofsCutInner:
			before++
		case lo&erofsBlockCount != 0:
			k--
			before += lo &^ erofsBlockCount
		case lo <= 1:
			return c, damaged("its index contradicts itself")
		default:
			k -= int(lo) - 2
		}
	}
	c.block = le.Uint32(b[size-4:]) + uint32(before)
	return c, nil
}

// erofsBlockCount marks, in place of a distance, a number of blocks.
const erofsBlockCount = 1 << 11

func orBeyond(err error) error {
	if err == nil {
		err = damaged("truncated: the index of a packed file reaches beyond the end")
	}
	return err
}

// inflate gives the bytes that a part holds.
func (e *erofs) inflate(x erofsExtent, length int64) ([]byte, error) {
	if length > erofsLongest || x.packed > erofsLongest {
		return nil, damaged("a part announces %d bytes", max(length, x.packed))
	}
	src := make([]byte, x.packed)
	if left := e.size - x.at; x.at >= 0 && left > 0 && left < x.packed && x.method == erofsAsIs {
		src = src[:left] // plain data need not fill its block
	}
	if err := readAt(e.at, e.size, x.at, src); err != nil {
		return nil, err
	}
	if x.method == erofsAsIs {
		if length > int64(len(src)) {
			return nil, damaged("%d bytes lie where %d are due", len(src), length)
		}
		if block := int64(1) << e.bits; x.turned > 0 && x.turned < int64(len(src)) && x.packed == block {
			src = append(src[x.turned:len(src):len(src)], src[:x.turned]...)
		}
		return src[:length], nil
	}
	if e.features&erofsZeroPadding != 0 || x.method != erofsLZ4 {
		src = bytes.TrimLeft(src, "\x00")
	}
	dst := make([]byte, length)
	var err error
	n := 0
	switch x.method {
	case erofsLZ4:
		n, err = lz4Begin(dst, src)
	case erofsDeflate:
		n, err = e.unpack.begin("deflate", dst, src)
	case erofsZstd:
		n, err = e.unpack.begin("zstd", dst, src)
	default:
		return nil, unsupported("its parts are packed by method %d of EROFS, which fitcheck does not know", x.method)
	}
	switch {
	case err != nil:
		return nil, err
	case int64(n) < length:
		return nil, damaged("it holds %d bytes, and %d are due", n, length)
	}
	return dst, nil
}
