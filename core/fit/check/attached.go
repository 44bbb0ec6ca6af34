package check

import (
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
)

var attached = Register(&Check{Name: "attached", Column: "needs", Order: 220, Doc: "Does the release still support what is attached?"})

var (
	attachedKept    = attached.Code("supported", Fits, "nothing attached is dropped", "nothing attached is dropped", "")
	attachedDropped = attached.Code("dropped", Misfit, "something attached is no longer supported", "%s is attached, and release %s no longer supports it", "replace it first, or stay on a release that supports it")
	attachedUnclear = attached.Code("not_comparable", Unsettled, "something attached is no known model, and may be one that is dropped", "%s is attached, which the rulebook does not know by that name; release %s drops %s", "")
	attachedGuessed = attached.Code("guessed", Unsettled, "what is attached is only guessed, and the release drops some", "release %s drops %s, and %s", "")
	attachedNone    = attached.Code("none_known", NotApplicable, "nothing is known to be attached", "nothing is known to be attached", "")
)

func init() {
	attached.Runs(PerRelease(func(c *Case, a Asking) []Line {
		if a.Release == nil || a.Loaded {
			return nil
		}
		return []Line{c.dropped(a.Release)}
	}))
}

// dropped: nothing attached may be of a model that the release drops.
func (c *Case) dropped(rel *rulebook.Release) Line {
	v := c.Attached()
	base := Line{Device: v.Text(), Package: "release " + rel.Version.Text, Sources: append(ofMember(v), c.citeRelease())}
	switch {
	case v.State == member.Missing:
		return attachedNone.become(base)
	case len(rel.Drops) == 0:
		base.Cite(c.ofRule("release "+rel.Version.Text+" drops nothing", rel.Spot))
		return attachedKept.become(base)
	case v.State == member.Guessed:
		base.Cite(c.ofRule("drops "+texts(rel.Drops), rel.Drops[0].Spot))
		return attachedGuessed.become(base, rel.Version.Text, texts(rel.Drops), why("attached", v)).Advise("%s", c.howToKnow("attached", v))
	}
	unclear := Line{}
	for _, f := range v.Facts {
		t, by := rel.Dropping(c.Rules, f.Value)
		switch t {
		case truth.Yes:
			base.Cite(c.ofRule("drops "+by.Text, by.Spot))
			return attachedDropped.become(base, f.Value, rel.Version.Text)
		case truth.Unknown:
			if unclear.Check == "" {
				unclear = attachedUnclear.become(base, f.Value, rel.Version.Text, by.Text).Advise("find out whether %s is a %s, and name it as the rulebook does", f.Value, by.Text)
				unclear.Cite(c.ofRule("drops "+by.Text, by.Spot))
			}
		}
	}
	if unclear.Check != "" {
		return unclear
	}
	base.Cite(c.ofRule("drops "+texts(rel.Drops), rel.Drops[0].Spot))
	return attachedKept.become(base)
}
