package path

import (
	"fmt"
	"slices"

	"fitcheck/core/fact"
	"fitcheck/core/fit/check"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	y "fitcheck/core/yamlfile"
)

// candidate is a version that a team could be brought to, with the release of it
// for each box.
type candidate struct {
	index    int  // in the versions of its line
	listed   bool // the rulebook lists a release of this version
	releases []*rulebook.Release
	// standing is what is against the release of each box, wherever the box
	// comes from.
	standing [][]reason
	outage   int32
	aside    int32 // 0 for a version that a rule names as the one to go by way of, else 1
	resets   bool
	brings   []int16 // by box and watched component: its place, or leaves
	bringing int32   // candidates that bring the same have the same number
	needs    []placed
	mains    []mainNeed
}

// Instead of a place, a component may be left as it is, or be brought in a version of
// which the build would tell the place.
const (
	leaves  int16 = -2
	unknown int16 = -1
)

// unknownOutage stands for minutes that the rulebook does not give: more than any that
// it does, so that what is not known is never taken for short.
const unknownOutage = 100_000

// placed is a need on a watched component, in places.
type placed struct {
	box, watch int
	holds      []bool
	brought    int16 // place of what the release brings, or leaves
	first      bool  // and it is installed before the main component
	boot       bool
	need       *rulebook.Need
}

// mainNeed is a need on the main component, as stretches of its line.
type mainNeed struct {
	box   int
	need  *rulebook.Need
	spans [][2]int
	// unsure are those of versions that leave open the build that decides.
	unsure [][2]int
}

// reason is one thing that is against a move.
type reason struct {
	code    *check.Code // nil for what is never told
	text    string
	brief   string // the same where it is clear which move is meant; "" for the text
	unknown bool   // it is not known, rather than so
	sources []Cited
	need    *rulebook.Need // when it is a need on a component
	box     int
}

func (t *team) prepare(l *line, c *candidate, o Options) {
	c.standing, c.aside = make([][]reason, len(t.boxes)), 1
	c.brings = make([]int16, len(t.boxes)*len(t.watched))
	for i := range c.brings {
		c.brings[i] = leaves
	}
	if len(t.rules.Releases) == 0 { // then any version may be asked for
		for b := range t.boxes {
			c.releases[b] = &rulebook.Release{Version: y.String{Text: l.versions[c.index].Text}}
		}
	}
	for b, box := range t.boxes {
		rel := c.releases[b]
		if rel == nil {
			continue
		}
		c.standing[b] = box.standing(rel, l.families[b])
		if slices.Contains(l.avoid, c.index) {
			c.standing[b] = append(c.standing[b], reason{code: pathAvoided, text: pathAvoided.Words, sources: []Cited{{"-avoid " + rel.Version.Text, fact.Source{Kind: fact.Command}}}})
		}
		if o.OnHand != nil && !o.OnHand(rel) {
			c.standing[b] = append(c.standing[b], reason{code: pathNotAtHand, text: pathNotAtHand.Words, sources: []Cited{{"release " + rel.Version.Text, box.Rules.Source(rel.Spot)}}})
		}
		switch {
		case !rel.Minutes.Known() || c.outage == unknownOutage:
			c.outage = unknownOutage
		case box.Rules.Installing(l.families[b]).Rolling():
			c.outage += int32(rel.Minutes.Outage.To)
		default:
			c.outage = max(c.outage, int32(rel.Minutes.Outage.To))
		}
		c.resets = c.resets || rel.ResetsConfig
		t.prepareNeeds(l, c, b, rel)
	}
	c.bringing = t.brought.number(c.brings)
}

