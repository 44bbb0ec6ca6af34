package format_test

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"strings"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"
)

// Encoders for the tests: each builds one format, small and sound.

var le, be = binary.LittleEndian, binary.BigEndian

// blob is a block of bytes that is filled in place.
type blob []byte

func (b blob) text(at int, t string) blob { copy(b[at:], t); return b }
func (b blob) u8(at int, v byte) blob     { b[at] = v; return b }
func (b blob) le16(at, v int) blob        { le.PutUint16(b[at:], uint16(v)); return b }
func (b blob) le32(at, v int) blob        { le.PutUint32(b[at:], uint32(v)); return b }
func (b blob) le64(at, v int) blob        { le.PutUint64(b[at:], uint64(v)); return b }
func (b blob) be16(at, v int) blob        { be.PutUint16(b[at:], uint16(v)); return b }
func (b blob) be32(at, v int) blob        { be.PutUint32(b[at:], uint32(v)); return b }
func (b blob) be64(at, v int) blob        { be.PutUint64(b[at:], uint64(v)); return b }

func unhex(t string) []byte {
	b, err := hex.DecodeString(strings.ReplaceAll(t, " ", ""))
	if err != nil {
		panic(err)
	}
	return b
}

// node is a node of a device tree.
type node struct {
	name     string
	props    []prop
	children []node
}

type prop struct {
	name  string
	value any // string, []string, uint32 or []byte
}

func fdtBlob(version int, root node) []byte {
	var st, names bytes.Buffer
	at := map[string]int{}
	cell := func(v int) { binary.Write(&st, be, uint32(v)) }
	pad := func() {
		for st.Len()%4 != 0 {
			st.WriteByte(0)
		}
	}
	var put func(n node)
	put = func(n node) {
		cell(1)
		st.WriteString(n.name + "\x00")
		pad()
		for _, p := range n.props {
			var v []byte
			switch x := p.value.(type) {
			case string:
				v = append([]byte(x), 0)
			case []string:
				for _, s := range x {
					v = append(append(v, s...), 0)
				}
			case uint32:
				v = be.AppendUint32(nil, x)
			case []byte:
				v = x
			}
			if _, ok := at[p.name]; !ok {
				at[p.name] = names.Len()
				names.WriteString(p.name + "\x00")
			}
			cell(3)
			cell(len(v))
			cell(at[p.name])
			st.Write(v)
			pad()
		}
		for _, c := range n.children {
			put(c)
		}
		cell(2)
	}
	put(root)
	cell(9)
	total := 56 + st.Len() + names.Len()
	h := make(blob, 56).text(0, "\xd0\x0d\xfe\xed").be32(4, total).be32(8, 56).be32(12, 56+st.Len()).be32(16, 40).be32(20, version).be32(24, 16).be32(32, names.Len())
	if version >= 17 {
		h.be32(36, st.Len())
	}
	return append(append(h, st.Bytes()...), names.Bytes()...)
}

func board(boards ...string) []byte {
	return fdtBlob(17, node{props: []prop{{"model", "Quillmere QM-8T"}, {"compatible", boards}}})
}

func fitHashes(data []byte) []node {
	var out []node
	for i, algo := range []string{"crc32", "md5", "sha1", "sha256", "sha384", "sha512"} {
		out = append(out, node{name: fmt.Sprintf("hash-%d", i+1), props: []prop{{"algo", algo}, {"value", sumOf(algo, data)}}})
	}
	return out
}

