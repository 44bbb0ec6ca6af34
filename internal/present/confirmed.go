package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// ConfirmedPage tells how several devices came out: those that are alike in one row, what is
// not as planned first, and who is missing.
func ConfirmedPage(all []Confirmed, nobodys []string) *page.Page {
	type row struct {
		names         []string
		verdict       fit.Outcome
		from, to, why string
		missing       bool
	}
	var rows []*row
	counts := map[fit.Outcome]int{}
	var missing []string
	for _, c := range all {
		v := c.Verdict()
		counts[v]++
		r := &row{names: []string{c.Device}, verdict: v, from: c.From, to: c.To}
		if len(c.After) == 0 {
			missing = append(missing, c.Device)
			r.missing = true
		}
		for _, n := range c.NoPlan {
			r.why = strings.Join(n.Because, "; ")
		}
		for _, list := range append([][]fit.Check{c.Checks}, members(c)...) {
			for _, ch := range list {
				if ch.Outcome == v && v != fit.Fits && r.why == "" {
					r.why = ch.Check + ": " + ch.Because
				}
			}
		}
		i := slices.IndexFunc(rows, func(o *row) bool {
			return o.verdict == r.verdict && o.from == r.from && o.to == r.to && o.missing == r.missing && strings.ReplaceAll(o.why, o.names[0], "it") == strings.ReplaceAll(r.why, c.Device, "it")
		})
		if i < 0 {
			rows = append(rows, r)
			continue
		}
		rows[i].names = append(rows[i].names, c.Device)
	}
	slices.SortStableFunc(rows, func(a, b *row) int { return b.verdict.Rank() - a.verdict.Rank() })
	worst := fit.Fits
	for v := range counts {
		worst = fit.Worse(worst, v)
	}
	word := map[fit.Outcome]string{fit.Fits: "AS PLANNED", fit.Misfit: "NOT AS PLANNED", fit.Unsettled: "UNSETTLED"}[worst]
	t := page.Title{Word: word, Tone: toneOf(worst), Text: fmt.Sprintf("%d of %s as planned, %d not, %d not settled", counts[fit.Fits], wording.Count(len(all), "device"), counts[fit.Misfit], counts[fit.Unsettled])}
	if len(missing) > 0 {
		t.About = append(t.About, page.Item{Text: "no capture shows " + strings.Join(few(ranges(missing)), ", "), Tone: page.Doubt})
	}
	if len(nobodys) > 0 {
		t.About = append(t.About, page.Item{Text: "of none of them is " + strings.Join(few(nobodys), ", "), Tone: page.Doubt})
	}
	p := &page.Page{Name: "Confirmed: " + wording.Count(len(all), "device")}
	p.Add(t)
	table := page.Table{Columns: []page.Column{{Title: "devices", Fitting: page.Cut}, {Title: "how many", Right: true}, {Title: "came out"}, {Title: "from"}, {Title: "to"}, {Title: "because", Fitting: page.Wrap}}, Most: 30, Flag: page.Why, Noun: "group"}
	for _, r := range rows {
		said := map[fit.Outcome]string{fit.Fits: "as planned", fit.Misfit: "not as planned", fit.Unsettled: "not settled"}[r.verdict]
		table.Rows = append(table.Rows, []page.Span{{Text: strings.Join(few(ranges(r.names)), ", "), Tone: page.Strong}, {Text: fmt.Sprint(len(r.names))}, {Text: said, Tone: toneOf(r.verdict)}, {Text: r.from}, {Text: r.to}, {Text: r.why}})
	}
	p.Add(table)
	return p
}

func members(c Confirmed) [][]fit.Check {
	var out [][]fit.Check
	for _, m := range c.Members {
		out = append(out, m.Checks)
	}
	return out
}
