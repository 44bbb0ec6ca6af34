package check

import (
	"fitcheck/core/fact"
	"fitcheck/core/member"
)

var revisionReasons = respect(fact.Revision, "rev", 70, 100, "hardware revision")

var (
	revisionAlike = revisionReasons.Code("alike", NotApplicable, "no source names revisions, and by the rulebook all of the model share architecture and boards",
		"the package names no revisions, and by the rulebook all revisions of %s share architecture and boards", "")
	revisionNotNamed = revisionReasons.Code("not_named", Unsettled, "no source names revisions, and by the rulebook those of the model differ",
		"nothing in the package names hardware revisions, and by the rulebook those of %s differ", "find out from the release notes which revisions the image is for")
	revisionNoRule = revisionReasons.Code("no_rule", Unsettled, "no source names revisions, and no rulebook tells whether they differ",
		"nothing in the package names hardware revisions, and without a rulebook nobody knows whether they differ", "")
)

func (c *Case) revisionNotNamed(base Line) Line {
	v := c.Value(fact.Revision)
	switch {
	case v.State == member.Contradicted:
		return revisionReasons.deviceContradicted.become(base, v.Why).Advise("%s", c.howToKnow("revision", v))
	case c.Model == nil:
		return revisionNoRule.become(base).Advise("%s", c.needRulebook())
	}
	base.Cite(c.ofRule(c.Model.Key, c.Model.Spot))
	if c.alike() {
		return revisionAlike.become(base, c.Model.Key)
	}
	return revisionNotNamed.become(base, c.Model.Key)
}

func (c *Case) alike() bool { return c.Model != nil && c.Model.Value.Alike() }
