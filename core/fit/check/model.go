package check

import (
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/member"
)

var modelReasons = respect(fact.Model, "model", 60, 1000, "model")

var modelNotNamed = modelReasons.Code("not_named", Unsettled, "no source says which model the image is for", "nothing in the package says which model it is for%s",
	"find a manifest, release note or header title that names the model, and describe it in the rulebook")

func (c *Case) modelNotNamed(base Line, cand *Candidate) Line {
	if v := c.Value(fact.Model); v.State == member.Contradicted {
		return modelReasons.deviceContradicted.become(base, v.Why).Advise("%s", c.howToKnow("model", v))
	}
	more := ""
	if m := cand.Item.Image; m != nil {
		if title, ok := m.First(fact.Title); ok {
			more = fmt.Sprintf("; its header bears the title %q, which no pattern of a rulebook reads", title.Value)
			base.Cite(Cited{OfPackage, fmt.Sprintf("title %q", title.Value), title.Source})
		}
	}
	return modelNotNamed.become(base, more)
}
