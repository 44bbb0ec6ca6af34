package boot

import (
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Device tree blobs (Devicetree Specification 0.4, chapter 5): the root's
// model is a title, its compatible names the board, the most specific first.

func init() {
	register(&image.Format{Name: "dtb",
		Doc:      image.Doc{Told: "magic 0xd00dfeed, version 16 and 17", Sums: "structure", Facts: "title (`model`), boards (`compatible`); an overlay is noted", From: "Devicetree Specification 0.4, chapter 5"},
		Suffixes: []string{".dtb", ".dtbo"}, Title: "flattened device tree", Firmware: true, Deep: true, Magics: []image.Magic{{At: 0, Bytes: fdtMagic}}, Read: readDTB})
}

func readDTB(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	t, err := readFDT(m, s, 0)
	if t != nil {
		m.Extent = t.size
	}
	if t == nil || t.root == nil {
		return m, err
	}
	treeFacts(m, t)
	m.Fact(fact.Type, "flat_dt", 0, 4)
	for _, c := range t.root.children {
		if strings.HasPrefix(c.name, "fragment") && c.child("__overlay__") != nil {
			m.Note("it is an overlay: it changes a tree, and is none by itself")
			break
		}
	}
	return m, err
}

// treeFacts takes model, boards and serial number from a tree's root.
func treeFacts(m *image.Image, t *fdt) {
	if p, ok := t.root.prop("model"); ok {
		t.field(m, "", p, "the board's name, in words")
		m.Fact(fact.Title, image.CString(t.value(p)), p.at, p.size)
	}
	if p, ok := t.root.prop("compatible"); ok {
		t.field(m, "", p, "boards and chips it is for, the most specific first")
	}
	boardFacts(m, t.list(t.root, "compatible"))
	if p, ok := t.root.prop("serial-number"); ok {
		t.field(m, "", p, "serial number")
	}
}

// boardFacts takes a compatible list for boards. Only its first entry names a
// board; the others are kin that it can stand in for, such as its processor,
// and may be shared with boards that it does not fit.
func boardFacts(m *image.Image, list []placed) {
	for i, b := range list {
		f := m.Fact(fact.Board, b.text, b.at, b.size)
		f.Open = i > 0
	}
}
