package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the general tools master of a root file system lists as it lay on the disk: names of
// any length, links, modes, deep folders and one of five thousand files, empty and large
// files; with Joliet alone, names and contents.
func TestISOListsItsFiles(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string, mode fs.FileMode) {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
		require.NoError(t, os.Chmod(p, mode))
	}
	write("etc/os-release", "NAME=Tramline\n", 0o644)
	write("bin/tool", strings.Repeat("tool ", 50000), 0o755|fs.ModeSetuid)
	write("lib/exact", strings.Repeat("e", 4096), 0o600)
	write("var/empty", "", 0o644)
	write("usr/"+strings.Repeat("long-", 18)+"name.text", "long", 0o644)
	write("usr/Straße größer 日本", "utf-8", 0o444)
	write("usr/"+strings.Repeat("deep/", 15)+"down", "deep", 0o644)
	for i := range 5000 {
		write(fmt.Sprintf("share/file-%05d", i), fmt.Sprint(i), 0o644)
	}
	for i := range 250 {
		write(fmt.Sprintf("srv/%d/%03d", i%7, i), strings.Repeat(fmt.Sprint(i), i), 0o640)
	}
	require.NoError(t, os.Symlink("../bin/tool", filepath.Join(dir, "lib/link")))
	require.NoError(t, os.Symlink("/etc"+strings.Repeat("/far", 40), filepath.Join(dir, "etc/far")))
	want := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if p == dir || err != nil {
			return err
		}
		info, err := e.Info()
		require.NoError(t, err)
		rel, _ := filepath.Rel(dir, p)
		switch {
		case info.Mode().IsRegular():
			text, err := os.ReadFile(p)
			require.NoError(t, err)
			want[rel] = fmt.Sprintf("%v %d %s", info.Mode(), info.Size(), text)
		case info.Mode()&fs.ModeSymlink != 0:
			to, _ := os.Readlink(p)
			want[rel] = info.Mode().String() + " -> " + to
		default:
			want[rel] = info.Mode().String()
		}
		return nil
	}))
	for _, call := range []string{"genisoimage -quiet -R", "genisoimage -quiet -R -D", "genisoimage -quiet -R -J -joliet-long -l", "genisoimage -quiet -J -joliet-long -D", "xorriso -as mkisofs -quiet -R", "xorriso -as mkisofs -quiet -J -joliet-long"} {
		t.Run(call, func(t *testing.T) {
			args := strings.Fields(call)
			if _, err := exec.LookPath(args[0]); err != nil {
				t.Skipf("%s is not installed", args[0])
			}
			img := filepath.Join(t.TempDir(), "i.iso")
			out, err := exec.Command(args[0], append(args[1:], "-o", img, dir)...).CombinedOutput()
			require.NoError(t, err, string(out))
			data, err := os.ReadFile(img)
			require.NoError(t, err)
			n, err := walk(t, "i.iso", data, DefaultLimits())
			require.NoError(t, err)
			for _, p := range n.problems {
				assert.Equal(t, Note, p.Class, "%v", p)
			}
			rock := strings.Contains(call, "-R") || args[0] == "xorriso" // which always writes it
			for name, w := range want {
				if !rock {
					if strings.Contains(w, " -> ") || strings.HasPrefix(w, "d") {
						continue // it holds none, or keeps no modes
					}
					w = n.content["i.iso::"+name]
					assert.Contains(t, want[name], w, name)
					assert.Contains(t, n.listed, name)
					continue
				}
				f, ok := n.listed[name]
				if !assert.True(t, ok, name) {
					continue
				}
				got := f.Mode.String()
				switch {
				case f.Mode.IsRegular():
					got = fmt.Sprintf("%v %d %s", f.Mode, f.Size, n.content["i.iso::"+name])
				case f.Mode&fs.ModeSymlink != 0:
					got += " -> " + f.Target
				}
				if w != got {
					t.Errorf("%s: %.80q, and it is %.80q", name, got, w)
				}
			}
			for name := range n.listed {
				if _, ok := want[name]; !ok && !strings.HasPrefix(name, "rr_moved") {
					t.Errorf("%s is not there", name)
				}
			}
		})
	}
}

