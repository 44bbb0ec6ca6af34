package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/draft"
	"fitcheck/core/example"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// ExamplesPage says which examples hold.
func ExamplesPage(all []example.Result) *page.Page {
	wrong, missing := 0, 0
	var items []page.Item
	for _, r := range all {
		switch {
		case r.Missing:
			missing++
			items = append(items, page.Item{Marks: []page.Span{{Text: "?", Tone: page.Doubt}}, Text: fmt.Sprintf("%s: %s: %s", r.Source.Where(), r.Asks, r.Came)})
		case !r.OK:
			wrong++
			items = append(items, page.Item{Marks: []page.Span{{Text: "X", Tone: page.Bad}}, Text: fmt.Sprintf("%s: %s: want %s, came %s", r.Source.Where(), r.Asks, r.Want, r.Came), Tone: page.Bad})
		}
	}
	t := page.Title{Word: "EXAMPLES HOLD", Tone: page.Good, Text: wording.Count(len(all), "example")}
	switch {
	case wrong > 0:
		t = page.Title{Word: "EXAMPLES FAIL", Tone: page.Bad, Text: fmt.Sprintf("%d of %s", wrong, wording.Count(len(all), "example"))}
	case missing > 0:
		t = page.Title{Word: "UNSETTLED", Tone: page.Doubt, Text: fmt.Sprintf("of %d of %s the package or the capture is not at hand", missing, wording.Count(len(all), "example"))}
	}
	p := &page.Page{Name: "Examples"}
	p.Add(t)
	if len(items) > 0 {
		p.Add(page.List{Items: items, Most: 24, Flag: page.All})
	}
	return p
}

func init() {
	form(func() any { return ExamplesJSON(nil) })
	form(func() any { return TriedJSON([]*example.Tried{}) })
	form(func() any { return ImportedJSON(&draft.Imported{}, "") })
}

// ExamplesJSON is the document of rulebook test.
func ExamplesJSON(all []example.Result) any {
	type one struct {
		Where   string `json:"where"`
		Asks    string `json:"asks"`
		OK      bool   `json:"ok"`
		Want    string `json:"want"`
		Came    string `json:"came"`
		Missing bool   `json:"missing,omitempty"`
	}
	out := struct {
		Fitcheck about `json:"fitcheck"`
		Examples []one `json:"examples"`
	}{about{"rulebook test", Edition}, []one{}}
	for _, r := range all {
		out.Examples = append(out.Examples, one{r.Source.Where(), r.Asks, r.OK, r.Want, r.Came, r.Missing})
	}
	return out
}

// TriedPage shows what patterns caught, what none read, and which are silent.
func TriedPage(all []*example.Tried) *page.Page {
	p := &page.Page{Name: "Patterns tried"}
	for i, t := range all {
		if i > 0 {
			p.Add(page.Rule{})
		}
		title := page.Title{Word: "TRIED", Tone: page.Good, Text: fmt.Sprintf("%s: %s caught something; %s read by none; %s silent", t.File, wording.Count(len(patternsOf(t)), "pattern"), wording.Count(len(t.Unread), "line"), wording.Count(len(t.Silent), "pattern"))}
		if len(t.Caught) == 0 {
			title.Tone = page.Doubt
		}
		p.Add(title)
		if len(t.Caught) > 0 {
			table := page.Table{Columns: []page.Column{{Title: "pattern", Fitting: page.CutFront}, {Title: "value", Fitting: page.Cut}, {Title: "where", Fitting: page.CutFront}, {Title: "text", Fitting: page.Cut}}, Most: 24, Flag: page.All, Noun: "catch"}
			for _, c := range t.Caught {
				table.Rows = append(table.Rows, []page.Span{{Text: c.Pattern, Tone: page.Strong}, {Text: values(c.Values)}, {Text: c.Where, Tone: page.Faint}, {Text: c.Text}})
			}
			p.Add(table)
		}
		if len(t.Unread) > 0 {
			l := page.List{Most: 10, Flag: page.All}
			for _, u := range t.Unread {
				it := page.Item{Marks: []page.Span{{Text: "?", Tone: page.Doubt}}, Text: fmt.Sprintf("%s: %s", u.Where, u.Text)}
				if u.Nearest != "" {
					it.Under = []page.Item{{Text: "the nearest pattern is " + u.Nearest, Tone: page.Faint}}
				}
				l.Items = append(l.Items, it)
			}
			p.Add(page.Head{Text: "read by no pattern"}, l)
		}
		if len(t.Silent) > 0 {
			l := page.List{Most: 10, Flag: page.All}
			for _, s := range t.Silent {
				it := page.Item{Marks: []page.Span{{Text: "-", Tone: page.Faint}}, Text: fmt.Sprintf("%s  %s", s.Pattern, s.Regexp)}
				if s.Nearest != "" {
					it.Under = []page.Item{{Text: fmt.Sprintf("the nearest line is %q (%s)", s.Nearest, s.Where), Tone: page.Faint}}
				}
				l.Items = append(l.Items, it)
			}
			p.Add(page.Head{Text: "patterns that catch nothing here"}, l)
		}
	}
	return p
}

