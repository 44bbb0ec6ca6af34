package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"fitcheck/core/compare"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// ComparePage tells what differs between two sides.
func ComparePage(all []*compare.Result) *page.Page {
	p := &page.Page{Name: "Compared"}
	for i, r := range all {
		if i > 0 {
			p.Add(page.Rule{})
		}
		p.Add(compared(r)...)
	}
	return p
}

func compared(r *compare.Result) []page.Block {
	counts := map[compare.Change]int{}
	for _, it := range r.Items {
		counts[it.Change]++
	}
	t := page.Title{Word: "DIFFERENT", Tone: page.Info, Text: fmt.Sprintf("%s and %s", r.A, r.B)}
	switch differ := len(r.Items) - counts[compare.Same]; {
	case len(r.Items) == 0:
		t.Word = "COMPARED"
	case differ == 0:
		t.Word, t.Tone = "THE SAME", page.Good
		t.Text += fmt.Sprintf(": %s, each the same to the byte", wording.Count(len(r.Items), "item"))
	default:
		var parts []string
		for _, c := range changeOrder {
			if n := counts[c]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, c))
			}
		}
		t.Text += ": " + strings.Join(parts, ", ")
	}
	out := []page.Block{t}
	if len(r.Components) > 0 {
		table := page.Table{Columns: []page.Column{{Title: "component"}, {Title: "first", Fitting: page.Cut}, {Title: "second", Fitting: page.Cut}, {Title: "images"}}}
		for _, c := range r.Components {
			same := page.Span{Text: "-"}
			if c.Compared {
				same = page.Span{Text: "different", Tone: page.Doubt}
				if c.Same {
					same = page.Span{Text: "the same to the byte", Tone: page.Good}
				}
			}
			table.Rows = append(table.Rows, []page.Span{{Text: c.Name, Tone: page.Strong}, {Text: cmp.Or(c.A, "-")}, {Text: cmp.Or(c.B, "-")}, same})
		}
		out = append(out, table)
	}
	for _, x := range []struct {
		noun string
		sets compare.Sets
	}{{"models", r.Models}, {"revisions", r.Revisions}, {"architectures", r.Archs}, {"boards", r.Boards}} {
		if l, ok := named(x.noun, x.sets); ok {
			out = append(out, l)
		}
	}
	return append(out, changesOf(r.Items)...)
}

var changeOrder = []compare.Change{compare.Changed, compare.Added, compare.Removed, compare.Moved, compare.Same}

// named tells what only one side names.
func named(noun string, sets compare.Sets) (page.Line, bool) {
	switch {
	case len(sets.Both) == 0 && !sets.Differ():
		return page.Line{}, false
	case !sets.Differ():
		return page.Line{Text: fmt.Sprintf("%s: both name %s", noun, strings.Join(sets.Both, ", "))}, true
	case len(sets.Both)+len(sets.OnlyA) == 0:
		return page.Line{Tone: page.Doubt, Text: fmt.Sprintf("%s: the second names %s, the first names none", noun, strings.Join(sets.OnlyB, ", "))}, true
	case len(sets.Both)+len(sets.OnlyB) == 0:
		return page.Line{Tone: page.Doubt, Text: fmt.Sprintf("%s: the first names %s, the second names none", noun, strings.Join(sets.OnlyA, ", "))}, true
	}
	var parts []string
	for _, x := range []struct {
		who string
		all []string
	}{{"only the first names", sets.OnlyA}, {"only the second names", sets.OnlyB}, {"both name", sets.Both}} {
		if len(x.all) > 0 {
			parts = append(parts, x.who+" "+strings.Join(x.all, ", "))
		}
	}
	return page.Line{Tone: page.Doubt, Text: noun + ": " + strings.Join(parts, "; ")}, true
}

// comparedItems is how many items of one change are listed at a glance.
const comparedItems = 6

