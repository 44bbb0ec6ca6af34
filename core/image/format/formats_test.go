package format_test

import (
	"archive/tar"
	"bytes"
	_ "embed"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
)

func sumOf(algo string, data []byte) []byte {
	h := digest.New(digest.Algorithm(algo))
	h.Write(data)
	return h.Sum(nil)
}

// patch breaks one field: what belongs there is replaced.
type patch struct {
	what  string
	at    int
	bytes string
	says  string // in what is wrong then
}

// sample is one sound file of a format, what its header says, and how it can
// be broken.
type sample struct {
	name  string
	kind  string
	data  []byte
	facts map[fact.Name]string // all values, joined by ", "
	sums  int
	parts []string // "name kind" of each
	// open: the format does not say how long it is, so that a cut cannot show.
	open bool
	// whole are lengths that are whole files, too.
	whole []int
	// loose: its checksums may fail without that being damage, or cover less than their stretch.
	loose   bool
	patches []patch
}

const linux = "Linux version 6.1.7-tram (builder@brackwater) #1 SMP\x00"

func tarred(files map[string]string) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for n, d := range files {
		w.WriteHeader(&tar.Header{Name: n, Mode: 0o644, Size: int64(len(d))})
		w.Write([]byte(d))
	}
	w.Close()
	return b.Bytes()
}

// further are samples that stand in the test file of their format.
var further []sample

func samples() []sample { return append(builtinSamples(), further...) }

