package survey

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

const block = 512

// entry writes a record of a partition.
func entry(b []byte, kind byte, first, blocks int) {
	b[4] = kind
	binary.LittleEndian.PutUint32(b[8:], uint32(first))
	binary.LittleEndian.PutUint32(b[12:], uint32(blocks))
}

// disk lays out a RAM disk in a primary partition, and a text and a tar in two logical ones.
func disk(ram, tar []byte) []byte {
	b := make([]byte, 400*block)
	record := func(at int) []byte {
		b[at*block+510], b[at*block+511] = 0x55, 0xaa
		return b[at*block+446:]
	}
	mbr := record(0)
	entry(mbr, 0x83, 8, 40)
	entry(mbr[16:], 0x05, 100, 300)
	first := record(100)
	entry(first, 0x83, 2, 20)
	entry(first[16:], 0x05, 50, 100)
	entry(record(150), 0x83, 2, 100)
	copy(b[8*block:], ram)
	copy(b[102*block:], "just a text\n")
	copy(b[152*block:], tar)
	return b
}

// What lies in the partitions of a disk is opened, those within an extended one, too.
func TestPartitionsOpen(t *testing.T) {
	s := surveyOf(t, "disk.img", disk(cpioSystem(system), tarSystem(system)), Options{})
	names := map[string]string{}
	for _, it := range s.Items {
		names[strings.TrimPrefix(it.Address, "disk.img::")] = it.Kind
	}
	assert.Equal(t, map[string]string{"disk.img": "mbr", "partition 1": "cpio", "partition 5": "unknown", "partition 6": "tar"}, names)
	assert.Equal(t, 3, s.Find("disk.img::partition 1").Contents.Files)
	assert.Equal(t, 3, s.Find("disk.img::partition 6").Contents.Files)
	root := s.Root()
	assert.Equal(t, []string{"arm64", "arm64"}, values(root.Programs()), "an image knows the programs in it")
	require.Len(t, root.Image.Parts, 3)
	assert.Equal(t, "cpio", root.Image.Parts[0].Kind)
	assert.Equal(t, 3, root.Image.Parts[0].Image.Contents.Files, "what was read of it as an item is the part's, too")
}

func values(all []fact.Fact) (out []string) {
	for _, f := range all {
		out = append(out, f.Value)
	}
	return out
}

// Damage of what lies in an image is the image's, told once.
func TestPartsDamage(t *testing.T) {
	ram := cpioSystem(system)
	i := bytes.Index(ram, []byte("07070100000000"))
	require.GreaterOrEqual(t, i, 0)
	copy(ram[len(ram)-124:], "no trailer of it")
	s := surveyOf(t, "disk.img", disk(ram, tarSystem(system)), Options{})
	var told []string
	for _, p := range s.Problems {
		if p.Class == archive.Damaged {
			told = append(told, p.Item)
			assert.Contains(t, p.What, "in its part partition 1: ")
		}
	}
	assert.Equal(t, []string{"disk.img"}, told)
}

// The records of an extended partition may lead anywhere.
func TestHostilePartitions(t *testing.T) {
	le := binary.LittleEndian
	for what, c := range map[string]struct {
		spoil func(b []byte)
		says  string
	}{
		"circle":    {func(b []byte) { le.PutUint32(b[100*block+446+16+8:], 0) }, "in a circle"},
		"no record": {func(b []byte) { b[150*block+510] = 0 }, "no record at 0x12c00"},
		"far":       {func(b []byte) { le.PutUint32(b[100*block+446+12:], 1<<31) }, "truncated"},
	} {
		b := disk(cpioSystem(system), tarSystem(system))
		c.spoil(b)
		s := surveyOf(t, "disk.img", b, Options{})
		require.NotEmpty(t, s.Problems, what)
		assert.Contains(t, s.Problems[0].What, c.says, what)
	}
}

// A file system within a file system within an archive is bounded like the rest.
func TestNestedParts(t *testing.T) {
	inner := disk(cpioSystem(system), nil)
	for range 9 {
		b := make([]byte, len(inner)+8*block)
		b[510], b[511] = 0x55, 0xaa
		entry(b[446:], 0x83, 8, len(inner)/block)
		copy(b[8*block:], inner)
		inner = b
	}
	p := filepath.Join(t.TempDir(), "disk.img")
	require.NoError(t, os.WriteFile(p, inner, 0o600))
	_, err := Run(context.Background(), p, Options{Limits: archive.DefaultLimits()})
	var bound *archive.BoundError
	require.ErrorAs(t, err, &bound)
	assert.Equal(t, archive.BoundDepth, bound.Bound)
}

