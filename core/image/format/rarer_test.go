package format_test

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
)

// rarer are images that say what most do not: they are read, turned and bounded on the pages like the samples, and keep
// to no rule of their own.
func rarer() []sample {
	tree := board("quillmere,qm8t-a", "quillmere,soc")
	multi := be.AppendUint32(be.AppendUint32(be.AppendUint32(nil, 10), 9), 0)
	multi = append(append(append(multi, "kernel 123"...), 0, 0), "ram disk."...)
	var out []sample
	add := func(name string, data []byte) { out = append(out, sample{name: name, data: data}) }
	add("uimage of several", uimage(5, 2, 4, 0, "QM-8T 8.4.2", multi))
	add("uimage of a script", uimage(5, 2, 6, 0, "boot script", append(be.AppendUint32(be.AppendUint32(nil, 9), 0), "run start"...)))
	for _, flags := range []byte{0x1f, 0x02, 0x14} {
		add(fmt.Sprintf("gzip with flags %02x", flags), gzWith(flags))
	}
	add("lzma of a size that it gives", ofSize(packed("lzma", bytes.Repeat([]byte("tram"), 50)), 200))
	add("lz4, the old form", append(le.AppendUint32(le.AppendUint32(nil, 0x184c2102), 4), 0x30, 'a', 'b', 'c'))
	add("zstd, several frames", append(append(le.AppendUint32(packed("zstd", []byte("one")), 0x184d2a50), 4, 0, 0, 0, 1, 2, 3, 4), packed("zstd", bytes.Repeat([]byte("two"), 900))...))
	add("zimage, big-endian", zimageBig(gz("", []byte(linux))))
	add("arm64 EFI kernel", efiKernel("ARM\x64", 0xaa64))
	add("riscv EFI kernel", efiKernel("RSC\x05", 0x5064))
	add("bzimage, signed", signedKernel(0x20b, 24+112))
	add("bzimage of 32 bits, signed", signedKernel(0x10b, 24+96))
	add("pe 32, signed, with symbols", pe32())
	add("pe of an odd length", oddPE())
	add("pe that unpacks itself", selfUnpacking())
	add("overlay", fdtBlob(17, node{props: []prop{{"compatible", "a,b"}}, children: []node{{name: "fragment@0", props: []prop{{"target", uint32(1)}}, children: []node{{name: "__overlay__", props: []prop{{"status", "okay"}}}}},
		{name: "__symbols__", props: []prop{{"uart", "/soc/uart"}}}}}))
	add("fit at positions", fitAtPosition(tree))
	add("capsule, signed", signedCapsule())
	add("capsule of a display", capsuleOf("3b8c8162-188c-46a4-aec9-be43f1d65697"))
	add("capsule of drivers", driverCapsule())
	source := rpmPackage()
	source[7] = 1
	add("rpm of sources", source)
	add("fat 32", fat32())
	for _, order := range []binary.ByteOrder{le, be} {
		add(fmt.Sprintf("jffs2 with a summary, %v", order), summedJFFS2(order, 20))
		add(fmt.Sprintf("jffs2 with a summary of nothing, %v", order), summedJFFS2(order, 0))
	}
	add("jffs2 with a summary that is too short", summedJFFS2(le, -12))
	marker := make(blob, 20).le16(0, 0x1985).le16(2, 0x2003).le32(4, 20).text(12, "strayed!")
	le.PutUint32(marker[8:], jffs2CRC(marker[:8]))
	add("jffs2 with a marker that holds something", append(marker, jffs2(le)...))
	add("mbr with logical partitions", logicalDisk())
	add("ihex, other addresses", []byte(":020000021000EC\r\n:0400000001020304F2\r\n:0400000300003800C1\r\n:00000001FF\r\n"))
	add("srec, short addresses", []byte("S00600004844521B\nS107000001020304EE\nS5030001FB\nS9030000FC\n"))
	add("srec, middle addresses", []byte("S20801000001020304EC\nS804010000FA\n"))
	add("uf2 of no family, with gaps", append(append(uf2(2), uf2(2)[512:]...), make([]byte, 512)...))
	add("ar of a debian package", []byte("!<arch>\ndebian-binary   1790000000  0     0     100644  4         `\n2.0\n"))
	add("tar, old form", oldTar())
	add("dfu of a uimage", dfu(string(uimage(5, 2, 2, 0, "QM-8T 8.4.2", []byte("kernel")))))
	add("dfu of a gzip stream", dfu(string(gz("", []byte("content")))))
	add("dfu of a FIT", dfu(string(fit(false))))
	linked := elf(64, le, 183)
	linked[64] = 2 // PT_DYNAMIC
	add("elf, linked", linked)
	unsaved := ext4()
	copy(unsaved[1024+48:], make([]byte, 4))
	add("ext that was never written", resummedExt(unsaved))
	return out
}