func builtinSamples() []sample {
	osRelease := map[string]string{"etc/os-release": "NAME=Tramline\nVERSION_ID=\"8.4.2\"\n"}
	tree := board("quillmere,qm8t-a", "quillmere,soc")
	big := strings.Repeat("\xff\xff\xff\xff", 4)
	return []sample{
		{name: "uimage", kind: "uimage", data: uimage(5, 2, 2, 1, "QM-8T 8.4.2", gz("", []byte(linux))), sums: 2, parts: []string{"payload unknown"},
			facts:   map[fact.Name]string{fact.Arch: "arm", fact.Title: "QM-8T 8.4.2", fact.Component: "main"},
			patches: []patch{{"size", 12, "\x7f\xff\xff\xff", "truncated"}, {"no payload", 12, "\x00\x00\x00\x00", "no bytes"}}},
		{name: "uimage of a loader", kind: "uimage", data: uimage(17, 22, 5, 0, "boot 3.2.0", []byte("code")), sums: 2, parts: []string{"payload text"}, facts: map[fact.Name]string{fact.Arch: "arm64", fact.Component: "boot", fact.OS: "u-boot"}},
		{name: "dtb 17", kind: "dtb", data: tree, facts: map[fact.Name]string{fact.Title: "Quillmere QM-8T", fact.Board: "quillmere,qm8t-a, quillmere,soc"},
			patches: []patch{{"total size", 4, "\x00\x01\x00\x00", "truncated"}, {"structure", 8, "\x00\x0f\x00\x00", "reach past its end"}, {"strings", 12, "\x00\x0f\x00\x00", "reach past its end"},
				{"version", 20, "\x00\x00\x00\x0f", "version 15"}, {"token", 56, "\x00\x00\x00\x07", "unknown token 7"}, {"property length", 68, "\x00\x0f\x00\x00", "reaches past the end"}}},
		{name: "dtb with images further down", kind: "dtb", data: fdtBlob(17, node{props: []prop{{"compatible", "a,b"}}, children: []node{{name: "binman", children: []node{{name: "images"}, {name: "configurations"}}}}}), facts: map[fact.Name]string{fact.Board: "a,b"}},
		{name: "dtb 16", kind: "dtb", data: fdtBlob(16, node{props: []prop{{"compatible", []string{"a,b"}}}}), facts: map[fact.Name]string{fact.Board: "a,b"}},
		{name: "fit", kind: "fit", data: fit(false), sums: 18, parts: []string{"kernel-1 text", "kernel-2 text", "fdt-1 dtb"}, facts: map[fact.Name]string{fact.Title: "VR-310 4.2.0"},
			patches: []patch{{"total size", 4, "\x00\x01\x00\x00", "truncated"}}},
		{name: "fit, payloads behind", kind: "fit", data: fit(true), sums: 18, parts: []string{"kernel-1 text", "kernel-2 text", "fdt-1 dtb"}, facts: map[fact.Name]string{fact.Title: "VR-310 4.2.0"}},
		{name: "trx 1", kind: "trx", data: trx(1, string(packed("lzma", []byte(linux))), string(squash4())), sums: 1, parts: []string{"partition 0 unknown", "partition 1 squashfs"},
			patches: []patch{{"length", 4, "\xff\xff\xff\x7f", "truncated"}, {"short length", 4, "\x08\x00\x00\x00", "itself 28 bytes"}, {"offset", 16, "\xff\xff\xff\x7f", "outside"}, {"order", 20, "\x1c\x00\x00\x00", "begins at"}}},
		{name: "trx 2", kind: "trx", data: trx(2, "one", "two", "three", "four"), sums: 1, parts: []string{"partition 0 text", "partition 1 text", "partition 2 text", "partition 3 text"}},
		{name: "zimage", kind: "zimage", data: zimage(gz("", []byte(linux)), nil), parts: []string{"kernel unknown"}, facts: map[fact.Name]string{fact.Arch: "arm", fact.OS: "linux"},
			patches: []patch{{"end", 0x2c, "\xff\xff\xff\x7f", "truncated"}, {"end before start", 0x2c, "\x00\x00\x00\x00", "before it starts"}}},
		{name: "zimage with a tree", kind: "zimage", whole: []int{141, 142, 143, 144, 145, 146, 147, 148}, data: zimage(gz("", []byte(linux)), tree), parts: []string{"kernel unknown", "dtb dtb"}, facts: map[fact.Name]string{fact.Board: "quillmere,qm8t-a, quillmere,soc"}},
		{name: "arm64 image", kind: "arm64-image", data: flatKernel("ARM\x64", nil), open: true, facts: map[fact.Name]string{fact.Arch: "arm64", image.Linux: "6.1.7-tram"}},
		{name: "arm64 image with a tree", kind: "arm64-image", data: flatKernel("ARM\x64", tree), open: true, parts: []string{"dtb dtb"}, facts: map[fact.Name]string{fact.Board: "quillmere,qm8t-a, quillmere,soc"}},
		{name: "riscv image", kind: "riscv-image", data: flatKernel("RSC\x05", nil), open: true, facts: map[fact.Name]string{fact.OS: "linux", image.Linux: "6.1.7-tram"}},
		{name: "bzimage", kind: "bzimage", loose: true, data: bzimage(packed("xz", []byte(linux))), sums: 1, parts: []string{"kernel unknown"}, open: true, facts: map[fact.Name]string{fact.Arch: "x86_64", image.Linux: "6.1.7-tram"},
			patches: []patch{{"size", 0x1f4, "\xff\xff\x00\x00", "truncated"}, {"payload", 0x24c, "\xff\xff\xff\x00", "reaches past its end"}}},
		{name: "elf 32 little", kind: "elf", data: elf(32, le, 40), facts: map[fact.Name]string{fact.Arch: "arm", image.BuildID: "000102030405060708090a0b0c0d0e0f10111213"}, patches: []patch{{"class", 4, "\x09", "class"}, {"segment", 52 + 16, "\xff\xff\xff\x7f", "truncated"}}},
		{name: "elf 32 big", kind: "elf", data: elf(32, be, 8), facts: map[fact.Name]string{fact.Arch: "mips", image.BuildID: "000102030405060708090a0b0c0d0e0f10111213"}},
		{name: "elf 64 little", kind: "elf", data: elf(64, le, 183), facts: map[fact.Name]string{fact.Arch: "arm64", image.BuildID: "000102030405060708090a0b0c0d0e0f10111213"}, patches: []patch{{"program headers", 32, "\xff\xff\xff\xff", "past its end"}, {"entry size", 54, "\x01\x00", "makes no sense"}}},
		{name: "elf 64 big", kind: "elf", data: elf(64, be, 21), facts: map[fact.Name]string{fact.Arch: "ppc64", image.BuildID: "000102030405060708090a0b0c0d0e0f10111213"}},
		{name: "elf mips64", kind: "elf", data: elf(64, le, 8), facts: map[fact.Name]string{fact.Arch: "mips64el"}},
		{name: "pe", kind: "pe", data: pe(0xaa64, 10), sums: 1, facts: map[fact.Name]string{fact.Arch: "arm64", fact.Type: "EFI application"},
			patches: []patch{{"section", 0x188 + 20, "\xff\xff\xff\x00", "truncated"}, {"optional header", 0x94, "\x10\x00", "16 bytes"}}},
		{name: "capsule", kind: "uefi-capsule", data: capsule(), parts: []string{"payload 0 text"}, facts: map[fact.Name]string{fact.Type: "firmware management"},
			patches: []patch{{"size", 24, "\xff\xff\xff\x7f", "truncated"}, {"items", 34, "\xff\xff", "makes no sense"}, {"item", 36, "\xff\xff\xff\xff", ""}, {"image", 28 + 16 + 24, "\xff\xff\xff\x7f", "past its end"}}},
		{name: "pldm 1", kind: "pldm", data: pldm(1), sums: 1, parts: []string{"component 1 8.4.2 text"}, facts: map[fact.Name]string{fact.Version: "8.4.2", fact.Built: "2026-09-30T04:15:00Z"},
			patches: []patch{{"header size", 17, "\x30\x00", "reach past"}, {"text length", 35, "\xff", "reach past"}, {"descriptors", 43, "\xff", "reach past"}}},
		{name: "pldm 2", kind: "pldm", data: pldm(2), sums: 1, parts: []string{"component 1 8.4.2 text"}},
		{name: "pldm 3", kind: "pldm", data: pldm(3), sums: 1, parts: []string{"component 1 8.4.2 text"}},
		{name: "pldm 4", kind: "pldm", data: pldm(4), sums: 2, parts: []string{"component 1 8.4.2 text"}},
		{name: "dfu", kind: "dfu", data: dfu("\x00\x01firmware of a small thing"), sums: 1, parts: []string{"firmware "}, facts: map[fact.Name]string{fact.Board: "usb:1209:70b1", fact.Build: "0002"}},
		{name: "ihex", kind: "ihex", loose: true, data: bytes.TrimSpace(ihex(strings.Repeat("tram", 20))), sums: 1, patches: []patch{{"no record", 30, "zz", "no record"}}},
		{name: "srec", kind: "srec", loose: true, whole: []int{276, 277}, data: bytes.TrimSpace(srec(strings.Repeat("tram", 20))), sums: 1, facts: map[fact.Name]string{fact.Title: "QM-8T boot"}, patches: []patch{{"type", 31, "4", "no S-record"}}},
		{name: "uf2", kind: "uf2", loose: true, data: uf2(3), sums: 1, facts: map[fact.Name]string{fact.Board: "uf2:e48bff56", fact.Arch: "arm"}, patches: []patch{{"blocks", 24, "\x10", "truncated"}}},
		{name: "squashfs 4", kind: "squashfs", data: squash4()[:300], facts: map[fact.Name]string{fact.Built: "2026-09-21T14:13:20Z"},
			patches: []patch{{"size", 40, "\xff\xff\xff\x7f", "truncated"}, {"block log", 22, "\x05", "contradicts"}, {"table", 64, "\xff\xff\xff\x7f", "one of its tables"}}},
		{name: "squashfs with files", kind: "squashfs", data: rootfs, facts: map[fact.Name]string{image.OSRelease: "NAME=Tramline, VERSION_ID=8.4.2"}},
		{name: "squashfs 3", kind: "squashfs", data: squash3()[:300], facts: map[fact.Name]string{fact.Type: "filesystem"}, patches: []patch{{"size", 67, "\x7f\xff\xff\xff", "truncated"}}},
		{name: "cramfs little", kind: "cramfs", data: cramfs(le), sums: 1, facts: map[fact.Name]string{fact.Title: "tram"}, patches: []patch{{"size", 4, "\xff\xff\xff\x7f", "truncated"}, {"no size", 4, "\x00\x00", "announces 0"}}},
		{name: "cramfs big", kind: "cramfs", data: cramfs(be), sums: 1},
		{name: "romfs", kind: "romfs", data: romfs(), sums: 1, facts: map[fact.Name]string{fact.Title: "tram"}, patches: []patch{{"size", 8, "\x7f\xff\xff\xff", "truncated"}, {"no size", 8, "\x00\x00\x00\x00", "announces 0"}}},
		{name: "jffs2 little", kind: "jffs2", loose: true, data: jffs2(le), sums: 1, open: true},
		{name: "jffs2 big", kind: "jffs2", loose: true, data: jffs2(be), sums: 1, open: true},
		{name: "ubi", kind: "ubi", loose: true, data: ubi(), sums: 3, open: true, parts: []string{"rootfs unknown"}, patches: []patch{{"data", 20, "\xff\xff\xff\xff", "makes no sense"}, {"static data", testPEB + 130, "x", "static volumes: 1 of"}}},
		{name: "ubifs", kind: "ubifs", loose: true, data: ubifs(), sums: 2, open: true, patches: []patch{{"length", 16, "\xff\xff\xff\xff", "announces"}, {"second node", 4096 + 100, "x", "CRCs of its nodes"}}},
		{name: "ext4", kind: "ext", data: ext4(), sums: 1, facts: map[fact.Name]string{fact.Type: "ext4", fact.Title: "tram"}, patches: []patch{{"blocks", 1024 + 4, "\xff\xff\xff\x7f", "truncated"}}},
		{name: "erofs", kind: "erofs", data: erofs(), sums: 1, facts: map[fact.Name]string{fact.Title: "tram"}, patches: []patch{{"blocks", 1024 + 36, "\xff\xff\xff\x7f", "truncated"}, {"block size", 1024 + 12, "\x40", "2^64"}}},
		{name: "fat", kind: "fat", data: fat16(), facts: map[fact.Name]string{fact.Type: "fat16", fact.Title: "TRAM"}, patches: []patch{{"sectors", 19, "\xff\xff", "truncated"}, {"tables", 22, "\xff\xff", "tables take more"}}},
		{name: "iso", kind: "iso9660", data: iso(), facts: map[fact.Name]string{fact.Title: "TRAM", fact.Built: "2026-09-30T04:15:00Z"}, patches: []patch{{"blocks", 0x8000 + 80, "\xff", "contradicts itself"}}},
		{name: "mbr", kind: "mbr", data: mbr(), parts: []string{"partition 1 squashfs"}, patches: []patch{{"partition", 446 + 12, "\xff\xff\xff\x00", "truncated"}}},
		{name: "gpt", kind: "gpt", data: gpt(), sums: 4, parts: []string{"root squashfs"}, patches: []patch{{"other header", 512 + 32, "\x20", "backup header"}, {"entries", 512 + 80, "\xff\xff\xff", "makes no sense"}, {"entry", 1024 + 40, "\x01\x00", "runs from block"}}},
		{name: "gzip", kind: "gzip", data: gz("tram.img", []byte("x")), open: true, facts: map[fact.Name]string{fact.Title: "tram.img"}},
		{name: "gzip with a header checksum", kind: "gzip", data: gzWithCRC([]byte("x")), sums: 1, open: true},
		{name: "bzip2", kind: "bzip2", data: packed("bzip2", nil), open: true},
		{name: "xz", kind: "xz", data: packed("xz", []byte("x")), sums: 1, open: true},
		{name: "lzma", kind: "lzma", data: packed("lzma", bytes.Repeat([]byte("tram"), 50)), open: true},
		{name: "lz4", kind: "lz4", data: packed("lz4", []byte("x")), sums: 1, open: true},
		{name: "zstd", kind: "zstd", data: packed("zstd", []byte("x")), open: true},
		{name: "cpio", kind: "cpio", data: cpioOf(osRelease), open: true, facts: map[fact.Name]string{image.OSRelease: "NAME=Tramline, VERSION_ID=8.4.2"}},
		{name: "tar", kind: "tar", data: tarred(osRelease), sums: 1, open: true, facts: map[fact.Name]string{image.OSRelease: "NAME=Tramline, VERSION_ID=8.4.2"}},
		{name: "7z", kind: "7z", data: sevenZip(), sums: 2, patches: []patch{{"offset", 12, big, ""}}},
		{name: "ar", kind: "ar", data: []byte("!<arch>\nversion/        1790000000  0     0     100644  2         `\nx\n"), open: true, patches: []patch{{"end of the header", 66, "xx", "does not end"}}},
		{name: "zip", kind: "zip", data: append(make(blob, 31).text(0, "PK\x03\x04").le16(26, 1), "x"...), open: true},
	}
}

