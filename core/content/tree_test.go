package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// listing writes of every file what a file system is to keep of it: "path" to
// "mode size digest", "mode -> target" of a link.
type listing map[string]string

func describe(mode fs.FileMode, size int64, sum [32]byte, target string) string {
	switch {
	case mode&fs.ModeSymlink != 0:
		return fmt.Sprintf("%v -> %s", mode, target)
	case mode.IsRegular():
		return fmt.Sprintf("%v %d %x", mode, size, sum)
	}
	return mode.String()
}

// onDisk lists a folder.
func onDisk(t *testing.T, dir string) listing {
	t.Helper()
	out := listing{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		if p == dir {
			return nil
		}
		info, err := e.Info()
		require.NoError(t, err)
		rel, _ := filepath.Rel(dir, p)
		var sum [32]byte
		var target string
		switch {
		case info.Mode().IsRegular():
			data, err := os.ReadFile(p)
			require.NoError(t, err)
			sum = sha256.Sum256(data)
		case info.Mode()&fs.ModeSymlink != 0:
			target, err = os.Readlink(p)
			require.NoError(t, err)
		}
		out[rel] = describe(info.Mode(), info.Size(), sum, target)
		return nil
	}))
	return out
}

// listed lists a file system, and holds that folders come before what is in them.
func listed(t testing.TB, fsys FileSystem) listing {
	t.Helper()
	out := listing{}
	require.NoError(t, fsys.Walk(context.Background(), func(f *File) error {
		require.NoError(t, f.Err, f.Path)
		if i := strings.LastIndexByte(f.Path, '/'); i >= 0 {
			require.True(t, out[f.Path[:i]] != "", "%s comes before its folder", f.Path)
		}
		require.True(t, out[f.Path] == "", "%s is listed twice", f.Path)
		h := sha256.New()
		if f.Mode.IsRegular() {
			n, err := io.Copy(h, f.Open())
			require.NoError(t, err, f.Path)
			require.Equal(t, f.Size, n, f.Path)
		}
		out[f.Path] = describe(f.Mode, f.Size, [32]byte(h.Sum(nil)), f.Target)
		return nil
	}))
	return out
}

// same holds two listings against each other, and tells the differences alone.
func same(t *testing.T, want, got listing) {
	t.Helper()
	var wrong []string
	for name, w := range want {
		if g := got[name]; g != w {
			wrong = append(wrong, fmt.Sprintf("%s: %q, and it is %q", name, g, w))
		}
	}
	for name, g := range got {
		if _, ok := want[name]; !ok {
			wrong = append(wrong, fmt.Sprintf("%s is not there, and is listed as %q", name, g))
		}
	}
	if len(wrong) > 0 {
		t.Errorf("%d of %d differ:\n%s", len(wrong), len(want), strings.Join(wrong[:min(5, len(wrong))], "\n"))
	}
}

// makeTree fills a folder with what root file systems hold: deep folders, a folder of
// many files, empty, sparse and large files, several names of one, links, long names and
// names beyond ASCII. Of bytes it holds about 4 MiB.
func makeTree(t testing.TB, many int) string {
	t.Helper()
	dir := t.TempDir()
	write := func(name string, data []byte, mode fs.FileMode) {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, data, 0o644))
		require.NoError(t, os.Chmod(p, mode))
	}
	noise := func(seed, n int) []byte { // that packs badly
		b := make([]byte, 0, n+32)
		for i := 0; len(b) < n; i++ {
			sum := sha256.Sum256(fmt.Appendf(nil, "%d %d", seed, i))
			b = append(b, sum[:]...)
		}
		return b[:n]
	}
	write("etc/os-release", []byte("NAME=Tramline\nVERSION_ID=8.4.2\n"), 0o644)
	write("empty", nil, 0o600)
	write("bin/tool", bytes.Repeat([]byte("tool code "), 30000), 0o755|fs.ModeSetuid)
	write("bin/group", noise(1, 70000), 0o755|fs.ModeSetgid)
	write("bin/large", append(noise(2, 1<<20), bytes.Repeat([]byte("more of it"), 1<<17)...), 0o755)
	write("lib/exact", noise(3, 128<<10), 0o644)
	write("lib/one-more", noise(4, 128<<10+1), 0o444)
	for i := range 250 {
		write(fmt.Sprintf("share/%d/%03d.txt", i%7, i), bytes.Repeat(fmt.Appendf(nil, "line %d\n", i), i*3), 0o640)
	}
	for i := range many {
		write(fmt.Sprintf("many/file-%05d", i), fmt.Appendf(nil, "%d", i), 0o644)
	}
	write(strings.Repeat("deep/", 40)+"down", []byte("deep"), 0o644)
	write("names/"+strings.Repeat("x", 255), []byte("long"), 0o644)
	write("names/Straße 7 – größer 日本", []byte("utf-8"), 0o644)
	require.NoError(t, os.Mkdir(filepath.Join(dir, "tmp"), 0o755))
	require.NoError(t, os.Chmod(filepath.Join(dir, "tmp"), 0o777|fs.ModeSticky))
	sparse, err := os.Create(filepath.Join(dir, "sparse"))
	require.NoError(t, err)
	_, err = sparse.WriteAt([]byte("far out"), 1<<20+77)
	require.NoError(t, err)
	require.NoError(t, sparse.Truncate(2<<20+5))
	require.NoError(t, sparse.Close())
	require.NoError(t, os.Link(filepath.Join(dir, "bin/large"), filepath.Join(dir, "lib/same")))
	require.NoError(t, os.Symlink("../bin/tool", filepath.Join(dir, "lib/link")))
	require.NoError(t, os.Symlink("/etc/"+strings.Repeat("long/", 30), filepath.Join(dir, "etc/far")))
	require.NoError(t, mkfifo(filepath.Join(dir, "tmp/pipe"), 0o600))
	return dir
}

// run calls a general tool; the test is skipped where it is missing.
func run(t testing.TB, name string, args ...string) {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("%s is not installed", name)
	}
	out, err := exec.Command(name, args...).CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
}

func open(t testing.TB, format, file string) FileSystem {
	t.Helper()
	f, err := os.Open(file)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	info, err := f.Stat()
	require.NoError(t, err)
	fsys, err := Open(format, f, info.Size())
	require.NoError(t, err)
	return fsys
}

// readAll walks a file system and reads its files, within a bound; it gives the first error.
func readAll(format string, data []byte) error {
	fsys, err := Open(format, bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return err
	}
	left := int64(64 << 20)
	var first error
	err = fsys.Walk(context.Background(), func(f *File) error {
		if first == nil {
			first = f.Err
		}
		if left -= 1 << 10; left < 0 {
			return io.ErrShortBuffer
		}
		if f.Mode.IsRegular() {
			n, err := io.Copy(io.Discard, io.LimitReader(f.Open(), left))
			if left -= n; err != nil && first == nil {
				first = err
			}
		}
		return nil
	})
	if err == nil {
		err = first
	}
	return err
}

// fuzz holds that whatever is read as a file system ends in damage or what is not served,
// or well.
func fuzz(f *testing.F, format string, seeds ...[]byte) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		err := readAll(format, data)
		var d *Damage
		var u *Unsupported
		if err != nil && err != io.ErrShortBuffer && !errors.As(err, &d) && !errors.As(err, &u) {
			t.Fatal(err)
		}
	})
}