// resummedExt gives the superblock of an ext4 its right checksum.
func resummedExt(b []byte) []byte {
	le.PutUint32(b[2044:], uint32(castagnoli(b[1024:2044])))
	return b
}

// signedKernel is a bzImage that is an EFI program as well, whose directories (the fifth tells of its signatures) begin some bytes
// behind the PE header.
func signedKernel(magic, dirs int) []byte {
	b := bzimage([]byte("a payload"))
	const pe = 0x40
	end := len(b)
	blob(b).text(0, "MZ").le32(0x3c, pe).text(pe, "PE\x00\x00").le16(pe+4, 0x8664).le16(pe+20, 112+8*5).le16(pe+24, magic).le32(pe+dirs+4*8, end+8).le32(pe+dirs+4*8+4, 24)
	b = le.AppendUint32(b[:end-4], ^crc32.ChecksumIEEE(b[:end-4]))
	return append(b, append(make([]byte, 8), bytes.Repeat([]byte{0x5a}, 24)...)...)
}

// summedJFFS2 ends in a clean marker and a summary of so many bytes (Linux kernel, fs/jffs2/summary.h).
func summedJFFS2(order binary.ByteOrder, n int) []byte {
	node := func(kind uint16, length int) []byte {
		b := make([]byte, length)
		order.PutUint16(b, 0x1985)
		order.PutUint16(b[2:], kind)
		order.PutUint32(b[4:], uint32(length))
		order.PutUint32(b[8:], jffs2CRC(b[:8]))
		return b
	}
	s := node(0x2006, 32+n)
	if n >= 0 {
		order.PutUint32(s[12:], 2)
		order.PutUint32(s[16:], 12)
		copy(s[32:], "entries of the summary")
		order.PutUint32(s[24:], jffs2CRC(s[32:]))
		order.PutUint32(s[28:], jffs2CRC(s[:24]))
	}
	return append(append(append([]byte{}, node(0x2003, 12)...), bytes.TrimRight(jffs2(order), "\xff")...), append(bytes.Repeat([]byte{0xff}, 2), s...)...)
}

// turnable are all that the pages speak of.
func turnable() []sample { return append(samples(), rarer()...) }

func gzWith(flags byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	if flags&8 != 0 {
		w.Name = "tram.img"
	}
	if flags&16 != 0 {
		w.Comment = "for the trams"
	}
	if flags&4 != 0 {
		w.Extra = []byte("AB\x02\x00xy")
	}
	w.Write([]byte("content"))
	w.Close()
	data := b.Bytes()
	if flags&2 == 0 {
		return data
	}
	at := 10
	if flags&4 != 0 {
		at += 8
	}
	if flags&8 != 0 {
		at += len("tram.img") + 1
	}
	if flags&16 != 0 {
		at += len("for the trams") + 1
	}
	data[3] |= 2
	return append(le.AppendUint16(bytes.Clone(data[:at]), uint16(^rawCRC(data[:at]))), data[at:]...)
}

