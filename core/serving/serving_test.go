package serving

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/transport"
)

func sha(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

// staged writes a folder with a record: two images of one device, a manifest, and a file that
// nobody staged.
func staged(t testing.TB) string {
	dir := t.TempDir()
	write := func(name string, data []byte) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o644))
	}
	files := map[string]string{"m.txt": "manifest", "boot/b.bin": strings.Repeat("boot", 500), "main.img": strings.Repeat("main", 9000)}
	for name, text := range files {
		write(name, []byte(text))
	}
	write("secret.txt", []byte("nobody staged this"))
	var list []string
	for _, name := range []string{"m.txt", "boot/b.bin", "main.img"} {
		component := map[string]string{"boot/b.bin": "boot", "main.img": "main"}[name]
		list = append(list, fmt.Sprintf(`{"path": %q, "size": %d, "sha256": %q, "fetchers": %d, "for": [{"device": "cab", "component": %q}]}`, name, len(files[name]), sha([]byte(files[name])), 1+len(name)/10, component))
	}
	write("STAGED.json", []byte(`{"fitcheck": {"document": "staged", "edition": 1}, "devices": [{"device": "cab", "fetch": {"by": "cab", "address": "192.0.2.7/24", "wait_seconds": 90}}], "files": [`+strings.Join(list, ",")+`]}`))
	return dir
}

func opened(t testing.TB, dir string) *Folder {
	f, err := Open(context.Background(), dir)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

func read(t testing.TB, f transport.File) string {
	defer f.Close()
	b, err := io.ReadAll(io.NewSectionReader(f, 0, f.Size()))
	require.NoError(t, err)
	return string(b)
}

func TestOnlyWhatWasStaged(t *testing.T) {
	f := opened(t, staged(t))
	assert.Equal(t, []string{"boot/b.bin", "m.txt", "main.img"}, f.Names())
	assert.Equal(t, []Device{{"cab", "cab", "192.0.2.7/24", 90 * time.Second}}, f.Devices)
	for _, name := range []string{"m.txt", "/m.txt", "./m.txt", "//m.txt", "boot/b.bin", "/boot//b.bin"} {
		file, own, err := f.Open(name)
		require.NoError(t, err, name)
		assert.Equal(t, path.Clean("/"+name), "/"+own)
		assert.NotEmpty(t, read(t, file))
	}
	for name, why := range map[string]string{
		"secret.txt": "was not staged", "STAGED.json": "was not staged", "M.TXT": "m.txt was", "b.bin": "boot/b.bin was", "": "is a folder", "/": "is a folder", "boot": "is a folder", "boot/": "is a folder",
		"../m.txt": "no name", "boot/../m.txt": "no name", "..\\m.txt": "no name", "m.txt\x00": "no name", "m.txt\xff": "no name", "C:m.txt": "was not staged", strings.Repeat("x", 10_000): "10000 bytes",
	} {
		_, _, err := f.Open(name)
		var r *transport.Refusal
		require.ErrorAs(t, err, &r, name)
		assert.Contains(t, r.Text, why, name)
		assert.Less(t, len(r.Text), 200)
	}
}

// A file that changes is withdrawn, also in the middle of a transfer, and one that is written
// again with the same bytes is not.
func TestAChangedFileIsWithdrawn(t *testing.T) {
	for name, change := range map[string]func(t *testing.T, at string){
		"another content": func(t *testing.T, at string) {
			require.NoError(t, os.WriteFile(at, []byte(strings.Repeat("mean", 9000)), 0o644))
		},
		"shorter": func(t *testing.T, at string) { require.NoError(t, os.Truncate(at, 10)) },
		"longer": func(t *testing.T, at string) {
			w, err := os.OpenFile(at, os.O_APPEND|os.O_WRONLY, 0)
			require.NoError(t, err)
			_, _ = w.WriteString("x")
			require.NoError(t, w.Close())
		},
		"gone": func(t *testing.T, at string) { require.NoError(t, os.Remove(at)) },
		"another file in its place": func(t *testing.T, at string) {
			require.NoError(t, os.WriteFile(at+".new", []byte(strings.Repeat("mean", 9000)), 0o644))
			require.NoError(t, os.Rename(at+".new", at))
		},
		"a link out of the folder": func(t *testing.T, at string) {
			out := filepath.Join(t.TempDir(), "out")
			require.NoError(t, os.WriteFile(out, []byte(strings.Repeat("main", 9000)), 0o644))
			require.NoError(t, os.Remove(at))
			require.NoError(t, os.Symlink(out, at))
		},
		"the same time set": func(t *testing.T, at string) {
			info, err := os.Stat(at)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(at, []byte(strings.Repeat("mean", 9000)), 0o644))
			require.NoError(t, os.Chtimes(at, info.ModTime(), info.ModTime()))
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir := staged(t)
			f := opened(t, dir)
			told := map[string]int{}
			f.Changed = func(name, _ string) { told[name]++ }
			file, _, err := f.Open("main.img")
			require.NoError(t, err)
			defer file.Close()
			change(t, filepath.Join(dir, "main.img"))
			f.Look()
			assert.Equal(t, map[string]int{"main.img": 1}, told, "at once")
			assert.Error(t, file.Sound(), "what is under way does not come over whole")
			_, _, err = f.Open("main.img")
			var r *transport.Refusal
			require.ErrorAs(t, err, &r)
			assert.Equal(t, transport.Withdrawn, r.Reason)
			_, _, err = f.Open("m.txt")
			assert.NoError(t, err, "the others are still there")
			f.Look()
			assert.Equal(t, 1, told["main.img"], "and told once")
		})
	}
	dir := staged(t)
	f := opened(t, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.img"), []byte(strings.Repeat("main", 9000)), 0o644))
	f.Look()
	file, _, err := f.Open("main.img")
	require.NoError(t, err)
	file.Close()
}

