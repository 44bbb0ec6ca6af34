package present

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"fitcheck/core/fact"
	"fitcheck/core/plan"
	"fitcheck/core/truth"
)

// What to do next names a step only where there is one, and asks for a capture only where one can
// show something.
func TestStepNext(t *testing.T) {
	proof := []plan.Proof{{Line: "x"}}
	for name, c := range map[string]struct {
		a         plan.StepAnswer
		says, not string
	}{
		"done":                       {plan.StepAnswer{Number: 7, Outcome: plan.StepDone}, "go on with step 8", ""},
		"the last one":               {plan.StepAnswer{Number: 7, Outcome: plan.StepDone, Last: true}, "step 7 is done", "step 8"},
		"not shown":                  {plan.StepAnswer{Number: 7, Outcome: plan.StepUnknown, Step: plan.Instruction{Proofs: proof}}, "ask again", "step 8"},
		"nothing shows it":           {plan.StepAnswer{Number: 7, Outcome: plan.StepUnknown}, "see to it yourself, then go on with step 8", "ask again"},
		"nothing shows the last one": {plan.StepAnswer{Number: 7, Outcome: plan.StepUnknown, Last: true}, "not known", "step 8"},
		"two things are shown":       {plan.StepAnswer{Number: 7, Outcome: plan.StepUnknown, Shown: []plan.Shown{{Want: "w", At: fact.Source{Kind: fact.Capture, File: "c", Line: 1}}}}, "not clear", "not shown"},
		"a thing is not shown":       {plan.StepAnswer{Number: 7, Outcome: plan.StepUnknown, Shown: []plan.Shown{{Want: "w", Holds: truth.Unknown}}}, "not shown", "not clear"},
	} {
		c.a.Percent, c.a.Device = -1, "cab"
		got := shown(StepPage(&c.a), 100)
		assert.Contains(t, got, c.says, name)
		if c.not != "" {
			assert.NotContains(t, got, c.not, name)
		}
	}
}