func patternsOf(t *example.Tried) []string {
	var out []string
	for _, c := range t.Caught {
		if !slices.Contains(out, c.Pattern) {
			out = append(out, c.Pattern)
		}
	}
	return out
}

func values(of map[string]string) string {
	var out []string
	for k, v := range of {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

type jsonCaught struct {
	Pattern string            `json:"pattern"`
	Where   string            `json:"where"`
	Text    string            `json:"text"`
	Values  map[string]string `json:"values"`
}

type jsonUnread struct {
	Where   string `json:"where"`
	Text    string `json:"text"`
	Nearest string `json:"nearest,omitempty"`
}

type jsonSilent struct {
	Pattern string `json:"pattern"`
	Regexp  string `json:"regexp"`
	Nearest string `json:"nearest,omitempty"`
	Where   string `json:"where,omitempty"`
}

// TriedJSON is the document of rulebook try: of one file its parts, of several a list.
func TriedJSON(all []*example.Tried) any {
	type one struct {
		File   string       `json:"file"`
		Caught []jsonCaught `json:"caught"`
		Unread []jsonUnread `json:"unread"`
		Silent []jsonSilent `json:"silent"`
	}
	doc := struct {
		Fitcheck about        `json:"fitcheck"`
		Caught   []jsonCaught `json:"caught"`
		Unread   []jsonUnread `json:"unread"`
		Silent   []jsonSilent `json:"silent"`
		Files    []one        `json:"files"`
	}{about{"rulebook try", Edition}, []jsonCaught{}, []jsonUnread{}, []jsonSilent{}, []one{}}
	for _, t := range all {
		o := one{t.File, []jsonCaught{}, []jsonUnread{}, []jsonSilent{}}
		for _, c := range t.Caught {
			o.Caught = append(o.Caught, jsonCaught(c))
		}
		for _, u := range t.Unread {
			o.Unread = append(o.Unread, jsonUnread(u))
		}
		for _, s := range t.Silent {
			o.Silent = append(o.Silent, jsonSilent{s.Pattern, s.Regexp, s.Nearest, s.Where})
		}
		doc.Caught, doc.Unread, doc.Silent = append(doc.Caught, o.Caught...), append(doc.Unread, o.Unread...), append(doc.Silent, o.Silent...)
		doc.Files = append(doc.Files, o)
	}
	return doc
}

// ImportedJSON is the document of rulebook import.
func ImportedJSON(im *draft.Imported, into string) any {
	return struct {
		Fitcheck about    `json:"fitcheck"`
		Source   string   `json:"source"`
		Title    string   `json:"title"`
		Rules    []string `json:"rules"`
		Releases []string `json:"releases"`
		Notes    []string `json:"notes"`
		Into     string   `json:"into,omitempty"`
		Text     string   `json:"text"`
	}{about{"rulebook import", Edition}, im.Key, im.Title, append([]string{}, im.Rules...), append([]string{}, im.Releases...), append([]string{}, im.Notes...), into, im.YAML()}
}

// ImportedPage says what a table gave to a rulebook.
func ImportedPage(im *draft.Imported, into string) *page.Page {
	p := &page.Page{}
	t := page.Title{Word: "IMPORTED", Tone: page.Good, Text: fmt.Sprintf("%s from %s into %s", wording.Count(len(im.Rules), "rule"), im.Title, into)}
	for _, n := range im.Notes {
		t.About = append(t.About, page.Item{Text: n, Tone: page.Doubt})
	}
	p.Add(t)
	if len(im.Releases) > 0 {
		l := page.List{Most: 12, Flag: page.All}
		for _, r := range im.Releases {
			l.Items = append(l.Items, page.Item{Text: r})
		}
		p.Add(page.Head{Text: "needs that the table names; add them to the releases"}, l)
	}
	p.Add(whatNext([]string{"fitcheck rulebook check " + into})...)
	return p
}

// ExampleAdded names an example that was added to a rulebook.
func ExampleAdded(line, file string) *page.Page {
	return &page.Page{Blocks: []page.Block{page.Title{Word: "EXAMPLE", Tone: page.Good, Text: "added to " + file, About: []page.Item{{Text: line}}}}}
}