func (t *team) prepareNeeds(l *line, c *candidate, b int, rel *rulebook.Release) {
	box, family := t.boxes[b], l.families[b]
	place := func(watch int, component string) int16 {
		text, ok := box.bringsOf(rel, family, component)
		if !ok {
			return leaves
		}
		v, err := t.watched[watch].scheme.Parse(text)
		if err != nil {
			return leaves
		}
		at, sure := t.watched[watch].marks.Place(v)
		if !sure {
			return unknown
		}
		return int16(at)
	}
	for w := range t.watched {
		if t.watched[w].component != l.main {
			c.brings[b*len(t.watched)+w] = place(w, t.watched[w].component)
		}
	}
	for n := range rel.NeedsOf(t.rules, family, box.Model, box.Revision) {
		if !n.Component.Set() {
			continue
		}
		name := n.Component.Text
		if name == l.main {
			spans, ok := l.spans[n.Within.Text]
			if !ok {
				spans[0], spans[1] = n.Range.Spans(l.scheme, l.versions)
				l.spans[n.Within.Text] = spans
			}
			c.mains = append(c.mains, mainNeed{b, n, spans[0], spans[1]})
			continue
		}
		w := t.watching(name)
		p := placed{box: b, watch: w, brought: c.brings[b*len(t.watched)+w], first: box.before(family, name, l.main), boot: name == box.boot, need: n}
		p.holds = t.watched[w].places(n)
		c.needs = append(c.needs, p)
	}
}

// places tells which places of a component a need takes.
func (w *watch) places(n *rulebook.Need) []bool {
	if known, ok := w.taken[n.Within.Text]; ok {
		return known
	}
	out := make([]bool, w.marks.Places())
	for place := range out {
		out[place] = n.Range.HoldsPlace(place, w.marks)
	}
	w.taken[n.Within.Text] = out
	return out
}

// met tells whether a need holds when the main component is installed, counting what
// the release installs before it, and once all is.
func (p *placed) met(places []int16, watched int) truth.Truth {
	if p.need.Doubt() != "" {
		return truth.Unknown
	}
	at := func(place int16) truth.Truth {
		if place < 0 {
			return truth.Unknown
		}
		return truth.Of(p.holds[place])
	}
	have := places[p.box*watched+p.watch]
	if p.brought == leaves {
		return at(have)
	}
	end := p.brought
	if p.boot && end >= 0 { // no older boot loader goes over a newer one
		end = max(end, have)
	}
	during := have
	if p.first {
		during = end
	}
	return at(during).And(at(end))
}

// after is the context once the release of every box is installed, or only the
// boot loaders of the boxes that are named.
func (t *team) after(c *candidate, context int32) int32 {
	if len(t.watched) == 0 {
		return context
	}
	key := [2]int32{context, c.bringing}
	if known, ok := t.afters[key]; ok {
		return known
	}
	places := append([]int16(nil), t.places[context]...)
	for i, to := range c.brings {
		if to == leaves {
			continue
		}
		if t.watched[i%len(t.watched)].component == t.boxes[i/len(t.watched)].boot && to >= 0 {
			to = max(to, places[i])
		}
		places[i] = to
	}
	t.afters[key] = t.intern(places)
	return t.afters[key]
}

// possible tells whether the move to a candidate is possible in a context as
// far as that decides it: not by the hop rules and not by needs on main.
func (t *team) possible(l *line, c *candidate, context int32) truth.Truth {
	all := truth.Yes
	for b := range t.boxes {
		if c.releases[b] == nil {
			return truth.No
		}
		if all = all.And(stands(c.standing[b])).And(t.keepsBoot(l, c, b, context)); all == truth.No {
			return all
		}
	}
	for i := range c.needs {
		if all = all.And(c.needs[i].met(t.places[context], len(t.watched))); all == truth.No {
			return all
		}
	}
	return all
}

// keepsBoot tells that a release puts no older boot loader over a newer one: one that
// may be left out is.
func (t *team) keepsBoot(l *line, c *candidate, b int, context int32) truth.Truth {
	box := t.boxes[b]
	w := t.watching(box.boot)
	if w < 0 || box.optional(l.families[b], box.boot) {
		return truth.Yes
	}
	i := b*len(t.watched) + w
	to, have := c.brings[i], t.places[context][i]
	switch {
	case to == leaves:
		return truth.Yes
	case to < 0 || have < 0:
		return truth.Unknown
	}
	return truth.Of(to >= have)
}

