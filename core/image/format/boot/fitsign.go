package boot

import (
	"encoding/binary"
	"path"
	"slices"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Signatures of a FIT (U-Boot, doc/usage/fit/signature.rst): a node
// "signature…" below an image signs its payload; one below a configuration
// signs the nodes that "hashed-nodes" lists, without their payloads, and the
// beginning of the strings block that "hashed-strings" gives. The stretches
// are those that boot/fdt_region.c computes.

// fitUnsigned are the properties that a configuration's signature leaves out.
var fitUnsigned = []string{"data", "data-size", "data-position", "data-offset"}

func isSignature(name string) bool {
	return name == "signature" || strings.HasPrefix(name, "signature-") || strings.HasPrefix(name, "signature@")
}

func fitSignature(m *image.Image, t *fdt, n *fdtNode, path string) (image.Signature, bool) {
	s := image.Signature{Name: strings.TrimPrefix(strings.TrimPrefix(path, "/images/"), "/configurations/")}
	var at fdtProp
	s.Algo, _ = t.text(n, "algo")
	s.KeyHint, _ = t.text(n, "key-name-hint")
	padding, _ := t.text(n, "padding")
	s.PSS = padding == "pss"
	p, ok := n.prop("value")
	if !ok {
		m.Note("%s holds no value: it was never signed", path)
		return s, false
	}
	at = p
	s.Value = t.value(p)
	s.Source = fact.Source{Kind: fact.Header, Offset: at.at, Size: at.size}
	t.field(m, path, p, strings.TrimSpace(s.Algo+" by the key "+s.KeyHint))
	return s, true
}

// configRegions computes what a configuration's signature is over.
func (t *fdt) configRegions(n *fdtNode) ([]digest.Stretch, bool) {
	var nodes []string
	for _, p := range t.list(n, "hashed-nodes") {
		nodes = append(nodes, p.text)
	}
	if len(nodes) == 0 {
		return nil, false
	}
	out, ok := t.regions(nodes)
	if !ok {
		return nil, false
	}
	if p, has := n.prop("hashed-strings"); has {
		if b := t.value(p); len(b) >= 8 {
			from := t.base + int64(t.h.Get(12, 4)) // the offset that it gives is not used, as by the boot loader
			out = append(out, digest.Stretch{From: from, To: from + int64(binary.BigEndian.Uint32(b[4:]))})
		}
	}
	return out, true
}

// uncovered lists what a configuration starts, and itself, as far as the
// nodes that its signature names leave them out. Those nodes are listed beside
// the signature, where anybody can change the list: a signature that was made
// for one configuration could be copied into another. An image is covered by
// its node and one of its hashes that cannot be forged.
func (t *fdt) uncovered(config, signature *fdtNode, images map[string]*fitImage) []string {
	signed := map[string]bool{}
	for _, p := range t.list(signature, "hashed-nodes") {
		signed[p.text] = true
	}
	var out []string
	if self := "/configurations/" + config.name; !signed[self] {
		out = append(out, self)
	}
	for _, key := range fitStarted {
		for _, ref := range t.list(config, key) {
			fi := images[path.Base(ref.text)]
			if fi == nil {
				continue // that it is not there is told already
			}
			covered := signed[fi.path] && slices.ContainsFunc(fi.node.children, func(h *fdtNode) bool {
				algo, _ := t.text(h, "algo")
				return strings.HasPrefix(h.name, "hash") && algo != "crc32" && algo != "" && signed[fi.path+"/"+h.name]
			})
			if !covered && !slices.Contains(out, fi.path) {
				out = append(out, fi.path)
			}
		}
	}
	return out
}

// regions walks the tokens of the structure block and joins those of the
// nodes, and the properties that are not left out, to stretches.
//
// In one piece: the fields follow each other as they lie in the header.
func (t *fdt) regions(nodes []string) ([]digest.Stretch, bool) {
	w := &window{s: t.s}
	at := t.base + int64(t.h.Get(8, 4))
	end := t.base + t.size
	var out []digest.Stretch
	start := int64(-1)
	var path []string
	var stack []int
	want := 0
	for {
		b, err := w.bytes(at, 4)
		if err != nil || at+4 > end || len(path) > fdtMaxDepth {
			return nil, false
		}
		token := binary.BigEndian.Uint32(b)
		here, next, stop, include := at, at+4, at+4, false
		switch token {
		case fdtProperty:
			h, err := w.bytes(at+4, 8)
			if err != nil {
				return nil, false
			}
			size, name := int64(binary.BigEndian.Uint32(h)), int64(binary.BigEndian.Uint32(h[4:]))
			if name >= int64(len(t.strings)) {
				return nil, false
			}
			next = t.align(at + 12 + size)
			stop = here
			include = want >= 2 && !slices.Contains(fitUnsigned, image.CString(t.strings[name:]))
		case fdtNop:
			stop, include = here, want >= 2
		case fdtBeginNode:
			name, err := w.text(at+4, end)
			if err != nil {
				return nil, false
			}
			next = t.align(at + 4 + int64(len(name)) + 1)
			stop = next
			path = append(path, name)
			stack = append(stack, want)
			if want == 1 {
				stop = here
			}
			full := "/" + strings.TrimPrefix(strings.Join(path, "/"), "/")
			switch {
			case slices.Contains(nodes, full):
				want = 2
			case want > 0:
				want--
			default:
				stop = here
			}
			include = want > 0
		case fdtEndNode:
			if len(stack) == 0 {
				return nil, false
			}
			include = want > 0
			want, stack, path = stack[len(stack)-1], stack[:len(stack)-1], path[:len(path)-1]
		case fdtEnd:
			include = true
		default:
			return nil, false
		}
		if include && start < 0 {
			if n := len(out); n > 0 && out[n-1].To == here {
				start, out = out[n-1].From, out[:n-1]
			} else {
				start = here
			}
		}
		if !include && start >= 0 {
			out = append(out, digest.Stretch{From: start, To: stop})
			start = -1
		}
		if at = next; token == fdtEnd {
			return append(out, digest.Stretch{From: start, To: next}), true
		}
	}
}