// fit holds two kernels and a tree; external puts the payloads behind the tree.
func fit(external bool) []byte {
	kernel, other, tree := []byte("kernel for arm64, not compressed"), []byte("kernel for arm"), board("velloway,vr310-v2", "velloway,soc")
	var behind []byte
	image := func(name, kind, arch string, data []byte) node {
		n := node{name: name, props: []prop{{"type", kind}, {"arch", arch}, {"os", "linux"}, {"compression", "none"}}, children: fitHashes(data)}
		if external {
			n.props = append(n.props, prop{"data-offset", uint32(len(behind))}, prop{"data-size", uint32(len(data))})
			behind = append(behind, data...)
		} else {
			n.props = append([]prop{{"data", data}}, n.props...)
		}
		return n
	}
	tree1 := fdtBlob(17, node{props: []prop{{"description", "VR-310 4.2.0"}, {"timestamp", uint32(1790000000)}}, children: []node{
		{name: "images", children: []node{image("kernel-1", "kernel", "arm64", kernel), image("kernel-2", "kernel", "arm", other), image("fdt-1", "flat_dt", "arm64", tree)}},
		{name: "configurations", props: []prop{{"default", "conf-1"}}, children: []node{
			{name: "conf-1", props: []prop{{"kernel", "kernel-1"}, {"fdt", "fdt-1"}}},
			{name: "conf-2", props: []prop{{"kernel", "kernel-2"}, {"compatible", "velloway,vr310-v1"}}},
		}}}})
	if !external {
		return tree1
	}
	for len(tree1)%4 != 0 {
		tree1 = append(tree1, 0)
	}
	return append(tree1, behind...)
}

func trx(version int, parts ...string) []byte {
	size := map[int]int{1: 28, 2: 32}[version]
	b := make(blob, size)
	b.text(0, "HDR0").le16(14, version)
	for i, p := range parts {
		b.le32(16+4*i, len(b))
		b = append(b, p...)
	}
	b.le32(4, len(b))
	return b.le32(8, int(rawCRC(b[12:])))
}

func zimage(payload, behind []byte) []byte {
	b := append(make(blob, 0x40), payload...)
	return append(b.le32(0x24, 0x016f2818).le32(0x28, 0x8000).le32(0x2c, 0x8000+len(b)).le32(0x30, 0x04030201), behind...)
}

func flatKernel(magic string, behind []byte) []byte {
	b := make(blob, 256).le64(16, 4096).text(56, magic)
	if magic != "ARM\x64" {
		b.text(48, "RISCV").le32(32, 2)
	}
	return append(b.text(100, "Linux version 6.1.7-tram (builder@brackwater) #1"), behind...)
}

func bzimage(payload []byte) []byte {
	for (len(payload)+4)%16 != 0 {
		payload = append(payload, 0)
	}
	setup := make(blob, 1024).u8(0x1f1, 1).le32(0x1f4, (len(payload)+4)/16).le16(0x1fe, 0xaa55).text(0x202, "HdrS").le16(0x206, 0x20f).le16(0x20e, 0x100).
		text(0x300, "6.1.7-tram (builder@brackwater) #1").le16(0x236, 1).le32(0x248, 0).le32(0x24c, len(payload))
	b := append(setup, payload...)
	return le.AppendUint32(b, ^crc32.ChecksumIEEE(b)) // the file's raw CRC becomes zero
}

func elf(bits int, order binary.ByteOrder, machine int) []byte {
	size, word, ph := 52, 4, 32
	if bits == 64 {
		size, word, ph = 64, 8, 56
	}
	b := make([]byte, size+ph+36)
	copy(b, "\x7fELF")
	b[4], b[5], b[6] = byte(word/4), 1, 1
	if order == be {
		b[5] = 2
	}
	put := func(at, n int, v uint64) {
		for i := range n {
			if order == be {
				b[at+i] = byte(v >> (8 * (n - 1 - i)))
			} else {
				b[at+i] = byte(v >> (8 * i))
			}
		}
	}
	put(16, 2, 2)
	put(18, 2, uint64(machine))
	put(20, 4, 1)
	put(24, word, 0x1000)
	put(24+word, word, uint64(size))
	at := 24 + 3*word + 4
	put(at, 2, uint64(size))
	put(at+2, 2, uint64(ph))
	put(at+4, 2, 1)
	put(size, 4, 4) // PT_NOTE
	put(size+word, word, uint64(size+ph))
	put(size+4*word, word, 36)
	note := size + ph
	put(note, 4, 4)
	put(note+4, 4, 20)
	put(note+8, 4, 3)
	copy(b[note+12:], "GNU\x00")
	for i := range 20 {
		b[note+16+i] = byte(i)
	}
	return b
}

