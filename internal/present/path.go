package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/duration"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/shell"
)

// PathAnswer is the path of one device, or of the members of a group that move
// together.
type PathAnswer struct {
	*path.Answer
	Steps        []plan.Step
	Alternatives [][]plan.Step
	Maybe        []plan.Step
	Back         []plan.Step
}

// Paths is what path tells.
type Paths struct {
	Device string
	Plans  []PathAnswer
	Notes  []string
	Graph  []Graph // for the report
	Kit    string
	Prefer path.Prefer
}

// status is the word for an answer and how it is painted.
func (p PathAnswer) status() (word string, st style) {
	switch {
	case p.Found:
		return "PATH", good
	case len(p.Unsettled) > 0:
		return "UNSETTLED", doubt
	}
	return "NO PATH", bad
}

// headline says in one line what came out.
func (p PathAnswer) headline() string {
	switch {
	case p.Found && len(p.Hops) == 0:
		return fmt.Sprintf("%s runs %s already", p.Name, p.To)
	case p.Found:
		return fmt.Sprintf("%s gets from %s to %s in %s", p.Name, p.From, p.target(), count2(len(p.Hops), "hop"))
	case len(p.Unsettled) > 0:
		return fmt.Sprintf("whether %s can go to %s is not settled", p.Name, p.target())
	}
	return fmt.Sprintf("%s cannot get from %s to %s", p.Name, p.From, p.target())
}

func (p PathAnswer) target() string {
	if p.Family != "" {
		for _, h := range append(p.Hops, p.Answer.Maybe...) {
			if h.Family != h.FromFamily {
				return p.To + " of " + p.Family
			}
		}
	}
	return p.To
}

// sums says what the whole path costs.
func (p PathAnswer) sums() string {
	install, outage, unknown := p.Minutes()
	var parts []string
	if unknown < len(p.Hops) {
		at := ""
		if unknown > 0 {
			at = "at least "
		}
		parts = append(parts, fmt.Sprintf("%s%s in all, %s of it without service", at, duration.Minutes(install), duration.Minutes(outage)))
	}
	if unknown > 0 {
		parts = append(parts, "the rulebook gives no minutes for "+count2(unknown, "hop"))
	}
	switch n := p.Resets(); {
	case n == 0:
		parts = append(parts, "the configuration is kept")
	case n == 1:
		parts = append(parts, "the configuration is RESET once")
	default:
		parts = append(parts, fmt.Sprintf("the configuration is RESET %d times", n))
	}
	if len(p.Hops) == 0 {
		return ""
	}
	return strings.Join(parts, "; ")
}

// Path shows the paths: what came out, the ladder, the way back, what to do.
func (s *Screen) Path(p Paths) {
	for _, n := range p.Notes {
		s.line(0, info, n)
	}
	for i, a := range p.Plans {
		if i > 0 || len(p.Notes) > 0 {
			s.blank()
		}
		s.pathAnswer(p, a)
	}
}

func (s *Screen) pathAnswer(all Paths, a PathAnswer) {
	word, st := a.status()
	st = append(append(style{}, st...), strong...)
	indent := len(word) + 2
	verdict := func() { s.hanging(s.paint(st, word)+"  ", indent, strong, a.headline()) }
	verdict()
	if t := a.sums(); t != "" {
		s.line(indent, plain, t)
	}
	for i, h := range a.Hops {
		if h.NoReturn {
			s.line(indent, bad, fmt.Sprintf("point of no return: after hop %d nothing leads back to %s", i+1, cmp.Or(h.Begin, a.From)))
		}
	}
	if c := a.Capped; c != nil {
		s.line(indent, doubt, fmt.Sprintf("the newest release is %s, and cannot be reached: %s", c.Release, c.Because))
	}
	for _, n := range a.Notes {
		s.line(indent, info, n)
	}
	if len(a.Unsettled) > 0 {
		s.head("What must be known first")
		for _, u := range a.Unsettled {
			s.hanging("  - ", 4, plain, u)
		}
		if len(a.Maybe) > 0 {
			s.head("The way there would then be")
			s.ladder(a.From, a.Maybe)
		}
	}
	if len(a.Blocked) > 0 {
		s.head("What stands in the way")
		for _, b := range a.Blocked {
			s.hanging("  "+s.paint(bad, pad(b.Release, 10))+" ", 13, plain, b.Because)
			s.line(13, faint, restsOn(b.Sources))
		}
	}
	if len(a.Steps) > 0 {
		s.head("The way there")
		s.ladder(a.From, a.Steps)
	}
	for i, alt := range a.Alternatives {
		s.head(fmt.Sprintf("Another way (%d)", i+2))
		s.ladder(a.From, alt)
	}
	s.wayBack(a)
	if steps := pathAdvice(all, a); len(steps) > 0 {
		s.head("What to do next")
		for i, t := range steps {
			s.hanging(fmt.Sprintf("  %d. ", i+1), 5, plain, t)
		}
	}
	if s.Width > 0 && len(a.Steps) > 1 { // the beginning may have scrolled away
		s.blank()
		verdict()
	}
}

