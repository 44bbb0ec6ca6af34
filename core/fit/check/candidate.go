package check

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

var nobodys *rulebook.Model

// Candidate is an item that may be the image of a component.
type Candidate struct {
	Item  *survey.Item
	Lines []Line
	// Slot is where it would be written, of the one that is chosen; "" for none.
	Slot string
	// Release is that of the candidate itself.
	Release Release

	witnesses []fact.Witness
	opinions  views
	// given: the manifest gives it to this very device.
	given bool
	summary
}

// summary is what is kept of a candidate that was not picked.
type summary struct {
	worst     Outcome
	stands    bool // a name says otherwise than stronger sources
	distance  int  // from the device
	forOthers bool
	because   map[Outcome]string // the first reason of each that is against it
}

func summarise(lines []Line) summary {
	s := summary{worst: Worst(lines), stands: AnyStands(lines)}
	for i := range lines {
		l := &lines[i]
		switch l.Outcome {
		case Misfit:
			s.distance += max(10, Find(l.Check).Far)
			s.forOthers = s.forOthers || Find(l.Check).Respect != ""
		case Unsettled:
			s.distance++
		default:
			continue
		}
		if s.because == nil {
			s.because = map[Outcome]string{}
		}
		if s.because[l.Outcome] == "" {
			s.because[l.Outcome] = l.Check + ": " + l.Because
		}
	}
	return s
}

// forget drops what only the picked candidate needs: of thousands, the reasons of one are
// told in full.
func (k *Candidate) forget() { k.Lines, k.witnesses, k.opinions = nil, nil, nil }

// Version is what the candidate says of its own version: the strongest that its
// header or a manifest says.
func (k *Candidate) Version() fact.Fact {
	if k == nil {
		return fact.Fact{}
	}
	return k.own(fact.Version)
}

func (k *Candidate) own(n fact.Name) fact.Fact {
	var best fact.Fact
	for _, w := range k.Item.Witnesses {
		if w.Kind != fact.Header && w.Kind != fact.Manifest {
			continue
		}
		for _, f := range w.About(n) {
			if !f.Open && (!best.Known() || f.Strength() > best.Strength()) {
				best = f
			}
		}
	}
	return best
}

// family is what the candidate says of its own family, "" where it does not.
func (k *Candidate) family() string {
	f := k.own(fact.Family)
	return f.Value
}

// Result is what came out for one component.
type Result struct {
	Best   *Candidate // nil when nothing is meant for the component or this device
	Lines  []Line
	Others []PassedOver
}

// PassedOver is a candidate that was not picked, and why.
type PassedOver struct {
	Component string
	Item      string
	Because   string
}