// bootPossible is the same for the boot loader of one box alone.
func (t *team) bootPossible(c *candidate, b int, context int32) truth.Truth {
	if c.releases[b] == nil {
		return truth.No
	}
	all := stands(c.standing[b])
	for i := range c.needs {
		if c.needs[i].box == b && !c.needs[i].boot {
			all = all.And(c.needs[i].alone(t.places[context], len(t.watched)))
		}
	}
	return all
}

// alone tells whether a need holds while only the boot loader is installed.
func (p *placed) alone(places []int16, watched int) truth.Truth {
	if p.need.Doubt() != "" {
		return truth.Unknown
	}
	have := places[p.box*watched+p.watch]
	if have < 0 {
		return truth.Unknown
	}
	return truth.Of(p.holds[have])
}

func stands(against []reason) truth.Truth {
	all := truth.Yes
	for _, r := range against {
		if !r.unknown {
			return truth.No
		}
		all = truth.Unknown
	}
	return all
}

// standing is what is against a release for a box, wherever it comes from: that
// it is for other hardware, withdrawn, drops what is attached, is not covered
// by the entitlement, or needs what the device has not.
func (b *Box) standing(rel *rulebook.Release, family string) []reason {
	r := b.Rules
	of := Cited{"release " + rel.Version.Text, r.Source(rel.Spot)}
	var out []reason
	add := func(code *check.Code, unknown bool, text string, sources ...Cited) {
		out = append(out, reason{code: code, text: text, unknown: unknown, sources: sources})
	}
	switch rel.For(r, b.Model, b.Revision) {
	case truth.No:
		add(pathNotForIt, false, "it is not for "+b.hardware(), of)
	case truth.Unknown:
		add(pathRevisionsOpen, true, fmt.Sprintf("it is for some hardware revisions only, and whether that of %s is one of them is not known", b.Device.Name.Text), of, b.missing())
	}
	if doubt := rel.Doubt(); doubt != "" {
		add(pathRuleFault, true, doubt, of)
	}
	if rel.Withdrawn.Set() {
		cited := of
		if doc := r.Document(rel.Source); doc != "" {
			cited.Value += ", " + doc
		}
		cited.Source = r.Source(rel.Withdrawn.Spot)
		add(withdrawnIs, false, "it was withdrawn: "+rel.Withdrawn.Text, cited)
	}
	out = append(out, b.drops(rel)...)
	out = append(out, b.entitled(rel, of)...)
	if v := b.Installed(b.boot); !v.Known() && b.boot != r.Main(family) {
		if _, brings := b.bringsOf(rel, family, b.boot); brings {
			add(versionBootUnknown, true, fmt.Sprintf("it brings a %s, and the installed one of %s is not known; no older one may go over a newer one", b.boot, b.Device.Name.Text), of, Cited{v.Text(), v.At})
		}
	}
	for n := range rel.NeedsOf(r, family, b.Model, b.Revision) {
		if !n.Component.Set() {
			out = append(out, b.asks(n)...)
		}
	}
	return out
}

// drops holds what is attached against what the release no longer supports.
func (b *Box) drops(rel *rulebook.Release) []reason {
	v := b.Attached()
	if len(rel.Drops) == 0 || v.State == member.Missing {
		return nil
	}
	drops := Cited{"drops " + rel.Drops[0].Text, b.Rules.Source(rel.Drops[0].Spot)}
	if !v.Known() {
		return []reason{{code: attachedGuessed, unknown: true, text: fmt.Sprintf("it no longer supports %s, and what is attached is %s", rel.Drops[0].Text, v.Text()), sources: []Cited{drops, {v.Text(), v.At}}}}
	}
	var doubt []reason
	for _, f := range v.Facts {
		t, by := rel.Dropping(b.Rules, f.Value)
		sources := []Cited{{"drops " + by.Text, b.Rules.Source(by.Spot)}, {f.Value, f.Source}}
		switch t {
		case truth.Yes:
			return []reason{{code: attachedDropped, text: fmt.Sprintf("it no longer supports %s, which is attached", f.Value), sources: sources}}
		case truth.Unknown:
			doubt = []reason{{code: attachedNotComparable, unknown: true, text: fmt.Sprintf("it no longer supports %s, and whether %s, which is attached, is one is not known", by.Text, f.Value), sources: sources}}
		}
	}
	return doubt
}

