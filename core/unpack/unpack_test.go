package unpack

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/image/format"
	"fitcheck/core/yamlfile"
)

type file struct{ name, data string }

func zipOf(files ...file) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		e, _ := w.Create(f.name)
		e.Write([]byte(f.data))
	}
	w.Close()
	return b.String()
}

func gzOf(data string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Write([]byte(data))
	w.Close()
	return b.String()
}

// uimage is a legacy boot loader image with right checksums.
func uimage(payload string) string {
	h := make([]byte, 64)
	binary.BigEndian.PutUint32(h, 0x27051956)
	binary.BigEndian.PutUint32(h[12:], uint32(len(payload)))
	binary.BigEndian.PutUint32(h[24:], crc32.ChecksumIEEE([]byte(payload)))
	copy(h[28:], "\x05\x02\x02\x01kernel")
	binary.BigEndian.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return string(h) + payload
}

// unpack writes a package and unpacks it; what lies in the folder then is
// returned by name.
func unpack(t *testing.T, into, name, data string, set func(*Options)) (*Result, map[string]string, error) {
	t.Helper()
	p := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(p, []byte(data), 0o644))
	o := Options{Limits: archive.DefaultLimits(), Formats: format.Builtin(), Into: into}
	if set != nil {
		set(&o)
	}
	res, err := Run(context.Background(), p, o)
	return res, tree(t, into), err
}

func tree(t *testing.T, dir string) map[string]string {
	t.Helper()
	out := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		data, err := os.ReadFile(p)
		rel, _ := filepath.Rel(dir, p)
		out[filepath.ToSlash(rel)] = string(data)
		return err
	}))
	return out
}

func glob(t *testing.T, text string) yamlfile.Glob {
	t.Helper()
	var g yamlfile.Glob
	require.NoError(t, g.ReadScalar(text, yamlfile.Spot{Line: 1, Column: 1}))
	return g
}

func TestEverything(t *testing.T) {
	into := filepath.Join(t.TempDir(), "a/new/folder")
	res, got, err := unpack(t, into, "p.zip", zipOf(file{"rel/a.img", "1111"}, file{"in.zip", zipOf(file{"x", "22"})}, file{"b.gz", gzOf("333")}), nil)
	require.NoError(t, err)
	assert.Equal(t, "1111", got["rel/a.img"])
	assert.Equal(t, "22", got["in.zip.unpacked/x"], "nested archives, beside them")
	assert.Equal(t, "333", got["b.gz.unpacked/b"])
	assert.Len(t, got, 5, "and nothing else, no folder of half-written files either")
	require.Len(t, res.Files, 5)
	for _, f := range res.Files {
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256([]byte(got[f.Path]))), f.SHA256, f.Path)
		assert.EqualValues(t, len(got[f.Path]), f.Size)
		assert.False(t, f.There)
	}
	entries, _ := os.ReadDir(into)
	assert.Len(t, entries, 5)
}

func TestOnly(t *testing.T) {
	data := zipOf(file{"rel/a.img", "1"}, file{"rel/b.txt", "2"}, file{"in.zip", zipOf(file{"c.img", "3"})})
	for pattern, want := range map[string][]string{
		"**/*.img":    {"in.zip.unpacked/c.img", "rel/a.img"},
		"rel/*":       {"rel/a.img", "rel/b.txt"},
		"in.zip":      {"in.zip"},
		"in.zip/*":    {"in.zip.unpacked/c.img"},
		"p.zip/rel/*": {"rel/a.img", "rel/b.txt"},
		"none":        nil,
	} {
		_, got, err := unpack(t, t.TempDir(), "p.zip", data, func(o *Options) { o.Only = glob(t, pattern) })
		require.NoError(t, err)
		var names []string
		for n := range got {
			names = append(names, n)
		}
		sort.Strings(names)
		assert.Equal(t, want, names, pattern)
	}
}

func TestParts(t *testing.T) {
	kernel := strings.Repeat("kernel ", 100)
	_, got, err := unpack(t, t.TempDir(), "p.zip", zipOf(file{"k.img", uimage(gzOf(kernel))}), func(o *Options) { o.Parts = true })
	require.NoError(t, err)
	assert.Equal(t, gzOf(kernel), got["k.img.parts/payload"], "as it lies in the image")
	assert.Equal(t, kernel, got["k.img.parts/payload.unpacked"], "and inflated")

	_, got, err = unpack(t, t.TempDir(), "bare.img", uimage("words"), func(o *Options) { o.Parts = true })
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"bare.img.parts/payload": "words"}, got, "the package itself is not written beside itself")
}

func TestNamesThatLeadAstray(t *testing.T) {
	outside := t.TempDir()
	into := filepath.Join(outside, "in")
	res, got, err := unpack(t, into, "p.zip", zipOf(file{"../climbed", "1"}, file{"/absolute", "2"}, file{`C:\drive`, "3"}, file{"a/../../climbed", "4"}, file{"fine", "5"}, file{"x/../inside", "6"}), nil)
	require.NoError(t, err)
	assert.Equal(t, "5", got["fine"])
	assert.NoFileExists(t, filepath.Join(outside, "climbed"))
	for name := range got {
		assert.Contains(t, []string{"fine", "inside"}, name)
	}
	unsafe := 0
	for _, p := range res.Problems {
		if p.Class == archive.Unsafe {
			unsafe++
		}
	}
	assert.GreaterOrEqual(t, unsafe, 4, "each is told")
}