// What a rulebook names inside a file system is an item, with its digest, its list and its
// component; a kind of file is not a name.
func TestRulebookReachesIn(t *testing.T) {
	kernel := "kernel of the line, made up"
	sum := sha256.Sum256([]byte(kernel))
	files := append(append([]node{}, system...), node{"boot/main.img", kernel, 0o644}, node{"boot/list.sha256", hex.EncodeToString(sum[:]) + "  main.img\n", 0o644}, node{"lib/firmware/wifi.img", "blob", 0o644})
	rb, err := rulebook.Read("r.yaml", []byte(`
kind: rulebook
title: made up
models: {QM-8T: {families: [tram]}}
families: {tram: {components: {main: {title: main}}}}
packages:
  - title: image
    file: '^root-(?P<version>[\d.]+)\.cpio$'
    checksums: '**/boot/*.sha256'
    items:
      - {match: '**/boot/main.img', component: main, version_from: os-release}
      - {match: '**/*.img', component: main}
`))
	require.NoError(t, err)
	s := surveyOf(t, "root-8.4.2.cpio", cpioSystem(files), Options{Rulebooks: []*rulebook.Rulebook{rb}})
	it := s.Find("root-8.4.2.cpio::boot/main.img")
	require.NotNil(t, it)
	assert.Equal(t, "main", it.Component())
	require.Len(t, it.Published, 1)
	assert.True(t, it.Published[0].OK(), "the list in the file system gives its digest")
	assert.Nil(t, s.Find("root-8.4.2.cpio::lib/firmware/wifi.img"))
	assert.Equal(t, 6, s.Root().Contents.Files)
}

// A version may be the kernel's, or the system's, where the rulebook says so.
func TestVersionFrom(t *testing.T) {
	for from, want := range map[string]string{"os-release": "8.4.2", "kernel": "6.1.0-tram"} {
		rb, err := rulebook.Read("r.yaml", []byte(`
kind: rulebook
title: made up
models: {QM-8T: {families: [tram]}}
families: {tram: {components: {main: {title: main}}}}
packages:
  - title: image
    file: '^disk.*img$'
    items: [{match: '**/disk*.img', component: main, version_from: `+from+`}]
`))
		require.NoError(t, err)
		data := disk(cpioSystem(system), nil)
		if from == "kernel" {
			data = uimage([]byte("\x00Linux version 6.1.0-tram (builder@host) (cc 12) #1 SMP\n\x00 and code"))
		}
		s := surveyOf(t, "disk.img", data, Options{Rulebooks: []*rulebook.Rulebook{rb}})
		w, ok := s.Root().Witness(fact.Header)
		require.True(t, ok)
		require.NotEmpty(t, w.About(fact.Version), from)
		assert.Equal(t, want, w.About(fact.Version)[0].Value, from)
	}
}

// uimage packs a kernel.
func uimage(payload []byte) []byte { return uimageNamed("", payload) }

