package check

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/member"
)

// reasons are those that the checks of one respect share, spelt alike.
type reasons struct {
	*Check
	what                                                                                                                             string // in words: "architecture"
	named, byBoard, excluded, contradicted, deviceContradicted, deviceUnknown, guessed, byNameOnly, trusted, notComparable, notAsked *Code
}

// byRespect are the checks in what images are meant for a device.
var byRespect = map[fact.Name]*reasons{}

// respect registers the check of one respect; far is how far from the device an
// image is that it excludes.
func respect(n fact.Name, column string, order, far int, what string) *reasons {
	c := Register(&Check{Name: string(n), Column: column, Order: order, Respect: n, Far: far, Hardware: n != fact.Family, Headers: n == fact.Arch || n == fact.Board, First: order <= 100, Explains: n == fact.Revision || n == fact.Arch, Doc: "Is the image for the device's " + what + "?"})
	r := &reasons{
		Check: c, what: what,
		named:    c.Code("named", Fits, "a source stronger than a name names the device", "the image is for %s (%s)", ""),
		excluded: c.Code("excluded", Misfit, "a source stronger than a name names others and not the device", "the device's "+what+" is %s; the image is for %s (%s)", ""),
		contradicted: c.Code("contradicted", Unsettled, "a source names the device, and a weaker one that is still stronger than a name excludes it",
			"the %s says it is for this device, and the weaker %s says it is not", "ask the maker which of the two is right"),
		deviceUnknown: c.Code("device_unknown", Unsettled, "a source speaks of it, and the device's value is not known", "%s", ""),
		guessed:       c.Code("guessed", Unsettled, "a source speaks of it, and the device's value is only guessed", "%s", ""),
		byNameOnly: c.Code("by_name_only", Unsettled, "only a file or folder name speaks of it", "only the file or folder name tells the "+what+", and a name proves nothing",
			"find a manifest or release note that says which device the image is for, or accept names with -trust-names"),
		trusted: c.Code("trusted", Fits, "only a name speaks of it, and names are trusted", "only the file or folder name says so, and you trust names (-trust-names)", ""),
	}
	in := func(of ...fact.Name) bool { return slices.Contains(of, n) }
	if in(fact.Model, fact.Revision, fact.Arch, fact.Board, fact.Family) { // the rulebook speaks of them, too
		r.deviceContradicted = c.Code("device_contradicted", Unsettled, "what is known of the device contradicts itself", "%s", "")
	}
	if in(fact.Model, fact.Revision) {
		r.notComparable = c.Code("not_comparable", Unsettled, "a source speaks of it in words that cannot be compared with the device's", "the package says %q, which cannot be compared with the device's %q", "")
		r.byBoard = c.Code("by_board", Fits, "a source names a board that the rulebook gives to the device", "the image is for the board %s (%s), which by the rulebook is this device's", "")
	}
	if in(fact.Board, fact.Region, fact.Platform, fact.Feature, fact.Hypervisor) {
		r.notAsked = c.Code("not_said", NotApplicable, "no source speaks of it", "the package names no "+what, "")
	}
	byRespect[n] = r
	return r
}

func init() {
	for n, r := range byRespect {
		r.Runs(PerImage(func(c *Case, k Component, cand *Candidate) []Line { return []Line{c.identity(k, cand, n)} }))
	}
}

// maxSources is how many sources of one line are cited.
const maxSources = 100