// A link that lies in the way is not followed out of the folder.
func TestLinksInTheWay(t *testing.T) {
	outside, into := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(outside, filepath.Join(into, "rel")))
	p := filepath.Join(t.TempDir(), "p.zip")
	require.NoError(t, os.WriteFile(p, []byte(zipOf(file{"rel/a.img", "1"})), 0o644))
	_, err := Run(context.Background(), p, Options{Limits: archive.DefaultLimits(), Formats: format.Builtin(), Into: into})
	assert.Error(t, err)
	entries, _ := os.ReadDir(outside)
	assert.Empty(t, entries)
}

func TestModes(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("no modes")
	}
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for name, mode := range map[string]int64{"script": 0o755, "setuid": 0o4755, "secret": 0o400, "shut": 0, "folder/deeper/plain": 0o644} {
		w.WriteHeader(&tar.Header{Name: name, Mode: mode, Size: 1})
		w.Write([]byte("x"))
	}
	w.Close()
	into := t.TempDir()
	_, _, err := unpack(t, into, "p.tar", b.String(), nil)
	require.NoError(t, err)
	for name, want := range map[string]fs.FileMode{"script": 0o755, "setuid": 0o755, "secret": 0o600, "shut": 0o644, "folder/deeper/plain": 0o644} {
		info, err := os.Stat(filepath.Join(into, name))
		require.NoError(t, err)
		assert.Equal(t, want, info.Mode(), name)
	}
	plain := filepath.Join(t.TempDir(), "as the system makes them")
	require.NoError(t, os.Mkdir(plain, 0o755))
	like, err := os.Stat(plain)
	require.NoError(t, err)
	for _, name := range []string{"folder", "folder/deeper"} {
		info, err := os.Stat(filepath.Join(into, name))
		require.NoError(t, err)
		assert.Equal(t, like.Mode(), info.Mode(), name)
	}
}

func TestDamagedIsNotWritten(t *testing.T) {
	data := []byte(zipOf(file{"good", "1"}, file{"bad", strings.Repeat("abc", 100)}))
	at := bytes.Index(data, []byte("bad")) + 5
	data[at] ^= 0x55
	res, got, err := unpack(t, t.TempDir(), "p.zip", string(data), nil)
	require.NoError(t, err)
	assert.Equal(t, "1", got["good"])
	assert.NotContains(t, got, "bad", "never a file that is not what was packed")
	require.NotEmpty(t, res.Problems)
	assert.Equal(t, archive.Damaged, res.Problems[0].Class)
}

func TestFilesInTheWay(t *testing.T) {
	into := t.TempDir()
	data := zipOf(file{"same", "1"}, file{"other", "2"}, file{"new", "3"})
	require.NoError(t, os.WriteFile(filepath.Join(into, "same"), []byte("1"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(into, "other"), []byte("mine"), 0o644))
	_, got, err := unpack(t, into, "p.zip", data, nil)
	var conflict *ConflictError
	require.True(t, errors.As(err, &conflict), "%v", err)
	assert.Equal(t, []string{"other"}, conflict.Paths)
	assert.Equal(t, map[string]string{"same": "1", "other": "mine"}, got, "all or none")

	res, got, err := unpack(t, into, "p.zip", data, func(o *Options) { o.Replace = true })
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"same": "1", "other": "2", "new": "3"}, got)
	for _, f := range res.Files {
		assert.Equal(t, f.Path == "same", f.There, f.Path)
	}

	require.NoError(t, os.Remove(filepath.Join(into, "other")))
	require.NoError(t, os.MkdirAll(filepath.Join(into, "other/deep"), 0o755))
	_, _, err = unpack(t, into, "p.zip", data, func(o *Options) { o.Replace = true })
	assert.ErrorAs(t, err, &conflict, "a folder is never replaced by a file")
}

func TestBoundLeavesNothing(t *testing.T) {
	into := t.TempDir()
	_, got, err := unpack(t, into, "p.zip", zipOf(file{"a", "1"}, file{"b", strings.Repeat("2", 1<<20)}), func(o *Options) { o.Limits.Bytes = 1 << 19 })
	var bound *archive.BoundError
	require.ErrorAs(t, err, &bound)
	assert.Empty(t, got)
	entries, _ := os.ReadDir(into)
	assert.Empty(t, entries, "temporary files are gone")
}

func TestBrokenOff(t *testing.T) {
	p := filepath.Join(t.TempDir(), "p.zip")
	require.NoError(t, os.WriteFile(p, []byte(zipOf(file{"a", "1"})), 0o644))
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	into := t.TempDir()
	_, err := Run(ctx, p, Options{Limits: archive.DefaultLimits(), Formats: format.Builtin(), Into: into})
	assert.ErrorIs(t, err, context.Canceled)
	entries, _ := os.ReadDir(into)
	assert.Empty(t, entries)
}

func TestNoSuchPackage(t *testing.T) {
	into := filepath.Join(t.TempDir(), "new")
	_, err := Run(context.Background(), filepath.Join(t.TempDir(), "gone.zip"), Options{Into: into})
	var open *archive.OpenError
	assert.ErrorAs(t, err, &open)
	assert.NoDirExists(t, into, "nothing is created for a package that is not there")
}
