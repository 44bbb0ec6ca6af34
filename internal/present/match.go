package present

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// How many lines a verdict takes: the one that is read at a glance, the one that says what is
// wrong, and the one on a group.
const (
	linesFits  = 25
	linesOpen  = 35 // of three reasons; of more as much as a screen holds
	linesGroup = 40
)

// tones are how outcomes look.
var tones = map[fit.Outcome]page.Tone{fit.Fits: page.Good, fit.Misfit: page.Bad, fit.Unsettled: page.Doubt, fit.Note: page.Info}

func toneOf(o fit.Outcome) page.Tone {
	if t, ok := tones[o]; ok {
		return t
	}
	return page.Info
}

// sentences are verdicts in words.
var sentences = map[fit.Outcome]string{
	fit.Fits:      "%s fits %s",
	fit.Misfit:    "%s does NOT fit %s",
	fit.Unsettled: "whether %s fits %s is not settled",
}

// verdictLines is how long a verdict gets on a screen.
func verdictLines(v *fit.Verdict) int {
	switch {
	case len(v.Members) > 1:
		return linesGroup
	case v.Outcome == fit.Fits:
		return linesFits
	case len(v.Deciding()) > 3:
		return 0
	}
	return linesOpen
}

// What is shown of one verdict on one screen.
const (
	maxOpen    = 4 // with both sides
	maxReasons = 8 // of which those beyond maxOpen by their reason alone
	maxNotes   = 2
	maxNext    = 3
	maxImages  = 8
	// maxAbout is how many members are introduced by a line of their own.
	maxAbout = 4
)

// verdict tells a verdict: what it is, the matrix, what is open with both sides, the images,
// what next; and, folded, all else that was checked and what proves each byte.
func (e Evidence) verdict(v *fit.Verdict, instead *Instead, device string) []page.Block {
	all := collapse(v)
	out := []page.Block{
		page.Title{Word: strings.ToUpper(string(v.Outcome)), Tone: toneOf(v.Outcome), Text: fmt.Sprintf(sentences[v.Outcome], v.Package, v.Device), About: whichDevice(v)},
		matrixOf(v).page(),
	}
	var open, notes, rest []memberCheck
	fits := 0
	for _, c := range all {
		switch {
		case c.Outcome == fit.Misfit || c.Outcome == fit.Unsettled:
			open = joinReason(open, c)
		case c.Outcome == fit.Note && v.Outcome != fit.Misfit: // in which they change nothing
			notes = append(notes, c)
		case c.Outcome == fit.NotApplicable && !check.Find(c.Check.Check).Explains: // silent
		default:
			rest = append(rest, c)
		}
		if c.Outcome == fit.Fits {
			fits += max(1, len(c.of))
		}
	}
	slices.SortStableFunc(open, func(a, b memberCheck) int { return pressing(a.Check, b.Check) })
	open = joinComponents(open)
	slices.SortStableFunc(rest, func(a, b memberCheck) int { return weight(a.Outcome) - weight(b.Outcome) })
	shown := map[string]bool{}
	if len(open) > 0 {
		l := page.List{Full: maxOpen, Most: maxReasons, Flag: page.Why}
		if len(v.Members) > 1 { // whose list takes lines, too
			l.Full--
		}
		for _, c := range open {
			l.Items = append(l.Items, e.check(v, c, shown))
		}
		out = append(out, page.Head{Text: "What decides it"}, l)
	}
	if len(notes) > 0 {
		l := page.List{Most: maxNotes, Flag: page.Why}
		for _, c := range notes {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "note", Tone: page.Info}}, Text: c.because(v)})
		}
		out = append(out, page.Gap{}, l)
	}
	out = append(out, images(v)...)
	out = append(out, next(v, instead, device)...)
	last := wording.Count(fits, "check") + " fit"
	if fits == 1 {
		last = "1 check fits"
	}
	if proof := weakestProof(v); proof != "" {
		last += "; " + proof
	}
	if fits == 0 {
		last = "no check fits"
	}
	return append(out, page.Gap{}, page.Fold{Line: last + "; -why\u00a0shows\u00a0every\u00a0source", Title: "What else was checked: " + last, Flag: page.Why, Inside: func() []page.Block {
		return e.inFull(v, rest, maps.Clone(shown)) // each writer makes it anew
	}})
}