// ofSize gives an LZMA stream the size that it did not tell.
func ofSize(data []byte, size int) []byte {
	out := blob(bytes.Clone(data))
	return out.le64(5, size)
}

func zimageBig(payload []byte) []byte {
	b := append(make(blob, 0x40), payload...)
	return b.be32(0x24, 0x016f2818).be32(0x28, 0x8000).be32(0x2c, 0x8000+len(b)).be32(0x30, 0x04030201)
}

// efiKernel is a flat kernel that is a PE program with a section and signatures, too.
func efiKernel(magic string, machine int) []byte {
	b := make(blob, 0x500).text(0, "MZ").le64(16, 0x600).text(56, magic).le32(0x3c, 0x80).text(0x80, "PE").le16(0x84, machine).le16(0x86, 2).le16(0x94, 0xf0).
		le16(0x98, 0x20b).le32(0x98+60, 0x200).le16(0x98+68, 10).text(0x188, ".text").le32(0x188+16, 0x100).le32(0x188+20, 0x200).text(0x1b0, ".data").le32(0x1b0+16, 0xf0).le32(0x1b0+20, 0x300)
	if magic != "ARM\x64" {
		b.text(48, "RISCV").le32(32, 2)
	}
	return b.text(0x220, "Linux version 6.1.7-tram (builder@brackwater) #1").le32(0x98+112+8*4, 0x400).le32(0x98+112+8*4+4, 0x100)
}

// pe32 is a program of 32 bits with a section, symbols and signatures.
func pe32() []byte {
	return make(blob, 0x400).text(0, "MZ").le32(0x3c, 0x40).text(0x40, "PE").le16(0x44, 0x14c).le16(0x46, 1).le32(0x48, 1790000000).le32(0x4c, 0x300).le32(0x50, 2).le16(0x54, 0xe0).
		le16(0x58, 0x10b).le32(0x58+60, 0x200).le16(0x58+68, 3).text(0x138, ".text").le32(0x138+16, 0x100).le32(0x138+20, 0x200).
		le32(0x300+2*18, 8).le32(0x58+96+8*4, 0x380).le32(0x58+96+8*4+4, 0x80)
}

// selfUnpacking is an EFI program that holds a packed kernel.
func selfUnpacking() []byte {
	payload := gz("", []byte(linux))
	b := append(make(blob, 0x400), payload...)
	return b.text(0, "MZ").text(4, "zimg").le32(8, 0x400).le32(12, len(payload)).text(24, "gzip").le32(0x3c, 0x40).text(0x40, "PE").le16(0x44, 0xaa64).le16(0x46, 1).le16(0x54, 0xf0).
		le16(0x58, 0x20b).le32(0x58+60, 0x200).le16(0x58+68, 10).text(0x148, ".text").le32(0x148+16, 0x200+len(payload)).le32(0x148+20, 0x200)
}

func fitAtPosition(tree []byte) []byte {
	data := []byte("kernel for arm64")
	root := func(at uint32) []byte {
		return fdtBlob(17, node{props: []prop{{"description", "VR-310 4.2.0"}, {"timestamp", uint32(1790000000)}, {"#address-cells", uint32(1)}}, children: []node{
			{name: "images", children: []node{
				{name: "kernel-1", props: []prop{{"type", "kernel"}, {"arch", "riscv"}, {"os", "linux"}, {"compression", "none"}, {"data-position", at}, {"data-size", uint32(len(data))}, {"load", uint32(0x8000)}, {"entry", uint32(0x8040)}}},
				{name: "fdt-1", props: []prop{{"type", "flat_dt"}, {"arch", "arm64"}, {"data", tree}}}}},
			{name: "configurations", props: []prop{{"default", "conf-1"}}, children: []node{{name: "conf-1", props: []prop{{"description", "QM-8T"}, {"kernel", "kernel-1"}, {"fdt", "fdt-1"}}}}}}})
	}
	at := (len(root(0)) + 63) &^ 63
	out := append(root(uint32(at)), make([]byte, at-len(root(0)))...)
	return append(out, data...)
}

