package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/shell"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
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
	// Like is the device whose way this is, too: of very many, the way of those that are alike is
	// found once. "" where it is the device's own.
	Like   string
	Plans  []PathAnswer
	Notes  []string
	Prefer path.Prefer
}

// status is the word for an answer and its tone.
func (p PathAnswer) status() (word string, tone page.Tone) {
	switch {
	case p.Found:
		return "PATH", page.Good
	case len(p.Unsettled) > 0:
		return "UNSETTLED", page.Doubt
	}
	return "NO PATH", page.Bad
}

// headline says in one line what came out.
func (p PathAnswer) headline() string {
	switch {
	case p.Found && len(p.Hops) == 0:
		return fmt.Sprintf("%s runs %s already", p.Name, p.To)
	case p.Found:
		return fmt.Sprintf("%s gets from %s to %s in %s", p.Name, p.From, p.target(), wording.Count(len(p.Hops), "hop"))
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
		parts = append(parts, fmt.Sprintf("%s%s in all, %s of it without service", at, install.Text(), outage.Text()))
	}
	if unknown > 0 {
		parts = append(parts, "the rulebook gives no minutes for "+wording.Count(unknown, "hop"))
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

// PathPage tells the paths: what came out, the hops, why each, the way back, what to do.
func PathPage(p Paths) *page.Page {
	out := &page.Page{Name: "The way of " + p.Device}
	for _, n := range p.Notes {
		out.Add(page.Line{Text: n, Tone: page.Info})
	}
	for _, a := range p.Plans {
		out.Add(p.blocks(a)...)
	}
	return out
}

// Of a path at a glance.
const (
	hopsShown   = 8
	whysShown   = 4
	closedShown = 5 // releases that stand in the way
)

// In one piece: the blocks stand in the order in which they are read.
func (p Paths) blocks(a PathAnswer) []page.Block {
	t := page.Title{Text: a.headline()}
	t.Word, t.Tone = a.status()
	say := func(tone page.Tone, text string) { t.About = append(t.About, page.Item{Text: text, Tone: tone}) }
	if sums := a.sums(); sums != "" {
		say(page.Plain, sums)
	}
	for i, h := range a.Hops {
		if h.NoReturn {
			say(page.Bad, fmt.Sprintf("POINT OF NO RETURN: after hop %d nothing leads back to %s", i+1, cmp.Or(h.Begin, a.From)))
		}
		if h.ResetsConfig {
			say(page.Bad, fmt.Sprintf("hop %d RESETS the configuration: save it off the device first", i+1))
		}
	}
	if c := a.Capped; c != nil {
		say(page.Doubt, fmt.Sprintf("the newest release is %s, and cannot be reached: %s", c.Release, c.Because))
	}
	if b := begins(a.Steps); b != "" {
		say(page.Plain, b+"  run now")
	}
	for _, n := range a.Notes {
		say(page.Info, n)
	}
	out := []page.Block{t}
	if len(a.Unsettled) > 0 {
		l := page.List{Most: closedShown, Flag: page.Why}
		for _, u := range a.Unsettled {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "?", Tone: page.Doubt}}, Text: u})
		}
		out = append(out, page.Head{Text: "What must be known first"}, l)
	}
	if len(a.Blocked) > 0 {
		l := page.List{Most: closedShown, Flag: page.Why, Deep: page.Why}
		for _, b := range a.Blocked {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: b.Release, Tone: page.Bad}}, Text: b.Because, Under: []page.Item{{Text: restsOn(b.Sources), Tone: page.Faint}}})
		}
		out = append(out, page.Head{Text: "What stands in the way"}, l)
	}
	if len(a.Unsettled) > 0 && len(a.Maybe) > 0 {
		out = append(out, page.Head{Text: "The way there would then be"})
		out = append(out, hops(a.Maybe)...)
	}
	if a.Picture != nil {
		out = append(out, Drawing(a.Answer))
	}
	if len(a.Steps) > 0 {
		out = append(out, hops(a.Steps)...)
	}
	for i, alt := range a.Alternatives {
		out = append(out, page.Head{Text: fmt.Sprintf("Another way (%d)", i+2)})
		out = append(out, hops(alt)...)
	}
	out = append(out, notPossible(a)...)
	out = append(out, wayBack(a)...)
	out = append(out, whatNext(pathAdvice(p, a))...)
	return append(out, page.Gap{}, page.Fold{Line: "-why shows where each of it was read", Flag: page.Why, Inside: func() []page.Block { return nil }})
}

