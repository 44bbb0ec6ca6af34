package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/image"
	"fitcheck/core/survey"
	"fitcheck/internal/present/page"
)

// regionMark is how a kind of region is drawn and named.
type regionMark struct {
	letter string
	tone   page.Tone
	words  string
}

var regionMarks = map[string]regionMark{
	"image":  {"#", page.Good, "image"},
	"text":   {"t", page.Info, "text"},
	"random": {"%", page.Doubt, "compressed or encrypted"},
	"data":   {"-", page.Plain, "other data"},
	"zeros":  {"0", page.Faint, "zeros"},
	"erased": {".", page.Faint, "erased flash (FF)"},
}

// regionOrder is the order of the legend; where regions share a cell of the strip, what comes
// first here is shown.
var regionOrder = []string{"image", "text", "random", "data", "zeros", "erased"}

// maxRegions is how many regions are listed.
const maxRegions = 64

// deepMap draws what lies where in a blob: a strip from its first byte to its last, then the
// regions.
func deepMap(it *survey.Item) []page.Block {
	if len(it.Map) == 0 {
		return nil
	}
	const indent = 4
	bar := page.Bar{Size: it.Size, Indent: indent}
	var legend []string
	for _, what := range regionOrder {
		m := regionMarks[what]
		bar.Order += m.letter
		if slices.ContainsFunc(it.Map, func(r image.Region) bool { return r.What == what }) {
			legend = append(legend, m.letter+" "+m.words)
		}
	}
	bar.Legend = strings.Join(legend, "   ")
	l := page.List{Most: maxRegions, Indent: indent - 2}
	for _, r := range it.Map {
		m := regionMarks[r.What]
		where := fmt.Sprintf("0x%08x up to 0x%08x", r.From, r.To)
		bar.Pieces = append(bar.Pieces, page.Piece{From: r.From, To: r.To, Letter: m.letter, Tone: m.tone, Title: where + " " + m.words})
		row := page.Item{Marks: []page.Span{{Text: where}, {Text: Bytes(r.To - r.From)}}, Text: m.words}
		if r.Image != nil {
			row.Marks[0].Tone = page.Good
			row.Text = r.Kind
			if facts := headerFacts(r.Image); facts != "" {
				row.Text += ": " + facts
			}
			if sums := checksums(r.Image); sums != "" {
				row.Text += "; " + sums
			}
			for _, p := range partLines(r.Image, "") {
				row.Under = append(row.Under, page.Item{Text: p, Tone: page.Faint})
			}
		}
		l.Items = append(l.Items, row)
	}
	return []page.Block{bar, l}
}
