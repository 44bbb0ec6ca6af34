package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"testing"
	"time"

	"fitcheck/core/content"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// notes records what a walk shows.
type notes struct {
	mu       sync.Mutex
	content  map[string]string // address to content
	items    []*Item
	problems []Problem
	files    []*Item // of file systems
	listed   map[string]content.File
}

type noteSink struct {
	n  *notes
	it *Item
	bytes.Buffer
	kind  string
	files int
}

// Kind, Promote and File make a Lister of it: files of file systems stand beside the items.
func (s *noteSink) Kind() string        { return s.kind }
func (s *noteSink) Promote(string) bool { return false }

func (s *noteSink) File(f *content.File, data io.Reader) error {
	var text []byte
	if data != nil {
		text, _ = io.ReadAll(data)
	}
	s.n.mu.Lock()
	defer s.n.mu.Unlock()
	it := s.it.child(f.Path, f.Size, 1, s.files)
	s.files++
	if s.n.listed == nil {
		s.n.listed = map[string]content.File{}
	}
	s.n.listed[f.Path] = *f
	if s.n.files = append(s.n.files, it); f.Mode.IsRegular() && data != nil {
		s.n.content[it.Address] = string(text)
	}
	return nil
}

func (s *noteSink) End(c *Content, problems []Problem) error {
	s.n.mu.Lock()
	defer s.n.mu.Unlock()
	if int(c.Size()) != s.Len() && !c.Unread() {
		panic("End tells another size than was written")
	}
	s.n.content[s.it.Address] = s.String()
	s.n.items = append(s.n.items, s.it)
	s.n.problems = append(s.n.problems, problems...)
	return nil
}

func (s *noteSink) Sum() string { return fmt.Sprintf("%x", sha256.Sum256(s.Bytes())) }

func (n *notes) Begin(it *Item, head []byte) Sink {
	s := &noteSink{n: n, it: it}
	switch {
	case content.IsCpio(head):
		s.kind = "cpio"
	case bytes.HasPrefix(head, []byte("hsqs")):
		s.kind = "squashfs"
	}
	return s
}

func (n *notes) Report(p Problem) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.problems = append(n.problems, p)
}

func (n *notes) says(class Class, item, what string) bool {
	for _, p := range n.problems {
		if p.Class == class && strings.HasSuffix(p.Item, item) && strings.Contains(p.What, what) {
			return true
		}
	}
	return false
}

func walk(t testing.TB, name string, data []byte, l Limits) (*notes, error) {
	p := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(p, data, 0o644))
	n := &notes{content: map[string]string{}}
	return n, Walk(context.Background(), p, l, n)
}

type file struct{ name, data string }

func zipOf(files ...file) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		e, _ := w.Create(f.name)
		e.Write([]byte(f.data))
	}
	w.Close()
	return b.Bytes()
}

func tarOf(files ...file) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		w.WriteHeader(&tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.data))})
		w.Write([]byte(f.data))
	}
	w.Close()
	return b.Bytes()
}

func gzOf(name string, data []byte) []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Name = name
	w.Write(data)
	w.Close()
	return b.Bytes()
}

func TestWalk(t *testing.T) {
	two := []file{{"a/one", "1111"}, {"two", "22"}}
	for _, c := range []struct {
		name string
		data []byte
		want []string // addresses below the package, in their order
	}{
		{"bare.bin", []byte("bare"), nil},
		{"z.zip", zipOf(two...), []string{"a/one", "two"}},
		{"t.tar", tarOf(two...), []string{"a/one", "two"}},
		{"t.tgz", gzOf("", tarOf(two...)), []string{"a/one", "two"}},
		{"f.gz", gzOf("", []byte("inside")), []string{"f"}},
		{"f.gz", gzOf("given/name.img", []byte("inside")), []string{"name.img"}},
		{"z.zip", zipOf(file{"in.zip", string(zipOf(two...))}, file{"x.tgz", string(gzOf("", tarOf(two...)))}), []string{"in.zip", "in.zip::a/one", "in.zip::two", "x.tgz", "x.tgz::a/one", "x.tgz::two"}},
		{"misnamed.tar", zipOf(two...), []string{"a/one", "two"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			n, err := walk(t, c.name, c.data, DefaultLimits())
			require.NoError(t, err)
			assert.Empty(t, n.problems)
			sort.Slice(n.items, func(i, j int) bool { return n.items[i].Before(n.items[j]) })
			var got []string
			for _, it := range n.items[1:] {
				got = append(got, strings.TrimPrefix(it.Address, c.name+"::"))
			}
			assert.Equal(t, c.want, got)
			assert.Equal(t, string(c.data), n.content[c.name], "every byte of the package itself passes")
			for address, text := range n.content {
				if strings.HasSuffix(address, "::a/one") {
					assert.Equal(t, "1111", text)
				}
			}
		})
	}
}

func TestFolder(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "pkg")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "sub"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "sub/x.zip"), zipOf(file{"a", "1"}), 0o644))
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(dir, "link")))
	n := &notes{content: map[string]string{}}
	require.NoError(t, Walk(context.Background(), dir, DefaultLimits(), n))
	assert.Equal(t, "1", n.content["pkg::sub/x.zip::a"])
	assert.Len(t, n.content, 2)
	assert.True(t, n.says(Unsafe, "pkg::link", "symbolic link"), "%v", n.problems)
}

