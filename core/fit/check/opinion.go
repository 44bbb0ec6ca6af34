package check

import (
	"slices"
	"strings"
	"sync"

	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/survey"
	"fitcheck/core/truth"
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
	payload  bool // a part that the image starts says so
	facts    []fact.Fact
	strength fact.Strength
}

// respects lists in what images are meant for a device, in the order of their
// checks, in which the records of a manifest are narrowed down.
var respects = sync.OnceValue(func() (out []fact.Name) {
	for _, c := range All() {
		if c.Respect != "" {
			out = append(out, c.Respect)
		}
	}
	return out
})

// views are opinions by respect.
type views map[fact.Name][]opinion

// opinions asks a witness in every respect. A witness that makes several claims,
// such as a manifest that lists one file for several models with different
// revisions, is narrowed down first: claims that exclude the device in one respect
// are left aside as long as another remains. Only what remains to the end speaks,
// so that no two claims are mixed into one.
func (c *Case) opinions(w fact.Witness) views {
	alive := w.Claims
	out := views{}
	if len(alive) == 1 { // nothing to narrow down
		for _, n := range respects() {
			if ops := c.ask(n, alive[0]); len(ops) > 0 {
				out[n] = ops
			}
		}
		return out
	}
	for _, n := range respects() {
		var rest []fact.Claim
		var against []opinion
		for _, claim := range alive {
			if ops := c.ask(n, claim); excluding(ops) {
				against = append(against, ops...)
			} else {
				rest = append(rest, claim)
			}
		}
		if len(rest) > 0 {
			alive = rest
		} else {
			out[n] = against
		}
	}
	for _, n := range respects() {
		if out[n] != nil {
			continue
		}
		for _, claim := range alive {
			out[n] = append(out[n], c.ask(n, claim)...)
		}
	}
	return out
}

// Configuration names the one configuration of an image that does not exclude the
// device; "" when it has none to choose from, or several are as good.
func (c *Case) Configuration(it *survey.Item) string {
	if it.Image == nil || len(it.Image.Configs) == 0 {
		return ""
	}
	found := ""
	for i, claim := range it.Image.Claims() {
		if slices.ContainsFunc(respects(), func(n fact.Name) bool { return excluding(c.ask(n, claim)) }) {
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
	return slices.ContainsFunc(ops, func(o opinion) bool { return o.stance == excludes })
}

// named tells whether a strong source names the device and none excludes it.
func named(ops []opinion) bool {
	return !excluding(ops) && slices.ContainsFunc(ops, func(o opinion) bool { return o.stance == names && o.strength > fact.ByName })
}

// ask gives the stances of one claim in one respect: by what it says directly and,
// for model and revision, by the boards it names.
func (c *Case) ask(n fact.Name, claim fact.Claim) []opinion {
	var out []opinion
	add := func(st stance, facts []fact.Fact) {
		if st == silent {
			return
		}
		o := opinion{stance: st, payload: facts[0].Payload, facts: facts, strength: facts[0].Strength()}
		for _, f := range facts {
			o.strength = min(o.strength, f.Strength())
		}
		out = append(out, o)
	}
	for _, facts := range voices(claim.About(n)) {
		add(c.stance(n, facts), facts)
	}
	if n == fact.Model || n == fact.Revision {
		for _, boards := range voices(claim.About(fact.Board)) {
			add(c.byBoard(n, boards), boards)
		}
	}
	return out
}

// voices parts the facts of one claim: what the header says, and what the parts say that
// it starts. Each is a witness of its own.
func voices(facts []fact.Fact) [][]fact.Fact {
	if len(facts) == 0 {
		return nil
	}
	if !slices.ContainsFunc(facts, func(f fact.Fact) bool { return f.Payload != facts[0].Payload }) {
		return [][]fact.Fact{facts}
	}
	var header, payload []fact.Fact
	for _, f := range facts {
		if f.Payload {
			payload = append(payload, f)
		} else {
			header = append(header, f)
		}
	}
	return [][]fact.Fact{header, payload}
}

// stance compares the values of a claim with the device's. Where the device's side
// is a contradiction, only what differs from both excludes.
func (c *Case) stance(n fact.Name, facts []fact.Fact) stance {
	v := c.Value(n)
	if v.State != member.Known && v.State != member.Contradicted {
		return open
	}
	undecided := false
	said := v.Said()
	for _, f := range facts {
		for _, d := range said {
			switch c.same(n, f, d.Value) {
			case truth.Yes:
				if v.State == member.Contradicted {
					return open
				}
				return names
			case truth.Unknown:
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
func (c *Case) same(n fact.Name, f fact.Fact, device string) truth.Truth {
	if f.Open { // it may be any of several
		for _, alternative := range strings.Split(f.Value, "|") {
			closed := f
			closed.Open, closed.Value = false, alternative
			if c.same(n, closed, device) == truth.Yes {
				return truth.Unknown
			}
		}
		return truth.No
	}
	switch n {
	case fact.Model:
		switch {
		case c.Rules.CanonicalModel(f.Value) == c.Rules.CanonicalModel(device):
			return truth.Yes
		case c.Rules == nil: // another spelling, perhaps
			return truth.Unknown
		}
		return truth.No
	case fact.Arch:
		return truth.Of(fact.CanonicalArch(f.Value) == fact.CanonicalArch(device))
	case fact.Revision:
		if c.Model == nil {
			return nobodys.HoldsRevision(f.Value, device)
		}
		return c.Model.Value.HoldsRevision(f.Value, device)
	}
	return truth.Of(strings.EqualFold(strings.TrimSpace(f.Value), strings.TrimSpace(device)))
}

// byBoard takes boards for the models and revisions to which the rulebook gives
// them. A board that the rulebook does not know says nothing.
func (c *Case) byBoard(n fact.Name, boards []fact.Fact) stance {
	switch {
	case c.Model == nil:
		return silent
	case !c.Value(fact.Model).Known():
		return open
	}
	ofModel, any := false, false
	revision := c.Value(fact.Revision)
	for _, b := range boards {
		for _, o := range c.Rules.Owners(b.Value) {
			any = true
			if o.Model != c.Model.Key {
				continue
			}
			ofModel = true
			if n == fact.Revision && o.Revision != "" && strings.EqualFold(o.Revision, revision.First()) {
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
	case !ofModel || len(c.Model.Value.Revs.Entries) == 0:
		return silent // the model decides
	case !revision.Known():
		return open
	}
	return excludes
}
