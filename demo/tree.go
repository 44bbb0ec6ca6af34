package demo

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"hash/crc32"
)

// Node is a node of a device tree that is to be written.
type Node struct {
	Name     string
	Props    []Prop
	Children []Node
}

// Prop is a property; its value is a string, []string, uint32 or []byte.
type Prop struct {
	Name  string
	Value any
}

// Tree writes a flattened device tree of version 16 or 17 (Devicetree
// Specification 0.4, chapter 5).
func Tree(version int, root Node) []byte {
	w := &treeWriter{at: map[string]uint32{}}
	w.node(root)
	w.cell(9)
	const header, reserved = 40, 16
	structure := header + reserved
	names := structure + w.structure.Len()
	var out bytes.Buffer
	cells := []uint32{0xd00dfeed, uint32(names + w.names.Len()), uint32(structure), uint32(names), header, uint32(version), 16, 0, uint32(w.names.Len()), 0}
	if version >= 17 {
		cells[9] = uint32(w.structure.Len())
	}
	must(binary.Write(&out, binary.BigEndian, cells))
	out.Write(make([]byte, reserved))
	out.Write(w.structure.Bytes())
	out.Write(w.names.Bytes())
	return out.Bytes()
}

type treeWriter struct {
	structure, names bytes.Buffer
	at               map[string]uint32 // name of a property to its place in names
}

func (w *treeWriter) cell(v uint32) { must(binary.Write(&w.structure, binary.BigEndian, v)) }

func (w *treeWriter) pad() {
	for w.structure.Len()%4 != 0 {
		w.structure.WriteByte(0)
	}
}

func (w *treeWriter) node(n Node) {
	w.cell(1)
	w.structure.WriteString(n.Name + "\x00")
	w.pad()
	for _, p := range n.Props {
		w.prop(p)
	}
	for _, c := range n.Children {
		w.node(c)
	}
	w.cell(2)
}

func (w *treeWriter) prop(p Prop) {
	var v []byte
	switch x := p.Value.(type) {
	case string:
		v = append([]byte(x), 0)
	case []string:
		for _, s := range x {
			v = append(append(v, s...), 0)
		}
	case uint32:
		v = binary.BigEndian.AppendUint32(nil, x)
	case []byte:
		v = x
	}
	if _, ok := w.at[p.Name]; !ok {
		w.at[p.Name] = uint32(w.names.Len())
		w.names.WriteString(p.Name + "\x00")
	}
	w.cell(3)
	w.cell(uint32(len(v)))
	w.cell(w.at[p.Name])
	w.structure.Write(v)
	w.pad()
}

// radioImage is the FIT image of the tunnel radios: one kernel for each of two
// board revisions, and a tree for each.
func radioImage(release string) []byte {
	hashes := func(data []byte) []Node {
		sum := sha256.Sum256(data)
		return []Node{
			{Name: "hash-1", Props: []Prop{{"algo", "crc32"}, {"value", binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(data))}}},
			{Name: "hash-2", Props: []Prop{{"algo", "sha256"}, {"value", sum[:]}}},
		}
	}
	image := func(name, kind, arch, compression string, data []byte) Node {
		return Node{Name: name, Props: []Prop{{"description", name}, {"data", data}, {"type", kind}, {"arch", arch}, {"os", "linux"}, {"compression", compression}}, Children: hashes(data)}
	}
	tree := func(board string) []byte {
		return Tree(17, Node{Props: []Prop{{"model", "Velloway VR-310"}, {"compatible", []string{board, "velloway,vr3"}}}})
	}
	kernel := func(arch string) []byte {
		k := payload("radio"+release+arch, 300<<10)
		copy(k[4096:], "Linux version 6.1.90-velloway (builder@brackwater) #1 SMP\x00")
		return gzipped(k)
	}
	return Tree(17, Node{Props: []Prop{{"description", "Velloway VR-310 " + release}, {"timestamp", uint32(made.Unix())}}, Children: []Node{
		{Name: "images", Children: []Node{
			image("kernel-arm", "kernel", "arm", "gzip", kernel("arm")), image("kernel-arm64", "kernel", "arm64", "gzip", kernel("arm64")),
			image("fdt-v1", "flat_dt", "arm", "none", tree("velloway,vr310-v1")), image("fdt-v2", "flat_dt", "arm64", "none", tree("velloway,vr310-v2")),
		}},
		{Name: "configurations", Props: []Prop{{"default", "v1"}}, Children: []Node{
			{Name: "v1", Props: []Prop{{"description", "VR-310 v1"}, {"kernel", "kernel-arm"}, {"fdt", "fdt-v1"}, {"compatible", "velloway,vr310-v1"}}},
			{Name: "v2", Props: []Prop{{"description", "VR-310 v2"}, {"kernel", "kernel-arm64"}, {"fdt", "fdt-v2"}, {"compatible", "velloway,vr310-v2"}}},
		}},
	}})
}
