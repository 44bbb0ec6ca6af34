package image

import (
	"bytes"
	"encoding/binary"
	"io"
	"slices"

	"fitcheck/core/archive"
)

// Region is a stretch of a blob, as the deep scan maps it.
type Region struct {
	From, To int64
	// What it is: "image", or for what lies between images "zeros", "erased",
	// "text", "random" (high entropy: compressed or encrypted) or "data".
	What string
	// Kind and Image tell of an image.
	Kind  string
	Image *Image
	// Unpacked is the size of a compressed stream once inflated.
	Unpacked int64
}

// Bounds of a deep scan.
const (
	scanChunk  = 1 << 20
	scanBlock  = 4 << 10 // what lies between finds is told apart by such blocks
	maxRegions = 10_000
)

// needle is a magic that the scan looks for.
type needle struct {
	magic  Magic
	format *Format
	stream bool // a compressed stream, trusted only when it inflates without fault
	shift  int  // where in the magic the pair of bytes stands by which it is found
}

// needles gathers the magics of all formats whose finds can be trusted, by
// pairs of their bytes, and a bitmap of those pairs. The scan looks at every
// second offset only, so that a magic has two: the pair that it begins with,
// and the one behind that, for when it stands at an odd offset. A magic of two
// bytes is found at even offsets only.
func (s *Set) needles() (map[uint16][]needle, *[1024]uint64) {
	by, bitmap := map[uint16][]needle{}, &[1024]uint64{}
	add := func(n needle) {
		for n.shift = 0; n.shift < 2 && n.shift+2 <= len(n.magic.Bytes); n.shift++ {
			pair := uint16(n.magic.Bytes[n.shift]) | uint16(n.magic.Bytes[n.shift+1])<<8
			if pair == 0 { // which stands everywhere: such a magic is found at even offsets only
				continue
			}
			by[pair] = append(by[pair], n)
			bitmap[pair>>6] |= 1 << (pair & 63)
		}
	}
	for _, f := range s.formats {
		if !f.Deep && !f.Stream {
			continue
		}
		magics := f.Magics
		if f.DeepMagics != nil {
			magics = f.DeepMagics
		}
		for _, m := range magics {
			add(needle{magic: m, format: f, stream: f.Stream})
		}
	}
	return by, bitmap
}

// Scan looks for images at any offset of a blob, and maps it from its first
// byte to its last. Only what its own checksums or structure vouch for is
// reported: a false find is worse than a missed one. known is the image that the blob begins
// with, where one was read and says where it ends: the scan goes on behind it. The error ends
// the walk.
func Scan(set *Set, c *archive.Content, known *Image) ([]Region, error) {
	by, bitmap := set.needles()
	var finds []Region
	size := c.Size()
	behind := int64(0)
	if known != nil && known.Extent > 0 && known.Extent < size {
		behind = known.Extent
		finds = append(finds, Region{To: behind, What: "image", Kind: known.Format, Image: known})
	}
	buf := make([]byte, scanChunk+archive.HeadSize)
	kinds := make([]byte, 0, size/scanBlock+1)
	for at, done := int64(0), behind; at < size; at += scanChunk {
		n, err := c.ReadAt(buf[:min(int64(len(buf)), size-at)], at)
		if err != nil && err != io.EOF {
			return nil, err
		}
		chunk := buf[:n]
		for b := 0; b < min(n, scanChunk); b += scanBlock {
			kinds = append(kinds, blockKind(chunk[b:min(n, b+scanBlock)]))
		}
		// One pair beyond the chunk, for a magic that begins with its last byte.
		window := chunk[:min(n, scanChunk+2)]
		for i := max(0, done-at) &^ 1; ; i += 2 {
			if i = nextCandidate(window, i, bitmap); i >= int64(len(window)) {
				break
			}
			found, ok, err := first(by[uint16(window[i])|uint16(window[i+1])<<8], func(nd needle) (Region, bool, error) {
				start := at + i - int64(nd.shift) - int64(nd.magic.At)
				if i < int64(nd.shift) || start < done || !bytes.HasPrefix(chunk[i-int64(nd.shift):], []byte(nd.magic.Bytes)) {
					return Region{}, false, nil
				}
				return nd.verify(set, c, start, at, chunk)
			})
			if err != nil {
				return nil, err
			}
			if ok && len(finds) < maxRegions {
				finds = append(finds, found)
				done = found.To
				i = max(i, (done-at)&^1-2)
			}
		}
	}
	return regions(c, finds, kinds)
}

