package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// packed packs a folder by cpio, its names sorted, in a form.
func packed(t testing.TB, dir, form string) []byte {
	t.Helper()
	if _, err := exec.LookPath("cpio"); err != nil {
		t.Skip("cpio is not installed")
	}
	c := exec.Command("sh", "-c", "find . | LC_ALL=C sort | cpio -o --quiet -H "+form)
	c.Dir = dir
	out, err := c.Output()
	require.NoError(t, err)
	return out
}

// The new form is told by its header alone, also where its first name ends further on.
func TestIsCpio(t *testing.T) {
	head := []byte("070701" + strings.Repeat("0", 88) + "00000100" + strings.Repeat("0", 8))
	assert.True(t, IsCpio(head))
	assert.False(t, IsCpio(append([]byte("07070x"), head[6:]...)))
	binary := make([]byte, 40)
	copy(binary, "\xc7\x71")
	binary[20] = 5 // the size of the name
	copy(binary[26:], "file\x00")
	assert.True(t, IsCpio(binary))
	assert.False(t, IsCpio(binary[:30]), "the binary form is told by its name's end")
	binary[30] = 'x'
	assert.False(t, IsCpio(binary))
}

// What cpio packs lists as it lay on the disk, in all of its forms, also where archives
// follow each other.
func TestCpioForms(t *testing.T) {
	dir := makeTree(t, 5000)
	want := onDisk(t, dir)
	for _, form := range []string{"newc", "crc", "odc", "bin"} {
		t.Run(form, func(t *testing.T) {
			data := packed(t, dir, form)
			fsys, err := Open("cpio", bytes.NewReader(data), int64(len(data)))
			require.NoError(t, err)
			got := listing{}
			require.NoError(t, fsys.Walk(context.Background(), func(f *File) error {
				if f.Path == "." {
					return nil
				}
				h := sum(t, f)
				got[strings.TrimPrefix(f.Path, "./")] = describe(f.Mode, f.Size, h, f.Target)
				return nil
			}))
			same(t, want, got)

			// As a stream, each content comes once.
			contents, names := 0, 0
			_, err = ReadCpio(bytes.NewReader(append(bytes.Clone(data), data...)), func(f *File, data io.Reader) error {
				if names++; data != nil {
					contents++
				}
				return nil
			})
			require.NoError(t, err)
			files := 0
			for _, w := range want {
				if strings.HasPrefix(w, "-") || strings.HasPrefix(w, "u") || strings.HasPrefix(w, "g") {
					files++
				}
			}
			assert.Equal(t, 2*(files-1), contents, "one file has two names")
			assert.Equal(t, 2*(len(want)+1), names)
		})
	}
}

func sum(t *testing.T, f *File) (out [32]byte) {
	t.Helper()
	if !f.Mode.IsRegular() {
		return out
	}
	data, err := io.ReadAll(f.Open())
	require.NoError(t, err, f.Path)
	return sha256.Sum256(data)
}

// Both byte orders of the binary form are read, and padding goes by the place in the archive.
func TestCpioBinaryTurned(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "odd"), []byte("odd"), 0o644))
	data := packed(t, dir, "bin")
	turned := bytes.Clone(data)
	for at := 0; at+26 <= len(turned); {
		if turned[at] != 0xc7 || turned[at+1] != 0x71 {
			break
		}
		name, size := int(turned[at+20])|int(turned[at+21])<<8, int(turned[at+22])<<16|int(turned[at+24])|int(turned[at+25])<<8
		for i := at; i < at+26; i += 2 {
			turned[i], turned[i+1] = turned[i+1], turned[i]
		}
		at += 26 + (name+1)&^1 + (size+1)&^1
	}
	assert.Equal(t, "odd", content(t, "cpio", turned)["odd"])
}

func TestHostileCpio(t *testing.T) {
	member := func(name, data string, size int) string {
		h := fmt.Sprintf("070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", 1, 0o100644, 0, 0, 1, 0, size, 0, 0, 0, 0, len(name)+1, 0) + name + "\x00"
		for len(h)%4 != 0 {
			h += "\x00"
		}
		for len(data)%4 != 0 {
			data += "\x00"
		}
		return h + data
	}
	end := member("TRAILER!!!", "", 0)
	for what, c := range map[string]struct{ data, says string }{
		"as it is":     {member("a", "one", 3) + end, ""},
		"no end":       {member("a", "one", 3), "cut short"},
		"a size":       {member("a", "one", 1<<31) + end, "cut short"},
		"no header":    {member("a", "one", 3) + "words that are none" + strings.Repeat(" ", 200), "where a header belongs"},
		"a long name":  {strings.Replace(member("a", "one", 3), "00000002", "00ffffff", 1) + end, "announces a name"},
		"an open name": {strings.Replace(member("abc", "one", 3), "abc\x00", "abcd", 1) + end, "does not end"},
	} {
		err := readAll("cpio", []byte(c.data))
		if c.says == "" {
			assert.NoError(t, err, what)
		} else {
			assert.ErrorContains(t, err, c.says, what)
		}
	}
}

// littleCpio holds one file, in the new form.
func littleCpio() []byte {
	var b bytes.Buffer
	put := func(name, data string, mode int) {
		fmt.Fprintf(&b, "070701%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", 1, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name)+1, 0)
		b.WriteString(name + "\x00")
		b.Write(make([]byte, (4-b.Len()%4)%4))
		b.WriteString(data)
		b.Write(make([]byte, (4-b.Len()%4)%4))
	}
	put("f", "8.4.2", 0o100644)
	put("TRAILER!!!", "", 0)
	return b.Bytes()
}

func FuzzCpioFiles(f *testing.F) {
	f.Add([]byte("0707070000010000020100644000000000000000010000000000000000000000200000000003a\x00one"))
	f.Add([]byte("070701000000010000A1A400000000000000000000000200000000000000000000000000000000000000000000000000000002000000006100"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := readAll("cpio", data); err != nil && err != io.ErrShortBuffer && fatal(err) && err != io.ErrUnexpectedEOF {
			t.Fatal(err)
		}
		CpioNames(data, func(string, bool) {})
		CpioLength(bytes.NewReader(data))
	})
}
