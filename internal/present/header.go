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
	Size  int64
	Image *image.Image
}

// Header shows every field of a header and each checksum recomputed.
func (s *Screen) Header(h Header) {
	m := h.Image
	title := fmt.Sprintf("%s  %s (%s), %s", h.Path, m.Format, image.ByName(m.Format).Title, Bytes(h.Size))
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
	if len(m.Integrity) > 0 {
		s.head("Checksums, recomputed")
		for i, c := range m.Integrity {
			over := m.Sums[i].Over
			verdict := s.paint(good, "holds         ")
			if !c.OK {
				verdict = s.paint(bad, "does NOT match")
			}
			s.hanging("  "+verdict+"  ", 18, plain, fmt.Sprintf("%s: stated %s, computed %s, over 0x%x up to 0x%x", c.What, c.Want, c.Got, over.From, over.To))
		}
	}
	if len(m.Parts) > 0 {
		s.head("Parts")
		for _, p := range m.Parts {
			s.line(2, plain, fmt.Sprintf("%s: %s from 0x%x on", p.Name, Bytes(p.Size), p.Offset))
		}
	}
	for _, n := range m.Notes {
		s.hanging("  "+s.paint(info, "note  "), 8, plain, n)
	}
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