// hops is a table of what is installed in which order, and why each of it.
func hops(steps []plan.Step) []page.Block {
	moved := map[string]bool{}
	for _, h := range steps {
		for _, m := range h.Members {
			moved[m] = true
		}
	}
	t := page.Table{Most: hopsShown, Flag: page.Why, Noun: "hops", Columns: []page.Column{{Title: "hop"}, {Title: "install", Fitting: page.Wrap}, {Title: "on", Fitting: page.Cut}, {Title: "changes", Fitting: page.Wrap}, {Title: "takes", Fitting: page.Wrap}, {Title: "outage", Fitting: page.Wrap}, {Title: "settings"}, {Title: "package", Fitting: page.Wrap}}}
	why := page.List{Most: whysShown, Flag: page.Why, Deep: page.Why}
	for i, h := range steps {
		install := h.Release
		if h.BootOnly {
			install += ", only its boot loader"
		}
		if h.Family != h.FromFamily {
			install += fmt.Sprintf(" (crosses from %s to %s)", h.FromFamily, h.Family)
		}
		on := ""
		switch {
		case len(h.Members) == 0:
		case len(h.Members) == len(moved) && len(moved) > 1:
			on = "all"
		default:
			on = strings.Join(h.Members, ", ")
		}
		takes, outage := page.Span{Text: "not given", Tone: page.Faint}, page.Span{Text: "not given", Tone: page.Faint}
		if h.Minutes != nil {
			takes, outage = page.Span{Text: h.Minutes.Install.Text()}, page.Span{Text: h.Minutes.Outage.Text()}
		}
		settings := page.Span{Text: "kept"}
		if h.ResetsConfig {
			settings = page.Span{Text: "RESET", Tone: page.Bad}
		}
		pkg := page.Span{Text: packages(h)}
		if pkg.Text == "" {
			pkg = page.Span{Text: "to download", Tone: page.Doubt}
		}
		t.Rows = append(t.Rows, []page.Span{{Text: fmt.Sprint(i + 1), Tone: page.Info}, {Text: install, Tone: page.Strong}, {Text: on}, {Text: changes(h.Hop)}, takes, outage, settings, pkg})
		item := page.Item{Marks: []page.Span{{Text: fmt.Sprintf("%d.", i+1)}}, Text: h.Because}
		for _, n := range h.Notes {
			item.Text += "; " + n
		}
		if h.NoReturn {
			item.Text += "; from here nothing leads back"
		}
		item.Under = []page.Item{{Text: restsOn(h.Sources), Tone: page.Faint}}
		why.Items = append(why.Items, item)
	}
	if len(moved) < 2 { // one device: where is no question
		t.Columns = slices.Delete(t.Columns, 2, 3)
		for i := range t.Rows {
			t.Rows[i] = slices.Delete(t.Rows[i], 2, 3)
		}
	}
	return []page.Block{t, page.Head{Text: "Why each hop"}, why}
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

func cost(h path.Hop) string {
	t := "minutes not given"
	if h.Minutes != nil {
		t = fmt.Sprintf("%s, %s without service", h.Minutes.Install.Text(), h.Minutes.Outage.Text())
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
		out = append(out, p.Name)
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

// wayBack says how to get back to where it starts.
func wayBack(a PathAnswer) []page.Block {
	b := a.Answer.Back
	if b == nil {
		return nil
	}
	l := page.List{Deep: page.Why}
	switch {
	case b.Found && b.By == "slot":
		it := page.Item{Marks: []page.Span{{Text: "by the other slot", Tone: page.Good}}, Text: b.Because}
		if len(b.Hops) > 0 {
			it.Text += fmt.Sprintf("; or by %s: %s", wording.Count(len(b.Hops), "hop"), hopList(b.Hops))
		}
		l.Items = append(l.Items, it)
	case b.Found:
		l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "by hops", Tone: page.Good}}, Text: b.Because})
		for i, h := range a.Back {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: fmt.Sprintf("%d.", i+1)}}, Text: hopList([]path.Hop{h.Hop}) + "; " + cost(h.Hop),
				Under: []page.Item{{Text: h.Because + "; " + restsOn(h.Sources), Tone: page.Faint}}})
		}
	default:
		l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "none", Tone: page.Bad}}, Text: b.Because, Under: []page.Item{{Text: restsOn(b.Sources), Tone: page.Faint}}})
	}
	for _, n := range b.Notes {
		l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "note", Tone: page.Info}}, Text: n})
	}
	return []page.Block{page.Head{Text: "The way back to " + a.From}, l}
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
		out = append(out, fmt.Sprintf("lay the files out: fitcheck stage -device %s %s -into %s", shell.Quote(all.Device), a.Asked(), shell.Quote("staged/"+a.Name)),
			fmt.Sprintf("write the steps down: fitcheck runbook -device %s %s", shell.Quote(all.Device), a.Asked()))
	}
	if b := a.Answer.Back; b != nil && !b.Found {
		out = append(out, "decide whether going without a way back is acceptable; save the settings off the device first")
	}
	return out
}
