package fit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

// candidate is an item that may be the image of a component.
type candidate struct {
	item     *survey.Item
	checks   []Check
	opinions views
	slot     string
	release  release
}

func (c *candidate) worst() Outcome {
	w := Fits
	for i := range c.checks {
		w = Worse(w, c.checks[i].Outcome)
	}
	return w
}

// result is what came out for one component.
type result struct {
	best   *candidate // nil when nothing is meant for the component or this device
	checks []Check
	others []PassedOver
}

// candidatesFor lists the items that are meant for a component: those that a
// manifest says are; else those that the rulebook's items say are; else those
// whose header says so.
func (j *judge) candidatesFor(c component) []*survey.Item {
	for _, kind := range []fact.Kind{fact.Manifest, fact.FileName, fact.Header} {
		var out []*survey.Item
		for _, it := range j.s.Items {
			if it.Role == "" && j.assigns(kind, it, c.name) {
				out = append(out, it)
			}
		}
		if len(out) > 0 {
			return out
		}
	}
	if c.name != j.mainComponent() && !(len(j.components()) == 1) {
		return nil
	}
	return j.stray()
}

// assigns tells whether a kind of source gives an item to a component. What a
// header says counts only while its checksum holds, and not for an item
// inside one that is assigned as a whole.
func (j *judge) assigns(kind fact.Kind, it *survey.Item, component string) bool {
	w, ok := it.Witness(kind)
	if !ok {
		return false
	}
	for _, f := range w.About(fact.Component) {
		if strings.EqualFold(f.Value, component) && (kind != fact.Header || f.Protected && !j.partOfImage(it)) {
			return true
		}
	}
	return false
}

// partOfImage tells whether an item lies inside one that is an image itself.
func (j *judge) partOfImage(it *survey.Item) bool {
	for _, a := range j.s.Around(it) {
		for _, kind := range []fact.Kind{fact.Manifest, fact.FileName} {
			if w, ok := a.Witness(kind); ok && len(w.About(fact.Component)) > 0 {
				return true
			}
		}
	}
	return false
}

// stray lists what may have been meant for the main image when nothing says
// so: damaged firmware whose header cannot be believed any more, and a
// package that is one bare file.
func (j *judge) stray() []*survey.Item {
	var out []*survey.Item
	for _, it := range j.s.Items {
		if it.Role != "" || it.Container != archive.None && !it.Firmware() || j.assignedElsewhere(it) {
			continue
		}
		bare := j.s.IsRoot(it) && (it.Firmware() || it.Kind == "unknown")
		if bare || it.Firmware() && len(it.Damage()) > 0 {
			out = append(out, it)
		}
	}
	return out
}

// assignedElsewhere tells whether a source that can be believed gives the item
// to some component.
func (j *judge) assignedElsewhere(it *survey.Item) bool {
	for _, w := range it.Witnesses {
		for _, f := range w.About(fact.Component) {
			if w.Kind != fact.Header || f.Protected {
				return true
			}
		}
	}
	return false
}

// component judges all candidates of one component and picks the best.
func (j *judge) component(c component) result {
	var all []*candidate
	for _, it := range j.o.Cache.keptItems(j.key("candidates", c, nil), func() []*survey.Item { return j.candidatesFor(c) }) {
		all = append(all, j.candidate(c, it))
	}
	if len(all) == 0 {
		return result{}
	}
	slices.SortStableFunc(all, func(a, b *candidate) int { return j.prefer(c, a, b) })
	best := all[0]
	var r result
	if c.optional && j.forOthers(best) {
		for _, o := range all {
			r.others = append(r.others, j.passedOver(c, o, best))
		}
		r.checks = []Check{{Check: "complete", Component: c.name, Outcome: NotApplicable, Device: j.subjectName(), Package: "only for other devices",
			Because: fmt.Sprintf("the package brings %s for other devices only, and it is optional", c.name)}}
		return r
	}
	r.best, r.checks = best, best.checks
	for _, o := range all[1:] {
		r.others = append(r.others, j.passedOver(c, o, best))
	}
	if len(all) > 1 && all[1].worst() == best.worst() && best.worst() != Misfit {
		r.checks = append(r.checks, j.rival(c, best, all[1]))
	}
	return r
}

// prefer orders candidates: without a misfit before those with, then settled
// before unsettled, then the newer version; among misfits the nearest.
func (j *judge) prefer(c component, a, b *candidate) int {
	if d := a.worst().rank() - b.worst().rank(); d != 0 {
		return d
	}
	if a.worst() == Misfit {
		if d := distance(a) - distance(b); d != 0 {
			return d
		}
	}
	if d := j.compareVersions(c, b, a); d != 0 {
		return d
	}
	return cmp.Compare(a.item.Address, b.item.Address)
}

func (j *judge) compareVersions(c component, a, b *candidate) int {
	scheme := j.rb.Scheme(c.name)
	va, errA := scheme.Parse(j.versionOf(a).Value)
	vb, errB := scheme.Parse(j.versionOf(b).Value)
	if errA != nil || errB != nil {
		return 0
	}
	return scheme.Compare(va, vb)
}

