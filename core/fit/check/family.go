package check

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/member"
	y "fitcheck/core/yamlfile"
)

var familyReasons = respect(fact.Family, "family", 100, 100, "image family")

var (
	familyOfRelease = familyReasons.Code("of_release", Fits, "no source names the family, and by the rulebook the release, or the model, has the device's", "the rulebook says so: %s", "")
	familyNotOurs   = familyReasons.Code("of_other_release", Misfit, "by the rulebook the release is of another family", "the device runs %s; the package is of %s", "")
	familyNotNamed  = familyReasons.Code("not_named", Unsettled, "nothing says which family the package is of", "nothing says which image family the package is of", "add the release and its families to the rulebook")
	familyNoRule    = familyReasons.Code("no_rule", NotApplicable, "there is no rulebook, and neither side speaks of a family", "neither side speaks of an image family", "")
	familyFrom      = familyReasons.Code("from_other", Misfit, "by the rulebook's word for its name, it is for devices that run another family", "the device runs %s; by the rulebook, a file of this name is for devices that run %s", "get the image for a device that runs what this one does")
	familyCrosses   = familyReasons.Code("crosses", Fits, "the package is of another family, which the model may run, and a rule allows the move", "the model may run %s, and %s", "")
	familyMayNot    = familyReasons.Code("crossing_unknown", Unsettled, "the package is of another family, which the model may run, and the rulebook does not settle the move",
		"the model may run %s, but %s", "find out what the release notes say of this move, and add it to the rulebook")
	familyNoCrossing = familyReasons.Code("no_crossing", Misfit, "the package is of another family, which the model may run, and no rule allows the move", "%s; %s", "")
)

// byWord tells an opinion that rests on what the rulebook says a file of such a name stands
// for.
func byWord(o *opinion) bool {
	return o != nil && o.strength <= fact.ByName && o.facts[0].Source.Kind == fact.FileName && o.facts[0].Source.Via.Given()
}

// fromFamily settles the family where the rulebook says by the package's name which one a device must run for it, and
// this one runs another, or it is not known which.
func (c *Case) fromFamily(base Line, cand *Candidate) (Line, bool) {
	part := c.Survey.PartOf(cand.Item.Address)
	e := part.Entry
	if e == nil || e.StandsFor == nil || !e.StandsFor.FromFamily.Set() || !e.File.Set() || !e.File.MatchString(part.Name) {
		return Line{}, false
	}
	v, from := c.Value(fact.Family), e.StandsFor.FromFamily
	base.Cite(Cited{OfRule, "from " + from.Text, part.Rulebook.Source(from.Spot)})
	switch {
	case v.State == member.Missing:
		return familyReasons.deviceUnknown.become(base, why("image family", v)).Advise("add family: to %s", c.Device.File), true
	case v.Known() && !strings.EqualFold(v.First(), from.Text):
		base.Package = "for devices that run " + from.Text
		return familyFrom.become(base, v.Text(), from.Text), true
	}
	return Line{}, false
}

// standsFor settles the family by the rulebook's word for the package's name, where it has one
// that excludes the device: a misfit, unless what is stronger names the device's family.
func (c *Case) standsFor(base Line, cand *Candidate, against, by *opinion) (Line, bool) {
	v := c.Value(fact.Family)
	switch {
	case !byWord(against):
		return Line{}, false
	case by != nil && by.strength > fact.ByName:
		base.Package = fmt.Sprintf("%s against %s", fact.Values(by.facts), fact.Values(against.facts))
		return familyReasons.contradicted.become(base, string(by.facts[0].Source.Kind), "rulebook's word for its name"), true
	}
	base.Package = fact.Values(against.facts)
	l := familyReasons.excluded.become(base, v.Text(), fact.Values(against.facts), "the rulebook's word for its name").Advise("%s", c.adviceAgainst(fact.Family))
	if l = c.crossing(l, cand, against.facts); l.Outcome == Fits && !c.Options.TrustNames { // the move is allowed, and only a name says what it is
		return familyReasons.byNameOnly.become(l), true
	}
	return l, true
}

// familyNotNamed settles the family of a package that does not say it: by the rulebook's word
// for the package's name, else that of its release, else that of a model with one family.
func (c *Case) familyNotNamed(base Line, cand *Candidate) Line {
	if l, said := c.fromFamily(base, cand); said {
		return l
	}
	v := c.Value(fact.Family)
	rel := cand.Release.Rule
	var families []y.String
	switch {
	case c.Rules == nil:
		return familyNoRule.become(base)
	case rel != nil && len(rel.Families) > 0:
		families = rel.Families
		base.Package = "release " + rel.Version.Text + " is of " + texts(families)
	case c.Model != nil && len(c.Model.Value.Families) == 1:
		families = c.Model.Value.Families
		base.Package = "not said; the model has one family"
	case c.Model != nil && len(c.Model.Value.Families) == 0 && v.State == member.Missing && len(c.Rules.Families.Entries) == 0:
		return familyNoRule.become(base)
	default:
		return familyNotNamed.become(base)
	}
	var facts []fact.Fact
	for _, t := range families {
		f := fact.Fact{About: fact.Family, Value: t.Text, Source: c.Rules.Source(t.Spot)}
		facts = append(facts, f)
		base.Cite(Cited{OfRule, t.Text, f.Source})
	}
	switch v.State {
	case member.Missing:
		return familyReasons.deviceUnknown.become(base, why("image family", v)).Advise("add family: to %s", c.Device.File)
	case member.Guessed:
		return familyReasons.guessed.become(base, why("image family", v)).Advise("%s", c.howToKnow("family", v))
	case member.Contradicted:
		return familyReasons.deviceContradicted.become(base, v.Why).Advise("correct the device file, or add the family to the model in the rulebook")
	}
	if c.stance(fact.Family, facts) == names {
		return familyOfRelease.become(base, base.Package)
	}
	l := familyNotOurs.become(base, v.Text(), texts(families)).Advise("get the image of family %s", v.Text())
	return c.crossing(l, cand, facts)
}

// crossing lets a package of another family through when the model may run that
// family and a hop rule allows the move.
func (c *Case) crossing(l Line, cand *Candidate, facts []fact.Fact) Line {
	if !c.Value(fact.Family).Known() {
		return l
	}
	for _, f := range facts {
		family, ok := c.MayRun(f.Value)
		if !ok {
			continue
		}
		rel := cand.Release
		if rel.Text == "" {
			rel = c.Release
		}
		rel.Family = family
		r := c.rule(rel)
		cited := Cited{OfRule, r.Document, r.Source}
		if cited.Source.File == "" {
			cited.Source = fact.Source{Kind: fact.Rulebook, File: c.Rules.File}
		}
		l.Cite(cited)
		switch {
		case r.Settled && r.Allowed:
			return familyCrosses.become(l, family, r.Because)
		case !r.Settled:
			return familyMayNot.become(l, family, r.Because)
		}
		return familyNoCrossing.become(l, fmt.Sprintf("the device runs %s; the package is of %s", c.Value(fact.Family).Text(), family), r.Because).Advise("%s", c.adviceAgainst(fact.Family))
	}
	return l
}
