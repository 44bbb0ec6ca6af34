package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
)

// match shows a verdict: first the verdict, then what decides it, then the
// rest, then what to do. A brief one leaves out what decides nothing.
func (s *Screen) match(v *fit.Verdict, instead *fit.Verdict, brief bool) {
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
	s.aboutMembers(v, len(word)+2)
	if t := weakestProof(v); t != "" && s.Why {
		s.line(len(word)+2, plain, t)
	}
	for _, n := range v.Notes {
		s.line(len(word)+2, info, n)
	}
	if !s.Why {
		s.short(v, instead)
		return
	}
	all := collapse(v)
	s.component = 5
	for _, c := range all {
		s.component = max(s.component, min(14, len(c.Component)))
	}
	deciding, rest := divide(v.Verdict, all)
	shown := map[string]bool{}
	s.head("What decides it")
	for _, c := range deciding {
		s.check(v, c.Check, c.of)
		s.excerpts(v, c.Check, shown)
	}
	if len(rest) > 0 && !brief {
		s.head("What else was checked")
		for _, c := range rest {
			s.check(v, c.Check, c.of)
			s.excerpts(v, c.Check, shown)
		}
	}
	for _, m := range v.Members {
		s.images(v, m, brief)
	}
	s.next(v, instead)
	if s.Width > 0 && !brief { // the beginning may have scrolled away
		s.blank()
		verdict()
	}
}

// aboutMembers says which device it is, and of a group which members.
func (s *Screen) aboutMembers(v *fit.Verdict, indent int) {
	release := ""
	if v.Release != "" {
		release = "; the package stands for release " + v.Release
	}
	if len(v.Members) == 1 {
		s.line(indent, plain, v.Members[0].About+release)
		return
	}
	s.line(indent, plain, fmt.Sprintf("%s is a %s of %d%s", v.Device, v.Group, len(v.Members), release))
	for _, m := range v.Members {
		s.hanging(strings.Repeat(" ", indent)+s.paint(outcomeStyle(m.Verdict), pad(string(m.Verdict), 10)), indent+10, plain, m.About)
	}
}

// memberCheck is a check with the members for which it came out so; none when
// it is about the whole package, or there is one device only.
type memberCheck struct {
	fit.Check
	of []string
}

// collapse lists all checks; those that came out the same for several members
// of a group stand once.
func collapse(v *fit.Verdict) []memberCheck {
	var out []memberCheck
	for _, c := range v.Checks {
		out = append(out, memberCheck{Check: c})
	}
	at := map[string]int{}
	for _, m := range v.Members {
		for _, c := range m.Checks {
			if len(v.Members) == 1 {
				out = append(out, memberCheck{Check: c})
				continue
			}
			key := strings.Join([]string{c.Check, c.Component, string(c.Outcome), c.Because, c.Device, c.Package}, "\x00")
			if i, ok := at[key]; ok {
				out[i].of = append(out[i].of, m.Name)
				for _, x := range c.Sources {
					if !slices.Contains(out[i].Sources, x) {
						out[i].Sources = append(slices.Clip(out[i].Sources), x)
					}
				}
				continue
			}
			at[key] = len(out)
			out = append(out, memberCheck{c, []string{m.Name}})
		}
	}
	for i := range out {
		if len(out[i].of) == len(v.Members) && len(out[i].of) > 1 {
			out[i].of = []string{"all members"}
		}
	}
	return out
}

// divide picks the checks that decide the verdict: the worst ones, and for a
// fit those on which it rests.
func divide(verdict fit.Outcome, all []memberCheck) (deciding, rest []memberCheck) {
	for _, c := range all {
		switch {
		case c.Outcome == fit.NotApplicable && !check.Find(c.Check.Check).Explains: // silent
		case c.Outcome == verdict && (verdict != fit.Fits || check.Find(c.Check.Check).First):
			deciding = append(deciding, c)
		default:
			rest = append(rest, c)
		}
	}
	slices.SortStableFunc(rest, func(a, b memberCheck) int { return weight(a.Outcome) - weight(b.Outcome) })
	return deciding, rest
}

