package present

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"fitcheck/core/image"
)

// Header is what one file's header says, and the file's size.
type Header struct {
	Path  string
	Title string // of its format, for people
	Size  int64
	Image *image.Image
}

// Header shows every field of a header and each checksum recomputed.
func (s *Screen) Header(h Header, dump bool) {
	m := h.Image
	title := fmt.Sprintf("%s  %s (%s), %s", h.Path, m.Format, h.Title, Bytes(h.Size))
	if len(m.Damaged()) == 0 {
		s.hanging(s.paint(good, "SOUND")+"    ", 9, strong, title)
	} else {
		s.hanging(s.paint(bad, "DAMAGED")+"  ", 9, strong, title)
	}
	for _, d := range m.Damaged() {
		s.hanging("  "+s.paint(bad, "! "), 4, plain, d)
	}
	s.head("Fields")
	rawWidth := 24
	var rows []table.Row
	for _, f := range m.Fields {
		rows = append(rows, table.Row{fmt.Sprintf("0x%04x", f.Offset), len(f.Raw), f.Name, hexText(f.Raw, rawWidth), Safe(f.Value), Safe(f.Meaning)})
	}
	columns := []table.ColumnConfig{{Number: 2, Align: 2}}
	if s.Width > 0 {
		// Value and meaning share what the other columns leave.
		rest := max(30, s.Width-60)
		columns = append(columns, table.ColumnConfig{Number: 5, WidthMax: max(18, rest*2/5), WidthMaxEnforcer: text.WrapSoft},
			table.ColumnConfig{Number: 6, WidthMax: rest - max(18, rest*2/5), WidthMaxEnforcer: text.WrapSoft})
	}
	s.table(table.Row{"offset", "size", "field", "raw", "value", "meaning"}, rows, columns)
	if dump {
		s.head("Bytes")
		s.hexDump(m.Fields)
	}
	if sums := m.AllSums(); len(sums) > 0 {
		s.head("Checksums, recomputed")
		for _, c := range sums {
			verdict := s.paint(good, "holds         ")
			if !c.OK {
				verdict = s.paint(bad, "does NOT match")
			}
			s.hanging("  "+verdict+"  ", 18, plain, fmt.Sprintf("%s: stated %s, computed %s, over 0x%x up to 0x%x", c.What, c.Want, c.Got, c.Over.From, c.Over.To))
		}
	}
	for _, c := range m.Configs {
		s.head("Configuration " + c.Name)
		if c.Default {
			s.line(2, plain, "the default one")
		}
		s.line(2, plain, claimText(c.Facts))
	}
	s.parts(m, 0)
	for _, n := range m.AllNotes() {
		s.hanging("  "+s.paint(info, "note  "), 8, plain, n)
	}
}

// parts lists what lies inside an image, with what its own header says.
func (s *Screen) parts(m *image.Image, depth int) {
	if len(m.Parts) == 0 {
		return
	}
	if depth == 0 {
		s.head("Parts")
	}
	for _, p := range m.Parts {
		s.line(2+2*depth, plain, partText(p))
		if p.Image != nil {
			if t := headerFacts(p.Image); t != "" {
				s.line(6+2*depth, faint, t)
			}
			s.parts(p.Image, depth+1)
		}
	}
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
func (s *Screen) hexDump(fields []image.Field) {
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
	for at := range bytesAt {
		if line := at &^ 15; !slices.Contains(lines, line) {
			lines = append(lines, line)
		}
	}
	slices.Sort(lines)
	for i, line := range lines {
		if i > 0 && line != lines[i-1]+16 {
			s.line(2, faint, "…")
		}
		hexed, shown := hexRow(func(k int64) (byte, bool) {
			b, ok := bytesAt[line+k]
			return b, ok
		})
		fmt.Fprintf(s.Out, "  %s %s  %s\n", s.paint(faint, fmt.Sprintf("%08x", line)), hexed, shown)
		for _, m := range marks[line] {
			from := m.at - line
			lead, bar := underRow(from, min(from+int64(m.size)-1, 15))
			more := ""
			if from+int64(m.size) > 16 {
				more = fmt.Sprintf(", %d bytes", m.size)
			}
			s.hanging(lead+s.paint(info, bar)+" ", 12, faint, m.name+more)
		}
	}
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

// hexText writes bytes in hexadecimal, broken into lines of at most width
// columns.
func hexText(b []byte, width int) string {
	perLine := (width + 1) / 3
	var lines []string
	for len(b) > 0 {
		n := min(perLine, len(b))
		lines = append(lines, fmt.Sprintf("% x", b[:n]))
		b = b[n:]
	}
	return strings.Join(lines, "\n")
}
