package present

import (
	"fmt"
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
func (s *Screen) Header(h Header) {
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
		columns = append(columns, table.ColumnConfig{Number: 5, WidthMax: rest * 2 / 5, WidthMaxEnforcer: text.WrapSoft},
			table.ColumnConfig{Number: 6, WidthMax: rest * 3 / 5, WidthMaxEnforcer: text.WrapSoft})
	}
	s.table(table.Row{"offset", "size", "field", "raw", "value", "meaning"}, rows, columns)
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
