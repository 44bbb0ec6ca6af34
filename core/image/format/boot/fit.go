package boot

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// FIT: the flattened image tree of boot loaders, as in the Flattened Image
// Tree Specification 1.0. A device tree whose /images hold payloads, in the
// tree or behind it, with hashes, and whose /configurations say which of them
// start together, and on which boards.

func init() {
	register(&image.Format{Name: "fit",
		Doc:      image.Doc{Told: "device tree with /images; payloads in the tree or behind it; nodes that can be taken for one another are told", Sums: "each `hash` node: crc32, md5, sha1, sha256, sha384, sha512; signatures with the keys of the kit, and whether they cover what starts", Facts: "title, built; for each configuration arch, boards, component", From: "Flattened Image Tree Specification 1.0"},
		Suffixes: []string{".itb"}, Title: "flattened image tree (FIT)", Firmware: true, Deep: true, Rank: 10, Magics: []image.Magic{{At: 0, Bytes: fdtMagic}}, Sniff: sniffFIT, Read: readFIT, Members: image.PartMembers})
}

// sniffFIT tells a FIT from other trees by the children of its root: /images,
// or /configurations in front of them. Nodes of those names further down, as
// in a boot loader's own tree, make none.
func sniffFIT(head []byte) bool {
	if len(head) < fdtHeader {
		return false
	}
	u32 := func(at int64) int64 { return int64(binary.BigEndian.Uint32(head[at:])) }
	depth := 0
	for at := u32(8); at >= fdtHeader && at+4 <= int64(len(head)); {
		token := u32(at)
		at += 4
		switch token {
		case fdtNop:
		case fdtBeginNode:
			end := bytes.IndexByte(head[at:], 0)
			if end < 0 {
				return false
			}
			if name := string(head[at : at+int64(end)]); depth == 1 && (name == "images" || name == "configurations") {
				return true
			}
			depth++
			at = (at + int64(end) + 4) &^ 3
		case fdtEndNode:
			depth--
		case fdtProperty:
			if at+8 > int64(len(head)) {
				return false
			}
			at = (at + 8 + u32(at) + 3) &^ 3
		default:
			return false
		}
	}
	return false
}

// fitArch gives the architecture names of FIT where they leave something open.
var fitArch = map[string]string{"mips": "mips|mipsel", "mips64": "mips64|mips64el", "riscv": "riscv64|riscv32", "powerpc": "ppc"}

type fitImage struct {
	node *fdtNode
	path string
	arch *fact.Fact
	os   string
	kind string
	part *image.Part
}

func readFIT(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	t, err := readFDT(m, s, 0)
	if t != nil {
		m.Extent = t.size
	}
	if t == nil || t.root == nil || err != nil {
		return m, err
	}
	if text, p := t.text(t.root, "description"); text != "" {
		t.field(m, "", p, "the maker's title")
		m.Fact(fact.Title, text, p.at, p.size)
	}
	if n, p, ok := t.number(t.root, "timestamp"); ok {
		t.field(m, "", p, image.UnixTime(int64(n)))
		m.Fact(fact.Built, image.UnixTime(int64(n)), p.at, p.size)
	}
	images := t.root.child("images")
	if images == nil {
		m.Problem("it has no /images")
		return m, nil
	}
	ambiguous(m, images)
	ambiguous(m, t.root.child("configurations"))
	byName := map[string]*fitImage{}
	filled := 0
	for _, n := range images.children {
		fi := addFITImage(m, t, n)
		byName[n.name] = fi
		if fi.part != nil && fi.part.Size > 0 {
			filled++
		}
	}
	switch {
	case len(images.children) == 0:
		m.Problem("its /images are empty")
	case filled == 0:
		m.Problem("none of its images has a payload")
	}
	fitConfigs(m, t, byName)
	fitWitnesses(m, images, byName)
	return m, nil
}

// fitWitnesses tells which images are started, and so say what the whole is for: those that a configuration starts, or all
// of a kind that is started where there is none.
func fitWitnesses(m *image.Image, images *fdtNode, byName map[string]*fitImage) {
	for i := range m.Parts { // what no configuration starts is looked into, and witnesses nothing
		p := &m.Parts[i]
		p.Starts = len(m.Configs) == 0 && fitStartedTypes[byName[p.Name].kind]
		for _, c := range m.Configs {
			p.Starts = p.Starts || slices.Contains(c.Starts, p.Name) && fitStartedTypes[byName[p.Name].kind]
		}
	}
	if len(m.Configs) == 0 {
		for _, n := range images.children {
			if fi := byName[n.name]; fi.arch != nil {
				m.Facts = append(m.Facts, *fi.arch)
			}
		}
	}
}

// fitStartedTypes are the types of image that are started, or tell the started one its
// hardware; scripts and the like may be texts.
var fitStartedTypes = map[string]bool{"": true, "kernel": true, "kernel_noload": true, "standalone": true, "firmware": true, "flat_dt": true, "loadable": true, "tee": true}

