package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// sameWay is devices whose way is the same.
type sameWay struct {
	names []string
	of    PathAnswer
	way   string
	why   string
	key   string // why, whichever device it is
}

// ManyPathsPage tells the ways of devices: of one in full; of several a table, those that are alike
// in one row, those without a way first, and what stands in theirs.
//
// In one piece: the blocks stand in the order in which they are read.
func ManyPathsPage(all []Paths) *page.Page {
	if len(all) == 1 {
		return PathPage(all[0])
	}
	rank := map[string]int{"NO PATH": 0, "UNSETTLED": 1, "PATH": 2}
	var groups []*sameWay
	found := 0
	for _, p := range all {
		whole := true
		for _, a := range p.Plans {
			word, _ := a.status()
			whole = whole && word == "PATH"
			var hops []string
			for _, h := range a.Hops {
				t := h.Release
				if h.BootOnly {
					t = "boot of " + t
				}
				hops = append(hops, t)
			}
			g := &sameWay{of: a, way: strings.Join(hops, ", ")}
			switch {
			case len(a.Unsettled) > 0:
				g.why, g.key = a.Unsettled[0], strings.ReplaceAll(a.Unsettled[0], p.Device, "it")
			case len(a.Blocked) > 0:
				g.why = a.Blocked[0].Release + ": " + a.Blocked[0].Because
				g.key = strings.ReplaceAll(g.why, p.Device, "it")
			case len(a.Hops) == 0:
				g.way = "runs it already"
			}
			i := slices.IndexFunc(groups, func(o *sameWay) bool {
				w, _ := o.of.status()
				return w == word && o.way == g.way && o.key == g.key && o.of.From == a.From && o.of.To == a.To
			})
			name := p.Device
			if len(p.Plans) > 1 {
				name += "/" + a.Name
			}
			if i < 0 {
				groups = append(groups, g)
				i = len(groups) - 1
			}
			groups[i].names = append(groups[i].names, name)
		}
		if whole {
			found++
		}
	}
	slices.SortStableFunc(groups, func(a, b *sameWay) int {
		x, _ := a.of.status()
		y, _ := b.of.status()
		return rank[x] - rank[y]
	})
	title := page.Title{Word: "PATHS", Tone: page.Good, Text: fmt.Sprintf("%d of %s have a way", found, wording.Count(len(all), "device"))}
	if found < len(all) {
		title.Tone = page.Doubt
		for _, g := range groups {
			if w, _ := g.of.status(); w == "NO PATH" {
				title.Tone = page.Bad
			}
		}
	}
	out := &page.Page{Name: "The ways of " + wording.Count(len(all), "device")}
	out.Add(title)
	t := page.Table{Columns: []page.Column{{Title: "devices", Fitting: page.Cut}, {Title: "how many", Right: true}, {Title: "way"}, {Title: "from"}, {Title: "to"}, {Title: "by way of", Fitting: page.Wrap}, {Title: "takes"}, {Title: "outage"}}, Most: 30, Flag: page.Why, Noun: "group"}
	var open page.List
	for _, g := range groups {
		count := len(g.names)
		g.names = ranges(g.names)
		word, tone := g.of.status()
		install, outage, unknown := g.of.Minutes()
		takes, without := install.Text(), outage.Text()
		if unknown > 0 || !g.of.Found || len(g.of.Hops) == 0 {
			takes, without = "", ""
		}
		t.Rows = append(t.Rows, []page.Span{{Text: strings.Join(few(g.names), ", "), Tone: page.Strong}, {Text: fmt.Sprint(count)}, {Text: strings.ToLower(word), Tone: tone}, {Text: g.of.From}, {Text: g.of.To}, {Text: g.way}, {Text: takes}, {Text: without}})
		if g.why != "" {
			open.Items = append(open.Items, page.Item{Marks: []page.Span{{Text: map[bool]string{true: "X", false: "?"}[tone == page.Bad], Tone: tone}}, Text: strings.Join(few(g.names), ", ") + ": " + g.why})
		}
	}
	out.Add(t)
	if len(open.Items) > 0 {
		open.Most, open.Flag = 8, page.Why
		out.Add(page.Head{Text: "what stands in the way, and what must be known"}, open)
	}
	return out
}
