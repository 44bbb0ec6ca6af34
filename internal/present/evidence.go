package present

import (
	"fmt"
	"strings"

	"fitcheck/core/evidence"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
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

// excerpts shows the evidence of a check; what an earlier check showed already
// is only named.
func (s *Screen) excerpts(v *fit.Verdict, c fit.Check, shown map[string]bool) {
	const indent = 12
	for _, x := range c.Sources {
		for _, e := range s.Evidence[x.Source] {
			title := within(v.Package, e.Title)
			if shown[e.Title] {
				continue
			}
			shown[e.Title] = true
			s.hanging(strings.Repeat(" ", indent)+s.paint(info, "| "), indent+2, info, title)
			if e.Why != "" {
				s.hanging(strings.Repeat(" ", indent)+s.paint(info, "| "), indent+4, faint, "  "+e.Why)
			}
			for _, l := range e.Lines {
				mark, st := "  ", faint
				if l.Cited {
					mark, st = "> ", strong
				}
				s.hanging(strings.Repeat(" ", indent)+s.paint(info, "| ")+s.paint(st, fmt.Sprintf("%s%4d ", mark, l.Number)), indent+9, st, l.Text)
			}
			s.dump(e, indent)
		}
	}
}

// dump shows bytes with those cited underlined.
func (s *Screen) dump(e evidence.Excerpt, indent int) {
	lead := strings.Repeat(" ", indent) + s.paint(info, "| ")
	for row := e.At; row < e.At+int64(len(e.Dump)); row += 16 {
		hexed, shown := hexRow(func(k int64) (byte, bool) {
			i := row + k - e.At
			if i < 0 || i >= int64(len(e.Dump)) {
				return 0, false
			}
			return e.Dump[i], true
		})
		fmt.Fprintf(s.Out, "%s%s %s  %s\n", lead, s.paint(faint, fmt.Sprintf("%08x", row)), hexed, shown)
		from, to := max(e.Mark, row), min(e.MarkEnd, row+16)
		if from < to {
			space, bar := underRow(from-row, to-1-row)
			fmt.Fprintf(s.Out, "%s%s%s\n", lead, space[2:], s.paint(good, bar))
		}
	}
}