// signedCapsule holds an item behind a signature, with bytes of the vendor behind the image.
func signedCapsule() []byte {
	image := append(make(blob, 16).text(0, "MSS1").le32(4, 16).le32(8, 0x00080402).le32(12, 0x00080000), "the firmware itself"...)
	auth := make(blob, 40).le64(0, 5).le32(8, 32).le16(12, 0x0200).le16(14, 0x0ef1)
	image = append(auth, image...)
	item := putGUID(make(blob, 48).le32(0, 3).u8(20, 1).le32(24, len(image)).le32(28, 6).le64(32, 7), 4, classGUID)
	fmp := make(blob, 16).le32(0, 1).le16(6, 1).le64(8, 16)
	body := append(append(append(fmp, item...), image...), "vendor"...)
	h := putGUID(make(blob, 28).le32(16, 28).le32(20, 0x10000).le32(24, 28+len(body)), 0, "6dcbd5ed-e82d-4c44-bda1-7194199ad92a")
	return append(h, body...)
}

// oddPE ends in the middle of the last word that its checksum adds.
func oddPE() []byte {
	b := blob(append(pe(0xaa64, 10), "odd"...))
	b.le32(0x98+64, 0)
	sum := uint32(0)
	for i, c := range b {
		sum += uint32(c) << (8 * (i % 2))
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return b.le32(0x98+64, int(sum)+len(b))
}

// driverCapsule has two drivers, and nothing else.
func driverCapsule() []byte {
	fmp := make(blob, 24).le32(0, 1).le16(4, 2).le64(8, 24).le64(16, 40)
	body := append(fmp, "the first driverthe second"...)
	h := putGUID(make(blob, 28).le32(16, 28).le32(20, 0x10000).le32(24, 28+len(body)), 0, "6dcbd5ed-e82d-4c44-bda1-7194199ad92a")
	return append(h, body...)
}

func capsuleOf(guid string) []byte {
	return append(putGUID(make(blob, 28).le32(16, 28).le32(20, 0x30000).le32(24, 28+12), 0, guid), "other things"...)
}

func fat32() []byte {
	b := make(blob, 700*512)
	b.u8(0, 0xeb).u8(2, 0x90).text(3, "tramtool").le16(11, 512).u8(13, 1).le16(14, 32).u8(16, 2).le32(32, 700).u8(21, 0xf8).le32(36, 6).le32(44, 2).u8(66, 0x29).le32(67, 0x12345678).
		text(71, "TRAM       ").text(82, "FAT32   ").le16(510, 0xaa55)
	return b.le32(32*512, 0x0ffffff8).le32(32*512+4, 0x0fffffff).le32(32*512+8, 0x0fffffff)
}

// logicalDisk has a partition, and an extended one with two others in it.
func logicalDisk() []byte {
	b := make(blob, 40*512).le16(510, 0xaa55)
	entry := func(record, i, kind, first, n int) {
		b[record*512+446+16*i:].u8(4, byte(kind)).le32(8, first).le32(12, n)
		b.le16(record*512+510, 0xaa55)
	}
	entry(0, 0, 0x83, 2, 4)
	entry(0, 1, 0x05, 8, 30)
	entry(8, 0, 0x83, 2, 3)
	entry(8, 1, 0x05, 10, 12)
	entry(18, 0, 0x82, 1, 6)
	return append(b[:2*512:2*512], append([]byte(strings.Repeat("partition one...", 4*32)), b[6*512:]...)...)
}

func oldTar() []byte {
	h := make(blob, 1536).text(0, "version").text(100, "0000644\x00").text(108, "0000000\x00").text(116, "0000000\x00").text(124, "00000000006\x00").text(136, "15273246304\x00").text(148, "        ").u8(156, '0')
	sum := 0
	for _, c := range h[:512] {
		sum += int(c)
	}
	return h.text(148, fmt.Sprintf("%06o\x00 ", sum)).text(512, "8.4.2\n")
}