func factText(m *image.Image, n fact.Name) string { return fact.Values(fact.Claim(m.Facts).About(n)) }

func TestFITConfigurations(t *testing.T) {
	for _, external := range []bool{false, true} {
		m := read(t, fit(external))
		require.Len(t, m.Configs, 2)
		assert.True(t, m.Configs[0].Default)
		claims := m.Claims()
		assert.Equal(t, "velloway,vr310-v2, velloway,soc", fact.Values(claims[0].About(fact.Board)), "from the tree that the configuration uses")
		assert.Equal(t, "arm64", fact.Values(claims[0].About(fact.Arch)))
		assert.Equal(t, "velloway,vr310-v1", fact.Values(claims[1].About(fact.Board)))
		assert.Equal(t, "arm", fact.Values(claims[1].About(fact.Arch)))
		assert.Equal(t, "main", fact.Values(claims[1].About(fact.Component)))
		boards := claims[0].About(fact.Board)
		assert.False(t, boards[0].Open)
		assert.True(t, boards[1].Open, "kin of a board do not name one")
	}
}

func TestFITWithoutPayload(t *testing.T) {
	data := func(nodes ...node) []byte {
		return fdtBlob(17, node{children: []node{{name: "images", children: nodes}, {name: "configurations"}}})
	}
	full := node{name: "k", props: []prop{{"data", []byte("x")}}}
	empty := node{name: "e", props: []prop{{"data", []byte{}}}}
	assert.NotEmpty(t, read(t, data(empty)).Damaged())
	assert.NotEmpty(t, read(t, data(node{name: "n"})).Damaged())
	m := read(t, data(full, empty))
	assert.Empty(t, m.Damaged())
	assert.Contains(t, fmt.Sprint(m.Notes), "image e has no payload")
	m = read(t, fdtBlob(17, node{children: []node{{name: "images", children: []node{full}}, {name: "configurations", props: []prop{{"default", "c"}}, children: []node{{name: "c", props: []prop{{"kernel", "gone"}}}}}}}))
	assert.Contains(t, fmt.Sprint(m.Damaged()), "gone, which is not there")
}