func (b *Box) entitled(rel *rulebook.Release, of Cited) []reason {
	until, v := b.Entitled()
	ends := Cited{v.Text(), v.At}
	e := b.Device.Entitled
	_, guessed := b.Device.Guessed("entitled.active")
	switch {
	case e != nil && e.Active != nil && !*e.Active && !guessed:
		return []reason{{code: entitledIdle, text: "the entitlement is not active", sources: []Cited{of, {"not active", b.Device.Source("entitled.active", e.Spot)}}}}
	case v.State == member.Missing:
		return nil
	case !v.Known():
		return []reason{{code: entitledGuessed, text: "until when the device is entitled is " + v.Text(), unknown: true, sources: []Cited{of, ends}}}
	}
	if _, guessed := b.Device.Guessed("entitled.from"); e != nil && e.From.Set() && !guessed && rel.Date.Set() && rel.Date.Day.Before(e.From.Day) && !rel.Date.Day.After(until.Day) {
		return []reason{{code: entitledEarly, text: fmt.Sprintf("it is of %s, before the entitlement began", rel.Date.Day.Format("2006-01-02")), unknown: true, sources: []Cited{of, ends}}}
	}
	switch rel.Entitled(until) {
	case truth.No:
		return []reason{{code: entitledEnded, text: fmt.Sprintf("it is of %s, after the entitlement ended", rel.Date.Day.Format("2006-01-02")), sources: []Cited{of, ends}}}
	case truth.Unknown:
		return []reason{{code: entitledNoDate, text: "the rulebook does not give its date, so that nobody can say whether the entitlement covers it", unknown: true, sources: []Cited{of, ends}}}
	}
	return nil
}

// asks holds a need that is not on a component against the box.
func (b *Box) asks(n *rulebook.Need) []reason {
	held := n.Met(b.Rules, member.Situation{Member: b.Member})
	if held == truth.Yes {
		return nil
	}
	have := b.has(n)
	res := reason{code: needsFails, need: n, unknown: held == truth.Unknown, sources: []Cited{b.citeNeed(n), have}}
	res.text = "it needs " + n.Text()
	switch {
	case n.Doubt() != "":
		res.code, res.text = needsRuleFault, n.Doubt()
	case res.unknown:
		res.code = needsDeviceUnknown
		res.text += ", and what there is is " + have.Value
	default:
		res.text += ", and there is " + have.Value
	}
	if n.Why.Set() {
		res.text += " (" + n.Why.Text + ")"
	}
	return []reason{res}
}

func (b *Box) citeNeed(n *rulebook.Need) Cited {
	c := Cited{"needs " + n.Text(), b.Rules.Source(n.Spot)}
	if doc := b.Rules.Document(n.Source); doc != "" {
		c.Value += ", " + doc
	}
	return c
}

// missing is where something would stand if it were known.
func (b *Box) missing() Cited {
	return Cited{"not known", fact.Source{Kind: fact.DeviceFile, File: b.Device.File}}
}

// has is what the device has of what a need speaks of.
func (b *Box) has(n *rulebook.Need) Cited {
	var v member.Value
	switch {
	case n.Companion.Set():
		v = b.Companion(n.Companion.Text)
	case n.StorageFree.Set():
		_, v = b.StorageFree()
	case n.Memory.Set():
		_, v = b.Memory()
	case n.Feature.Set():
		v = b.Value(fact.Feature)
	case n.Attached.Set():
		v = b.Attached()
	}
	if v.At.File == "" {
		return b.missing()
	}
	if n.Companion.Set() && v.Known() {
		return Cited{n.Companion.Text + " " + v.Text(), v.At}
	}
	return Cited{v.Text(), v.At}
}