func first(all []needle, try func(needle) (Region, bool, error)) (Region, bool, error) {
	for _, n := range all {
		if r, ok, err := try(n); ok || err != nil {
			return r, ok, err
		}
	}
	return Region{}, false, nil
}

// nextCandidate finds the next pair of bytes, at an even offset from i on,
// that belongs to a magic; len(b) when there is none. Four pairs are tested at
// a time.
func nextCandidate(b []byte, i int64, bitmap *[1024]uint64) int64 {
	for ; i+8 <= int64(len(b)); i += 8 {
		w := binary.LittleEndian.Uint64(b[i : i+8])
		if (bitmap[w>>6&1023]>>(w&63)|bitmap[w>>22&1023]>>(w>>16&63)|bitmap[w>>38&1023]>>(w>>32&63)|bitmap[w>>54]>>(w>>48&63))&1 != 0 {
			break
		}
	}
	for ; i+2 <= int64(len(b)); i += 2 { // the pair itself, or the last few of all
		pair := uint16(b[i]) | uint16(b[i+1])<<8
		if bitmap[pair>>6]>>(pair&63)&1 != 0 {
			return i
		}
	}
	return int64(len(b))
}

// verify reads what a magic may have found at start. chunk stands at offset
// at of the blob.
//
// In one piece: the order of the cases is the rule; the first that holds decides.
func (n *needle) verify(set *Set, c *archive.Content, start, at int64, chunk []byte) (Region, bool, error) {
	rest := c.Section(start, c.Size()-start)
	var head []byte
	if start >= at {
		head = chunk[start-at : min(int64(len(chunk)), start-at+archive.HeadSize)]
	}
	if head == nil || len(head) < archive.HeadSize && start+int64(len(head)) < c.Size() {
		var err error
		if head, err = Head(rest); err != nil {
			return Region{}, false, err
		}
	}
	if !n.format.is(head) {
		return Region{}, false, nil
	}
	if n.stream {
		return n.inflate(set, rest, start, head)
	}
	if n.format.Measure != nil {
		size, err := n.format.Measure(rest)
		if err != nil || size <= 0 || size > rest.Size() {
			return Region{}, false, err
		}
		rest = c.Section(start, size)
	}
	// First by what has been read already; only what holds so far is worth
	// reading in full.
	m, err := n.format.Read(&Source{head: head[:min(int64(len(head)), rest.Size())], size: rest.Size(), c: rest})
	if err != nil || m == nil {
		if archive.Fatal(err) {
			return Region{}, false, err
		}
		return Region{}, false, nil
	}
	m.Format = n.format.Name
	if n.format.Measure != nil {
		m.Extent = rest.Size()
	}
	if m.Extent <= 0 || m.Extent > rest.Size() || len(m.Problems) > 0 {
		return Region{}, false, nil
	}
	for _, i := range m.pending() {
		if err := m.computeOne(rest, i); err != nil {
			return Region{}, false, err
		}
		if !m.Sums[i].OK {
			return Region{}, false, nil
		}
	}
	if slices.ContainsFunc(m.Sums, func(s Sum) bool { return !s.OK }) {
		return Region{}, false, nil
	}
	inner, err := c.Part(n.format.Name, start, m.Extent)
	if err != nil {
		return Region{}, false, err
	}
	if err := lookInto(set, inner, m); err != nil {
		return Region{}, false, err
	}
	m.finish(inner)
	return Region{From: start, To: start + m.Extent, What: "image", Kind: n.format.Name, Image: m}, true, nil
}

