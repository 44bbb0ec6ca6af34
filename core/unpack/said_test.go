package unpack

import (
	"cmp"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/image/format"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// TestWhatIsUnpacked holds what is written of packages of every kind, under which names, with which modes and in which order,
// what is told of it, and what a second run into the same folder does: testdata/unpacked.txt.
func TestWhatIsUnpacked(t *testing.T) {
	var b strings.Builder
	everything := func(o *Options) { o.Parts, o.Contents = true, true }
	nested := zipOf(file{"b/2.img", "two"}, file{"a.zip", zipOf(file{"x", "1"}, file{"y.gz", gzOf("2")})}, file{"a.zip.unpacked/x", "another"}, file{"k.img", uimage(gzOf(uimage("deeper")))})
	conflicts := zipOf(file{"A", "1"}, file{"a", "1"}, file{"d", "file"}, file{"d/e", "below"}, file{"f/g", "below"}, file{"F", "file"}, file{"twice", "x"}, file{"twice", "x"}, file{"other", "x"}, file{"other", "y"},
		file{"P/q", "1"}, file{"p/q", "1"}, file{"p/r", "2"}, file{"../out", "3"}, file{"d/../h", "4"})
	boot := demo.Tree(17, demo.Node{Children: []demo.Node{
		{Name: "images", Children: []demo.Node{
			{Name: "kernel-1", Props: []demo.Prop{{Name: "type", Value: "kernel"}, {Name: "compression", Value: "gzip"}, {Name: "data", Value: []byte(gzOf("the kernel"))}}},
			{Name: "fdt-1", Props: []demo.Prop{{Name: "type", Value: "flat_dt"}, {Name: "compression", Value: "none"}, {Name: "data", Value: demo.Tree(17, demo.Node{Props: []demo.Prop{{Name: "model", Value: "Quillmere QM-8T"}}})}}},
			{Name: "none", Props: []demo.Prop{{Name: "type", Value: "firmware"}, {Name: "data", Value: []byte{}}}},
		}},
		{Name: "configurations", Props: []demo.Prop{{Name: "default", Value: "c1"}}, Children: []demo.Node{{Name: "c1", Props: []demo.Prop{{Name: "kernel", Value: "kernel-1"}, {Name: "fdt", Value: "fdt-1"}}}}},
	}})
	trx := string(demo.TRX([]byte(uimage(gzOf(rootTar())))))
	for _, c := range []struct {
		what, name, data string
		set              func(*Options)
	}{
		{"an archive in archives", "p.zip", nested, nil},
		{"and what is in its images", "p.zip", nested, everything},
		{"a pattern of the inner one", "p.zip", nested, func(o *Options) { o.Only = glob(t, "a.zip/*") }},
		{"a pattern of parts", "p.zip", nested, func(o *Options) { o.Parts, o.Only = true, glob(t, "k.img/*") }},
		{"names in each other's way", "p.zip", conflicts, nil},
		{"files of a system", "p.zip", zipOf(file{"root.tar", rootTar()}), everything},
		{"files of a system alone", "root.tar.gz", gzOf(rootTar()), func(o *Options) { o.Contents = true }},
		{"a boot image", "p.zip", zipOf(file{"boot.itb", string(boot)}), everything},
		{"a boot image alone", "boot.itb", string(boot), func(o *Options) { o.Parts = true }},
		{"files in a part of a part", "p.zip", zipOf(file{"vr.trx", trx}), everything},
		{"only the files in it", "p.zip", zipOf(file{"vr.trx", trx}), func(o *Options) { o.Contents = true }},
		{"the parts of it", "vr.trx", trx, func(o *Options) { o.Parts = true }},
		{"a damaged stream", "p.zip", zipOf(file{"a.gz", gzOf("text")[:20]}, file{"b", "sound"}), nil},
		{"a damaged stream alone", "a.gz", gzOf("text")[:20], nil},
		{"a payload cut short", "p.zip", zipOf(file{"k.img", uimage("a payload that is longer than this")[:70]}), everything},
		{"a payload of which the stream is damaged", "p.zip", zipOf(file{"k.img", uimage(gzOf(strings.Repeat("a text of some length ", 40))[:45])}), everything},
		{"partitions of one name, the last cut short", "disk.img", string(twins()), func(o *Options) { o.Parts = true }},
		{"nothing in it", "p.zip", zipOf(), nil},
		{"too many items", "p.zip", zipOf(file{"a.zip", zipOf(file{"b.zip", zipOf(file{"c", "1"})})}), func(o *Options) { o.Limits.Items = 3 }},
		{"too deep", "p.zip", nested, func(o *Options) { o.Limits.Depth = 1 }},
	} {
		tellRuns(t, &b, c.what, c.name, c.data, c.set)
	}
	made := pagetest.Images(t, filepath.Join("..", "content"))
	for _, name := range []string{"cramfs-little", "erofs-compact", "ext-extents", "fat-16", "jffs2-zlib", "romfs-plain", "squashfs-xz", "ubi-volumes", "ubifs-zlib"} {
		tellRuns(t, &b, "the files of "+name, "p.zip", zipOf(file{name + ".img", string(made[name])}), func(o *Options) { o.Contents = true })
	}
	tellRuns(t, &b, "whole volumes", "flash.ubi", string(made["ubi-volumes"]), func(o *Options) { o.Parts = true })
	flash := made["ubi-volumes"]
	for at := 0; at+64 <= len(flash); at += 64 { // the second block of the static volume becomes one that nobody knows
		if b := flash[at : at+64]; string(b[:4]) == "UBI!" && b[5] == 2 && binary.BigEndian.Uint32(b[12:]) == 1 {
			b[0]++
		}
	}
	tellRuns(t, &b, "a volume of which a block is missing", "flash.ubi", string(flash), func(o *Options) { o.Parts = true })
	made = pagetest.Images(t, filepath.Join("..", "archive"))
	for _, name := range []string{"7z-links", "cpio-newc", "iso-rock", "rpm-xz", "tar-gnutar", "zip-deflate64"} {
		tellRuns(t, &b, "what "+name+" holds", name, string(made[name]), everything)
	}
	pagetest.Hold(t, filepath.Join("testdata", "unpacked.txt"), b.String())
}

// twins is a disk with three partitions of one name, the last of which ends behind the end of the disk.
func twins() []byte {
	const block, entries = 512, 128
	le := binary.LittleEndian
	b := make([]byte, 70*block)
	b[510], b[511], b[450] = 0x55, 0xaa, 0xee
	le.PutUint32(b[454:], 1)
	le.PutUint32(b[458:], 0xffffffff)
	table := b[2*block : 34*block]
	for i := range 3 {
		e := table[i*entries:]
		e[0], e[16] = 1, byte(i+1)
		le.PutUint64(e[32:], uint64(40+10*i))
		le.PutUint64(e[40:], uint64(49+10*i))
		for k, c := range "root" {
			le.PutUint16(e[56+2*k:], uint16(c))
		}
		copy(b[(40+10*i)*block:], fmt.Sprintf("partition %d", i))
	}
	h := b[block:]
	copy(h, "EFI PART\x00\x00\x01\x00\x5c\x00\x00\x00")
	le.PutUint64(h[24:], 1)
	le.PutUint64(h[32:], 69)
	le.PutUint64(h[40:], 34)
	le.PutUint64(h[48:], 69)
	le.PutUint64(h[72:], 2)
	le.PutUint32(h[80:], entries)
	le.PutUint32(h[84:], 128)
	le.PutUint32(h[88:], crc32.ChecksumIEEE(table))
	le.PutUint32(h[16:], crc32.ChecksumIEEE(h[:92]))
	return b[:65*block]
}

// tellRuns unpacks a package, unpacks it once more, and then where each file that was written has become another one.
func tellRuns(t *testing.T, b *strings.Builder, what, name, data string, set func(*Options)) {
	fmt.Fprintf(b, "## %s\n", what)
	p, into := filepath.Join(t.TempDir(), name), filepath.Join(t.TempDir(), "into")
	require.NoError(t, os.WriteFile(p, []byte(data), 0o644))
	run := func(change func(*Options)) *Result {
		o := Options{Limits: archive.DefaultLimits(), Formats: format.Builtin(), Into: into}
		if set != nil {
			set(&o)
		}
		change(&o)
		res, err := Run(context.Background(), p, o)
		if err != nil {
			fmt.Fprintf(b, "error: %s\n", strings.ReplaceAll(err.Error(), into, "into"))
		}
		left, _ := filepath.Glob(filepath.Join(into, ".fitcheck*"))
		require.Empty(t, left)
		return res
	}
	res := run(func(*Options) {})
	if res == nil {
		return
	}
	for _, f := range res.Files {
		info, err := os.Stat(filepath.Join(into, filepath.FromSlash(f.Path)))
		require.NoError(t, err)
		fmt.Fprintf(b, "%s %d bytes %.8s %v from %s%s\n", f.Path, f.Size, f.SHA256, info.Mode(), f.Address, there(f))
	}
	for _, p := range res.Problems {
		fmt.Fprintf(b, "- %s: %s: %s; %s\n", p.Class, p.Item, p.What, p.Advice)
	}
	count := 0
	require.NoError(t, filepath.WalkDir(into, func(path string, d fs.DirEntry, err error) error {
		if !d.IsDir() {
			count++
		}
		return err
	}))
	require.Equal(t, count, len(res.Files), "nothing else is written")
	if len(res.Files) == 0 {
		return
	}
	first := slices.MinFunc(res.Files, func(a, b File) int { return cmp.Compare(a.Path, b.Path) })
	changed := filepath.Join(into, filepath.FromSlash(first.Path))
	was, err := os.ReadFile(changed)
	require.NoError(t, err)
	require.NoError(t, os.Remove(changed))
	require.NoError(t, os.WriteFile(changed, make([]byte, len(was)), 0o600))
	run(func(*Options) {})
	again := run(func(o *Options) { o.Replace = true })
	fmt.Fprintf(b, "once more, and replaced:")
	for _, f := range again.Files {
		fmt.Fprintf(b, " %s", cmp.Or(strings.TrimSpace(there(f)), "written"))
	}
	fmt.Fprintln(b)
	is, err := os.ReadFile(changed)
	require.NoError(t, err)
	require.Equal(t, was, is)
}

func there(f File) string {
	if f.There {
		return " there"
	}
	return ""
}