func TestDamage(t *testing.T) {
	z, tg := zipOf(file{"a", strings.Repeat("abc", 1000)}, file{"b", "2"}), gzOf("", tarOf(file{"a", strings.Repeat("abc", 5000)}))
	flip := func(b []byte, at int) []byte { c := bytes.Clone(b); c[at] ^= 1; return c }
	for _, c := range []struct {
		name string
		data []byte
		item string
		what string
	}{
		{"cut.zip", z[:len(z)-10], "cut.zip", "truncated"},
		{"bit.zip", flip(z, 34), "bit.zip::a", "damaged"},
		{"cut.tgz", tg[:len(tg)-20], "cut.tgz", "truncated"},
		{"crc.tgz", flip(tg, len(tg)-6), "crc.tgz", "CRC-32"},
		{"cut.tar", tarOf(file{"a", strings.Repeat("x", 3000)})[:2000], "cut.tar", "truncated"},
		{"twins.zip", zipOf(file{"a", "1"}, file{"a", "2"}), "twins.zip", "two entries"},
	} {
		n, err := walk(t, c.name, c.data, DefaultLimits())
		require.NoError(t, err, c.name)
		assert.True(t, n.says(Damaged, c.item, c.what), "%s: %v", c.name, n.problems)
		assert.Equal(t, string(c.data), n.content[c.name], "a damaged package is still read to its end, for its digest")
	}
}

func TestBounds(t *testing.T) {
	nested := []byte("core")
	for range 9 {
		nested = zipOf(file{"n.zip", string(nested)})
	}
	bomb := gzOf("", bytes.Repeat([]byte{0}, 4<<20))
	for _, c := range []struct {
		name  string
		data  []byte
		set   func(*Limits)
		bound string
	}{
		{"depth", nested, func(*Limits) {}, "depth"},
		{"items", zipOf(file{"a", ""}, file{"b", ""}, file{"c", ""}), func(l *Limits) { l.Items = 3 }, "items"},
		{"bytes", bomb, func(l *Limits) { l.Bytes = 1 << 20 }, "bytes in all"},
		{"item ratio", bomb, func(l *Limits) { l.ItemFree, l.ItemRatio = 1<<20, 100 }, "ratio"},
		{"total ratio", bomb, func(l *Limits) { l.TotalFree, l.TotalRatio = 1<<20, 100 }, "in all"},
	} {
		l := DefaultLimits()
		c.set(&l)
		_, err := walk(t, c.name, c.data, l)
		var bound *BoundError
		require.True(t, errors.As(err, &bound), "%s: %v", c.name, err)
		assert.Contains(t, bound.Bound, c.bound)
		assert.NotEmpty(t, bound.Item)
	}
}

// meddler changes a file while it is read.
type meddler struct {
	notes
	do func()
}

func (m *meddler) Begin(it *Item, head []byte) Sink {
	m.do()
	return m.notes.Begin(it, head)
}

// A download that has not ended yet is not judged by what was there so far.
func TestFileThatChanges(t *testing.T) {
	for what, change := range map[string]func(p string) error{
		"grows": func(p string) error {
			f, err := os.OpenFile(p, os.O_APPEND|os.O_WRONLY, 0)
			if err == nil {
				_, err = f.Write([]byte("more"))
				f.Close()
			}
			return err
		},
		"shrinks": func(p string) error { return os.Truncate(p, 10) },
		"touched": func(p string) error { return os.Chtimes(p, time.Time{}, time.Unix(1_790_000_000, 0)) },
	} {
		dir := t.TempDir()
		p := filepath.Join(dir, "a.bin")
		require.NoError(t, os.WriteFile(p, bytes.Repeat([]byte("content "), 1000), 0o644))
		for _, name := range []string{p, dir} {
			m := &meddler{notes{content: map[string]string{}}, func() { require.NoError(t, change(p)) }}
			err := Walk(context.Background(), name, DefaultLimits(), m)
			var open *OpenError
			require.ErrorAs(t, err, &open, "%s, read as %s", what, name)
			assert.Contains(t, err.Error(), "changed while it was read", what)
			assert.Contains(t, err.Error(), "wait until the download has ended", what)
			require.NoError(t, os.WriteFile(p, bytes.Repeat([]byte("content "), 1000), 0o644))
		}
	}
}

func TestNotAFile(t *testing.T) {
	err := Walk(context.Background(), filepath.Join(t.TempDir(), "gone"), DefaultLimits(), &notes{})
	assert.ErrorContains(t, err, "no such file")
	err = Walk(context.Background(), os.DevNull, DefaultLimits(), &notes{})
	assert.ErrorContains(t, err, "device, pipe or socket")
}

func TestUnsafeNames(t *testing.T) {
	for name, why := range map[string]string{"../a": "climbs", "a/../../b": "climbs", "/a": "absolute", `C:\a`: "drive", `a\b`: "backslash", "a\x1bb": "control", "a\u202eb": "nobody sees", "a\u200bb": "nobody sees", "": "no name"} {
		_, got := SafeName(name)
		assert.Contains(t, got, why, "%q", name)
	}
	clean, why := SafeName("./a//b..c/d")
	assert.Equal(t, "a/b..c/d", clean)
	assert.Empty(t, why)
}

// Links, devices and pipes are told one by one up to a bound, and the rest counted.
func TestManyLinks(t *testing.T) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := range maxSpecials + 3 {
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: fmt.Sprintf("link-%d", i), Linkname: "/etc/elsewhere"}))
	}
	require.NoError(t, w.Close())
	n, err := walk(t, "p.tar", b.Bytes(), DefaultLimits())
	require.NoError(t, err)
	told := 0
	for _, p := range n.problems {
		if strings.Contains(p.What, "leads out of the package") {
			told++
		}
	}
	assert.Equal(t, maxSpecials, told)
	assert.True(t, n.says(Unsafe, "p.tar", "and 3 more links, devices and pipes"), "%v", n.problems[len(n.problems)-3:])
}