func TestWhatSaysWhatWasStaged(t *testing.T) {
	dir := staged(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "main.img"), []byte("other"), 0o644))
	f := opened(t, dir)
	names, why := f.Withdrawn()
	assert.Equal(t, []string{"main.img"}, names)
	assert.Contains(t, why[0], "5 bytes, and 36000 were staged")

	require.NoError(t, os.Remove(filepath.Join(dir, "STAGED.json")))
	_, err := Open(context.Background(), dir)
	var not *NotStagedError
	require.ErrorAs(t, err, &not)
	assert.Contains(t, err.Error(), "stage first")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "SHA256SUMS"), []byte(sha([]byte("manifest"))+"  ./m.txt\n"), 0o644))
	assert.Equal(t, []string{"m.txt"}, opened(t, dir).Names())
	for _, bad := range []string{"STAGED", `{"fitcheck": {"document": "survey"}, "files": [{"path": "m.txt", "sha256": "` + sha([]byte("manifest")) + `"}]}`, `{"fitcheck": {"document": "staged"}, "files": []}`, `{"fitcheck": {"document": "staged"}, "files": [{"path": "../x", "sha256": "` + sha(nil) + `"}]}`, `{"fitcheck": {"document": "staged"}, "files": [{"path": "m.txt", "sha256": ""}]}`} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "STAGED.json"), []byte(bad), 0o644))
		_, err := Open(context.Background(), dir)
		assert.ErrorContains(t, err, "stage again", bad)
	}
	_, err = Open(context.Background(), filepath.Join(dir, "m.txt"))
	assert.ErrorContains(t, err, "is not a folder")
}

// FuzzNames: whatever is asked for, nothing but a staged file is ever opened.
func FuzzNames(f *testing.F) {
	dir := staged(f)
	folder, err := Open(context.Background(), dir)
	require.NoError(f, err)
	for _, s := range []string{"m.txt", "/m.txt", "../m.txt", "..%2fm.txt", "boot/./b.bin", "secret.txt", "STAGED.json", "m.txt/", "\\m.txt", "boot//..//secret.txt"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, name string) {
		file, own, err := folder.Open(name)
		if err != nil {
			var r *transport.Refusal
			require.ErrorAs(t, err, &r)
			return
		}
		require.Contains(t, folder.Names(), own)
		require.Equal(t, folder.SHA256(own), sha([]byte(read(t, file))))
	})
}

func TestLedger(t *testing.T) {
	f := opened(t, staged(t)) // b.bin is staged for two
	l := NewLedger(f)
	next := uint64(0)
	fetch := func(peer, name string, from, length int64, ends transport.Kind, done int64) transport.Event {
		next++
		e := transport.Event{Kind: transport.Asked, ID: next, Peer: peer, Name: name, Size: f.Size(name), From: from, Length: length}
		l.Take(e)
		e.Kind, e.Done = ends, done
		return l.Take(e)
	}
	whole := func(peer, name string) { fetch(peer, name, 0, f.Size(name), transport.Whole, f.Size(name)) }
	assert.Equal(t, []string{"boot/b.bin was never asked for", "m.txt was never asked for", "main.img was never asked for"}, l.Missing())
	whole("1", "m.txt")
	assert.Equal(t, []string{"m.txt was read, and boot/b.bin was never asked for", "m.txt was read, and main.img was never asked for"}, l.Missing())
	fetch("1", "boot/b.bin", 0, 2000, transport.Broken, 512)
	assert.Equal(t, "boot/b.bin broke off with 1, and was not asked for again", l.Missing()[0])
	whole("1", "boot/b.bin")
	fetch("1", "boot/b.bin", 0, 2000, transport.Broken, 512)
	assert.Equal(t, "boot/b.bin was fetched whole by 1 of 2", l.Missing()[0], "what was whole stays so")
	whole("1", "boot/b.bin")
	assert.False(t, l.Done(), "by the same address, twice is once")
	whole("2", "boot/b.bin")
	// The main image in parts, which overlap, and in any order.
	e := fetch("1", "main.img", 20_000, 16_000, transport.Whole, 16_000)
	assert.True(t, e.Part())
	assert.False(t, l.Done())
	e = fetch("1", "main.img", 0, 15_000, transport.Whole, 15_000)
	assert.True(t, e.Part())
	e = fetch("1", "main.img", 14_000, 7_000, transport.Whole, 7_000)
	assert.False(t, e.Part(), "with it, the file is whole")
	assert.True(t, l.Done())
	assert.Empty(t, l.Missing())
}
