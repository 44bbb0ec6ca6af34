package archive

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// glance is a visitor that wants of every item no more than its beginning.
type glance struct{ notes }

type glanceSink struct{ *noteSink }

func (glanceSink) Skip() bool { return true }

func (s glanceSink) End(c *Content, problems []Problem) error {
	s.n.mu.Lock()
	defer s.n.mu.Unlock()
	how := ""
	if c.Skipped() {
		how += " skipped"
	}
	if c.Unread() {
		how += " unread"
	}
	if c.Unsized() {
		how += " of no known size"
	}
	s.n.content[s.it.Address] = fmt.Sprintf("%d of %d bytes came%s", s.Len(), c.Size(), how)
	s.n.items = append(s.n.items, s.it)
	s.n.problems = append(s.n.problems, problems...)
	return nil
}

func (g *glance) Begin(it *Item, head []byte) Sink {
	return glanceSink{g.notes.Begin(it, head).(*noteSink)}
}

// TestWhatAQuickLookReads holds what of packages of every kind comes to a visitor that wants the beginnings only, and what is said of
// the rest, against testdata/quick.txt.
func TestWhatAQuickLookReads(t *testing.T) {
	all := samples(t)
	maps.Copy(all, pagetest.Images(t, "."))
	text := func(n int) string { return strings.Repeat("tram", n/4+1)[:n] }
	members := []file{{"first.img", text(1000)}, {"large.img", text(QuickBytes * 3 / 2)}, {"dir/third.img", text(2000)}, {"inner.zip", string(zipOf(file{"x", text(slowBytes)}, file{"y", "1"}))}, {"last.img", text(QuickBytes + 1)}}
	tar := tarOf(members...)
	all["large.tar"], all["large.zip"], all["large.7z"] = tar, zipOf(members...), solidSevenZipOf(members...)
	for _, method := range []string{"gz", "xz", "lzma", "lz4", "zst"} {
		all["large.tar."+method] = streamOf(t, method, tar)
		all["large.bin."+method] = streamOf(t, method, []byte(text(QuickBytes)))
		all["larger.bin."+method] = streamOf(t, method, []byte(text(QuickBytes+1)))
		all["slow.bin."+method] = streamOf(t, method, []byte(text(slowBytes+1)))
	}
	all["large.tar.gz.gz"] = gzOf("", all["large.tar.gz"])
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(all)) {
		p := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(p, all[name], 0o644))
		g := &glance{notes{content: map[string]string{}}}
		err := Walk(context.Background(), p, DefaultLimits(), g)
		fmt.Fprintf(&b, "## %s\n", name)
		if err != nil {
			fmt.Fprintf(&b, "error: %v\n", err)
		}
		slices.SortFunc(g.items, func(a, b *Item) int {
			if a.Before(b) {
				return -1
			}
			return 1
		})
		for _, it := range g.items {
			fmt.Fprintf(&b, "%s %s: %s, %d told\n", it.Address, it.Container, g.content[it.Address], it.Size)
		}
		slices.SortFunc(g.problems, func(a, b Problem) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
		for _, p := range g.problems {
			fmt.Fprintf(&b, "- %s: %s: %s; %s\n", p.Class, p.Item, p.What, p.Advice)
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "quick.txt"), b.String())
}

// solidSevenZipOf packs files uncompressed, all of them in one stream (7zFormat.txt).
func solidSevenZipOf(files ...file) []byte {
	number := func(n int) []byte { // of at most 28 bits
		switch {
		case n < 1<<7:
			return []byte{byte(n)}
		case n < 1<<14:
			return []byte{byte(0x80 | n>>8), byte(n)}
		}
		return []byte{byte(0xe0 | n>>24), byte(n), byte(n >> 8), byte(n >> 16)}
	}
	var data, h bytes.Buffer
	for _, f := range files {
		data.WriteString(f.data)
	}
	h.Write([]byte{1, 4, 6, 0, 1, 9}) // header, streams, one packed stream from 0 on, sizes
	h.Write(number(data.Len()))
	h.Write([]byte{0, 7, 11, 1, 0, 1, 1, 0, 12}) // end; one folder of one coder: copy; unpacked sizes
	h.Write(number(data.Len()))
	h.Write([]byte{0, 8, 13}) // end; files in the folder
	h.Write(number(len(files)))
	h.WriteByte(9)
	for _, f := range files[:len(files)-1] {
		h.Write(number(len(f.data)))
	}
	h.Write([]byte{10, 1}) // checksums of all
	for _, f := range files {
		h.Write(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(f.data))))
	}
	return endSevenZip(&h, data.Bytes(), number, files)
}
