package present

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"fitcheck/core/survey"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Report is a page of an answer that is written to a file, with what the packages hold.
type Report struct {
	Page    *page.Page
	Surveys []*survey.Survey
	Made    time.Time
	Version string
}

// maxReported bounds the items of one package that a report lists.
const maxReported = 500

// HTML writes the report as one page that needs nothing else.
func (r Report) HTML(w io.Writer) error { return page.HTML(w, r.made(), r.pages()...) }

// Markdown writes the report as Markdown.
func (r Report) Markdown(w io.Writer) error { return page.Markdown(w, r.made(), r.pages()...) }

// Text writes the report as plain text of 100 columns, unfolded.
func (r Report) Text(w io.Writer) error {
	s := page.Screen{Out: w, Width: 100, Open: []string{page.Why, page.All}}
	for _, p := range r.pages() {
		s.Show(p)
	}
	_, err := fmt.Fprintf(w, "\n%s\n", r.made())
	return err
}

func (r Report) made() string {
	t := "Made by Fit Check " + r.Version
	if !r.Made.IsZero() {
		t += ", " + r.Made.UTC().Format("2006-01-02 15:04 UTC")
	}
	return t + `. It never says "fits" on a guess: what is unknown is unsettled.`
}

func (r Report) pages() []*page.Page {
	out := []*page.Page{r.Page}
	for _, s := range r.Surveys {
		out = append(out, &page.Page{Blocks: []page.Block{tree(s)}})
	}
	return out
}

// tree lists the items of a package.
func tree(s *survey.Survey) page.Fold {
	t := page.Table{Columns: []page.Column{{Title: "item", Fitting: page.CutFront}, {Title: "kind"}, {Title: "size", Right: true}, {Title: "what it is", Fitting: page.Wrap}, {Title: "problems", Fitting: page.Wrap}}}
	for i, it := range s.Items {
		if i == maxReported {
			t.Rows = append(t.Rows, []page.Span{{Text: fmt.Sprintf("and %d more", len(s.Items)-i), Tone: page.Faint}, {}, {}, {}, {}})
			break
		}
		name := it.Name
		if name == "" {
			name = it.Address
		}
		says := slices.DeleteFunc([]string{it.Role, it.Component()}, func(t string) bool { return t == "" })
		if d := it.Digests.Of("sha256"); d != "" {
			says = append(says, "sha256 "+d[:16]+"…")
		}
		var bad []string
		for _, p := range it.Problems {
			bad = append(bad, p.What)
		}
		t.Rows = append(t.Rows, []page.Span{{Text: strings.Repeat("· ", strings.Count(it.Address, "::")) + name}, {Text: it.Title()}, {Text: Bytes(it.Size)}, {Text: strings.Join(says, ", ")}, {Text: strings.Join(bad, "; "), Tone: page.Bad}})
	}
	if !slices.ContainsFunc(t.Rows, func(r []page.Span) bool { return r[4].Text != "" }) {
		t.Columns = t.Columns[:4]
		for i := range t.Rows {
			t.Rows[i] = t.Rows[i][:4]
		}
	}
	title := fmt.Sprintf("What is in %s: %s, %s", s.Name, wording.Count(len(s.Items), "item"), Bytes(s.Size))
	inside := []page.Block{t}
	if d := s.Digests.Of("sha256"); d != "" {
		inside = append([]page.Block{page.Line{Text: "sha256:" + d, Tone: page.Faint}}, inside...)
	}
	return page.Fold{Title: title, Flag: page.Why, Inside: func() []page.Block { return inside }}
}