// candidatesFor lists the items that are meant for a component: those that a
// manifest says are; else those that the rulebook's items say are; else those
// whose header says so; else what may be meant for the main image.
func (c *Case) candidatesFor(k Component) []*survey.Item {
	for _, kind := range []fact.Kind{fact.Rulebook, fact.Manifest, fact.FileName, fact.Header} {
		var out []*survey.Item
		for _, it := range c.Survey.Items {
			if it.Role == "" && c.assigns(kind, it, k.Name) {
				out = append(out, it)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	if k.Name != c.Main() && len(c.Components()) != 1 {
		return nil
	}
	if c.Rules == nil {
		return c.whatever()
	}
	return c.stray()
}

// assigns tells whether a kind of source gives an item to a component. What a
// header says counts only while its checksum holds, and not for an item inside one
// that is assigned as a whole.
func (c *Case) assigns(kind fact.Kind, it *survey.Item, component string) bool {
	w, ok := it.Witness(kind)
	if !ok {
		return false
	}
	for _, f := range w.About(fact.Component) {
		if strings.EqualFold(f.Value, component) && (kind != fact.Header || f.Protected && !c.partOfImage(it)) {
			return true
		}
	}
	return false
}

// partOfImage tells whether an item lies inside one that is an image itself.
func (c *Case) partOfImage(it *survey.Item) bool {
	if it.Part || it.Within {
		return true
	}
	for _, a := range c.Survey.Around(it) {
		if c.Rules == nil && a.Firmware() {
			return true
		}
		for _, kind := range []fact.Kind{fact.Rulebook, fact.Manifest, fact.FileName} {
			if w, ok := a.Witness(kind); ok && len(w.About(fact.Component)) > 0 {
				return true
			}
		}
	}
	return false
}

// stray lists what may have been meant for the main image when nothing says so:
// damaged firmware whose header cannot be believed any more, and a package that is
// one bare file.
func (c *Case) stray() []*survey.Item {
	var out []*survey.Item
	for _, it := range c.Survey.Items {
		if it.Role != "" || it.Part || it.Within || it.Container != archive.None && !it.Firmware() || c.assignedElsewhere(it) {
			continue
		}
		bare := c.Survey.IsRoot(it) && (it.Firmware() || it.Kind == "unknown")
		if bare || it.Firmware() && len(it.Damage()) > 0 {
			out = append(out, it)
		}
	}
	return out
}

// whatever lists, without a rulebook, what the package can be for: its firmware;
// without any, what is of no known format; without that, whatever it holds. So the
// same image is judged the same way bare, in an archive, and in a folder.
func (c *Case) whatever() []*survey.Item {
	var firmware, unknown, others []*survey.Item
	for _, it := range c.Survey.Items {
		switch {
		case it.Role != "" || c.partOfImage(it):
		case it.Firmware():
			if !c.assignedElsewhere(it) {
				firmware = append(firmware, it)
			}
		case it.Container != archive.None:
		case it.Kind == "unknown":
			unknown = append(unknown, it)
		default:
			others = append(others, it)
		}
	}
	switch {
	case len(firmware) > 0:
		return firmware
	case len(unknown) > 0:
		return unknown
	}
	return others
}

// assignedElsewhere tells whether a source that can be believed gives the item to
// some component.
func (c *Case) assignedElsewhere(it *survey.Item) bool {
	for _, w := range it.Witnesses {
		for _, f := range w.About(fact.Component) {
			if w.Kind != fact.Header || f.Protected {
				return true
			}
		}
	}
	return false
}

// Component judges all candidates of one component and picks the best.
func (c *Case) Component(k Component) Result {
	var all []*Candidate
	var nearest *Candidate
	for _, it := range c.keptItems(c.key("candidates", k, nil), func() []*survey.Item { return c.candidatesFor(k) }) {
		cand := c.Candidate(k, it)
		all = append(all, cand)
		switch {
		case nearest == nil:
			nearest = cand
		case c.prefer(k, cand, nearest) < 0:
			nearest.forget()
			nearest = cand
		default:
			cand.forget()
		}
	}
	if len(all) == 0 {
		return Result{}
	}
	slices.SortStableFunc(all, func(a, b *Candidate) int { return c.prefer(k, a, b) })
	best := all[0]
	var r Result
	if k.Optional && best.forOthers {
		for _, o := range all {
			r.Others = append(r.Others, c.passedOver(k, o, best))
		}
		r.Lines = []Line{c.onlyForOthers(k, best)}
		return r
	}
	_, best.Slot, _ = c.slot(k, best.Item)
	r.Best, r.Lines = best, best.Lines
	for _, o := range all[1:] {
		r.Others = append(r.Others, c.passedOver(k, o, best))
	}
	if len(all) > 1 && all[1].worst == best.worst && best.worst != Misfit && all[1].given == best.given {
		r.Lines = append(slices.Clip(r.Lines), c.rival(k, best, all[1]))
	}
	return r
}

// Candidate judges one image: whether it is whole, and for this device.
func (c *Case) Candidate(k Component, it *survey.Item) *Candidate {
	cand := &Candidate{Item: it, opinions: views{}}
	cand.witnesses = it.Witnesses[:len(it.Witnesses):len(it.Witnesses)] // what is appended stays here
	if of := c.Survey.PartOf(it.Address); len(of.NameClaim) > 0 {
		cand.witnesses = append(cand.witnesses, fact.Witness{Kind: fact.FileName, Name: of.Name, Claims: []fact.Claim{of.NameClaim}})
	}
	if w, ok := c.inside(it); ok {
		cand.witnesses = append(cand.witnesses, w)
	}
	for _, w := range cand.witnesses {
		ops := c.opinions(w)
		for n, o := range ops {
			cand.opinions[n] = append(cand.opinions[n], o...)
		}
		cand.given = cand.given || w.Kind == fact.Manifest && c.givenBy(ops)
	}
	cand.Release = c.Release
	if k.Name == c.Main() {
		cand.Release = c.releaseOf(cand)
	}
	cand.Lines = c.image(k, cand)
	cand.summary = summarise(cand.Lines)
	return cand
}

// inside is what the images say that an archive or a stream holds which is taken for an image itself: a packed one, or
// several together. Of several, those that are for other devices stand beside those for this one, and beside what does not
// tell what it is for.
func (c *Case) inside(it *survey.Item) (fact.Witness, bool) {
	if it.Container == archive.None || it.Firmware() {
		return fact.Witness{}, false
	}
	var out fact.Witness
	images, alone := []*survey.Item{c.Survey.Packed(it)}, true
	if images[0] == nil {
		if images, alone = c.Survey.FirmwareIn(it); !alone {
			out.Claims = append(out.Claims, nil)
		}
	}
	for _, in := range images {
		w, ok := in.Witness(fact.Header)
		if !ok {
			continue
		}
		out.Kind, out.Name = w.Kind, w.Name
		for _, claim := range w.Claims {
			var said fact.Claim
			for _, f := range claim {
				// What component it is, is the archive's own; and so is the version, of several.
				if f.About != fact.Component && (f.About != fact.Version || len(images) == 1) {
					f.Payload = true
					said = append(said, f)
				}
			}
			out.Claims = append(out.Claims, said)
		}
	}
	return out, out.Kind != ""
}

// givenBy tells whether a manifest gives an image to this very device: it names
// the model, and excludes the device in no respect.
func (c *Case) givenBy(ops views) bool {
	for _, all := range ops {
		if excluding(all) {
			return false
		}
	}
	return named(ops[fact.Model])
}

// prefer orders candidates: what the manifest gives to this very device, with what
// is wrong with it; what a name says otherwise of, last; else those without a misfit
// before those with, settled before unsettled, then the newer version, and among
// misfits the nearest by identity.
func (c *Case) prefer(k Component, a, b *Candidate) int {
	order := cmp.Or(flag(b.given)-flag(a.given), flag(a.stands)-flag(b.stands), a.worst.Rank()-b.worst.Rank())
	if order != 0 {
		return order
	}
	if a.worst == Misfit {
		if d := a.distance - b.distance; d != 0 {
			return d
		}
	}
	return cmp.Or(c.newerFirst(k, a, b), cmp.Compare(a.Item.Address, b.Item.Address))
}

// newerFirst orders candidates by their versions, those whose version does not read last. Unlike compareVersions, which
// tells what is known, it is an order: with one that is not, what is picked would hang on what was found first.
func (c *Case) newerFirst(k Component, a, b *Candidate) int {
	scheme := c.Rules.Scheme(k.Name)
	va, errA := scheme.Parse(a.Version().Value)
	vb, errB := scheme.Parse(b.Version().Value)
	if errA != nil || errB != nil {
		return flag(errA != nil) - flag(errB != nil)
	}
	return scheme.Compare(vb, va)
}

func flag(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (c *Case) compareVersions(k Component, a, b *Candidate) int {
	scheme := c.Rules.Scheme(k.Name)
	va, errA := scheme.Parse(a.Version().Value)
	vb, errB := scheme.Parse(b.Version().Value)
	if errA != nil || errB != nil {
		return 0
	}
	order, known := scheme.Rank(va, vb)
	if !known {
		return 0
	}
	return order
}

func (c *Case) passedOver(k Component, o, best *Candidate) PassedOver {
	p := PassedOver{Component: k.Name, Item: o.Item.Address, Because: "the other one was found first"}
	switch d := o.Item.Digests.Of("sha256"); {
	case d != "" && d == best.Item.Digests.Of("sha256"):
		p.Because = "it is the same as the chosen one, to the last byte"
	case c.compareVersions(k, best, o) > 0:
		p.Because = "the other one is newer"
	case c.newerFirst(k, best, o) != 0:
		p.Because = "nothing tells which of the two is newer"
	}
	for _, want := range []Outcome{Misfit, Unsettled} {
		if because := o.because[want]; because != "" {
			p.Because = because
			return p
		}
	}
	return p
}

// cite is where a candidate's version stands, else the candidate itself.
func (k *Candidate) cite() Cited {
	if f := k.Version(); f.Known() {
		return Cited{OfPackage, f.Value, f.Source}
	}
	return ofName(k.Item.Address, k.Item.Address)
}

// said is the version of a chosen image: its own, else what its release brings.
func (c *Case) said(component string, k *Candidate) (text string, cited Cited, known bool) {
	if k == nil {
		return "", Cited{}, false
	}
	if f := k.Version(); f.Known() {
		return f.Value, Cited{OfPackage, f.Value, f.Source}, true
	}
	if rel := c.Release.Rule; rel != nil && c.Release.Strong() {
		if e, ok := rel.Brings.Get(component); ok {
			return e.Value.Text, c.ofRule(fmt.Sprintf("release %s brings %s", rel.Version.Text, e.Value.Text), e.Value.Spot), true
		}
		if component == c.Main() {
			return c.Release.Text, c.citeRelease(), true
		}
	}
	if component == c.Main() && c.Release.Text != "" {
		return c.Release.Text, c.citeRelease(), true
	}
	return "", k.cite(), false
}