func changesOf(items []compare.Item) []page.Block {
	var out []page.Block
	for _, c := range changeOrder {
		l := page.List{Most: comparedItems, Flag: page.All}
		of := slices.DeleteFunc(slices.Clone(items), func(it compare.Item) bool { return it.Change != c })
		slices.SortFunc(of, func(a, b compare.Item) int { return natural.Compare(a.Path, b.Path) })
		for _, it := range of {
			t := cmp.Or(it.Path, "the file itself")
			switch c {
			case compare.Changed:
				t += fmt.Sprintf("  (%s, %s -> %s)", it.Kind, Bytes(it.A.Size), Bytes(it.B.Size))
			case compare.Moved:
				t += fmt.Sprintf("  (%s, was %s)", it.Kind, it.From)
			case compare.Removed:
				t += fmt.Sprintf("  (%s, %s)", it.Kind, Bytes(it.A.Size))
			default:
				t += fmt.Sprintf("  (%s, %s)", it.Kind, Bytes(it.B.Size))
			}
			l.Items = append(l.Items, page.Item{Text: t})
		}
		if len(of) == 0 {
			continue
		}
		part := []page.Block{page.Head{Text: fmt.Sprintf("%s (%d)", c, len(of))}, l}
		if c == compare.Same {
			part = []page.Block{page.Fold{Title: fmt.Sprintf("%s (%d)", c, len(of)), Flag: page.All, Silent: true, Inside: func() []page.Block { return []page.Block{l} }}}
		}
		out = append(out, part...)
	}
	return out
}

func init() {
	form(func() any { return CompareJSON([]*compare.Result{{}}) })
	form(func() any { return CompareJSON(nil) })
}

// CompareJSON is the document "compare".
//
// In one piece: the blocks stand in the order in which they are read.
func CompareJSON(all []*compare.Result) any {
	type component struct {
		Component string `json:"component"`
		A         string `json:"a,omitempty"`
		B         string `json:"b,omitempty"`
		Same      *bool  `json:"same,omitempty"` // left out where the images could not be compared
	}
	type sets struct {
		OnlyA []string `json:"only_a"`
		OnlyB []string `json:"only_b"`
		Both  []string `json:"both"`
	}
	type item struct {
		Path   string `json:"path"`
		From   string `json:"from,omitempty"`
		Kind   string `json:"kind"`
		A      string `json:"a,omitempty"`
		B      string `json:"b,omitempty"`
		SizeA  *int64 `json:"size_a,omitempty"`
		SizeB  *int64 `json:"size_b,omitempty"`
		Change string `json:"change"`
	}
	type result struct {
		A          string      `json:"a"`
		B          string      `json:"b"`
		Components []component `json:"components"`
		Models     sets        `json:"models"`
		Revisions  sets        `json:"revisions"`
		Archs      sets        `json:"archs"`
		Boards     sets        `json:"boards"`
		Items      []item      `json:"items"`
	}
	set := func(s compare.Sets) sets {
		list := func(all []string) []string { return append([]string{}, all...) }
		return sets{list(s.OnlyA), list(s.OnlyB), list(s.Both)}
	}
	var results []result
	for _, r := range all {
		out := result{A: r.A, B: r.B, Components: []component{}, Models: set(r.Models), Revisions: set(r.Revisions), Archs: set(r.Archs), Boards: set(r.Boards), Items: []item{}}
		for _, c := range r.Components {
			j := component{Component: c.Name, A: c.A, B: c.B}
			if c.Compared {
				j.Same = &c.Same
			}
			out.Components = append(out.Components, j)
		}
		for _, it := range r.Items {
			j := item{Path: it.Path, From: it.From, Kind: it.Kind, A: it.A.SHA256, B: it.B.SHA256, Change: string(it.Change)}
			if it.Change != compare.Added {
				j.SizeA = &it.A.Size
			}
			if it.Change != compare.Removed {
				j.SizeB = &it.B.Size
			}
			out.Items = append(out.Items, j)
		}
		results = append(results, out)
	}
	if len(results) == 1 {
		return struct {
			Fitcheck about `json:"fitcheck"`
			result
		}{about{"compare", Edition}, results[0]}
	}
	return struct {
		Fitcheck about    `json:"fitcheck"`
		Results  []result `json:"results"`
	}{about{"compare", Edition}, results}
}
