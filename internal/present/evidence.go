package present

import (
	"fmt"

	"fitcheck/core/evidence"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/internal/present/page"
)

// Evidence is the thing itself that each source names.
type Evidence map[fact.Source][]evidence.Excerpt

// Cited lists the sources of a verdict that have something to show.
func Cited(v *fit.Verdict) []fact.Source {
	var out []fact.Source
	for _, c := range allChecks(v) {
		for _, x := range c.Sources {
			out = append(out, x.Source)
		}
	}
	return out
}

func allChecks(v *fit.Verdict) []fit.Check {
	out := append([]fit.Check(nil), v.Checks...)
	for _, m := range v.Members {
		out = append(out, m.Checks...)
	}
	return out
}

// excerpts are the evidence of a check; what an earlier check showed already is left out.
func (e Evidence) excerpts(v *fit.Verdict, c fit.Check, shown map[string]bool) []page.Block {
	var out []page.Block
	for _, x := range c.Sources {
		for _, part := range e[x.Source] {
			if shown[part.Title] {
				continue
			}
			shown[part.Title] = true
			out = append(out, excerpt(v.Package, part))
		}
	}
	return out
}

// excerpt is a piece of a text, its cited lines marked, or of a file, with the cited bytes
// underlined.
func excerpt(pkg string, e evidence.Excerpt) page.Pre {
	rail := page.Span{Text: "| ", Tone: page.Info}
	p := page.Pre{Lines: [][]page.Span{{rail, {Text: within(pkg, e.Title), Tone: page.Info}}}}
	if e.Why != "" {
		p.Lines = append(p.Lines, []page.Span{rail, {Text: "  " + e.Why, Tone: page.Faint}})
	}
	for _, l := range e.Lines {
		mark, tone := "  ", page.Faint
		if l.Cited {
			mark, tone = "> ", page.Strong
		}
		p.Lines = append(p.Lines, []page.Span{rail, {Text: fmt.Sprintf("%s%4d %s", mark, l.Number, l.Text), Tone: tone}})
	}
	for row := e.At; row < e.At+int64(len(e.Dump)); row += 16 {
		hexed, shown := hexRow(func(k int64) (byte, bool) {
			i := row + k - e.At
			if i < 0 || i >= int64(len(e.Dump)) {
				return 0, false
			}
			return e.Dump[i], true
		})
		p.Lines = append(p.Lines, []page.Span{rail, {Text: fmt.Sprintf("%08x", row), Tone: page.Faint}, {Text: " " + hexed + "  " + shown}})
		from, to := max(e.Mark, row), min(e.MarkEnd, row+16)
		if from < to {
			space, bar := underRow(from-row, to-1-row)
			p.Lines = append(p.Lines, []page.Span{rail, {Text: space[2:]}, {Text: bar, Tone: page.Good}})
		}
	}
	return p
}
