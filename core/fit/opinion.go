package fit

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

// stance is what a source says of the device in one respect.
type stance int

const (
	silent   stance = iota
	open            // it speaks, but does not decide: a side is not known
	names           // it names the device
	excludes        // it names others and not the device
)

// opinion is the stance of one source, and the facts it rests on.
type opinion struct {
	stance   stance
	facts    []fact.Fact
	strength fact.Strength
}

// identity lists the respects in which an image is meant for a device, in the
// order in which the records of a manifest are narrowed down.
var identity = [...]fact.Name{fact.Model, fact.Revision, fact.Arch, fact.Board, fact.Family, fact.Region, fact.Platform, fact.Feature}

// views are opinions in every respect, in the order of identity.
type views [len(identity)][]opinion

// respect is the place of a respect in views.
func respect(n fact.Name) int { return slices.Index(identity[:], n) }

// opinions asks a witness in every respect. A witness that makes several
// claims, such as a manifest that lists one file for several models with
// different revisions, is narrowed down first: claims that exclude the device
// in one respect are left aside as long as another remains. Only what remains
// to the end speaks, so that no two claims are mixed into one.
func (sub *subject) opinions(w fact.Witness) views {
	alive := w.Claims
	var out views
	if len(alive) == 1 { // nothing to narrow down
		for i, n := range identity {
			out[i] = sub.ask(n, alive[0])
		}
		return out
	}
	for i, n := range identity {
		var rest []fact.Claim
		var against []opinion
		for _, c := range alive {
			if ops := sub.ask(n, c); excluding(ops) {
				against = append(against, ops...)
			} else {
				rest = append(rest, c)
			}
		}
		if len(rest) > 0 {
			alive = rest
		} else {
			out[i] = against
		}
	}
	for i, n := range identity {
		if out[i] != nil {
			continue
		}
		for _, c := range alive {
			out[i] = append(out[i], sub.ask(n, c)...)
		}
	}
	return out
}

// configuration names the one configuration of an image that does not exclude
// the device; "" when it has none to choose from, or several are as good.
func (sub *subject) configuration(it *survey.Item) string {
	if it.Image == nil || len(it.Image.Configs) == 0 {
		return ""
	}
	found := ""
	for i, c := range it.Image.Claims() {
		if slices.ContainsFunc(identity[:], func(n fact.Name) bool { return excluding(sub.ask(n, c)) }) {
			continue
		}
		if found != "" {
			return ""
		}
		found = it.Image.Configs[i].Name
	}
	return found
}

func excluding(ops []opinion) bool {
	for _, o := range ops {
		if o.stance == excludes {
			return true
		}
	}
	return false
}

// ask gives the stances of one claim in one respect: by what it says directly
// and, for model and revision, by the boards it names.
func (sub *subject) ask(n fact.Name, c fact.Claim) []opinion {
	var out []opinion
	add := func(st stance, facts []fact.Fact) {
		if st == silent {
			return
		}
		o := opinion{stance: st, facts: facts, strength: facts[0].Strength()}
		for _, f := range facts {
			o.strength = min(o.strength, f.Strength())
		}
		out = append(out, o)
	}
	if facts := c.About(n); len(facts) > 0 {
		add(sub.stance(n, facts), facts)
	}
	if boards := c.About(fact.Board); len(boards) > 0 && (n == fact.Model || n == fact.Revision) {
		add(sub.byBoard(n, boards), boards)
	}
	return out
}

func (sub *subject) stance(n fact.Name, facts []fact.Fact) stance {
	side := sub.sides[n]
	if !side.known() {
		return open
	}
	undecided := false
	for _, f := range facts {
		// Where device file and rulebook clash, only what contradicts both excludes.
		for _, d := range slices.Concat(side.facts, side.clash) {
			switch sub.same(n, f, d.Value) {
			case names:
				return names
			case open:
				undecided = true
			}
		}
	}
	if undecided {
		return open
	}
	return excludes
}

// same compares one value of the package with one of the device.
func (sub *subject) same(n fact.Name, f fact.Fact, device string) stance {
	is := func(equal bool) stance {
		if equal {
			return names
		}
		return excludes
	}
	if f.Open {
		for _, alternative := range strings.Split(f.Value, "|") {
			closed := f
			closed.Open, closed.Value = false, alternative
			if sub.same(n, closed, device) == names {
				return open
			}
		}
		return excludes
	}
	switch n {
	case fact.Model:
		return is(sub.rb.CanonicalModel(f.Value) == sub.rb.CanonicalModel(device))
	case fact.Arch:
		return is(fact.CanonicalArch(f.Value) == fact.CanonicalArch(device))
	case fact.Revision:
		holds, known := sub.holdsRevision(f.Value, device)
		if !known {
			return open
		}
		return is(holds)
	}
	return is(strings.EqualFold(strings.TrimSpace(f.Value), strings.TrimSpace(device)))
}

func (sub *subject) holdsRevision(text, revision string) (holds, known bool) {
	if sub.model == nil {
		return noModel.HoldsRevision(text, revision)
	}
	return sub.model.Value.HoldsRevision(text, revision)
}

// byBoard takes boards for the models and revisions to which the rulebook
// gives them. A board that the rulebook does not know says nothing.
func (sub *subject) byBoard(n fact.Name, boards []fact.Fact) stance {
	switch {
	case sub.model == nil:
		return silent
	case !sub.sides[fact.Model].known(): // a guess
		return open
	}
	ofModel, any := false, false
	rev := sub.first(fact.Revision)
	for _, b := range boards {
		for _, o := range sub.rb.Owners(b.Value) {
			any = true
			if o.Model != sub.model.Key {
				continue
			}
			ofModel = true
			if n == fact.Revision && o.Revision != "" && strings.EqualFold(o.Revision, rev) {
				return names
			}
		}
	}
	switch {
	case !any:
		return silent
	case n == fact.Model && ofModel:
		return names
	case n == fact.Model:
		return excludes
	case !ofModel || len(sub.model.Value.Revs.Entries) == 0:
		return silent // the model decides
	case rev == "":
		return open
	}
	return excludes
}