// inFull is what stands behind a verdict: the checks that decide nothing, what proves the
// images, what was passed over.
func (e Evidence) inFull(v *fit.Verdict, rest []memberCheck, shown map[string]bool) []page.Block {
	var out []page.Block
	var l page.List
	for _, c := range rest {
		l.Items = append(l.Items, e.check(v, c, shown))
	}
	out = append(out, l)
	for _, m := range v.Members {
		of := ""
		if len(v.Members) > 1 {
			of = m.Name + ": "
		}
		for i, c := range m.Chosen {
			if i == 0 {
				out = append(out, page.Head{Text: upper(of + "what proves each image")})
			}
			item := page.Item{Marks: []page.Span{{Text: c.Component, Tone: page.Strong}}, Text: within(v.Package, c.Item)}
			for _, t := range provenBy(v.Package, c.Coverage, len(c.Coverage)) {
				item.Under = append(item.Under, page.Item{Text: t, Tone: page.Faint})
			}
			out = append(out, page.List{Items: []page.Item{item}}, coverageBar(v.Package, c.Coverage))
		}
		passed := page.List{Most: maxPassed}
		for _, o := range m.Others {
			passed.Items = append(passed.Items, page.Item{Marks: []page.Span{{Text: o.Component, Tone: page.Strong}}, Text: within(v.Package, o.Item) + ": " + inText(v.Package, o.Because)})
		}
		if len(passed.Items) > 0 {
			out = append(out, page.Head{Text: upper(of + "images passed over")}, passed)
		}
	}
	return out
}

// maxPassed is how many images that were passed over are listed.
const maxPassed = 20

// whichDevice says which device it is, and of a group which members.
func whichDevice(v *fit.Verdict) []page.Item {
	release := ""
	if v.Release != "" {
		release = "; the package stands for release " + v.Release
	}
	var out []page.Item
	if len(v.Members) == 1 {
		out = append(out, page.Item{Text: v.Members[0].About + release})
	} else {
		out = append(out, page.Item{Text: fmt.Sprintf("%s is a %s of %d%s", v.Device, v.Group, len(v.Members), release)})
		members := slices.Clone(v.Members)
		left := 0
		if len(members) > maxAbout { // those that do not fit first
			slices.SortStableFunc(members, func(a, b fit.Member) int { return weight(a.Verdict) - weight(b.Verdict) })
			left = len(members) - maxAbout + 1
			members = members[:maxAbout-1]
		}
		for _, m := range members {
			out = append(out, page.Item{Marks: []page.Span{{Text: string(m.Verdict), Tone: toneOf(m.Verdict)}}, Text: m.About})
		}
		if left > 0 {
			out = append(out, page.Item{Text: fmt.Sprintf("and %d more; -why tells of each", left), Tone: page.Faint})
		}
	}
	for _, n := range v.Notes {
		out = append(out, page.Item{Text: n, Tone: page.Info})
	}
	return out
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

// because is why a check came out so, and for which members.
func (c memberCheck) because(v *fit.Verdict) string {
	t := inText(v.Package, c.Because)
	if len(c.of) > 0 {
		t = strings.Join(c.of, ", ") + ": " + t
	}
	return t
}

// pressing orders reasons by what is to be told first: what device an image is for before what
// proves it. Of misfits that is what is farthest from the device; of what is not known, that
// from which the rest follows, as the architecture does from the revision, and that from the
// model.
func pressing(a, b fit.Check) int {
	one, other := check.Find(a.Check), check.Find(b.Check)
	identity := func(c *check.Check) int { return min(c.Far, 1) }
	return cmp.Or(weight(a.Outcome)-weight(b.Outcome), identity(other)-identity(one), cmp.Compare(rank(a.Outcome, one), rank(b.Outcome, other)))
}

func rank(o fit.Outcome, c *check.Check) int {
	switch {
	case c.Far == 0:
		return 0 // in the order of the checks
	case o == fit.Misfit:
		return -c.Far
	}
	return c.Order
}

func weight(o fit.Outcome) int {
	return slices.Index([]fit.Outcome{fit.Misfit, fit.Unsettled, fit.Note, fit.Fits, fit.NotApplicable}, o)
}

// check is one line of a verdict with, below it, both sides and where they were read, and the
// evidence itself.
func (e Evidence) check(v *fit.Verdict, c memberCheck, shown map[string]bool) page.Item {
	item := page.Item{Marks: []page.Span{{Text: string(c.Outcome), Tone: toneOf(c.Outcome)}, {Text: c.Check.Check, Tone: page.Strong}, {Text: c.Component}}, Text: c.because(v)}
	for _, side := range sides(v.Package, c.Check) {
		item.Under = append(item.Under, page.Item{Marks: []page.Span{{Text: side.name, Tone: page.Faint}}, Text: strings.Join(side.values, "; "), Tone: page.Faint})
	}
	item.Inside = e.excerpts(v, c.Check, shown)
	return item
}

// said is what one side of a comparison says, each value with its places.
type said struct {
	name   string
	values []string
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
			side.values = append(side.values, t)
		}
		if len(side.values) > 0 {
			out = append(out, side)
		}
	}
	return out
}