func pe(machine, subsystem int) []byte {
	b := make(blob, 0x400).text(0, "MZ").le32(0x3c, 0x80).text(0x80, "PE").le16(0x84, machine).le16(0x86, 1).le16(0x94, 0xf0).
		le16(0x98, 0x20b).le32(0x98+16, 0x1000).le32(0x98+60, 0x200).le16(0x98+68, subsystem).text(0x188, ".text").le32(0x188+16, 0x200).le32(0x188+20, 0x200).text(0x200, "code")
	sum := uint32(0)
	for i := 0; i < len(b); i += 2 {
		sum += uint32(le.Uint16(b[i:]))
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return b.le32(0x98+64, int(sum)+len(b))
}

func putGUID(b blob, at int, id string) blob {
	raw := unhex(strings.ReplaceAll(id, "-", ""))
	le.PutUint32(b[at:], be.Uint32(raw))
	le.PutUint16(b[at+4:], be.Uint16(raw[4:]))
	le.PutUint16(b[at+6:], be.Uint16(raw[6:]))
	copy(b[at+8:at+16], raw[8:])
	return b
}

const classGUID = "0a1b2c3d-4e5f-6071-8293-a4b5c6d7e8f9"

func capsule() []byte {
	image := append(make(blob, 16).text(0, "MSS1").le32(4, 16).le32(8, 0x00080402).le32(12, 0x00080000), "the firmware itself"...)
	item := putGUID(make(blob, 48).le32(0, 3).u8(20, 1).le32(24, len(image)).le64(32, 7), 4, classGUID)
	fmp := make(blob, 16).le32(0, 1).le16(6, 1).le64(8, 16)
	body := append(append(fmp, item...), image...)
	h := putGUID(make(blob, 28).le32(16, 28).le32(20, 0x10000).le32(24, 28+len(body)), 0, "6dcbd5ed-e82d-4c44-bda1-7194199ad92a")
	return append(h, body...)
}

func pldm(revision int) []byte {
	id := map[int]string{}
	for k, v := range pldmRevisions {
		id[v] = k
	}
	b := append(blob(unhex(strings.ReplaceAll(id[revision], "-", ""))), byte(revision), 0, 0)
	b = append(b, 0, 0, 0, 0, 0, 0, 15, 4, 30, 9, 0xea, 0x07, 0) // 2026-09-30 04:15
	b = append(b, 8, 0, 1, 5)
	b = append(b, "8.4.2"...)
	rec := blob{0, 0, 2, 0, 0, 0, 0, 1, 3, 0, 0}
	if revision >= 4 {
		rec = append(rec, 0, 0, 0, 0)
	}
	rec = append(rec, 1)
	rec = append(rec, "8.4"...)
	rec = append(rec, unhex("0000 0200 f41a 0001 0200 0010")...)
	rec.le16(0, len(rec))
	b = append(append(b, 1), rec...)
	if revision >= 2 {
		b = append(b, 0)
	}
	b = append(b, 1, 0)
	comp := len(b)
	b = append(b, unhex("0a00 0100 ffffffff 0000 0000 00000000 0d000000 01 05")...)
	b = append(b, "8.4.2"...)
	if revision >= 3 {
		b = append(b, 0, 0, 0, 0)
	}
	payload := "firmware here"
	size := len(b) + 4
	if revision >= 4 {
		size += 4
	}
	b.le16(17, size).le32(comp+12, size)
	b = le.AppendUint32(b, crc32.ChecksumIEEE(b))
	if revision >= 4 {
		b = le.AppendUint32(b, crc32.ChecksumIEEE([]byte(payload)))
	}
	return append(b, payload...)
}

func dfu(firmware string) []byte {
	b := append(blob(firmware), unhex("0200 b170 0912 0001 554644 10")...)
	return le.AppendUint32(b, rawCRC(b))
}

func ihex(data string) []byte {
	var b strings.Builder
	rec := func(kind byte, at int, d []byte) {
		r := append([]byte{byte(len(d)), byte(at >> 8), byte(at), kind}, d...)
		fmt.Fprintf(&b, ":%X%02X\r\n", r, -add8(r)&0xff)
	}
	rec(4, 0, []byte{0x08, 0x00})
	for i := 0; i < len(data); i += 16 {
		rec(0, i, []byte(data[i:min(len(data), i+16)]))
	}
	rec(5, 0, []byte{8, 0, 1, 0})
	rec(1, 0, nil)
	return []byte(b.String())
}

func srec(data string) []byte {
	var b strings.Builder
	rec := func(kind byte, at []byte, d []byte) {
		r := append(append([]byte{byte(len(at) + len(d) + 1)}, at...), d...)
		fmt.Fprintf(&b, "S%c%X%02X\n", kind, r, ^add8(r))
	}
	rec('0', []byte{0, 0}, []byte("QM-8T boot"))
	n := 0
	for i := 0; i < len(data); i += 16 {
		rec('3', be.AppendUint32(nil, uint32(0x8000000+i)), []byte(data[i:min(len(data), i+16)]))
		n++
	}
	rec('5', be.AppendUint16(nil, uint16(n)), nil)
	rec('7', []byte{8, 0, 1, 0}, nil)
	return []byte(b.String())
}

func uf2(blocks int) []byte {
	var out []byte
	for i := range blocks {
		out = append(out, make(blob, 512).le32(0, 0x0a324655).le32(4, 0x9e5d5157).le32(8, 0x2000).le32(12, 0x10000000+256*i).le32(16, 256).le32(20, i).le32(24, blocks).le32(28, 0xe48bff56).le32(508, 0x0ab16f30)...)
	}
	return out
}

func squash4() []byte {
	b := make(blob, 4096).text(0, "hsqs").le32(4, 3).le32(8, 1790000000).le32(12, 131072).le16(20, 4).le16(22, 17).le16(26, 1).le16(28, 4).le64(40, 300)
	for i := range 6 {
		b.le64(48+8*i, 200)
	}
	return b
}

func squash3() []byte {
	return make(blob, 4096).text(0, "sqsh").be32(4, 3).be16(28, 3).be16(30, 1).be16(34, 16).be32(39, 1790000000).be32(51, 65536).be64(63, 300)
}

func cramfs(order binary.ByteOrder) []byte {
	b := make(blob, 4096)
	for at, v := range map[int]uint32{0: 0x28cd3d45, 4: 4096, 8: 3, 40: 1, 44: 1} {
		order.PutUint32(b[at:], v)
	}
	b.text(16, "Compressed ROMFS").text(48, "tram")
	order.PutUint32(b[32:], crc32.ChecksumIEEE(b))
	return b
}

func romfs() []byte {
	b := make(blob, 1024).text(0, "-rom1fs-").be32(8, 1024).text(16, "tram")
	sum := uint32(0)
	for i := 0; i < 512; i += 4 {
		sum += be.Uint32(b[i:])
	}
	return b.be32(12, int(-sum))
}

func jffs2(order binary.ByteOrder) []byte {
	var out []byte
	add := func(kind uint16, body []byte, sums func(n []byte)) {
		n := append(make([]byte, 12), body...)
		order.PutUint16(n, 0x1985)
		order.PutUint16(n[2:], kind)
		order.PutUint32(n[4:], uint32(len(n)))
		order.PutUint32(n[8:], jffs2CRC(n[:8]))
		sums(n)
		out = append(out, n...)
		for len(out)%4 != 0 {
			out = append(out, 0xff)
		}
	}
	dirent := make(blob, 28+4).u8(16, 4).text(28, "boot")
	add(0xe001, dirent, func(n []byte) {
		order.PutUint32(n[32:], jffs2CRC(n[:32]))
		order.PutUint32(n[36:], jffs2CRC(n[40:44]))
	})
	add(0xe002, append(make(blob, 56), "data of a file"...), func(n []byte) {
		order.PutUint32(n[48:], 14)
		order.PutUint32(n[60:], jffs2CRC(n[68:82]))
		order.PutUint32(n[64:], jffs2CRC(n[:60]))
	})
	return append(out, bytes.Repeat([]byte{0xff}, 256)...)
}

const testPEB = 4096

// ubi has a volume table and two blocks of one volume.
func ubi() []byte {
	var out []byte
	block := func(vol, lnum, size int, data []byte) {
		b := blob(bytes.Repeat([]byte{0xff}, testPEB))
		ec := make(blob, 64).text(0, "UBI#").u8(4, 1).be64(8, 3).be32(16, 64).be32(20, 128).be32(24, 77)
		copy(b, ec.be32(60, int(rawCRC(ec[:60]))))
		if data != nil {
			vid := make(blob, 64).text(0, "UBI!").u8(4, 1).u8(5, 1).be32(8, vol).be32(12, lnum)
			if size > 0 {
				vid.u8(5, 2).be32(20, size).be32(32, int(rawCRC(data)))
			}
			copy(b[64:], vid.be32(60, int(rawCRC(vid[:60]))))
			copy(b[128:], data)
		}
		out = append(out, b...)
	}
	rec := make(blob, 172).be32(0, 2).u8(12, 1).be16(14, 6).text(16, "rootfs")
	table := append(rec.be32(168, int(rawCRC(rec[:168]))), make([]byte, 172*3)...)
	for i := 1; i < 4; i++ {
		r := blob(table[172*i:])
		r.be32(168, int(rawCRC(r[:168])))
	}
	for i := 4; (i+1)*172 <= testPEB-128; i++ {
		r := make(blob, 172)
		table = append(table, r.be32(168, int(rawCRC(r[:168])))...)
	}
	block(0x7fffefff, 0, 0, table)
	block(0, 0, 11, []byte("first block"))
	block(0, 1, 0, []byte("second block"))
	block(0, 0, 0, nil)
	return out
}

func ubifs() []byte {
	const size = 4096
	b := make(blob, 2*size)
	n := b[:4096].le32(0, 0x06101831).le32(16, 4096).u8(20, 6).le32(36, size).le32(40, 2).le32(80, 4).le16(84, 1)
	n.le32(4, int(rawCRC(n[8:4096])))
	mst := b[size:].le32(0, 0x06101831).le32(16, 512).u8(20, 7)
	mst.le32(4, int(rawCRC(mst[8:512])))
	return b
}

func castagnoli(b []byte) int {
	return int(^crc32.Checksum(b, crc32.MakeTable(crc32.Castagnoli)))
}

func ext4() []byte {
	b := make(blob, 64<<10)
	s := b[1024:2048].le32(0, 16).le32(4, 64).le32(48, 1790000000).le16(56, 0xef53).le16(58, 1).le32(76, 1).le32(92, 4).le32(96, 0x40).le32(100, 0x400).text(120, "tram")
	s.le32(1020, castagnoli(s[:1020]))
	return b
}

func erofs() []byte {
	b := make(blob, 16<<10)
	b[1024:].le32(0, -0x1f0a1e1e).le32(8, 1).u8(12, 12).le64(16, 5).le64(24, 1790000000).le32(36, 4).text(64, "tram")
	return b[:].le32(1028, castagnoli(b[1024:4096]))
}

func fat16() []byte {
	return make(blob, 5000*512).u8(0, 0xeb).u8(2, 0x90).text(3, "tramtool").le16(11, 512).u8(13, 1).le16(14, 1).u8(16, 2).le16(17, 512).le16(19, 5000).u8(21, 0xf8).le16(22, 20).
		text(43, "TRAM       ").le16(510, 0xaa55)
}

func iso() []byte {
	b := make(blob, 0x8000+2*2048)
	b[0x8000:].u8(0, 1).text(1, "CD001").text(40, "TRAM                            ").le32(80, 18).be32(84, 18).le16(128, 2048).be16(130, 2048).text(813, "2026093004150000")
	return b
}

func mbr() []byte {
	b := make(blob, 64<<10)
	b[446:].u8(0, 0x80).u8(4, 0x83).le32(8, 8).le32(12, 32)
	return append(b.le16(510, 0xaa55)[:8*512], squash4()...)[:20<<10]
}

func gpt() []byte {
	const blocks = 128
	b := make(blob, blocks*512)
	b[446:].u8(4, 0xee).le32(8, 1).le32(12, blocks-1)
	b.le16(510, 0xaa55)
	entries := make(blob, 4*128)
	putGUID(entries, 0, classGUID).le64(32, 8).le64(40, 15)
	for i, c := range "root" {
		entries.le16(56+2*i, int(c))
	}
	copy(b[2*512:], entries)
	copy(b[(blocks-2)*512:], entries)
	copy(b[8*512:], squash4())
	head := func(at, other, table int) {
		h := b[at*512:].text(0, "EFI PART").le32(8, 0x10000).le32(12, 92).le64(24, at).le64(32, other).le64(40, 6).le64(48, blocks-4).le64(72, table).le32(80, 4).le32(84, 128).le32(88, int(crc32.ChecksumIEEE(entries)))
		h.le32(16, int(crc32.ChecksumIEEE(h[:92])))
	}
	head(1, blocks-1, 2)
	head(blocks-1, 1, blocks-2)
	return b
}

func gz(name string, data []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Name = name
	w.Write(data)
	w.Close()
	return b.Bytes()
}

// gzWithCRC has a checksum over its header, which the writer does not make.
func gzWithCRC(data []byte) []byte {
	b := gz("", data)
	h := append(blob{}, b[:10]...).u8(3, 2)
	return append(le.AppendUint16(h, uint16(crc32.ChecksumIEEE(h))), b[10:]...)
}

func packed(method string, data []byte) []byte {
	var b bytes.Buffer
	switch method {
	case "gzip":
		return gz("", data)
	case "bzip2": // of "tram line eight" and two line ends
		return unhex("425a6839314159265359cecec11400000851800010400022e714002000310340d02134c26daa1c9d0b5b64aa41f177245385090cecec1140")
	case "xz":
		w, _ := xz.NewWriter(&b)
		w.Write(data)
		w.Close()
	case "lzma":
		w, _ := lzma.NewWriter(&b)
		w.Write(data)
		w.Close()
	case "lz4":
		w := lz4.NewWriter(&b)
		w.Write(data)
		w.Close()
	case "zstd":
		w, _ := zstd.NewWriter(&b)
		w.Write(data)
		w.Close()
	}
	return b.Bytes()
}

func cpioOf(files map[string]string) []byte {
	var b bytes.Buffer
	put := func(name, data string) {
		fmt.Fprintf(&b, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%s\x00", 1, 0o100644, 0, 0, 1, 1790000000, len(data), 0, 0, 0, 0, len(name)+1, 0, name)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
		b.WriteString(data)
		for b.Len()%4 != 0 {
			b.WriteByte(0)
		}
	}
	for n, d := range files {
		put(n, d)
	}
	put("TRAILER!!!", "")
	return b.Bytes()
}

func sevenZip() []byte {
	b := make(blob, 32).text(0, "7z\xbc\xaf\x27\x1c").u8(7, 4).le64(12, 5).le64(20, 3)
	tail := []byte("hellohdr")
	b.le32(28, int(crc32.ChecksumIEEE(tail[5:])))
	return append(b.le32(8, int(crc32.ChecksumIEEE(b[12:32]))), tail...)
}

// rawCRC is a CRC-32 without its final inversion; jffs2CRC begins with zero besides.
func rawCRC(b []byte) uint32 { return ^crc32.ChecksumIEEE(b) }

func jffs2CRC(b []byte) uint32 { return ^crc32.Update(^uint32(0), crc32.IEEETable, b) }

// add8 adds bytes, as hex records do.
func add8(b []byte) (sum byte) {
	for _, c := range b {
		sum += c
	}
	return sum
}

// pldmRevisions are those of the header, by the identifier of DSP0267, section 7.2.
var pldmRevisions = map[string]int{
	"f018878c-cb7d-4943-9800-a02f059aca02": 1,
	"1244d264-8d7d-4718-a030-fc8a56587d5a": 2,
	"3119ce2f-e80a-4a99-af6d-46f8b121f6bf": 3,
	"7b291c99-6db6-4208-801b-02026e463c78": 4,
}
