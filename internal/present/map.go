package present

import (
	"fmt"
	"strings"

	"fitcheck/core/image"
)

// regionMarks are the letters and colours of the strip.
var regionMarks = map[string]struct {
	letter string
	style  style
	words  string
}{
	"image":  {"#", good, "image"},
	"zeros":  {"0", faint, "zeros"},
	"erased": {".", faint, "erased flash (FF)"},
	"text":   {"t", info, "text"},
	"random": {"%", doubt, "compressed or encrypted"},
	"data":   {"-", plain, "other data"},
}

// stripOrder is the order of the legend; where regions share a cell of the
// strip, what comes first here is shown.
var stripOrder = []string{"image", "text", "random", "data", "zeros", "erased"}

// maxShown is how many regions are listed.
const maxShown = 64

// deepMap draws what lies where in a blob: a strip from its first byte to its
// last, then the regions.
func (s *Screen) deepMap(regions []image.Region, size int64, indent int) {
	if len(regions) == 0 {
		return
	}
	width := 80
	if s.Width > 0 {
		width = max(20, min(120, s.Width-indent-2))
	}
	cells := make([]string, width)
	for i := range cells {
		from, to := size*int64(i)/int64(width), max(size*int64(i)/int64(width)+1, size*int64(i+1)/int64(width))
		for _, want := range stripOrder {
			if covers(regions, want, from, to) {
				cells[i] = want
				break
			}
		}
	}
	lead := strings.Repeat(" ", indent)
	var strip strings.Builder
	for i := 0; i < len(cells); {
		j := i
		for j < len(cells) && cells[j] == cells[i] {
			j++
		}
		m := regionMarks[cells[i]]
		strip.WriteString(s.paint(m.style, strings.Repeat(m.letter, j-i)))
		i = j
	}
	fmt.Fprintf(s.Out, "%s[%s]\n", lead, strip.String())
	var legend []string
	for _, want := range stripOrder {
		if covers(regions, want, 0, size) {
			legend = append(legend, regionMarks[want].letter+" "+regionMarks[want].words)
		}
	}
	s.line(indent, faint, strings.Join(legend, "   "))
	const columns = 40 // of what stands in front of the words
	for i, r := range regions {
		if i == maxShown {
			s.line(indent, faint, fmt.Sprintf("and %d more", len(regions)-i))
			break
		}
		t := fmt.Sprintf("0x%08x up to 0x%08x  %s", r.From, r.To, pad(Bytes(r.To-r.From), 11))
		if r.Image == nil {
			s.line(indent, plain, t+regionMarks[r.What].words)
			continue
		}
		what := r.Kind
		if facts := headerFacts(r.Image); facts != "" {
			what += ": " + facts
		}
		if sums := checksums(r.Image); sums != "" {
			what += "; " + sums
		}
		s.hanging(lead+s.paint(good, t), indent+columns, plain, what)
		for _, p := range partLines(r.Image, "") {
			s.line(indent+columns, faint, p)
		}
	}
}

func covers(regions []image.Region, what string, from, to int64) bool {
	for _, r := range regions {
		if r.What == what && r.From < to && r.To > from {
			return true
		}
	}
	return false
}
