package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// familyOfRelease settles the family of a package that does not say it: that
// of its release, else that of a model with one family.
func (j *judge) familyOfRelease(ch *Check, cand *candidate) {
	device := j.sides[fact.Family]
	rel := cand.release.rule
	var families []y.Text
	switch {
	case rel != nil && len(rel.Families) > 0:
		families = rel.Families
		ch.Package = "release " + rel.Version.Text + " is of " + texts(families)
	case j.model != nil && len(j.model.Value.Families) == 1:
		families = j.model.Value.Families
		ch.Package = "not said; the model has one family"
	case j.model == nil && !device.known():
		ch.Outcome, ch.Because = NotApplicable, "neither side speaks of an image family"
		return
	default:
		ch.Because, ch.Advice = "nothing says which image family the package is of", "add the release and its families to the rulebook"
		return
	}
	var facts []fact.Fact
	for _, t := range families {
		f := fact.Fact{About: fact.Family, Value: t.Text, Source: j.rb.Source(t.Spot)}
		facts = append(facts, f)
		ch.Sources = append(ch.Sources, Cited{OfRule, t.Text, f.Source})
	}
	switch {
	case !device.known():
		ch.Because, ch.Advice = "the device's image family is not known", "add family: to "+j.d.File
	case len(device.clash) > 0:
		ch.Because = fmt.Sprintf("by the device file it runs %s; by the rulebook the model runs %s", fact.Values(device.facts), fact.Values(device.clash))
		ch.Advice = "correct the device file, or add the family to the model in the rulebook"
	case j.stance(fact.Family, facts) == names:
		ch.Outcome, ch.Because = Fits, "the rulebook says so"
	default:
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("the device runs %s, and the package is of %s", device.text(), texts(families))
		ch.Advice = "get the image of family " + device.text()
		j.crossing(ch, facts)
	}
}

func texts(list []y.Text) string {
	var out []string
	for _, t := range list {
		out = append(out, t.Text)
	}
	return strings.Join(out, ", ")
}

// crossing lets a package of another family through when the model may run
// that family and a hop rule allows the move.
func (j *judge) crossing(ch *Check, facts []fact.Fact) {
	if j.model == nil || !j.sides[fact.Family].known() {
		return
	}
	for _, f := range facts {
		for _, t := range j.model.Value.Families {
			if !strings.EqualFold(t.Text, f.Value) {
				continue
			}
			r := j.rule(j.release, f.Value)
			switch {
			case r.Settled && r.Allowed:
				ch.Outcome, ch.Advice = Fits, ""
				ch.Because = fmt.Sprintf("the model may run %s, and %s", f.Value, r.Because)
			case !r.Settled:
				ch.Outcome = Unsettled
				ch.Because = fmt.Sprintf("the model may run %s, but %s", f.Value, r.Because)
				ch.Advice = "find out what the release notes say of this move, and add it to the rulebook"
			default:
				ch.Because += "; " + r.Because
			}
			ch.Sources = append(ch.Sources, Cited{OfRule, r.Document, r.Source})
			return
		}
	}
}
