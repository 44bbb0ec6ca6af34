package path

import (
	"fmt"
	"slices"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
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
	resets   bool
	brings   []int16 // by box and watched component: its place, or leaves
	bringing int32   // candidates that bring the same have the same number
	needs    []placed
	mains    []mainNeed
}

const leaves int16 = -2 // the release does not touch the component

// placed is a need on a watched component, in places.
type placed struct {
	box, watch int
	holds      []bool
	first      int16 // place of what is installed before the main component, or leaves
	boot       bool
	need       *rulebook.Need
}

// mainNeed is a need on the main component, as stretches of its line.
type mainNeed struct {
	box   int
	need  *rulebook.Need
	spans [][2]int
}

// reason is one thing that is against a move.
type reason struct {
	text    string
	unknown bool // it is not known, rather than so
	sources []Cited
	need    *rulebook.Need // when it is a need on a component
	box     int
}

func (t *team) prepare(l *line, c *candidate, o Options) {
	c.standing = make([][]reason, len(t.boxes))
	c.brings = make([]int16, len(t.boxes)*len(t.watched))
	for i := range c.brings {
		c.brings[i] = leaves
	}
	if len(t.rules.Releases) == 0 { // then any version may be asked for
		for b := range t.boxes {
			c.releases[b] = &rulebook.Release{Version: y.Text{Text: l.versions[c.index].Text}}
		}
	}
	for b, box := range t.boxes {
		rel := c.releases[b]
		if rel == nil {
			continue
		}
		c.standing[b] = box.standing(rel)
		if slices.Contains(l.avoid, c.index) {
			c.standing[b] = append(c.standing[b], reason{text: "it is to be avoided", sources: []Cited{{"-avoid " + rel.Version.Text, fact.Source{Kind: fact.Command}}}})
		}
		if o.OnHand != nil && !o.OnHand(rel) {
			c.standing[b] = append(c.standing[b], reason{text: "no package at hand carries it", sources: []Cited{{"release " + rel.Version.Text, box.Rules.Source(rel.Spot)}}})
		}
		if rel.Minutes != nil {
			c.outage = max(c.outage, int32(rel.Minutes.Outage))
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
		return int16(t.watched[watch].marks.Place(v))
	}
	for w := range t.watched {
		if t.watched[w].component != l.main {
			c.brings[b*len(t.watched)+w] = place(w, t.watched[w].component)
		}
	}
	for i := range rel.Needs {
		n := &rel.Needs[i]
		if !n.Component.Set() {
			continue
		}
		name := n.Component.Text
		if name == l.main {
			spans, ok := l.spans[n.Within.Text]
			if !ok {
				spans = n.Range.Spans(l.scheme, l.versions)
				l.spans[n.Within.Text] = spans
			}
			c.mains = append(c.mains, mainNeed{b, n, spans})
			continue
		}
		w := t.watching(name)
		p := placed{box: b, watch: w, first: leaves, boot: name == box.boot, need: n}
		if box.before(family, name, l.main) {
			p.first = c.brings[b*len(t.watched)+w]
		}
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

// met tells whether a need holds in a context, counting what the release
// installs before its main component.
func (p *placed) met(places []int16, watched int) rulebook.Truth {
	have := places[p.box*watched+p.watch]
	if have >= 0 && p.holds[have] {
		return rulebook.Holds
	}
	if p.first != leaves {
		end := p.first
		if p.boot { // no older boot loader goes over a newer one
			end = max(end, have)
		}
		if p.holds[end] {
			return rulebook.Holds
		}
	}
	if have < 0 {
		return rulebook.Unknown
	}
	return rulebook.Fails
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
		if t.watched[i%len(t.watched)].component == t.boxes[i/len(t.watched)].boot {
			to = max(to, places[i])
		}
		places[i] = to
	}
	t.afters[key] = t.intern(places)
	return t.afters[key]
}

// possible tells whether the move to a candidate is possible in a context as
// far as that decides it: not by the hop rules and not by needs on main.
func (t *team) possible(c *candidate, context int32) rulebook.Truth {
	truth := rulebook.Holds
	for b := range t.boxes {
		if c.releases[b] == nil {
			return rulebook.Fails
		}
		if truth = worse(truth, stands(c.standing[b])); truth == rulebook.Fails {
			return truth
		}
	}
	for i := range c.needs {
		if truth = worse(truth, c.needs[i].met(t.places[context], len(t.watched))); truth == rulebook.Fails {
			return truth
		}
	}
	return truth
}

// bootPossible is the same for the boot loader of one box alone.
func (t *team) bootPossible(c *candidate, b int, context int32) rulebook.Truth {
	if c.releases[b] == nil {
		return rulebook.Fails
	}
	truth := stands(c.standing[b])
	for i := range c.needs {
		if c.needs[i].box == b {
			truth = worse(truth, c.needs[i].met(t.places[context], len(t.watched)))
		}
	}
	return truth
}

func stands(against []reason) rulebook.Truth {
	truth := rulebook.Holds
	for _, r := range against {
		if !r.unknown {
			return rulebook.Fails
		}
		truth = rulebook.Unknown
	}
	return truth
}

func worse(a, b rulebook.Truth) rulebook.Truth {
	switch {
	case a == rulebook.Fails || b == rulebook.Fails:
		return rulebook.Fails
	case a == rulebook.Unknown || b == rulebook.Unknown:
		return rulebook.Unknown
	}
	return rulebook.Holds
}

// standing is what is against a release for a box, wherever it comes from: that
// it is for other hardware, withdrawn, drops what is attached, is not covered
// by the entitlement, or needs what the device has not.
func (b *Box) standing(rel *rulebook.Release) []reason {
	r := b.Rules
	of := Cited{"release " + rel.Version.Text, r.Source(rel.Spot)}
	var out []reason
	add := func(unknown bool, text string, sources ...Cited) {
		out = append(out, reason{text: text, unknown: unknown, sources: sources})
	}
	switch meant, unsure := rel.For(r, b.Model, b.Revision); {
	case !meant:
		add(false, "it is not for "+b.hardware(), of)
	case unsure:
		add(true, fmt.Sprintf("it is for some hardware revisions only, and that of %s is not known", b.Device.Name.Text), of, b.missing())
	}
	if rel.Withdrawn.Set() {
		cited := of
		if doc := r.Document(rel.Source); doc != "" {
			cited.Value += ", " + doc
		}
		cited.Source = r.Source(rel.Withdrawn.Spot)
		add(false, "it was withdrawn: "+rel.Withdrawn.Text, cited)
	}
	if a, d, dropped := rel.DropsAny(r, b.Device.Attached); dropped {
		_, guessed := b.Device.Guessed("attached")
		add(guessed, fmt.Sprintf("it no longer supports %s, which is attached", a.Text), Cited{"drops " + d.Text, r.Source(d.Spot)}, Cited{a.Text, b.Device.Source("attached", a.Spot)})
	}
	out = append(out, b.entitled(rel, of)...)
	for i := range rel.Needs {
		if n := &rel.Needs[i]; !n.Component.Set() {
			out = append(out, b.asks(n)...)
		}
	}
	return out
}

func (b *Box) entitled(rel *rulebook.Release, of Cited) []reason {
	until := b.Device.EntitledUntil
	ends := Cited{until.Day.Format("2006-01-02"), b.Device.Source("entitled_until", until.Spot)}
	truth := rel.Entitled(until)
	if _, guessed := b.Device.Guessed("entitled_until"); guessed && truth == rulebook.Fails {
		truth = rulebook.Unknown
	}
	switch truth {
	case rulebook.Fails:
		return []reason{{text: fmt.Sprintf("it is of %s, after the entitlement ended", rel.Date.Day.Format("2006-01-02")), sources: []Cited{of, ends}}}
	case rulebook.Unknown:
		return []reason{{text: "the rulebook does not give its date, so that nobody can say whether the entitlement covers it", unknown: true, sources: []Cited{of, ends}}}
	}
	return nil
}

// asks holds a need that is not on a component against the box.
func (b *Box) asks(n *rulebook.Need) []reason {
	truth := n.Met(b.Rules, b.situation("", "", nil))
	if truth == rulebook.Holds {
		return nil
	}
	have := b.has(n)
	res := reason{unknown: truth == rulebook.Unknown, sources: []Cited{b.citeNeed(n), have}}
	res.text = "it needs " + n.Text()
	if res.unknown {
		res.text += ", and what there is is not known"
	} else {
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
	d := b.Device
	list := func(key string, l []y.Text) Cited {
		if len(l) == 0 {
			return b.missing()
		}
		c := Cited{l[0].Text, d.Source(key, l[0].Spot)}
		for _, t := range l[1:] {
			c.Value += ", " + t.Text
		}
		return c
	}
	switch {
	case n.Companion.Set():
		if e, ok := d.Companions.Get(n.Companion.Text); ok {
			return Cited{n.Companion.Text + " " + e.Value.Text, d.Source("companions."+n.Companion.Text, e.Value.Spot)}
		}
	case n.StorageFree.Set():
		if d.StorageFree.Set() {
			return Cited{y.FormatSize(d.StorageFree.Bytes), d.Source("storage_free", d.StorageFree.Spot)}
		}
	case n.Memory.Set():
		if d.Memory.Set() {
			return Cited{y.FormatSize(d.Memory.Bytes), d.Source("memory", d.Memory.Spot)}
		}
		if m, ok := b.Rules.FindModel(b.Model); ok {
			if size, ok := b.Rules.MemorySize(&m.Value, b.Revision); ok {
				return Cited{y.FormatSize(size.Bytes), b.Rules.Source(size.Spot)}
			}
		}
	case n.Feature.Set():
		return list("features", d.Features)
	case n.Attached.Set():
		return list("attached", d.Attached)
	}
	return b.missing()
}