// Whatever a payload is compressed with, it is inflated and its own header
// read; its architecture and boards are the image's where that says none.
func TestPartsInside(t *testing.T) {
	kernel := flatKernel("ARM\x64", board("velloway,vr310"))
	for _, method := range []string{"gzip", "xz", "lzma", "lz4", "zstd"} {
		m := read(t, uimage(5, 22, 2, 1, "k", packed(method, kernel)))
		require.Len(t, m.Parts, 1, method)
		p := m.Parts[0]
		assert.Equal(t, method, p.Compression)
		assert.EqualValues(t, len(kernel), p.Unpacked)
		require.Equal(t, "arm64-image", p.Kind, method)
		linux, ok := p.Image.First(image.Linux)
		require.True(t, ok)
		assert.Equal(t, "6.1.7-tram", linux.Value)
		assert.Equal(t, "f::payload", linux.Source.File)
		b, ok := m.First(fact.Board)
		require.True(t, ok, "the appended tree's board is the image's")
		assert.Equal(t, "velloway,vr310", b.Value)
		assert.True(t, b.Protected, "the payload's checksum covers it")
	}
	m := read(t, uimage(5, 2, 2, 0, "k", packed("bzip2", nil)))
	assert.Equal(t, "bzip2", m.Parts[0].Compression)
	assert.Equal(t, "text", m.Parts[0].Kind)

	m = read(t, uimage(5, 2, 2, 1, "k", []byte(gz("", []byte(strings.Repeat("abc", 999))))[:30]))
	assert.Contains(t, fmt.Sprint(m.Damaged()), "compressed by gzip and damaged")

	nested := uimage(5, 2, 4, 0, "two", append(append(be.AppendUint32(be.AppendUint32(nil, uint32(len(elf(32, le, 40)))), 0), elf(32, le, 40)...), 0))
	m = read(t, trx(1, string(gz("", nested))))
	assert.Equal(t, "elf", m.Parts[0].Image.Parts[0].Kind, "parts of parts")
	assert.Equal(t, "arm", factText(m, fact.Arch))
}