// begins says of a plan of several families what runs on which members, where that
// differs.
func begins(steps []plan.Step) string {
	var out []string
	for _, h := range steps {
		if t := strings.Join(h.Members, ", ") + ": " + h.Begin; h.Begin != "" && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return strings.Join(out, "; ")
}

// ladder draws the stops from top to bottom with the hops between them.
func (s *Screen) ladder(from string, steps []plan.Step) {
	start := from + "  runs now"
	told := map[string]bool{}
	for _, h := range steps { // members that run another version
		if who := strings.Join(h.Members, ", "); h.From != from && len(h.Members) < len(steps[len(steps)-1].Members) && !told[who] {
			start += fmt.Sprintf("; %s: %s", who, h.From)
			told[who] = true
		}
		if len(told) == 0 {
			break
		}
	}
	if begins := begins(steps); begins != "" {
		start = begins + "  run now"
	}
	s.hanging("  "+s.paint(info, "o")+"  ", 5, strong, start)
	moved := map[string]bool{}
	for _, h := range steps {
		for _, m := range h.Members {
			moved[m] = true
		}
	}
	for i, h := range steps {
		rung := "  " + s.paint(faint, "|") + "  "
		fmt.Fprintln(s.Out, strings.TrimRight(rung, " "))
		what := "install " + h.Release
		if h.BootOnly {
			what = "install only the boot loader of " + h.Release
		}
		if h.Family != h.FromFamily {
			what += " (crosses from " + h.FromFamily + " to " + h.Family + ")"
		}
		if len(h.Members) > 0 {
			what += " on " + strings.Join(h.Members, ", ")
		}
		s.hanging(rung+s.paint(info, fmt.Sprintf("%d. ", i+1)), 8, strong, what)
		under := func(st style, t string) { // the rail goes on beside wrapped lines
			for _, l := range s.wrap(Safe(t), 8) {
				fmt.Fprintln(s.Out, rung+"   "+s.paint(st, l))
			}
		}
		under(plain, cost(h.Hop))
		if changes := changes(h.Hop); changes != "" {
			under(plain, changes)
		}
		if pkgs := packages(h); pkgs != "" {
			under(plain, "package: "+pkgs)
		} else {
			under(doubt, "package: none at hand; to download")
		}
		under(plain, "why: "+h.Because)
		under(faint, "by:  "+restsOn(h.Sources))
		if h.ResetsConfig {
			under(bad, "the configuration is RESET: save it off the device first")
		}
		if h.NoReturn {
			under(bad, "POINT OF NO RETURN: from here nothing leads back to "+cmp.Or(h.Begin, from))
		}
		for _, n := range h.Notes {
			under(info, n)
		}
		fmt.Fprintln(s.Out, strings.TrimRight(rung, " "))
		mark := s.paint(info, "o")
		end := ""
		switch {
		case i == len(steps)-1:
			mark, end = s.paint(good, "*"), "  is where it is to be"
		case len(h.Members) < len(moved):
			end = "  on " + strings.Join(h.Members, ", ")
		}
		if h.BootOnly {
			end += "  still runs"
		}
		s.hanging("  "+mark+"  ", 5, strong, h.To+end)
	}
}

func cost(h path.Hop) string {
	t := "minutes not given"
	if h.Minutes != nil {
		t = fmt.Sprintf("%s, %s without service", duration.Minutes(h.Minutes.Install), duration.Minutes(h.Minutes.Outage))
	}
	if h.ResetsConfig {
		return t + "; resets the configuration"
	}
	return t + "; keeps the configuration"
}

// changes lists what a hop does to the components; what it does alike to
// several members stands once.
func changes(h path.Hop) string {
	var order []string
	members := map[string][]string{}
	for _, c := range h.Components {
		from := c.From
		if from == "" {
			from = "?"
		}
		t := fmt.Sprintf("%s %s -> %s", c.Component, from, c.To)
		if members[t] == nil {
			order = append(order, t)
		}
		members[t] = append(members[t], c.Member)
	}
	for i, t := range order {
		if of := members[t]; len(of) > 0 && of[0] != "" && len(of) < len(h.Members) {
			order[i] = t + " (" + strings.Join(of, ", ") + ")"
		}
	}
	return strings.Join(order, ", ")
}

// packages names the packages that carry a hop.
func packages(h plan.Step) string {
	var out []string
	for _, p := range h.Packages {
		out = append(out, p.Path)
	}
	return strings.Join(out, " and ")
}

// cited is what a line rests on, with the places.
func restsOn(all []path.Cited) string {
	var out []string
	for _, c := range all {
		t := c.Source.Where()
		if c.Value != "" {
			t = c.Value + " (" + strings.TrimSpace(string(c.Source.Kind)+" "+c.Source.Where()) + ")"
		}
		out = append(out, t)
	}
	return strings.Join(out, "; ")
}

func (s *Screen) wayBack(a PathAnswer) {
	b := a.Answer.Back
	if b == nil {
		return
	}
	s.head("The way back to " + a.From)
	switch {
	case b.Found && b.By == "slot":
		s.hanging("  "+s.paint(good, "slot     "), 11, plain, b.Because)
		if len(b.Hops) > 0 {
			s.hanging(strings.Repeat(" ", 11), 11, plain, fmt.Sprintf("or by %s: %s", count2(len(b.Hops), "hop"), hopList(b.Hops)))
		}
	case b.Found:
		s.hanging("  "+s.paint(good, "hops     "), 11, plain, b.Because)
		for i, h := range a.Back {
			s.hanging(fmt.Sprintf("           %d. ", i+1), 14, plain, hopList([]path.Hop{h.Hop})+"; "+cost(h.Hop))
			s.line(14, faint, h.Because+"; "+restsOn(h.Sources))
		}
	default:
		s.hanging("  "+s.paint(bad, "none     "), 11, plain, b.Because)
		if len(b.Sources) > 0 {
			s.line(11, faint, restsOn(b.Sources))
		}
	}
	for _, n := range b.Notes {
		s.line(11, info, n)
	}
}

func hopList(hops []path.Hop) string {
	var out []string
	for _, h := range hops {
		t := h.Release
		if h.BootOnly {
			t = "the boot loader of " + t
		}
		out = append(out, t)
	}
	return "install " + strings.Join(out, ", then ")
}

// pathAdvice is what to do next.
func pathAdvice(all Paths, a PathAnswer) []string {
	var out []string
	if !a.Found {
		if len(a.Unsettled) == 0 {
			out = append(out, "see what stands in the way, and whether some of it can be changed: attached devices, companions, storage, the entitlement, a rule that the release notes no longer bear out")
		}
		return out
	}
	var missing []string
	for _, h := range a.Steps {
		if len(h.Packages) == 0 && !slices.Contains(missing, h.Release) {
			missing = append(missing, h.Release)
		}
	}
	if len(missing) > 0 {
		out = append(out, "download "+strings.Join(missing, ", ")+" into the kit's packages/, and ask again")
	}
	if len(a.Steps) > 0 && len(a.Steps[0].Packages) > 0 {
		var first []string
		for _, p := range a.Steps[0].Packages {
			first = append(first, shell.Quote(p.Path))
		}
		out = append(out, fmt.Sprintf("check the first in full: fitcheck match -device %s %s", shell.Quote(all.Device), strings.Join(first, " ")))
	}
	if len(a.Steps) > 0 && len(missing) == 0 {
		out = append(out, fmt.Sprintf("lay the files out, and write the steps down: fitcheck stage -device %s %s -into DIR, fitcheck runbook -device %s %s", shell.Quote(all.Device), a.Asked(), shell.Quote(all.Device), a.Asked()))
	}
	if b := a.Answer.Back; b != nil && !b.Found {
		out = append(out, "decide whether going without a way back is acceptable; save the settings off the device first")
	}
	return out
}
