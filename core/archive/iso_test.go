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