func weight(o fit.Outcome) int {
	return slices.Index([]fit.Outcome{fit.Misfit, fit.Unsettled, fit.Note, fit.Fits, fit.NotApplicable}, o)
}

// check shows one line of the verdict and, below it, both sides with their
// sources.
func (s *Screen) check(v *fit.Verdict, c fit.Check, of []string) {
	lead := "  " + s.paint(outcomeStyle(c.Outcome), pad(string(c.Outcome), 10)) + s.paint(strong, pad(c.Check, 10)) + pad(c.Component, s.component) + " "
	indent := 23 + s.component
	because := inText(v.Package, c.Because)
	if len(of) > 0 {
		because = strings.Join(of, ", ") + ": " + because
	}
	s.hanging(lead, indent, plain, because)
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

func (s *Screen) images(v *fit.Verdict, m fit.Member, brief bool) {
	title := "Images to install, in this order"
	if brief && v.Verdict != fit.Fits {
		return
	}
	if m.Verdict != fit.Fits || v.Verdict != fit.Fits {
		title = "Images that come nearest"
	}
	if len(v.Members) > 1 {
		title = m.Name + ": " + strings.ToLower(title[:1]) + title[1:]
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
			if !brief {
				most := maxCoversShown
				if s.Why {
					most = len(c.Coverage)
				}
				for _, cover := range provenBy(v.Package, c.Coverage, most) {
					s.hanging(strings.Repeat(" ", 13), 15, faint, cover)
				}
			}
		}
	}
	if len(m.Others) > 0 && !brief {
		if len(v.Members) > 1 {
			s.head(m.Name + ": images passed over")
		} else {
			s.head("Images passed over")
		}
		for i, o := range m.Others {
			if i == maxPassed && len(m.Others) > maxPassed+1 {
				s.line(13, faint, fmt.Sprintf("and %d more", len(m.Others)-i))
				break
			}
			s.hanging("  "+s.paint(strong, pad(o.Component, 10))+" ", 13, plain, within(v.Package, o.Item)+": "+inText(v.Package, o.Because))
		}
	}
}

// maxPassed is how many images that were passed over are listed.
const maxPassed = 20

// Advice lists what to do next, the most pressing first.
func Advice(v *fit.Verdict, instead *fit.Verdict) []string {
	var advice []string
	add := func(t string) {
		if t != "" && !slices.Contains(advice, t) {
			advice = append(advice, t)
		}
	}
	if instead != nil {
		add(fmt.Sprintf("%s of the kit (%s) fits %s: take that one", instead.Package, instead.Path, v.Device))
	}
	for _, want := range []fit.Outcome{fit.Misfit, fit.Unsettled} {
		for _, c := range allChecks(v) {
			if c.Outcome == want {
				add(c.Advice)
			}
		}
	}
	if v.Verdict == fit.Fits {
		add("back up the settings off the device before the install")
		for _, m := range v.Members {
			for _, c := range m.Chosen {
				switch {
				case c.Slot == "":
				case len(v.Members) > 1:
					add(fmt.Sprintf("on %s, install %s into slot %s; the running image stays where it is", m.Name, c.Component, c.Slot))
				default:
					add(fmt.Sprintf("install into slot %s; the running image stays where it is", c.Slot))
				}
			}
		}
		for _, t := range v.Next {
			add("afterwards, check: " + t)
		}
	}
	return advice
}

func (s *Screen) next(v *fit.Verdict, instead *fit.Verdict) {
	advice := Advice(v, instead)
	if len(advice) == 0 {
		return
	}
	s.head("What to do next")
	for i, a := range advice {
		s.hanging(fmt.Sprintf("  %d. ", i+1), 5, plain, inText(v.Package, a))
	}
}