// identity settles one respect in which an image is meant for a device. What
// excludes the device makes a misfit unless something stronger names it; only what
// is stronger than names can make it fit.
//
// In one piece: the order of the cases is the rule; the first that holds decides.
func (c *Case) identity(k Component, cand *Candidate, n fact.Name) Line {
	r, v, ops := byRespect[n], c.Value(n), cand.opinions[n]
	base := Line{Check: string(n), Component: k.Name, Device: v.Text(), Package: "not said", Sources: ofMember(v)}
	for _, o := range ops {
		for _, f := range o.facts {
			if len(base.Sources) < maxSources {
				base.Sources = append(base.Sources, Cited{OfPackage, f.Text(), f.Source})
			}
		}
	}
	if len(ops) == 0 {
		base.Sources = append(base.Sources, ofName("not said", cand.Item.Address))
		return c.unsaid(base, r, k, cand, n)
	}
	var against, by, undecided *opinion
	for i := range ops {
		o := &ops[i]
		slot := map[stance]**opinion{excludes: &against, names: &by, open: &undecided}[o.stance]
		if *slot == nil || o.strength > (*slot).strength || o.payload && o.stance == excludes && o.strength > fact.ByName {
			*slot = o
		}
	}
	strong := func(o *opinion) bool { return o != nil && o.strength > fact.ByName }
	kind := func(o *opinion) string {
		if o.payload {
			return "part that it starts"
		}
		return string(o.facts[0].Source.Kind)
	}
	said := func(o *opinion) string { return fmt.Sprintf("%s (%s)", fact.Values(o.facts), kind(o)) }
	show := func(o *opinion) { base.Package = fact.Values(o.facts) }
	if n == fact.Family && !strong(against) {
		if l, said := c.fromFamily(base, cand); said {
			return l
		}
		if l, said := c.standsFor(base, cand, against, by); said {
			return l
		}
	}
	switch {
	case strong(against) && strong(by) && by.strength > against.strength && !against.payload:
		base.Package = said(by) + " against " + said(against)
		return r.contradicted.become(base, kind(by), kind(against))
	case strong(against):
		show(against)
		l := r.excluded.become(base, v.Text(), c.spell(n, against), kind(against)).Advise("%s", c.adviceAgainst(n))
		if n == fact.Family {
			l = c.crossing(l, cand, against.facts)
			if from, said := c.fromFamily(base, cand); said && l.Outcome != Misfit {
				return from
			}
		}
		return l
	case v.State == member.Contradicted:
		show(&ops[0])
		return r.deviceContradicted.become(base, v.Why).Advise("%s", c.howToKnow(string(n), v))
	case strong(by):
		show(by)
		if by.facts[0].About == fact.Board && n != fact.Board {
			base.Package = "board " + fact.Values(by.facts)
			return r.byBoard.become(base, fact.Values(by.facts), kind(by))
		}
		return r.named.become(base, fact.Values(by.facts), kind(by))
	case strong(undecided):
		show(undecided)
		return c.undecided(base, r, n, undecided, cand)
	case by != nil && against == nil && c.Options.TrustNames:
		show(by)
		return r.trusted.become(base)
	}
	weak := by
	if weak == nil {
		weak = against
	}
	if weak == nil {
		weak = undecided
	}
	show(weak)
	return r.byNameOnly.become(base)
}

// spell writes the values of an opinion; a board stands for whom it belongs to.
func (c *Case) spell(n fact.Name, o *opinion) string {
	if o.facts[0].About != fact.Board || n == fact.Board {
		return fact.Values(o.facts)
	}
	var owners []string
	for _, f := range o.facts {
		for _, own := range c.Rules.Owners(f.Value) {
			owners = append(owners, strings.TrimSpace(own.Model+" "+own.Revision))
		}
	}
	return fmt.Sprintf("the board %s, which belongs to %s", fact.Values(o.facts), strings.Join(owners, ", "))
}

func (c *Case) adviceAgainst(n fact.Name) string {
	switch n {
	case fact.Model, fact.Board:
		return "do not install it; get the image for this model"
	case fact.Revision:
		return fmt.Sprintf("do not install it; get the image for revision %s, and check the revision on the device's label", c.Value(n).Text())
	}
	return fmt.Sprintf("do not install it; get the image for %s %s", byRespect[n].what, c.Value(n).Text())
}

// undecided words the case in which a source speaks but cannot be compared.
func (c *Case) undecided(base Line, r *reasons, n fact.Name, o *opinion, cand *Candidate) Line {
	v := c.Value(n)
	switch {
	case v.State == member.Guessed:
		return r.guessed.become(base, why(r.what, v)).Advise("%s", c.howToKnow(string(n), v))
	case v.State == member.Missing:
		return r.deviceUnknown.become(base, why(r.what, v)).Advise("%s", c.howToKnow(string(n), v))
	case o.facts[0].Open:
		base.Package = "left open: " + o.facts[0].Text()
		return c.unsaidArch(base, cand, fmt.Sprintf("the header leaves open whether it is %s", o.facts[0].Text()))
	case c.Rules == nil || n == fact.Revision && c.Model == nil:
		l := r.notComparable.become(base, fact.Values(o.facts), v.Text()).Advise("%s", c.needRulebook())
		l.Because += ": no rulebook knows its model"
		return l
	}
	return r.notComparable.become(base, fact.Values(o.facts), v.Text()).Advise("ask the maker what is meant; where it is a %s of its own, list it in the rulebook, in its order", n)
}

// unsaid settles a respect in which the package says nothing.
func (c *Case) unsaid(base Line, r *reasons, k Component, cand *Candidate, n fact.Name) Line {
	switch n {
	case fact.Model:
		return c.modelNotNamed(base, cand)
	case fact.Revision:
		return c.revisionNotNamed(base)
	case fact.Arch:
		return c.unsaidArch(base, cand, "nothing in the package says which architecture it is for")
	case fact.Family:
		return c.familyNotNamed(base, cand)
	}
	if v := c.Value(n); v.State == member.Contradicted {
		return r.deviceContradicted.become(base, v.Why).Advise("%s", c.howToKnow(string(n), v))
	}
	return r.notAsked.become(base)
}

func (c *Case) needRulebook() string {
	if c.Options.NoRulebook != nil {
		if why := c.Options.NoRulebook(c.Member); why != "" {
			return why
		}
	}
	return "add a rulebook for this line to the kit"
}