// hashed tells whether an image has a hash.
func hashed(n *fdtNode) bool {
	return slices.ContainsFunc(n.children, func(c *fdtNode) bool {
		_, ok := c.prop("value")
		return ok && (c.name == "hash" || strings.HasPrefix(c.name, "hash-") || strings.HasPrefix(c.name, "hash@"))
	})
}

// ambiguous tells nodes that a boot loader may take for one another: two of
// one name, or one whose name goes on with "@" after that of another.
func ambiguous(m *image.Image, parent *fdtNode) {
	if parent == nil {
		return
	}
	names := map[string]bool{}
	for _, n := range parent.children {
		if names[n.name] {
			m.Problem("/%s has two nodes of the name %s; which of them is taken depends on who reads it", parent.name, n.name)
		}
		names[n.name] = true
	}
	for _, n := range parent.children {
		if base, _, at := strings.Cut(n.name, "@"); at && names[base] {
			m.Problem("/%s has the nodes %s and %s; which of them is taken depends on who reads it", parent.name, base, n.name)
		}
	}
}

// addFITImage reads one node below /images.
//
// In one piece: the fields follow each other as they lie in the header.
func addFITImage(m *image.Image, t *fdt, n *fdtNode) *fitImage {
	fi := &fitImage{node: n, path: "/images/" + n.name}
	for _, p := range n.props {
		switch p.name {
		case "description":
			t.field(m, fi.path, p, "")
		case "type":
			fi.kind = image.CString(t.value(p))
			t.field(m, fi.path, p, "")
		case "os":
			fi.os = image.CString(t.value(p))
			t.field(m, fi.path, p, "")
		case "arch":
			arch := image.CString(t.value(p))
			if other, ok := fitArch[arch]; ok {
				arch = other
			}
			t.field(m, fi.path, p, strings.ReplaceAll(arch, "|", " or ")+image.OpenNote(arch))
			if arch != "" {
				fi.arch = &fact.Fact{About: fact.Arch, Value: arch, Open: strings.Contains(arch, "|"), Source: fact.Source{Kind: fact.Header, Offset: p.at, Size: p.size}}
			}
		case "compression":
			t.field(m, fi.path, p, "")
		case "load", "entry":
			t.field(m, fi.path, p, "address")
		case "data":
			m.Field(fi.path+"/data", p.at, t.value(p)[:min(16, len(t.value(p)))], fmt.Sprintf("%d bytes", p.size), "payload, in the tree")
		case "data-offset", "data-position", "data-size":
			t.field(m, fi.path, p, "payload, behind the tree")
		}
	}
	at, size, ok := fitData(m, t, n, fi.path)
	if !ok {
		return fi
	}
	fi.part = m.Part(n.name, at, size)
	fi.part.Starts = true // where a configuration says so
	if !hashed(n) {
		m.LeaveOpen(at, at+size)
	}
	c, _ := t.text(n, "compression")
	if c != "none" {
		fi.part.Compression = c
	}
	title, _ := t.text(n, "description")
	fi.part.Said = image.Said{Title: title, Type: fi.kind, OS: fi.os, Compression: c, Load: t.address(n, "load"), Entry: t.address(n, "entry")}
	if fi.arch != nil && !fi.arch.Open {
		fi.part.Said.Arch = fi.arch.Value
	}
	if size == 0 {
		m.Note("its image %s has no payload", n.name)
	}
	m.Extent = max(m.Extent, at+size)
	for _, c := range n.children {
		if c.name == "hash" || strings.HasPrefix(c.name, "hash-") || strings.HasPrefix(c.name, "hash@") {
			fitHash(m, t, c, fi.path+"/"+c.name, at, size)
		}
		if isSignature(c.name) {
			if s, ok := fitSignature(m, t, c, fi.path+"/"+c.name); ok {
				s.Over = []digest.Stretch{{From: at, To: at + size}}
				m.Signatures = append(m.Signatures, s)
			}
		}
	}
	return fi
}

// address is a number of one or two cells; nil where there is none.
func (t *fdt) address(n *fdtNode, name string) *uint64 {
	if v, _, ok := t.number(n, name); ok {
		return &v
	}
	return nil
}

// fitData finds a payload: in the tree, or behind it by an offset from its
// end (rounded up to 4 bytes) or by a position in the file.
func fitData(m *image.Image, t *fdt, n *fdtNode, path string) (at, size int64, ok bool) {
	if p, ok := n.prop("data"); ok {
		return p.at, p.size, true
	}
	length, _, ok := t.number(n, "data-size")
	if !ok {
		m.Note("its image %s has no payload", n.name)
		return 0, 0, false
	}
	if pos, _, ok := t.number(n, "data-position"); ok {
		at = int64(pos)
	} else if off, _, ok := t.number(n, "data-offset"); ok {
		at = (t.size+3)&^3 + int64(off)
	} else {
		m.Problem("%s gives the size of its payload, and not where it is", path)
		return 0, 0, false
	}
	if length > 1<<40 || at < 0 || at > 1<<40 {
		m.Problem("%s puts its payload at 0x%x, %d bytes, which makes no sense", path, at, length)
		return 0, 0, false
	}
	return at, int64(length), true
}

