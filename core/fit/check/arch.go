package check

import (
	"fitcheck/core/fact"
	"fitcheck/core/member"
)

var archReasons = respect(fact.Arch, "arch", 80, 200, "architecture")

var (
	archNotNeeded = archReasons.Code("hardware_named", NotApplicable, "no source names the architecture, and a strong one names model and revision, or the board",
		"%s; a strong source names the hardware itself", "")
	archNotNamed = archReasons.Code("not_named", Unsettled, "no source names the architecture", "%s", "ask the maker, or look for a manifest that names model and revision")
)

// unsaidArch: an image that a strong source gives to this model and revision, or
// board, need not say its architecture.
func (c *Case) unsaidArch(base Line, cand *Candidate, what string) Line {
	if v := c.Value(fact.Arch); v.State == member.Contradicted {
		return archReasons.deviceContradicted.become(base, v.Why).Advise("%s", c.howToKnow("arch", v))
	}
	ops := cand.opinions
	if named(ops[fact.Board]) || named(ops[fact.Model]) && (named(ops[fact.Revision]) || c.alike()) {
		return archNotNeeded.become(base, what)
	}
	return archNotNamed.become(base, what)
}
