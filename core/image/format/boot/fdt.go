package boot

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"

	"fitcheck/core/image"
)

// Flattened device tree, as in the Devicetree Specification 0.4, chapter 5.
// All numbers are big-endian.
//
//	 0  magic              0xd00dfeed
//	 4  totalsize          of the blob, in bytes
//	 8  off_dt_struct      where the structure block begins
//	12  off_dt_strings     where the strings block begins
//	16  off_mem_rsvmap     where the memory reservations begin
//	20  version            16 or 17
//	24  last_comp_version
//	28  boot_cpuid_phys
//	32  size_dt_strings
//	36  size_dt_struct     from version 17 on
//
// The structure block is a run of 32-bit tokens: 1 begins a node (its name
// follows), 2 ends it, 3 is a property (length, offset of its name in the
// strings block, value), 4 is nothing, 9 ends the block.
const (
	fdtMagic  = "\xd0\x0d\xfe\xed"
	fdtHeader = 40

	fdtBeginNode = 1
	fdtEndNode   = 2
	fdtProperty  = 3
	fdtNop       = 4
	fdtEnd       = 9
)

// Bounds of a tree.
const (
	fdtMaxNodes   = 100_000
	fdtMaxDepth   = 64
	fdtMaxStrings = 1 << 20
	fdtMaxValue   = 64 << 10
)

// fdt is a parsed tree. The values of properties stay in the file.
type fdt struct {
	s       *image.Source
	base    int64
	size    int64
	version uint32
	strings []byte
	root    *fdtNode
	h       *image.Header
}

type fdtNode struct {
	name     string
	props    []fdtProp
	children []*fdtNode
}

type fdtProp struct {
	name string
	at   int64 // of the value, in the file
	size int64
}

