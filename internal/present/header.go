package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/image"
	"fitcheck/internal/present/page"
)

// Header is what one file's header says, and the file's size.
type Header struct {
	Path  string
	Title string // of its format, for people
	Size  int64
	Image *image.Image
}

// fieldRows is how many fields are shown at a glance.
const fieldRows = 24

// HeaderPage tells each checksum recomputed, and every field of a header.
func HeaderPage(h Header, dump bool) *page.Page {
	m := h.Image
	t := page.Title{Word: "SOUND", Tone: page.Good, Text: fmt.Sprintf("%s  %s (%s), %s", h.Path, m.Format, h.Title, Bytes(h.Size))}
	if len(m.Damaged()) > 0 {
		t.Word, t.Tone = "DAMAGED", page.Bad
	}
	for _, d := range m.Damaged() {
		t.About = append(t.About, page.Item{Marks: []page.Span{{Text: "!", Tone: page.Bad}}, Text: d})
	}
	p := &page.Page{Name: h.Path}
	p.Add(t)
	if sums := m.AllSums(); len(sums) > 0 {
		l := page.List{Most: 8, Flag: page.All}
		for _, c := range sums {
			mark := page.Span{Text: "holds", Tone: page.Good}
			if !c.OK {
				mark = page.Span{Text: "does NOT match", Tone: page.Bad}
			}
			computed := "computed " + c.Got
			if c.Missing > 0 {
				mark.Text, computed = "does NOT hold", c.Found()
			}
			l.Items = append(l.Items, page.Item{Marks: []page.Span{mark}, Text: fmt.Sprintf("%s: stated %s, %s, over 0x%x up to 0x%x", c.What, c.Want, computed, c.Over.From, c.Over.To)})
		}
		p.Add(page.Head{Text: "Checksums, recomputed"}, l)
	}
	fields := page.Table{Columns: []page.Column{{Title: "offset"}, {Title: "size", Right: true}, {Title: "field"}, {Title: "raw", Fitting: page.Wrap}, {Title: "value", Fitting: page.Wrap}, {Title: "meaning", Fitting: page.Wrap}}, Most: fieldRows, Flag: page.All, Noun: "fields"}
	for _, f := range m.Fields {
		fields.Rows = append(fields.Rows, []page.Span{{Text: fmt.Sprintf("0x%04x", f.Offset)}, {Text: fmt.Sprint(len(f.Raw))}, {Text: f.Name}, {Text: rawText(f.Raw)}, {Text: f.Value}, {Text: f.Meaning}})
	}
	if len(fields.Rows) > 0 {
		p.Add(page.Head{Text: "Fields"}, fields)
	}
	if dump {
		p.Add(page.Head{Text: "Bytes"}, hexDump(m.Fields))
	}
	for _, c := range m.Configs {
		head := "Configuration " + c.Name
		if c.Default {
			head += ", the default one"
		}
		p.Add(page.Head{Text: head}, page.List{Items: []page.Item{{Text: claimText(c.Facts)}}})
	}
	if parts := parts(m); len(parts) > 0 {
		p.Add(page.Head{Text: "Parts"}, page.List{Items: parts, Most: 16, Flag: page.All})
	}
	var notes page.List
	for _, n := range m.AllNotes() {
		notes.Items = append(notes.Items, page.Item{Marks: []page.Span{{Text: "note", Tone: page.Info}}, Text: n})
	}
	if len(notes.Items) > 0 {
		p.Add(page.Gap{}, notes)
	}
	return p
}

// parts lists what lies inside an image, with what its own header says.
func parts(m *image.Image) []page.Item {
	var out []page.Item
	for _, p := range m.Parts {
		it := page.Item{Text: partText(p)}
		if p.Image != nil {
			if t := headerFacts(p.Image); t != "" {
				it.Under = append(it.Under, page.Item{Text: t, Tone: page.Faint})
			}
			it.Under = append(it.Under, parts(p.Image)...)
		}
		out = append(out, it)
	}
	return out
}

// partText is one line on a part: where, how large, what.
func partText(p image.Part) string {
	t := fmt.Sprintf("%s: %s from 0x%x on", p.Name, Bytes(p.Size), p.Offset)
	if p.Compression != "" {
		t += ", " + p.Compression
	}
	if p.Unpacked > 0 {
		t += fmt.Sprintf(" of %s", Bytes(p.Unpacked))
	}
	if p.Kind != "" {
		t += ", " + p.Kind
	}
	return t
}

// hexDump shows the bytes of the fields, 16 a line, in the order of the file;
// under each line stand the fields that begin in it, each marked where it
// begins and as far as it reaches.
func hexDump(fields []image.Field) page.Pre {
	type mark struct {
		at   int64
		size int
		name string
	}
	bytesAt := map[int64]byte{}
	marks := map[int64][]mark{}
	for _, f := range fields {
		if len(f.Raw) == 0 {
			continue
		}
		line := f.Offset &^ 15
		marks[line] = append(marks[line], mark{f.Offset, len(f.Raw), f.Name})
		for i, b := range f.Raw {
			bytesAt[f.Offset+int64(i)] = b
		}
	}
	var lines []int64
	seen := map[int64]bool{}
	for at := range bytesAt {
		if line := at &^ 15; !seen[line] {
			seen[line] = true
			lines = append(lines, line)
		}
	}
	slices.Sort(lines)
	p := page.Pre{Indent: 2}
	add := func(spans ...page.Span) { p.Lines = append(p.Lines, spans) }
	for i, line := range lines {
		if i > 0 && line != lines[i-1]+16 {
			add(page.Span{Text: "…", Tone: page.Faint})
		}
		hexed, shown := hexRow(func(k int64) (byte, bool) {
			b, ok := bytesAt[line+k]
			return b, ok
		})
		add(page.Span{Text: fmt.Sprintf("%08x", line), Tone: page.Faint}, page.Span{Text: " " + hexed + "  " + shown})
		for _, m := range marks[line] {
			from := m.at - line
			lead, bar := underRow(from, min(from+int64(m.size)-1, 15))
			more := ""
			if from+int64(m.size) > 16 {
				more = fmt.Sprintf(", %d bytes", m.size)
			}
			add(page.Span{Text: lead[2:]}, page.Span{Text: bar, Tone: page.Info}, page.Span{Text: " " + m.name + more, Tone: page.Faint})
		}
	}
	return p
}

// hexRow writes 16 bytes in hexadecimal and as text.
func hexRow(at func(k int64) (byte, bool)) (hexed, shown string) {
	var h, t strings.Builder
	for k := range int64(16) {
		if k == 8 {
			h.WriteByte(' ')
		}
		b, ok := at(k)
		switch {
		case !ok:
			h.WriteString(" ..")
			t.WriteByte(' ')
		case b >= ' ' && b < 0x7f:
			fmt.Fprintf(&h, " %02x", b)
			t.WriteByte(b)
		default:
			fmt.Fprintf(&h, " %02x", b)
			t.WriteByte('.')
		}
	}
	return h.String(), t.String()
}

// underRow marks the bytes from one to another under a row.
func underRow(from, to int64) (lead, bar string) {
	col := func(k int64) int { return int(3*k) + int(k/8) } // of a byte's first digit
	return strings.Repeat(" ", 12+col(from)), strings.Repeat("^", col(to)+2-col(from))
}

// rawText writes bytes in hexadecimal; of many the first.
func rawText(b []byte) string {
	const most = 16
	if len(b) > most {
		return fmt.Sprintf("% x …", b[:most])
	}
	return fmt.Sprintf("% x", b)
}