// What is inside an image counts against the bounds, too.
func TestPartsAreBounded(t *testing.T) {
	bomb := gz("", make([]byte, 8<<20))
	for range 4 {
		bomb = uimage(5, 2, 2, 1, "x", gz("", bomb))
	}
	for bound, set := range map[string]func(*archive.Limits){
		"depth": func(l *archive.Limits) { l.Depth = 3 },
		"items": func(l *archive.Limits) { l.Items = 2 },
		"bytes": func(l *archive.Limits) { l.Bytes = 1 << 20 },
		"ratio": func(l *archive.Limits) { l.ItemFree, l.ItemRatio = 1<<20, 100 },
	} {
		l := archive.DefaultLimits()
		l.Depth = 20
		set(&l)
		r := image.Begin(format.Builtin(), bomb, int64(len(bomb)), false)
		r.Write(bomb)
		_, _, err := r.End(archive.MemoryWithin("f", bomb, l))
		var b *archive.BoundError
		require.ErrorAs(t, err, &b, bound)
		assert.Contains(t, b.Bound, bound)
	}
}

func TestNature(t *testing.T) {
	for want, data := range map[string][]byte{"empty": {}, "blank": bytes.Repeat([]byte{0xff}, 3000), "zeros": make([]byte, 200_000), "unknown": []byte("\x01\x02\x03")} {
		kind, m := kindOf(t, data)
		assert.Equal(t, want, kind)
		assert.Nil(t, m)
	}
	almost := make([]byte, 200_000)
	almost[199_999] = 1
	kind, _ := kindOf(t, almost)
	assert.Equal(t, "unknown", kind)
	words := func(data []byte) string {
		r := image.Begin(format.Builtin(), data[:min(len(data), archive.HeadSize)], int64(len(data)), false)
		r.Write(data)
		return r.Nature()
	}
	random := []byte{1}
	for i := range 4000 {
		random = append(random, sumOf("sha256", []byte{byte(i), byte(i >> 8)})...)
	}
	assert.Contains(t, words(random), "encrypted")
	assert.Empty(t, words(bytes.Repeat([]byte{1, 2, 3, 4, 0x80}, 40_000)))
}

