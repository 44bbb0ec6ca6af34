package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/draft"
	"fitcheck/core/wording"
	"fitcheck/core/yamlfile"
	"fitcheck/internal/present/page"
)

// CheckedFile is a file that people write, and what is wrong with it.
type CheckedFile struct {
	Path, Kind string
	Errors     yamlfile.Errors
	// Warnings are about what can be read and is hardly meant.
	Warnings yamlfile.Errors
	// Guesses are the lines that a draft guessed, and nobody has confirmed.
	Guesses []int
}

// CheckedPage tells how the files came out: those with faults first.
func CheckedPage(files []CheckedFile) *page.Page {
	p := &page.Page{Name: "Checked files"}
	order := slices.Clone(files)
	slices.SortStableFunc(order, func(a, b CheckedFile) int {
		return cmp.Or(cmp.Compare(min(1, len(b.Errors)), min(1, len(a.Errors))), cmp.Compare(min(1, len(b.Warnings)), min(1, len(a.Warnings))))
	})
	for _, f := range order {
		t := page.Title{Word: "SOUND", Tone: page.Good, Text: fmt.Sprintf("%s, a %s", f.Path, f.Kind)}
		if len(f.Errors) > 0 {
			t.Word, t.Tone = strings.ToUpper(wording.Count(len(f.Errors), "error")), page.Bad
		} else if len(f.Warnings) > 0 {
			t.Text += ", with " + wording.Count(len(f.Warnings), "warning")
		}
		if n := len(f.Guesses); n > 0 {
			t.About = append(t.About, page.Item{Tone: page.Doubt, Text: fmt.Sprintf("%s still to be confirmed, the first in line %d: until its mark # GUESS is taken away, a line decides nothing", map[bool]string{true: "1 guess", false: fmt.Sprintf("%d guesses", n)}[n == 1], f.Guesses[0])})
		}
		p.Add(t)
		l := page.List{Most: faultsShown, Flag: page.All}
		for _, e := range f.Errors {
			l.Items = append(l.Items, faultItem(e, page.Span{Text: "!", Tone: page.Bad}))
		}
		for _, e := range f.Warnings {
			l.Items = append(l.Items, faultItem(e, page.Span{Text: "?", Tone: page.Doubt}))
		}
		if len(l.Items) > 0 {
			p.Add(l)
		}
	}
	return p
}

// faultsShown is how many faults of a file are told at a glance.
const faultsShown = 12

func faultItem(e *yamlfile.Error, mark page.Span) page.Item {
	it := page.Item{Marks: []page.Span{mark}, Text: fmt.Sprintf("%s:%d:%d: %s", e.File, e.Spot.Line, e.Spot.Column, e.Message)}
	if e.Advice != "" {
		it.Under = []page.Item{{Marks: []page.Span{{Text: "->"}}, Text: e.Advice}}
	}
	return it
}

func init() {
	form(func() any { return CheckedJSON(nil) })
	form(func() any { return DraftJSON(&draft.Draft{}) })
}

// CheckedJSON is the document "rulebook check".
func CheckedJSON(files []CheckedFile) any {
	type fault struct {
		Line    int    `json:"line"`
		Column  int    `json:"column"`
		Message string `json:"message"`
		Advice  string `json:"advice,omitempty"`
	}
	type file struct {
		File     string  `json:"file"`
		Kind     string  `json:"kind"`
		Sound    bool    `json:"sound"`
		Errors   []fault `json:"errors"`
		Warnings []fault `json:"warnings"`
		Guesses  []int   `json:"guesses"`
	}
	doc := struct {
		Fitcheck about  `json:"fitcheck"`
		Files    []file `json:"files"`
	}{about{"rulebook check", Edition}, []file{}}
	for _, f := range files {
		j := file{f.Path, f.Kind, len(f.Errors) == 0, []fault{}, []fault{}, append([]int{}, f.Guesses...)}
		for _, e := range f.Errors {
			j.Errors = append(j.Errors, fault{e.Spot.Line, e.Spot.Column, e.Message, e.Advice})
		}
		for _, e := range f.Warnings {
			j.Warnings = append(j.Warnings, fault{e.Spot.Line, e.Spot.Column, e.Message, e.Advice})
		}
		doc.Files = append(doc.Files, j)
	}
	return doc
}

// DraftJSON is the document "rulebook draft".
func DraftJSON(d *draft.Draft) any {
	return struct {
		Fitcheck about    `json:"fitcheck"`
		Text     string   `json:"text"`
		Guesses  []string `json:"guesses"`
		Notes    []string `json:"notes,omitempty"`
	}{about{"rulebook draft", Edition}, d.YAML(), d.Guesses(), d.Notes}
}
