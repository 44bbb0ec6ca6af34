package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"fitcheck/core/compare"
)

// Compare shows what differs between two sides.
func (s *Screen) Compare(all []*compare.Result) {
	for i, r := range all {
		if i > 0 {
			s.blank()
			s.rule()
		}
		s.compared(r)
	}
}

func (s *Screen) compared(r *compare.Result) {
	counts := map[compare.Change]int{}
	for _, it := range r.Items {
		counts[it.Change]++
	}
	differ := len(r.Items) - counts[compare.Same]
	title := fmt.Sprintf("%s and %s", r.A, r.B)
	switch {
	case len(r.Items) == 0:
		s.hanging(s.paint(info, "COMPARED")+"  ", 10, strong, title)
	case differ == 0:
		s.hanging(s.paint(good, "THE SAME")+"  ", 10, strong, fmt.Sprintf("%s: %s, each the same to the byte", title, count(len(r.Items), "item")))
	default:
		var parts []string
		for _, c := range []compare.Change{compare.Changed, compare.Added, compare.Removed, compare.Moved, compare.Same} {
			if n := counts[c]; n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", n, c))
			}
		}
		s.hanging(s.paint(info, "DIFFERENT")+"  ", 11, strong, title+": "+strings.Join(parts, ", "))
	}
	if len(r.Components) > 0 {
		s.blank()
		var rows []table.Row
		for _, c := range r.Components {
			same := "-"
			if c.Compared {
				same = "different"
				if c.Same {
					same = "the same to the byte"
				}
			}
			rows = append(rows, table.Row{Safe(c.Name), Safe(cmp.Or(c.A, "-")), Safe(cmp.Or(c.B, "-")), same})
		}
		s.table(table.Row{"component", "first", "second", "images"}, rows, nil)
	}
	for _, x := range []struct {
		noun string
		sets compare.Sets
	}{{"models", r.Models}, {"revisions", r.Revisions}, {"architectures", r.Archs}, {"boards", r.Boards}} {
		s.named(x.noun, x.sets)
	}
	s.changes(r.Items)
}

// named tells what only one side names.
func (s *Screen) named(noun string, sets compare.Sets) {
	if len(sets.Both) == 0 && !sets.Differ() {
		return
	}
	if !sets.Differ() {
		s.line(0, plain, fmt.Sprintf("%s: both name %s", noun, strings.Join(sets.Both, ", ")))
		return
	}
	switch {
	case len(sets.Both)+len(sets.OnlyA) == 0:
		s.line(0, doubt, fmt.Sprintf("%s: the second names %s, the first names none", noun, strings.Join(sets.OnlyB, ", ")))
		return
	case len(sets.Both)+len(sets.OnlyB) == 0:
		s.line(0, doubt, fmt.Sprintf("%s: the first names %s, the second names none", noun, strings.Join(sets.OnlyA, ", ")))
		return
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
	s.line(0, doubt, noun+": "+strings.Join(parts, "; "))
}

// comparedItems is how many items of one change are listed where not all are asked for.
const comparedItems = 6

func (s *Screen) changes(items []compare.Item) {
	for _, c := range []compare.Change{compare.Changed, compare.Added, compare.Removed, compare.Moved, compare.Same} {
		var of []compare.Item
		for _, it := range items {
			if it.Change == c {
				of = append(of, it)
			}
		}
		if len(of) == 0 || c == compare.Same && !s.All {
			continue
		}
		slices.SortFunc(of, func(a, b compare.Item) int { return cmp.Compare(a.Path, b.Path) })
		s.head(fmt.Sprintf("%s (%d)", c, len(of)))
		most := len(of)
		if !s.All {
			most = min(most, comparedItems)
		}
		for _, it := range of[:most] {
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
			s.line(2, plain, t)
		}
		if n := len(of) - most; n > 0 {
			s.line(2, faint, fmt.Sprintf("and %d more; -all lists them", n))
		}
	}
}

// CompareJSON is the document "compare".
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
