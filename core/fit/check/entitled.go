package check

import (
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
)

var entitledCheck = Register(&Check{Name: "entitled", Column: "path", Order: 230, Doc: "Is the release covered by the entitlement?"})

var (
	entitledCovered = entitledCheck.Code("covered", Fits, "the release is not later than the entitlement", "the release is of %s", "")
	entitledEnded   = entitledCheck.Code("ended", Misfit, "the release is later than the entitlement", "the release is of %s; the entitlement ended with %s", "renew the entitlement, or take an older release")
	entitledIdle    = entitledCheck.Code("not_active", Misfit, "the entitlement is not put to use", "the entitlement is not active", "put the entitlement to use, or take a release that needs none")
	entitledEarly   = entitledCheck.Code("before", Unsettled, "the release is older than the entitlement", "the release is of %s; the entitlement began with %s", "ask the maker whether it covers older releases")
	entitledNoDate  = entitledCheck.Code("no_date", Unsettled, "the release has no date", "the rulebook does not give the release's date", "")
	entitledGuessed = entitledCheck.Code("guessed", Unsettled, "the end of the entitlement is only guessed", "%s", "")
	entitledNone    = entitledCheck.Code("none_given", NotApplicable, "the device file gives no end of the entitlement", "the device file gives no end of the entitlement", "")
)

func init() { entitledCheck.Runs(PerRelease((*Case).entitled)) }

// entitled: the release must not be later than the entitlement.
func (c *Case) entitled(a Asking) []Line {
	if a.Loaded {
		return nil
	}
	return []Line{c.covered(a.Release)}
}

// covered tells whether the entitlement covers a release; nil is one that is not listed.
func (c *Case) covered(rel *rulebook.Release) Line {
	until, v := c.Entitled()
	base := Line{Device: v.Text(), Package: "of no known date", Sources: append(ofMember(v), c.citeRelease())}
	if rel != nil {
		base.Package = "release " + rel.Version.Text
		base.Cite(c.ofRule(base.Package, rel.Spot))
	}
	e := c.Device.Entitled
	if _, guessed := c.Device.Guessed("entitled.active"); e != nil && e.Active != nil && !*e.Active && !guessed {
		base.Device = "not active"
		base.Sources[0] = Cited{OfDevice, "not active", c.Device.Source("entitled.active", e.Spot)}
		return entitledIdle.become(base)
	}
	switch v.State {
	case member.Missing:
		return entitledNone.become(base)
	case member.Guessed:
		return entitledGuessed.become(base, why("entitled_until", v)).Advise("%s", c.howToKnow("entitled_until", v))
	}
	base.Device = "until " + v.First()
	if rel == nil { // the rulebook does not list it
		return entitledNoDate.become(base).Advise("add the release with its date: to %s", c.Rules.File)
	}
	switch rel.Entitled(until) {
	case truth.Unknown:
		return entitledNoDate.become(base).Advise("add date: to the release in %s", c.Rules.File)
	case truth.No:
		return entitledEnded.become(base, rel.Date.Day.Format("2006-01-02"), v.First())
	}
	if _, guessed := c.Device.Guessed("entitled.from"); e != nil && e.From.Set() && !guessed && rel.Date.Day.Before(e.From.Day) {
		base.Device = "from " + e.From.Day.Format("2006-01-02")
		return entitledEarly.become(base, rel.Date.Day.Format("2006-01-02"), e.From.Day.Format("2006-01-02"))
	}
	return entitledCovered.become(base, rel.Date.Day.Format("2006-01-02"))
}
