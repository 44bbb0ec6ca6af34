package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit"
)

// Match shows a verdict: first the verdict, then what decides it, then the
// rest, then what to do.
func (s *Screen) Match(v *fit.Verdict) {
	st := outcomeStyle(v.Verdict)
	st = append(slices.Clone(st), strong...)
	word := strings.ToUpper(string(v.Verdict))
	sentence := map[fit.Outcome]string{
		fit.Fits:      "%s fits %s",
		fit.Misfit:    "%s does NOT fit %s",
		fit.Unsettled: "whether %s fits %s is not settled",
	}[v.Verdict]
	verdict := func() {
		s.hanging(s.paint(st, word)+"  ", len(word)+2, strong, fmt.Sprintf(sentence, v.Package, v.Device))
	}
	verdict()
	for _, m := range v.Members {
		t := m.About
		if v.Release != "" {
			t += "; the package stands for release " + v.Release
		}
		s.line(len(word)+2, plain, t)
	}
	for _, n := range v.Notes {
		s.line(len(word)+2, info, n)
	}

	all := slices.Clone(v.Checks)
	for _, m := range v.Members {
		all = append(all, m.Checks...)
	}
	deciding, rest := divide(v.Verdict, all)
	s.head("What decides it")
	for _, c := range deciding {
		s.check(v, c)
	}
	if len(rest) > 0 {
		s.head("What else was checked")
		for _, c := range rest {
			s.check(v, c)
		}
	}
	for _, m := range v.Members {
		s.images(v, m)
	}
	s.next(v, all)
	if s.Width > 0 { // the beginning may have scrolled away
		s.blank()
		verdict()
	}
}

// identityFirst are the checks that make a fit what it is.
var identityFirst = []string{"intact", "model", "revision", "arch", "board", "family", "path", "needs"}

// noted are the checks that say why they do not apply.
var noted = []string{"revision", "arch"}

// divide picks the checks that decide the verdict: the worst ones, and for a
// fit those on which it rests.
func divide(verdict fit.Outcome, all []fit.Check) (deciding, rest []fit.Check) {
	for _, c := range all {
		switch {
		case c.Outcome == fit.NotApplicable && !slices.Contains(noted, c.Check): // silent
		case c.Outcome == verdict && (verdict != fit.Fits || slices.Contains(identityFirst, c.Check)):
			deciding = append(deciding, c)
		default:
			rest = append(rest, c)
		}
	}
	slices.SortStableFunc(rest, func(a, b fit.Check) int { return weight(a.Outcome) - weight(b.Outcome) })
	return deciding, rest
}

func weight(o fit.Outcome) int {
	return slices.Index([]fit.Outcome{fit.Misfit, fit.Unsettled, fit.Note, fit.Fits, fit.NotApplicable}, o)
}

// check shows one line of the verdict and, below it, both sides with their
// sources.
func (s *Screen) check(v *fit.Verdict, c fit.Check) {
	lead := "  " + s.paint(outcomeStyle(c.Outcome), pad(string(c.Outcome), 10)) + s.paint(strong, pad(c.Check, 10)) + pad(c.Component, 5) + " "
	const indent = 28
	s.hanging(lead, indent, plain, inText(v.Package, c.Because))
	const under = 12
	if c.Outcome == fit.Fits && v.Verdict != fit.Fits { // not what decides: as short as its sources allow
		var all []string
		for _, side := range sides(v.Package, c) {
			all = append(all, side.name+" "+strings.Join(side.said, "; "))
		}
		s.hanging(strings.Repeat(" ", under), under, faint, strings.Join(all, " | "))
		return
	}
	for _, side := range sides(v.Package, c) {
		s.hanging(strings.Repeat(" ", under)+s.paint(faint, pad(side.name, 8)), under+8, faint, strings.Join(side.said, "; "))
	}
}

// said is what one side of a comparison says, each value with its places.
type said struct {
	name string
	said []string
}

// sides gathers the sources of a check by side, and by place within a side.
func sides(pkg string, c fit.Check) []said {
	var out []said
	stated := map[string]bool{}
	for _, name := range []string{fit.OfDevice, fit.OfStated, fit.OfPackage, fit.OfRule} {
		side := said{name: name}
		values, places := []string{}, map[string][]string{}
		at := map[string]string{} // place to values
		var order []string
		for _, x := range c.Sources {
			if x.Side != name {
				continue
			}
			place := string(x.Source.Kind) + " " + within(pkg, x.Source.Where())
			value := inText(pkg, x.Value)
			if _, ok := at[place]; !ok {
				order = append(order, place)
				at[place] = value
			} else if !slices.Contains(strings.Split(at[place], ", "), value) {
				at[place] += ", " + value
			}
		}
		for _, place := range order { // values that several places give are written once
			if v := at[place]; places[v] == nil {
				values = append(values, v)
			}
			places[at[place]] = append(places[at[place]], place)
		}
		for _, v := range values {
			shown := v
			if len(v) > 40 && stated[v] { // a digest need not be read twice
				shown = "the same"
			}
			stated[v] = true
			t := shown + " (" + strings.Join(places[v], " and ") + ")"
			if v == "" || strings.HasSuffix(places[v][0], " "+v) {
				t = strings.Join(places[v], " and ")
			}
			side.said = append(side.said, t)
		}
		if len(side.said) > 0 {
			out = append(out, side)
		}
	}
	return out
}

// inText shortens addresses inside a sentence.
func inText(pkg, t string) string { return strings.ReplaceAll(t, pkg+"::", "::") }

func (s *Screen) images(v *fit.Verdict, m fit.Member) {
	title := "Images to install, in this order"
	if m.Verdict != fit.Fits || v.Verdict != fit.Fits {
		title = "Images that come nearest"
	}
	if len(m.Chosen) > 0 {
		s.head(title)
		for _, c := range m.Chosen {
			t := within(v.Package, c.Item)
			if c.Config != "" {
				t += "  configuration " + c.Config
			}
			if c.Version != "" {
				t += "  version " + c.Version
			}
			if c.Slot != "" {
				t += "  into slot " + c.Slot
			}
			s.hanging("  "+s.paint(strong, pad(c.Component, 10))+" ", 13, plain, t)
		}
	}
	if len(m.Others) > 0 {
		s.head("Images passed over")
		for _, o := range m.Others {
			s.hanging("  "+s.paint(strong, pad(o.Component, 10))+" ", 13, plain, within(v.Package, o.Item)+": "+inText(v.Package, o.Because))
		}
	}
}

func (s *Screen) next(v *fit.Verdict, all []fit.Check) {
	var advice []string
	for _, want := range []fit.Outcome{fit.Misfit, fit.Unsettled} {
		for _, c := range all {
			if c.Outcome == want && c.Advice != "" && !slices.Contains(advice, c.Advice) {
				advice = append(advice, c.Advice)
			}
		}
	}
	if v.Verdict == fit.Fits {
		advice = append(advice, "back up the settings off the device before the install")
		for _, m := range v.Members {
			for _, c := range m.Chosen {
				if c.Slot != "" {
					advice = append(advice, fmt.Sprintf("install into slot %s; the running image stays where it is", c.Slot))
				}
			}
		}
		for _, t := range v.Next {
			advice = append(advice, "afterwards, check: "+t)
		}
	}
	if len(advice) == 0 {
		return
	}
	s.head("What to do next")
	for i, a := range advice {
		s.hanging(fmt.Sprintf("  %d. ", i+1), 5, plain, inText(v.Package, a))
	}
}