// inText shortens addresses inside a sentence.
func inText(pkg, t string) string { return strings.ReplaceAll(t, pkg+"::", "::") }

// images lists what would be installed: old version, new version, slot.
func images(v *fit.Verdict) []page.Block {
	if v.Outcome == fit.Misfit { // none is to be installed; what was compared is cited
		return nil
	}
	title := "Images to install, in this order"
	if v.Outcome != fit.Fits {
		title = "Images that come nearest"
	}
	type image struct {
		fit.Chosen
		of []string
	}
	var all []image
	for _, m := range v.Members {
		for _, c := range m.Chosen {
			i := slices.IndexFunc(all, func(o image) bool {
				return o.Component == c.Component && o.Item == c.Item && o.Config == c.Config && o.From == c.From && o.Slot == c.Slot
			})
			if i >= 0 {
				all[i].of = append(all[i].of, m.Name)
				continue
			}
			all = append(all, image{c, []string{m.Name}})
		}
	}
	l := page.List{Most: maxImages, Flag: page.Why}
	for _, c := range all {
		versions := c.Version
		if c.From != "" && c.Version != "" {
			versions = c.From + " -> " + c.Version
		}
		slot := ""
		if c.Slot != "" {
			slot = "slot " + c.Slot
		}
		t := within(v.Package, c.Item)
		if c.Config != "" {
			t += "  configuration " + c.Config
		}
		if len(c.of) == len(v.Members) && len(v.Members) > 1 {
			t += "  (all members)"
		} else if len(v.Members) > 1 {
			t += "  (" + strings.Join(c.of, ", ") + ")"
		}
		l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: c.Component, Tone: page.Strong}, {Text: versions}, {Text: slot}}, Text: t})
	}
	if len(l.Items) == 0 {
		return nil
	}
	return []page.Block{page.Head{Text: title}, l}
}

// Advice lists what to do next, the most pressing first.
func Advice(v *fit.Verdict, instead *Instead, device string) []string {
	var advice []string
	add := func(t string) {
		if t != "" && !slices.Contains(advice, t) {
			advice = append(advice, t)
		}
	}
	other := func() {
		if instead != nil {
			add(instead.text(v.Device, device))
		}
	}
	// A package that is for the device, and only cannot come next, is not given up for another.
	onTheWay := !slices.ContainsFunc(v.Deciding(), func(c string) bool { return c != "path" && c != "needs" })
	first := v.Outcome == fit.Misfit && !onTheWay
	if first {
		other()
	}
	reasons := allChecks(v)
	slices.SortStableFunc(reasons, pressing)
	refused := false
	for _, c := range reasons {
		if c.Outcome != fit.Misfit && c.Outcome != fit.Unsettled {
			continue
		}
		rest, no := strings.CutPrefix(c.Advice, notThis)
		if no && refused && rest != "" { // once is enough
			add(rest)
			continue
		}
		refused = refused || no
		add(c.Advice)
	}
	if !first {
		other()
	}
	if v.Outcome == fit.Fits {
		installing(v, add)
	}
	return advice
}

// installing adds what to do about a package that fits.
func installing(v *fit.Verdict, add func(string)) {
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

// notThis begins advice against the package itself.
const notThis = "do not install it; "

// next says what to do, the most pressing first.
func next(v *fit.Verdict, instead *Instead, device string) []page.Block {
	var all []string
	for _, a := range Advice(v, instead, device) {
		all = append(all, inText(v.Package, a))
	}
	return whatNext(all)
}

// whatNext lists acts and commands, in their order.
func whatNext(all []string) []page.Block {
	if len(all) == 0 {
		return nil
	}
	l := page.List{Numbered: true, Most: maxNext, Flag: page.Why}
	for _, a := range all {
		l.Items = append(l.Items, page.Item{Text: a})
	}
	return []page.Block{page.Head{Text: "What to do next"}, l}
}