// readFDT parses the tree at base; fields go to m, which may be a scratch
// image.
func readFDT(m *image.Image, s *image.Source, base int64) (*fdt, error) {
	h, err := m.Header(s, "the header of a device tree", base, fdtHeader, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	t := &fdt{s: s, base: base, h: h}
	h.Hex("magic", 0, 4, "flattened device tree")
	t.size = int64(h.Dec("totalsize", 4, 4, "bytes of the tree"))
	structAt := int64(h.Hex("off_dt_struct", 8, 4, "structure block"))
	stringsAt := int64(h.Hex("off_dt_strings", 12, 4, "strings block"))
	h.Hex("off_mem_rsvmap", 16, 4, "memory reservations")
	t.version = uint32(h.Dec("version", 20, 4, ""))
	last := h.Dec("last_comp_version", 24, 4, "")
	h.Dec("boot_cpuid_phys", 28, 4, "")
	stringsSize := int64(h.Dec("size_dt_strings", 32, 4, "bytes of the strings block"))
	structSize := t.size - structAt
	if t.version >= 17 {
		structSize = int64(h.Dec("size_dt_struct", 36, 4, "bytes of the structure block"))
	}
	switch {
	case t.version < 16 || last > 17:
		return t, fmt.Errorf("a device tree of version %d (compatible down to %d); 16 and 17 are read", t.version, last)
	case t.size < fdtHeader, structAt < fdtHeader || structAt+structSize > t.size, stringsAt < fdtHeader || stringsAt+stringsSize > t.size:
		return t, fmt.Errorf("the blocks of the device tree (0x%x, 0x%x) reach past its end at 0x%x", structAt, stringsAt, t.size)
	case stringsSize > fdtMaxStrings:
		return t, fmt.Errorf("the strings block of the device tree has %d bytes; at most %d are read", stringsSize, fdtMaxStrings)
	}
	if t.strings, err = s.Bytes(base+stringsAt, int(stringsSize)); err != nil {
		return t, err
	}
	t.root, err = t.parse(base+structAt, base+structAt+structSize)
	return t, err
}

// In one piece: the fields follow each other as they lie in the header.
func (t *fdt) parse(at, end int64) (*fdtNode, error) {
	w := &window{s: t.s}
	var stack []*fdtNode
	var root *fdtNode
	nodes := 0
	for {
		if at+4 > end {
			return root, fmt.Errorf("the structure block of the device tree does not end")
		}
		b, err := w.bytes(at, 4)
		if err != nil {
			return root, err
		}
		token := binary.BigEndian.Uint32(b)
		here := at
		at += 4
		switch token {
		case fdtNop:
		case fdtEnd:
			if len(stack) > 0 || root == nil {
				return root, fmt.Errorf("the device tree ends inside a node, at 0x%x", here)
			}
			return root, nil
		case fdtBeginNode:
			name, err := w.text(at, end)
			if err != nil {
				return root, err
			}
			at = t.align(at + int64(len(name)) + 1)
			n := &fdtNode{name: strings.ToValidUTF8(name, "\uFFFD")}
			if nodes++; nodes > fdtMaxNodes || len(stack) >= fdtMaxDepth {
				return root, fmt.Errorf("the device tree is beyond all measure (%d nodes, %d levels)", nodes, len(stack))
			}
			if len(stack) > 0 {
				stack[len(stack)-1].children = append(stack[len(stack)-1].children, n)
			} else if root != nil {
				return root, fmt.Errorf("the device tree has a second root, at 0x%x", here)
			} else {
				root = n
			}
			stack = append(stack, n)
		case fdtEndNode:
			if len(stack) == 0 {
				return root, fmt.Errorf("the device tree ends a node that it did not begin, at 0x%x", here)
			}
			stack = stack[:len(stack)-1]
		case fdtProperty:
			b, err := w.bytes(at, 8)
			if err != nil {
				return root, err
			}
			size, name := int64(binary.BigEndian.Uint32(b)), int64(binary.BigEndian.Uint32(b[4:]))
			at += 8
			if at+size > end || name >= int64(len(t.strings)) || len(stack) == 0 {
				return root, fmt.Errorf("a property of the device tree at 0x%x reaches past the end of its block", here)
			}
			n := stack[len(stack)-1]
			if nodes++; nodes > fdtMaxNodes {
				return root, fmt.Errorf("the device tree is beyond all measure")
			}
			n.props = append(n.props, fdtProp{image.CString(t.strings[name:]), at, size})
			at = t.align(at + size)
		default:
			return root, fmt.Errorf("the device tree has an unknown token %d at 0x%x", token, here)
		}
	}
}

// align rounds up to 4 bytes from the beginning of the tree.
func (t *fdt) align(at int64) int64 { return t.base + (at-t.base+3)&^3 }

func (n *fdtNode) prop(name string) (fdtProp, bool) {
	if n != nil {
		for _, p := range n.props {
			if p.name == name {
				return p, true
			}
		}
	}
	return fdtProp{}, false
}

func (n *fdtNode) child(name string) *fdtNode {
	if n != nil {
		for _, c := range n.children {
			if c.name == name {
				return c
			}
		}
	}
	return nil
}

// value reads a property's bytes, up to fdtMaxValue of them.
func (t *fdt) value(p fdtProp) []byte {
	b, err := t.s.UpTo(p.at, int(min(p.size, fdtMaxValue)))
	if err != nil {
		return nil
	}
	return b
}

// text reads a property as a text, and u32 as a number.
func (t *fdt) text(n *fdtNode, name string) (string, fdtProp) {
	p, ok := n.prop(name)
	if !ok {
		return "", p
	}
	return image.CString(t.value(p)), p
}

// number reads a property of one or two cells.
func (t *fdt) number(n *fdtNode, name string) (uint64, fdtProp, bool) {
	p, ok := n.prop(name)
	b := t.value(p)
	switch {
	case ok && len(b) == 4:
		return uint64(binary.BigEndian.Uint32(b)), p, true
	case ok && len(b) == 8:
		return binary.BigEndian.Uint64(b), p, true
	}
	return 0, p, false
}

// placed is a text with its place in the file.
type placed struct {
	text     string
	at, size int64
	raw      []byte
}

// list reads a property as a list of texts that end at NUL each.
func (t *fdt) list(n *fdtNode, name string) []placed {
	p, ok := n.prop(name)
	if !ok {
		return nil
	}
	var out []placed
	at := p.at
	for piece := range bytes.SplitSeq(bytes.TrimSuffix(t.value(p), []byte{0}), []byte{0}) {
		if text := image.CString(piece); text != "" && len(out) < 64 {
			out = append(out, placed{text, at, int64(len(piece)), piece})
		}
		at += int64(len(piece)) + 1
	}
	return out
}

// field notes a property as a field.
func (t *fdt) field(m *image.Image, path string, p fdtProp, meaning string) {
	b := t.value(p)
	shown := b[:min(len(b), 64)]
	value := fmt.Sprintf("%d bytes", p.size)
	if len(b) == 4 && (b[0] == 0 || !printableText(b)) {
		value = fmt.Sprintf("0x%08x", binary.BigEndian.Uint32(b))
	} else if printableText(b) {
		value = strings.ReplaceAll(strings.TrimRight(string(b), "\x00"), "\x00", ", ")
	}
	m.Field(path+"/"+p.name, p.at, shown, value, meaning)
}

// printableText: one or more texts, each ended by NUL.
func printableText(b []byte) bool {
	if len(b) < 2 || b[len(b)-1] != 0 || b[0] == 0 {
		return false
	}
	return image.IsText(bytes.ReplaceAll(b, []byte{0}, []byte{' '}))
}

// window reads small pieces of a source through one larger buffer.
type window struct {
	s  *image.Source
	b  []byte
	at int64
}

func (w *window) bytes(at int64, n int) ([]byte, error) {
	if at < w.at || at+int64(n) > w.at+int64(len(w.b)) {
		b, err := w.s.UpTo(at, max(n, 16<<10))
		if err == image.ErrBeyond { // at the end of what has passed, a smaller piece may do
			b, err = w.s.UpTo(at, n)
		}
		if err != nil {
			return nil, err
		}
		w.b, w.at = b, at
		if len(b) < n {
			return nil, fmt.Errorf("truncated: it ends at 0x%x, before its structure does", at+int64(len(b)))
		}
	}
	i := at - w.at
	return w.b[i : i+int64(n)], nil
}

// text reads up to the next NUL.
func (w *window) text(at, end int64) (string, error) {
	for n := 64; ; n *= 4 {
		n = int(min(int64(n), end-at))
		b, err := w.bytes(at, n)
		if err != nil {
			return "", err
		}
		if i := bytes.IndexByte(b, 0); i >= 0 {
			return string(b[:i]), nil
		}
		if int64(n) == end-at || n >= 4096 {
			return "", fmt.Errorf("a name at 0x%x does not end", at)
		}
	}
}
