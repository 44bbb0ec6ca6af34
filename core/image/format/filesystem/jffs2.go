package filesystem

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// JFFS2 (Linux kernel, include/uapi/linux/jffs2.h), in the byte order of the
// machine it is for: nodes, each aligned to 4 bytes.
//
//	0  magic 0x1985, 2 type, 4 length, 8 CRC over the first 8 bytes
//
// A directory entry (type 0xe001) has the CRC of its first 32 bytes at 32 and
// that of its name at 36; an inode (0xe002) that of its first 60 bytes at 64
// and that of its data, from 68 on, at 60. The CRCs start from zero and are
// not inverted.

func init() {
	register(&image.Format{Name: "jffs2",
		Doc:   image.Doc{Told: "a first node whose header CRC holds, both byte orders", Sums: "the CRCs of every node, inode and name", Facts: "type", From: "Linux, uapi/linux/jffs2.h"},
		Title: "JFFS2 file system", HoldsFiles: true, Firmware: true, Deep: true, Measure: measureJFFS2, DeepMagics: jffs2Nodes, Magics: []image.Magic{{At: 0, Bytes: "\x85\x19"}, {At: 0, Bytes: "\x19\x85"}}, Sniff: func(h []byte) bool {
			return len(h) >= 12 && jffs2Order(h) != nil && jffs2CRC(h[:8]) == jffs2Order(h).Uint32(h[8:])
		}, Read: readJFFS2})
}

// jffs2Nodes are how nodes begin that a file system begins with: clean markers, entries and
// inodes of both byte orders.
var jffs2Nodes = []image.Magic{{At: 0, Bytes: "\x85\x19\x03\x20"}, {At: 0, Bytes: "\x85\x19\x01\xe0"}, {At: 0, Bytes: "\x85\x19\x02\xe0"}, {At: 0, Bytes: "\x19\x85\x20\x03"}, {At: 0, Bytes: "\x19\x85\xe0\x01"}, {At: 0, Bytes: "\x19\x85\xe0\x02"}}

func jffs2Order(h []byte) binary.ByteOrder {
	switch {
	case h[0] == 0x85 && h[1] == 0x19:
		return binary.LittleEndian
	case h[0] == 0x19 && h[1] == 0x85:
		return binary.BigEndian
	}
	return nil
}

var zero32 uint32

func jffs2CRC(b []byte) uint32 {
	h, _ := digest.NewWith(digest.CRC32, digest.Options{Init: &zero32, Invert: true})
	h.Write(b)
	return binary.BigEndian.Uint32(h.Sum(nil))
}

func readJFFS2(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a JFFS2 node", 0, 12, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Order = jffs2Order(h.Bytes)
	h.Hex("magic", 0, 2, fmt.Sprintf("JFFS2, %v", map[bool]string{true: "little-endian", false: "big-endian"}[h.Order == binary.LittleEndian]))
	h.Named("node_type", 2, 2, map[uint64]string{0xe001: "directory entry", 0xe002: "inode", 0x2003: "clean marker", 0x2004: "padding", 0x2006: "summary", 0xe008: "extended attribute", 0xe009: "reference to an extended attribute"})
	h.Dec("length", 4, 4, "bytes of the first node")
	h.Hex("header_crc", 8, 4, "over the first 8 bytes")
	m.Fact(fact.Type, "filesystem", 0, 2)
	if s.Size() < 0 && !s.Whole() {
		return m, nil
	}
	r, err := s.Reader(0)
	if err != nil {
		return m, err
	}
	sc := &jffs2Scan{order: h.Order, r: bufio.NewReaderSize(r, 256<<10)}
	if err := sc.run(); err != nil {
		return m, err
	}
	m.Field("nodes", 0, nil, fmt.Sprint(sc.nodes), fmt.Sprintf("%d directory entries, %d inodes", sc.entries, sc.inodes))
	m.Tallied("CRCs of its nodes", "at 0x%x", sc.sums, digest.Between(0, s.Size()), 8)
	if n := len(m.Sums); n > 0 {
		m.Sums[n-1].Covers = sc.covered(s.Size())
	}
	return m, nil
}

type jffs2Scan struct {
	r                      *bufio.Reader
	order                  binary.ByteOrder
	at                     int64
	nodes, entries, inodes int
	sums                   image.Tally
	// stray is what no node's checksum covers and is not erased, in its order.
	stray []digest.Stretch
}

// maxStray is how many such stretches are told apart.
const maxStray = 1000

func (sc *jffs2Scan) strays(from, to int64) {
	n := len(sc.stray)
	if n > 0 && (sc.stray[n-1].To >= from || n == maxStray) {
		sc.stray[n-1].To = max(sc.stray[n-1].To, to)
		return
	}
	sc.stray = append(sc.stray, digest.Stretch{From: from, To: to})
}

// covered is all but what strays.
func (sc *jffs2Scan) covered(size int64) []digest.Stretch {
	out := []digest.Stretch{}
	at := int64(0)
	for _, s := range sc.stray {
		if at < s.From {
			out = append(out, digest.Stretch{From: at, To: min(s.From, size)})
		}
		at = s.To
	}
	if at < size {
		out = append(out, digest.Stretch{From: at, To: size})
	}
	return out
}

func (sc *jffs2Scan) check(b []byte, want uint32) bool {
	ok := jffs2CRC(b) == want
	sc.sums.Add(ok, sc.at)
	return ok
}

func (sc *jffs2Scan) skip(n int64) error {
	got, err := io.CopyN(io.Discard, sc.r, n)
	sc.at += got
	if err == io.EOF {
		err = nil
	}
	return err
}