//go:embed testdata/rootfs.squashfs
var rootfs []byte // made with mksquashfs from one os-release file

func TestRootFileSystems(t *testing.T) {
	files := map[string]string{"./etc/os-release": "NAME=\"Tramline\"\nVERSION_ID=\"8.4.2\"\n"}
	for name, data := range map[string][]byte{"squashfs": rootfs, "cpio": cpioOf(files), "tar": tarred(files)} {
		m := read(t, uimage(5, 2, 3, 0, "root", data))
		require.NotNil(t, m.Parts[0].Image, name)
		assert.Equal(t, "NAME=Tramline, VERSION_ID=8.4.2", factText(m.Parts[0].Image, image.OSRelease), name)
		f, _ := m.Parts[0].Image.First(image.OSRelease)
		assert.Contains(t, f.Source.Where(), "f::payload::", name)
		assert.Contains(t, f.Source.Where(), "etc/os-release:1", name)
	}
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "root/etc"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "root/etc/os-release"), []byte(files["./etc/os-release"]), 0o644))
	for name, args := range map[string][]string{
		"mkfs.cramfs": {dir + "/root", dir + "/mkfs.cramfs"},
		"genromfs":    {"-d", dir + "/root", "-f", dir + "/genromfs"},
		"mke2fs":      {"-q", "-F", "-t", "ext4", "-d", dir + "/root", dir + "/mke2fs", "1M"},
		"mksquashfs":  {dir + "/root", dir + "/mksquashfs", "-quiet", "-no-progress", "-comp", "lzo"},
	} {
		if _, err := exec.LookPath(name); err != nil {
			t.Logf("%s is not installed", name)
			continue
		}
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		m := read(t, uimage(5, 2, 3, 0, "root", data))
		assert.Equal(t, "NAME=Tramline, VERSION_ID=8.4.2", factText(m.Parts[0].Image, image.OSRelease), name)
	}
	// A file system that is damaged inside leaves a note, and no panic.
	for at := range len(rootfs) {
		bad := bytes.Clone(rootfs)
		bad[at] ^= 0x21
		kindOf(t, bad)
	}
}

// Blocks of a SquashFS are of 4 KiB to 1 MiB, and said twice.
func TestSquashFSBlocks(t *testing.T) {
	for log, sound := range map[int]bool{11: false, 12: true, 17: true, 20: true, 21: false} {
		data := bytes.Clone(squash4()[:300])
		le.PutUint32(data[12:], 1<<log)
		le.PutUint16(data[22:], uint16(log))
		damaged := strings.Join(readSample(t, data).Damaged(), "; ")
		assert.Equal(t, !sound, strings.Contains(damaged, "contradicts itself"), "blocks of 2^%d bytes: %s", log, damaged)
		le.PutUint16(data[22:], uint16(log+1))
		assert.Contains(t, strings.Join(readSample(t, data).Damaged(), "; "), "contradicts itself")
	}
}