func uimageNamed(name string, payload []byte) []byte {
	h := make([]byte, 64)
	copy(h[32:], name)
	be := binary.BigEndian
	be.PutUint32(h, 0x27051956)
	be.PutUint32(h[12:], uint32(len(payload)))
	be.PutUint32(h[24:], crc32.ChecksumIEEE(payload))
	copy(h[28:], []byte{5, 22, 2, 0})
	be.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

// rpmHeader writes a header of an RPM package from texts by their tags.
func rpmHeader(texts map[uint32]string, numbers map[uint32]uint32) []byte {
	be := binary.BigEndian
	var index, store []byte
	add := func(tag, kind uint32, value []byte) {
		for kind == 4 && len(store)%4 != 0 {
			store = append(store, 0)
		}
		for _, v := range []uint32{tag, kind, uint32(len(store)), 1} {
			index = be.AppendUint32(index, v)
		}
		store = append(store, value...)
	}
	for tag, text := range texts {
		add(tag, 6, append([]byte(text), 0))
	}
	for tag, n := range numbers {
		add(tag, 4, be.AppendUint32(nil, n))
	}
	h := []byte{0x8e, 0xad, 0xe8, 1, 0, 0, 0, 0}
	h = be.AppendUint32(h, uint32(len(texts)+len(numbers)))
	h = be.AppendUint32(h, uint32(len(store)))
	return append(append(h, index...), store...)
}

func rpm(t *testing.T, files []node) []byte {
	var payload bytes.Buffer
	z := gzip.NewWriter(&payload)
	z.Write(cpioSystem(files))
	z.Close()
	sum := sha256.Sum256(payload.Bytes())
	header := rpmHeader(map[uint32]string{1000: "tramline", 1001: "8.4.2", 1002: "3", 1022: "aarch64", 1124: "cpio", 1125: "gzip", 5092: hex.EncodeToString(sum[:])}, map[uint32]uint32{1006: 1_700_000_000, 5093: 8})
	own := sha256.Sum256(header)
	lead := make([]byte, 96)
	copy(lead, "\xed\xab\xee\xdb\x03")
	out := append(lead, rpmHeader(map[uint32]string{273: hex.EncodeToString(own[:])}, nil)...)
	for len(out)%8 != 0 {
		out = append(out, 0)
	}
	return append(append(out, header...), payload.Bytes()...)
}

// The files of an RPM package are items; its header says what it is, and its digests are
// held against header and payload.
func TestRPM(t *testing.T) {
	files := []node{{"./boot/main.img", "image", 0o644}, {"./notes.txt", "words\n", 0o644}}
	data := rpm(t, files)
	s := surveyOf(t, "p.rpm", data, Options{})
	root := s.Root()
	assert.Equal(t, "rpm", root.Kind)
	assert.Equal(t, []string{"8.4.2-3"}, root.Image.Values(fact.Version))
	assert.Equal(t, []string{"arm64"}, root.Image.Values(fact.Arch))
	assert.NotNil(t, s.Find("p.rpm::./boot/main.img"))
	require.Len(t, root.Image.Sums, 2)
	assert.True(t, root.Image.Sums[0].OK && root.Image.Sums[1].OK)
	assert.Empty(t, s.Problems)
	for what, spoil := range map[string]func([]byte) []byte{
		"payload":  func(b []byte) []byte { b[len(b)-20] ^= 1; return b },
		"header":   func(b []byte) []byte { b[bytes.Index(b, []byte("tramline"))] ^= 1; return b },
		"cut":      func(b []byte) []byte { return b[:len(b)-30] },
		"no index": func(b []byte) []byte { copy(b[96+8:], "\xff\xff\xff\xff"); return b },
	} {
		s := surveyOf(t, "p.rpm", spoil(bytes.Clone(data)), Options{})
		assert.NotEmpty(t, s.Root().Damage(), what)
	}
}

// What the deep scan finds is opened like a partition; the scan goes on behind an image that
// says where it ends.
func TestDeepOpens(t *testing.T) {
	var flash []byte
	place := func(data []byte) int {
		for len(flash)%4096 != 0 {
			flash = append(flash, 0xff)
		}
		at := len(flash)
		flash = append(flash, data...)
		return at
	}
	place(disk(cpioSystem(system), nil)) // of a format that is read, and whose end is known
	tar := place(tarSystem(system))
	zip := place(zipSystem(system))
	cpio := place(cpioSystem(system))
	s := surveyOf(t, "flash.bin", flash, Options{Deep: true})
	for at, kind := range map[int]string{tar: "tar", zip: "zip", cpio: "cpio"} {
		it := s.Find(fmt.Sprintf("flash.bin::%s at 0x%x", kind, at))
		if assert.NotNil(t, it, "%s at 0x%x", kind, at) && assert.NotNil(t, it.Contents, kind) {
			assert.Equal(t, 3, it.Contents.Files, kind)
		}
	}
	require.NotEmpty(t, s.Root().Map)
	assert.Equal(t, "mbr", s.Root().Map[0].Kind)
}

// What the lists of a package name in a file system are items, with the digests and versions
// that they give: a file system may be what is delivered.
func TestListsReachIn(t *testing.T) {
	boot, root := "boot loader, made up", "root, made up"
	sum := func(text string) string { s := sha256.Sum256([]byte(text)); return hex.EncodeToString(s[:]) }
	files := []node{{"manifest.txt", "boot images/boot.bin 3.1 " + sum(boot) + "\nmain images/root.img 8.4.2 " + sum("another") + "\n", 0o644}, {"images", "", fs.ModeDir | 0o755}, {"images/boot.bin", boot, 0o644}, {"images/root.img", root, 0o644}, {"images/other.bin", "other", 0o644}}
	rb, err := rulebook.Read("r.yaml", []byte(`
kind: rulebook
title: made up
models: {QM-8T: {families: [tram]}}
families: {tram: {components: {boot: {title: boot}, main: {title: main}}}}
packages:
  - title: bundle
    file: '^bundle\.cpio$'
    manifest: {item: '**/manifest.txt', form: lines, record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+) (?P<sha256>\S+)$'}
`))
	require.NoError(t, err)
	s := surveyOf(t, "bundle.cpio", cpioSystem(files), Options{Rulebooks: []*rulebook.Rulebook{rb}})
	assert.Empty(t, s.Missing)
	it := s.Find("bundle.cpio::images/boot.bin")
	require.NotNil(t, it)
	assert.Equal(t, "boot", it.Component())
	require.Len(t, it.Published, 1)
	assert.True(t, it.Published[0].OK())
	it = s.Find("bundle.cpio::images/root.img")
	require.NotNil(t, it)
	assert.True(t, it.Published[0].Wrong(), "it is held against the digest that the manifest gives")
	assert.Nil(t, s.Find("bundle.cpio::images/other.bin"))
}