func fitHash(m *image.Image, t *fdt, n *fdtNode, path string, at, size int64) {
	algo, _ := t.text(n, "algo")
	p, ok := n.prop("value")
	if !ok {
		m.Note("%s holds no value", path)
		return
	}
	want := t.value(p)
	t.field(m, path, p, algo+" over the payload")
	a := digest.Algorithm(algo)
	h := digest.New(a)
	if h == nil {
		m.Note("%s is a %q, which fitcheck does not know", path, algo)
		return
	}
	if len(want) != h.Size() {
		m.Problem("%s has %d bytes, and a %s has %d", path, len(want), algo, h.Size())
		return
	}
	m.Sum(strings.TrimPrefix(path, "/images/")+" "+algo, a, digest.Options{}, digest.Stretch{From: at, To: at + size}, digest.Stretch{}, hex.EncodeToString(want), p.at)
}

// fitConfigs reads /configurations: what each of them starts, and where.
func fitConfigs(m *image.Image, t *fdt, images map[string]*fitImage) {
	configs := t.root.child("configurations")
	standard, _ := t.text(configs, "default")
	if configs == nil {
		m.Note("it has no /configurations")
		return
	}
	for _, n := range configs.children {
		if len(m.Configs) >= image.MaxParts {
			break
		}
		m.Configs = append(m.Configs, fitConfig(m, t, n, n.name == standard, images))
		for _, c := range n.children {
			if !isSignature(c.name) {
				continue
			}
			s, ok := fitSignature(m, t, c, "/configurations/"+n.name+"/"+c.name)
			if !ok {
				continue
			}
			if s.Over, ok = t.configRegions(c); !ok {
				m.Problem("what the signature of %s is over cannot be found", n.name)
				continue
			}
			s.Config, s.Uncovered = n.name, t.uncovered(n, c, images)
			m.Signatures = append(m.Signatures, s)
		}
	}
	if standard != "" && configs.child(standard) == nil {
		m.Problem("its default configuration %s is not there", standard)
	}
}

// fitStarted are the properties of a configuration that name images.
var fitStarted = []string{"kernel", "firmware", "standalone", "loadables", "script", "fpga", "ramdisk", "fdt"}

// component is what an image is that is started under a key; "" where that does not tell.
func (fi *fitImage) component(key string) string {
	switch {
	case fi.os == "u-boot":
		return "boot"
	case key == "kernel":
		return "main"
	}
	return ""
}

// fitPrograms are those of them that name what is started.
var fitPrograms = map[string]bool{"kernel": true, "firmware": true, "standalone": true}

func fitConfig(m *image.Image, t *fdt, n *fdtNode, standard bool, images map[string]*fitImage) image.Config {
	c := image.Config{Name: n.name, Default: standard}
	where := "/configurations/" + n.name
	add := func(about fact.Name, text string, at, size int64, open bool) {
		c.Facts = append(c.Facts, fact.Fact{About: about, Value: text, Open: open, Source: fact.Source{Kind: fact.Header, Offset: at, Size: size}})
	}
	if p, ok := n.prop("description"); ok {
		t.field(m, where, p, "")
	}
	boards := t.list(n, "compatible")
	if p, ok := n.prop("compatible"); ok {
		t.field(m, where, p, "boards that it starts on, the most specific first")
	}
	seen := map[string]bool{}
	for _, key := range fitStarted {
		for i, ref := range t.list(n, key) {
			name := strings.TrimPrefix(path.Base(ref.text), "/")
			fi := images[name]
			if fi == nil {
				m.Problem("%s starts the image %s, which is not there", where, ref.text)
				continue
			}
			m.Field(where+"/"+key, ref.at, ref.raw, ref.text, "")
			c.Images = append(c.Images, name)
			// What is loaded beside the one that starts may be for another
			// processor of the board.
			starts := fitPrograms[key] || key == "loadables" && len(seen) == 0
			c.Program = c.Program || starts
			if starts || key == "fdt" && i == 0 {
				c.Starts = append(c.Starts, name)
			}
			if starts && fi.arch != nil && !seen[fi.arch.Value] {
				seen[fi.arch.Value] = true
				c.Facts = append(c.Facts, *fi.arch)
			}
			if component := fi.component(key); component != "" {
				add(fact.Component, component, ref.at, ref.size, false)
			}
			if key == "fdt" && len(boards) == 0 && fi.part != nil {
				boards = fitTreeBoards(t.s, fi)
			}
		}
	}
	for i, b := range boards {
		add(fact.Board, b.text, b.at, b.size, i > 0)
	}
	return c
}

// fitTreeBoards reads the compatible list of a device tree that a
// configuration uses, where it lies there plainly.
func fitTreeBoards(s *image.Source, fi *fitImage) []placed {
	magic, err := s.UpTo(fi.part.Offset, 4)
	if err != nil || string(magic) != fdtMagic {
		return nil
	}
	tree, err := readFDT(&image.Image{}, s, fi.part.Offset)
	if err != nil || tree.root == nil {
		return nil
	}
	return tree.list(tree.root, "compatible")
}
