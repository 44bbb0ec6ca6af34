package plan

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"fitcheck/core/fit"
	"fitcheck/core/rulebook"
)

// Each pattern that a rulebook asks for is looked at, two of one check and two checks of one name
// as well, and each cites the line that asks for it.
func TestEveryPatternIsLookedAt(t *testing.T) {
	b := worked(t, "quillmere.yaml", "checks_after:\n  - {must_show: '^Lamp green', must_not_show: '^Alarm', say: it is well}\n  - {must_show: '^Fans 2', say: it is well}\n", "qm-tram-8.4.2.zip")
	x, _ := night(t, b, "cabinet-07", "8.4.2")
	all := []string{"Lamp green", "Fans 2"}
	judged := func(lines ...string) (outcomes []fit.Outcome) {
		c := ConfirmCaptured(x, seen(t, b, lines...))
		var asked []string
		for _, l := range c.Checks {
			if l.Check == "seen" {
				outcomes = append(outcomes, l.Outcome)
				for _, s := range l.Sources {
					if s.Side == fit.OfPackage {
						assert.Positive(t, s.Source.Line, l.Because)
						asked = append(asked, fmt.Sprint(s.Source.Line))
					}
				}
			}
		}
		slices.Sort(asked)
		assert.Len(t, asked, 3)
		assert.Len(t, slices.Compact(asked), 2)
		return outcomes
	}
	assert.NotContains(t, judged(all...), fit.Misfit)
	for i := range all {
		assert.Contains(t, judged(slices.Delete(slices.Clone(all), i, i+1)...), fit.Misfit, all[i])
	}
	assert.Contains(t, judged("Lamp green", "Fans 2", "Alarm door"), fit.Misfit)
}

// What is built in has somebody who writes it: a name that nobody knows would be taken for a
// rulebook's own step, and lose its wording.
func TestEveryBuiltInStepIsWritten(t *testing.T) {
	for _, name := range rulebook.BuiltIns() {
		assert.Contains(t, builtIns, name)
	}
	assert.Len(t, builtIns, len(rulebook.BuiltIns()))
}