var farness = map[string]int{"model": 1000, "board": 300, "arch": 200, "revision": 100, "family": 100, "region": 50, "platform": 50, "feature": 50}

// distance is how far a misfit is from the device: another model is farther
// than another revision, and that is farther than damage.
func distance(c *candidate) int {
	d := 0
	for i := range c.checks {
		ch := &c.checks[i]
		if ch.Outcome == Misfit {
			d += max(10, farness[ch.Check])
		} else if ch.Outcome == Unsettled {
			d++
		}
	}
	return d
}

// forOthers tells whether an image is meant for other devices.
func (j *judge) forOthers(c *candidate) bool {
	for _, ch := range c.checks {
		if ch.Outcome == Misfit && slices.Contains(identity[:], fact.Name(ch.Check)) {
			return true
		}
	}
	return false
}

func (j *judge) passedOver(c component, o, best *candidate) PassedOver {
	p := PassedOver{Component: c.name, Item: o.item.Address, Because: "the other one was found first"}
	switch d := o.item.Digests["sha256"]; {
	case d != "" && d == best.item.Digests["sha256"]:
		p.Because = "it is the same as the chosen one, to the last byte"
	case j.compareVersions(c, best, o) > 0:
		p.Because = "the other one is newer"
	}
	for _, want := range []Outcome{Misfit, Unsettled} {
		for _, ch := range o.checks {
			if ch.Outcome == want {
				p.Because = ch.Check + ": " + ch.Because
				return p
			}
		}
	}
	return p
}

// rival says what two equally good candidates mean.
func (j *judge) rival(c component, best, other *candidate) Check {
	ch := Check{Check: "agreement", Component: c.name, Device: j.subjectName(), Package: best.item.Address + " and " + other.item.Address,
		Sources: append(j.citeVersion(best), j.citeVersion(other)...)}
	switch {
	case best.item.Digests["sha256"] == other.item.Digests["sha256"]:
		ch.Outcome, ch.Because = Note, "two items suit, and they are the same to the last byte"
	case j.compareVersions(c, best, other) > 0:
		ch.Outcome, ch.Because = Note, fmt.Sprintf("two images suit; %s is the newer one", best.item.Address)
	default:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("two different images suit equally well: %s and %s", best.item.Address, other.item.Address)
		ch.Advice = "find out which of the two is meant, and give that one alone"
	}
	return ch
}

func (j *judge) subjectName() string {
	t := j.d.Name.Text
	if m := j.first(fact.Model); m != "" {
		t = m
		if r := j.first(fact.Revision); r != "" {
			t += " " + r
		}
	}
	return t
}

// versionOf is the version of a candidate: the strongest that its header or a
// manifest says, else what the release brings.
func (j *judge) versionOf(c *candidate) fact.Fact {
	if c == nil {
		return fact.Fact{}
	}
	var best fact.Fact
	for _, w := range c.item.Witnesses {
		if w.Kind != fact.Header && w.Kind != fact.Manifest {
			continue
		}
		for _, f := range w.About(fact.Version) {
			if !best.Known() || f.Strength() > best.Strength() {
				best = f
			}
		}
	}
	return best
}

func (j *judge) citeVersion(c *candidate) []Cited {
	if f := j.versionOf(c); f.Known() {
		return []Cited{{OfPackage, f.Value, f.Source}}
	}
	return []Cited{{OfPackage, c.item.Address, fact.Source{Kind: fact.FileName, File: c.item.Address}}}
}

// candidate runs the checks that are about one image.
func (j *judge) candidate(c component, it *survey.Item) *candidate {
	cand := &candidate{item: it}
	witnesses := it.Witnesses[:len(it.Witnesses):len(it.Witnesses)] // what is appended stays here
	if of := j.s.PartOf(it.Address); len(of.NameClaim) > 0 {
		witnesses = append(witnesses, fact.Witness{Kind: fact.FileName, Name: of.Name, Claims: []fact.Claim{of.NameClaim}})
	}
	for _, w := range witnesses {
		for n, ops := range j.opinions(w) {
			if cand.opinions[n] == nil {
				cand.opinions[n] = ops
			} else {
				cand.opinions[n] = append(cand.opinions[n], ops...)
			}
		}
	}
	cand.release = j.release
	if c.name == j.mainComponent() {
		cand.release = j.releaseOf(cand)
	}
	cand.checks = make([]Check, 0, 16)
	cand.checks = append(cand.checks, j.o.Cache.keptChecks(j.key("integrity", c, it), func() []Check {
		return []Check{j.intact(c, it), j.digest(c, it)}
	})...)
	agree := j.key("agreement", c, it)
	agree.release = cand.release.rule
	cand.checks = append(cand.checks, j.o.Cache.keptChecks(agree, func() []Check {
		return []Check{j.agreement(c, cand, witnesses)}
	})...)
	cand.checks = append(cand.checks, j.signature(c, it)...)
	for _, n := range identity {
		cand.checks = append(cand.checks, j.identityCheck(c, cand, n))
	}
	if ch, slot := j.slot(c, it); ch.Check != "" {
		cand.checks = append(cand.checks, ch)
		cand.slot = slot
	}
	return cand
}