// maxNode is more than any node has: its data is at most one page.
const maxNode = 64 << 10

func (sc *jffs2Scan) run() error {
	for {
		head, err := sc.r.Peek(12)
		if err == io.EOF {
			if !image.AllOf(head, 0xff) && !image.AllOf(head, 0) {
				sc.strays(sc.at, sc.at+int64(len(head)))
			}
			return nil
		}
		if err != nil {
			return err
		}
		length := int64(sc.order.Uint32(head[4:]))
		if sc.order.Uint16(head) != 0x1985 || length < 12 || length > maxNode {
			// Erased flash, or padding: on to the next place where a node may be.
			if err := sc.gap(); err != nil {
				return err
			}
			continue
		}
		if !sc.check(head[:8], sc.order.Uint32(head[8:])) {
			sc.strays(sc.at, sc.at+4)
			if err := sc.skip(4); err != nil {
				return err
			}
			continue
		}
		sc.nodes++
		node, err := sc.r.Peek(int(length+3) &^ 3)
		if err != nil && err != io.EOF {
			return err
		}
		if pad := node[min(len(node), int(length)):]; !image.AllOf(pad, 0xff) && !image.AllOf(pad, 0) {
			sc.strays(sc.at+length, sc.at+length+int64(len(pad)))
		}
		sc.node(node[:min(len(node), int(length))], int(length))
		if err := sc.skip((length + 3) &^ 3); err != nil {
			return err
		}
	}
}

// gap skips to the next 4-byte boundary that is not erased.
func (sc *jffs2Scan) gap() error {
	for {
		b, err := sc.r.Peek(64 << 10)
		if len(b) < 4 {
			if !image.AllOf(b, 0xff) && !image.AllOf(b, 0) {
				sc.strays(sc.at, sc.at+int64(len(b)))
			}
			return sc.skip(int64(len(b)) + 1)
		}
		if err != nil && err != io.EOF {
			return err
		}
		n := 4
		for n+4 <= len(b) && bytes.Equal(b[n:n+4], []byte{0xff, 0xff, 0xff, 0xff}) {
			n += 4
		}
		if !image.AllOf(b[:4], 0xff) && !image.AllOf(b[:4], 0) {
			sc.strays(sc.at, sc.at+4)
		}
		if err := sc.skip(int64(n)); err != nil {
			return err
		}
		if n < len(b)&^3 {
			return nil
		}
	}
}

func (sc *jffs2Scan) node(b []byte, length int) {
	u32 := func(at int) uint32 { return sc.order.Uint32(b[at:]) }
	if len(b) < length { // cut off
		sc.check(nil, 1)
		return
	}
	switch kind := sc.order.Uint16(b[2:]); {
	case kind == 0xe001 && length >= 40:
		sc.entries++
		sc.check(b[:32], u32(32))
		if n := int(b[28]); 40+n <= length {
			sc.check(b[40:40+n], u32(36))
		}
	case kind == 0xe002 && length >= 68:
		sc.inodes++
		sc.check(b[:60], u32(64))
		if n := int(u32(48)); n >= 0 && 68+n <= length {
			sc.check(b[68:68+n], u32(60))
		}
	case kind == 0x2006 && length >= 32: // summary
		sc.check(b[:24], u32(28))
		sc.check(b[32:length], u32(24))
	case kind == 0x2003 && length == 12: // clean marker
	case length > 12 && !image.AllOf(b[12:length], 0xff) && !image.AllOf(b[12:length], 0):
		sc.strays(sc.at+12, sc.at+int64(length))
	}
}

// measureJFFS2 follows nodes, whose headers have checksums, over what is erased between
// them, to where neither goes on.
func measureJFFS2(c *archive.Content) (int64, error) {
	const chunk = 64 << 10
	r := &chunks{c: c, buf: make([]byte, chunk)}
	end, telling := int64(0), 0
	for at := int64(0); at+12 <= c.Size(); {
		b, err := r.at(at, 80)
		if err != nil {
			return 0, err
		}
		if len(b) < 12 {
			break
		}
		order := jffs2Order(b)
		if order == nil || jffs2CRC(b[:8]) != order.Uint32(b[8:]) {
			if b[0] != 0xff || b[1] != 0xff || b[2] != 0xff || b[3] != 0xff {
				break
			}
			at += 4
			continue
		}
		n := int64(order.Uint32(b[4:]))
		if n < 12 || n > c.Size()-at {
			break
		}
		switch kind := order.Uint16(b[2:]); {
		case kind == 0xe001 && len(b) >= 40 && jffs2CRC(b[:32]) == order.Uint32(b[32:]), kind == 0xe002 && len(b) >= 68 && jffs2CRC(b[:60]) == order.Uint32(b[64:]):
			telling++
		}
		at += (n + 3) &^ 3
		end = min(at, c.Size())
	}
	if telling < 2 {
		return 0, nil
	}
	return end, nil
}

// chunks reads a content onwards in small pieces.
type chunks struct {
	c    *archive.Content
	buf  []byte
	from int64
	n    int
}

// at gives up to n bytes; they hold until the next call.
func (r *chunks) at(at int64, n int) ([]byte, error) {
	if at < r.from || at+int64(n) > r.from+int64(r.n) {
		k, err := r.c.ReadAt(r.buf, at)
		if err != nil && err != io.EOF {
			return nil, err
		}
		r.from, r.n = at, k
	}
	b := r.buf[at-r.from : r.n]
	return b[:min(n, len(b))], nil
}