// The entries of a record may go on elsewhere, and there again, but not for ever.
func TestRockRidgeGoesOn(t *testing.T) {
	data := make([]byte, 4*isoBlock)
	goesOn := func(at, block, offset, size int) {
		e := data[at:]
		copy(e, "CE\x1c\x01")
		binary.LittleEndian.PutUint32(e[4:], uint32(block))
		binary.LittleEndian.PutUint32(e[12:], uint32(offset))
		binary.LittleEndian.PutUint32(e[20:], uint32(size))
	}
	name := func(at int, text string) int {
		copy(data[at:], fmt.Sprintf("NM%c\x01\x00%s", 5+len(text), text))
		return 5 + len(text)
	}
	tree := &isoTree{at: bytes.NewReader(data), length: int64(len(data))}
	n := name(0, "part-one-")
	goesOn(n, 1, 100, 28+14)
	m := name(isoBlock+100, "part-two-")
	goesOn(isoBlock+100+m, 2, 0, 9)
	name(2*isoBlock, "end!")
	f, _, err := tree.rockRidge(&isoFile{}, data[:n+28], nil)
	require.NoError(t, err)
	assert.Equal(t, "part-one-part-two-end!", f.name)

	goesOn(isoBlock+100+m, 1, 100, 28+14) // back to itself
	f, _, err = tree.rockRidge(&isoFile{}, data[:n+28], nil)
	require.NoError(t, err)
	assert.Equal(t, "part-one-"+strings.Repeat("part-two-", isoMaxContinue-1), f.name)

	f, _, err = tree.rockRidge(&isoFile{name: "PLAIN"}, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, "PLAIN", f.name)
}

// isoRecordOf finds the record of a file by where its content lies.
func isoRecordOf(t *testing.T, img []byte, content string) []byte {
	at := bytes.Index(img, []byte(content))
	require.Positive(t, at)
	place := binary.LittleEndian.AppendUint32(nil, uint32(at/isoBlock))
	for i := 18 * isoBlock; i < 24*isoBlock; i++ {
		if bytes.HasPrefix(img[i:], place) && binary.BigEndian.Uint32(img[i+4:]) == uint32(at/isoBlock) {
			return img[i-2:]
		}
	}
	t.Fatal("no record of " + content)
	return nil
}

// A file of several parts is one (ECMA-119, section 9.1.6, bit 7); where a part that is announced does not follow, what is
// there is told, and not left out.
func TestISOFileOfSeveralParts(t *testing.T) {
	make := func(names ...string) []byte {
		var all []entry
		for i, n := range names {
			all = append(all, entry{n, strings.Repeat(string(rune('a'+i)), 2048), ""})
		}
		return isoOf(all...)
	}
	for _, c := range []struct {
		name  string
		names []string
		open  []string // the first letters of the parts that are said to go on
		want  map[string]string
		says  string
	}{
		{"two parts", []string{"x.img", "x.img"}, []string{"a"}, map[string]string{"x.img": "ab"}, ""},
		{"three parts and another", []string{"x.img", "x.img", "x.img", "y.img"}, []string{"a", "b"}, map[string]string{"x.img": "abc", "y.img": "d"}, ""},
		{"no second part", []string{"x.img", "y.img"}, []string{"a"}, map[string]string{"x.img": "a", "y.img": "b"}, "x.img is said to go on, and no further part of it follows"},
		{"no last part", []string{"x.img", "y.img"}, []string{"b"}, map[string]string{"x.img": "a", "y.img": "b"}, "y.img is said to go on, and no further part of it follows"},
	} {
		img := make(c.names...)
		for _, first := range c.open {
			isoRecordOf(t, img, strings.Repeat(first, 2048))[25] |= 0x80
		}
		n, err := walk(t, "p.iso", img, DefaultLimits())
		require.NoError(t, err)
		got := map[string]string{}
		for address, text := range n.content {
			if name, ok := strings.CutPrefix(address, "p.iso::"); ok {
				for ; text != ""; text = text[2048:] {
					got[name] += text[:1]
				}
			}
		}
		assert.Equal(t, c.want, got, c.name)
		if c.says == "" {
			assert.Empty(t, n.problems, c.name)
		} else {
			assert.True(t, n.says(Damaged, "p.iso", c.says), "%s: %v", c.name, n.problems)
		}
	}
}

// What zisofs packed cannot be read, and is told so; what follows the terminator of the volumes is none.
func TestISOCorners(t *testing.T) {
	img := isoOf(entry{"x.img", strings.Repeat("a", 2048), ""}, entry{"y.img", strings.Repeat("b", 2048), ""})
	r := isoRecordOf(t, img, strings.Repeat("a", 2048))
	at := bytes.Index(r[:r[0]], []byte("PX\x24\x01"))
	require.Positive(t, at)
	copy(r[at:], "ZF")
	n, err := walk(t, "p.iso", img, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Unreadable, "p.iso::x.img", "packed by zisofs, which cannot be read"), "%v", n.problems)
	assert.Equal(t, strings.Repeat("b", 2048), n.content["p.iso::y.img"])

	img = isoTrees([]entry{{"x.img", "content", ""}}, []entry{{"other.img", "content", ""}})
	terminated := bytes.Clone(img)
	for i := 16; i < 24; i++ {
		if v := terminated[i*isoBlock:]; v[0] == 2 && string(v[1:6]) == "CD001" {
			v[0] = 255 // the Joliet tree is one no more, and ends the volumes
		}
	}
	n, err = walk(t, "p.iso", terminated, DefaultLimits())
	require.NoError(t, err)
	assert.Equal(t, "content", n.content["p.iso::x.img"])
	assert.NotContains(t, n.content, "p.iso::other.img")
}