// inflate trusts a compressed stream when it inflates to its end without
// fault.
func (n *needle) inflate(set *Set, rest *archive.Content, start int64, head []byte) (Region, bool, error) {
	method := archive.CompressionOf(head)
	if method == "" {
		return Region{}, false, nil
	}
	inner, packed, problem, err := rest.Guess().InflateCounted(method)
	if err != nil {
		return Region{}, false, err
	}
	defer inner.Close()
	least := int64(64)
	if method == archive.LzmaStream { // which has no magic, and no checksum
		least = 1 << 10
	}
	if problem != nil || inner == nil || inner.Size() < least || inner.Size() < packed/2 {
		return Region{}, false, nil
	}
	m := &Image{Format: n.format.Name, Compression: n.format.Name, Extent: packed}
	p := m.Part("content", 0, packed)
	p.Compression, p.Unpacked = n.format.Name, inner.Size()
	h, err := Head(inner)
	if err != nil {
		return Region{}, false, err
	}
	if err := p.read(set, inner, h, m); err != nil {
		return Region{}, false, err
	}
	m.promote()
	return Region{From: start, To: start + packed, What: "image", Kind: n.format.Name, Image: m, Unpacked: inner.Size()}, true, nil
}

// Kinds of block between images.
const (
	dataBlock = iota
	zerosBlock
	erasedBlock
	textBlock
	randomBlock
)

var blockNames = []string{"data", "zeros", "erased", "text", "random"}

var emptyBlock, ffBlock = make([]byte, scanBlock), bytes.Repeat([]byte{0xff}, scanBlock)

// blockKind tells what a block looks like. A sample of its bytes is enough
// for text and for randomness.
func blockKind(b []byte) byte {
	switch {
	case bytes.Equal(b, emptyBlock[:len(b)]):
		return zerosBlock
	case bytes.Equal(b, ffBlock[:len(b)]):
		return erasedBlock
	}
	const step = 8
	var seen [256]uint8
	distinct, printable, n := 0, 0, 0
	for i := 0; i < len(b); i += step {
		c := b[i]
		n++
		if seen[c] == 0 {
			distinct++
		}
		seen[c] |= 1
		if c >= ' ' && c < 0x7f || c == '\n' || c == '\r' || c == '\t' {
			printable++
		}
	}
	switch {
	case printable == n:
		return textBlock
	// Of 512 random bytes, 221 are distinct on average, and hardly ever fewer
	// than 205.
	case n >= 512 && distinct >= 205:
		return randomBlock
	}
	return dataBlock
}

// regions joins finds and what lies between them into one map. Where a find
// begins or ends within a block, what is left of the block is looked at again.
func regions(c *archive.Content, finds []Region, kinds []byte) ([]Region, error) {
	var out []Region
	add := func(from, to int64, kind byte) {
		what := blockNames[kind]
		switch n := len(out); {
		case n > 0 && out[n-1].What == what && out[n-1].To == from:
			out[n-1].To = to
		case n > 2*maxRegions: // beyond all measure: what is left is one region
			out[n-1].To, out[n-1].What = to, "data"
		default:
			out = append(out, Region{From: from, To: to, What: what})
		}
	}
	fill := func(from, to int64) error {
		for at := from; at < to; {
			start := at / scanBlock * scanBlock
			end := min(to, start+scanBlock)
			kind := kinds[start/scanBlock]
			if at > start || end < min(start+scanBlock, c.Size()) {
				b := make([]byte, end-at)
				if _, err := c.ReadAt(b, at); err != nil && err != io.EOF {
					return err
				}
				kind = blockKind(b)
				if kind == dataBlock && kinds[start/scanBlock] == randomBlock {
					kind = randomBlock // too short a piece to tell by itself
				}
			}
			add(at, end, kind)
			at = end
		}
		return nil
	}
	at := int64(0)
	for _, f := range finds {
		if err := fill(at, f.From); err != nil {
			return nil, err
		}
		out = append(out, f)
		at = f.To
	}
	return out, fill(at, c.Size())
}
