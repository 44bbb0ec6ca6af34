package format_test

import (
	"bytes"
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/core/image/imagetest"
	"fitcheck/internal/pagetest"
)

// TestWhatIsRead holds all that is read of each sample, and what is said of it when it is damaged, against the page
// testdata/read.txt, so that a change of what is said is seen.
func TestWhatIsRead(t *testing.T) {
	page := filepath.Join("testdata", "read.txt")
	var b strings.Builder
	for _, s := range turnable() {
		fmt.Fprintf(&b, "## %s, %d bytes\n", s.name, len(s.data))
		m := readSample(t, s.data)
		tell(&b, "", m)
		for _, c := range m.Covers(int64(len(s.data))) {
			fmt.Fprintf(&b, "proved %v by %s: %s, holds %v, padding %v\n", c.Stretch, c.By, c.Of, c.Holds, c.Padding)
		}
		told := map[string]bool{}
		var sum pagetest.Sum
		damaged := func(what string, data []byte) {
			m := readSample(t, data)
			if m == nil {
				return
			}
			for _, kind := range []struct {
				word string
				all  []string
			}{{"damaged", m.Damaged()}, {"unread", m.AllUnread()}, {"note", m.AllNotes()}} {
				for _, text := range kind.all {
					sum.Add("%s: %s: %s", what, kind.word, text)
					if alike := digits.ReplaceAllString(text, "…"); !told[alike] {
						told[alike] = true
						fmt.Fprintf(&b, "%s: %s: %s\n", what, kind.word, text)
					}
				}
			}
		}
		damaged("sound", s.data)
		for _, f := range m.Fields {
			if int(f.Offset)+len(f.Raw) > len(s.data) || len(f.Raw) == 0 {
				continue
			}
			for _, turn := range []byte{0x01, 0x80} {
				other := bytes.Clone(s.data)
				other[f.Offset] ^= turn
				damaged(fmt.Sprintf("%s ^%02x", f.Name, turn), other)
			}
		}
		for _, at := range []int{len(s.data) / 8, len(s.data) / 2, len(s.data) - 1} {
			damaged(fmt.Sprintf("cut at %d", at), s.data[:at])
		}
		damaged("with bytes behind it", append(bytes.Clone(s.data), bytes.Repeat([]byte("tram"), 100)...))
		damaged("with FF behind it", append(bytes.Clone(s.data), bytes.Repeat([]byte{0xff}, 100)...))
		fmt.Fprintf(&b, "in all %s\n\n", &sum)
	}
	pagetest.Hold(t, page, b.String())
}

// digits are those of checksums and sizes; what differs in them alone is told once.
var digits = regexp.MustCompile(`[0-9a-f]{3,}`)

func readSample(t *testing.T, data []byte) *image.Image {
	_, m, err := imagetest.Read(format.Builtin(), data, archive.DefaultLimits())
	require.NoError(t, err)
	return m
}

// tell writes all that is read of an image.
func tell(b *strings.Builder, indent string, m *image.Image) {
	if m == nil {
		return
	}
	line := func(format string, args ...any) { fmt.Fprintf(b, indent+format+"\n", args...) }
	line("%s, %d bytes, compression %q", m.Format, m.Extent, m.Compression)
	if m.EraseBlock > 0 {
		line("erase block of %d bytes", m.EraseBlock)
	}
	if m.Load != nil {
		line("load %#x", *m.Load)
	}
	if m.Entry != nil {
		line("entry %#x", *m.Entry)
	}
	for _, f := range m.Fields {
		line("field %s at %d, %d bytes: %q %q", f.Name, f.Offset, len(f.Raw), f.Value, f.Meaning)
	}
	for _, f := range m.Facts {
		line("fact %s %q at %d, %d bytes, protected %v, payload %v", f.About, f.Value, f.Source.Offset, f.Source.Size, f.Protected, f.Payload)
	}
	for _, s := range m.Sums {
		line("sum %s at %d over %v but %v: OK %v", s.What, s.At, s.Over, s.Zeroed, s.OK)
		if len(s.Covers) > 0 {
			line("  covers %v", s.Covers)
		}
	}
	for _, c := range m.Configs {
		line("configuration %s, default %v: %v starts %v, program %v", c.Name, c.Default, c.Images, c.Starts, c.Program)
		for _, f := range c.Facts {
			line("  fact %s %q at %d", f.About, f.Value, f.Source.Offset)
		}
	}
	for _, s := range m.Signatures {
		line("signature at %d", s.Source.Offset)
	}
	if len(m.Uncovered) > 0 {
		line("uncovered %v", m.Uncovered)
	}
	if m.Behind != nil {
		line("behind it %+v", *m.Behind)
	}
	if c := m.Contents; c != nil {
		line("contents: %d files, %d folders, %d links, %d devices, %d set-id, %d bytes, %d deep", c.Files, c.Folders, c.Links, c.Devices, c.SetID, c.Bytes, c.Depth)
		for _, f := range c.Facts {
			line("  fact %s %q", f.About, f.Value)
		}
	}
	for _, p := range m.Parts {
		line("part %s at %d, %d bytes: %s %s, %d unpacked of %d, check %q, starts %v, scattered %v, opaque %v, said %s", p.Name, p.Offset, p.Size, p.Kind, p.Compression, p.Unpacked, p.Packed, p.Check, p.Starts, p.Scattered, p.Opaque, said(p.Said))
		tell(b, indent+"  ", p.Image)
	}
}

func said(s image.Said) string {
	out := fmt.Sprintf("%q", []string{s.Title, s.Type, s.OS, s.Arch, s.Compression})
	for _, v := range []*uint64{s.Load, s.Entry} {
		if v != nil {
			out += fmt.Sprintf(" %#x", *v)
		}
	}
	return out
}
