package follow

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
)

// follower goes through steps on a device whose rulebook reads captures as said.
func follower(t *testing.T, captures string, steps ...plan.Instruction) *Follower {
	t.Helper()
	text := "kind: rulebook\ntitle: t\nmodels: {Q1: {families: [f]}}\nfamilies: {f: {components: {main: {}}}}\nversions: {default: natural}\nreleases: [{version: '1'}]\n"
	if captures != "" {
		text += "captures:\n  - recognise: '^Tram'\n" + captures
	}
	rb, err := rulebook.Read("line.yaml", []byte(text))
	require.NoError(t, err, text)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: Q1\n"))
	require.NoError(t, err)
	target := &plan.Target{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }}
	half := len(steps) / 2
	return New(target, &plan.Runbook{Device: "d", To: "2", Sections: []plan.Section{{Steps: steps[:half]}, {Steps: steps[half:]}}})
}

func step(name string, hop int, proofs ...plan.Proof) plan.Instruction {
	return plan.Instruction{Step: name, Hop: hop, Text: name, Proofs: proofs}
}

var next = plan.Proof{Key: plan.Next, Want: "B"}

// A step without proofs is done on somebody's word; the steps come one after the other.
func TestStepsOnWord(t *testing.T) {
	f := follower(t, "", step("backup", 1), step("announce", 1), step("restart", 1))
	assert.Equal(t, fit.Unsettled, f.Status(Verdict{}))
	for i := range 3 {
		require.False(t, f.Over())
		assert.Equal(t, i+1, f.Number())
		assert.Equal(t, Word, f.Needs())
		assert.Equal(t, Verdict{Outcome: GoOn, ByWord: true}, f.Say())
		assert.Equal(t, i+1, f.Answered())
	}
	assert.True(t, f.Over())
	assert.Equal(t, fit.Fits, f.Status(Verdict{Outcome: Stop}))
}

// What captures of a line can show is not taken on somebody's word; what they cannot, and must be shown, stops.
func TestWhatAStepNeeds(t *testing.T) {
	read := func(key, pattern string) string { return fmt.Sprintf("    read: {%s: '%s'}\n", key, pattern) }
	each := func(key, pattern string) string {
		return fmt.Sprintf("    read: {model: '^Model (\\S+)'}\n    each: {%s: '%s'}\n", key, pattern)
	}
	for what, c := range map[string]struct {
		captures string
		proof    plan.Proof
		want     Need
	}{
		"a version that a pattern reads":      {read("installed.main", `^Running (\S+)`), plan.Proof{Key: "installed.main", Want: "2"}, Capture},
		"a version that none reads":           {read("installed.boot", `^Boot (\S+)`), plan.Proof{Key: "installed.main", Want: "2"}, Word},
		"versions, line by line":              {each("installed", `^(?P<component>\S+) (?P<version>\S+)$`), plan.Proof{Key: "installed.main", Want: "2"}, Capture},
		"not by a line of something else":     {each("boards", `^board (?P<board>\S+)$`), plan.Proof{Key: "installed.main", Want: "2"}, Word},
		"versions of members":                 {each("members", `^(?P<name>\S+) (?P<main>\S+)$`), plan.Proof{Key: "installed.main", Want: "2"}, Capture},
		"boot loaders of members":             {each("members", `^(?P<name>\S+) (?P<installed_boot>\S+)$`), plan.Proof{Key: "installed.boot", Want: "2"}, Capture},
		"a slot's version":                    {each("slots", `^Slot (?P<name>\S+) (?P<main>\S+)$`), plan.Proof{Key: "slots.B.main", Want: "2"}, Capture},
		"a slot's other component":            {each("slots", `^Slot (?P<name>\S+) (?P<main>\S+)$`), plan.Proof{Key: "slots.B.boot", Want: "2"}, Word},
		"a slot's version, of a slot by name": {read("slots.B.main", `^Slot B (\S+)`), plan.Proof{Key: "slots.B.main", Want: "2"}, Capture},
		"which slot runs":                     {each("slots", `^Slot (?P<name>\S+) (?P<main>\S+) (?P<active>\*)?`), plan.Proof{Key: plan.Active, Want: "B"}, Capture},
		"which slot runs, and is not read":    {each("slots", `^Slot (?P<name>\S+) (?P<main>\S+) (?P<next>next)?`), plan.Proof{Key: plan.Active, Want: "B"}, Word},
		"which slot starts next":              {each("slots", `^Slot (?P<name>\S+) (?P<main>\S+) (?P<next>next)?`), next, Capture},
		"which starts next, and is not read":  {each("slots", `^Slot (?P<name>\S+) (?P<main>\S+) (?P<active>\*)?`), next, Blocked},
		"which starts next, without captures": {"", next, Blocked},
		"the device's own work":               {read("job.state", `^Job (\S+)`), plan.Proof{Job: true}, Capture},
		"its work, which is not read":         {read("model", `^Model (\S+)`), plan.Proof{Job: true}, Word},
		"a line of text":                      {"", plan.Proof{Line: "copied"}, Capture},
		"digests stand in any capture":        {"", plan.Proof{File: "a.img", Sums: []digest.Sum{{Algorithm: digest.MD5, Hex: "00"}}}, Capture},
	} {
		f := follower(t, c.captures, step("check", 1, c.proof))
		assert.Equal(t, c.want, f.Needs(), what)
		v := f.Say()
		switch c.want {
		case Word:
			assert.Equal(t, GoOn, v.Outcome, what)
		case Capture:
			assert.Equal(t, Unknown, v.Outcome, what)
			assert.Contains(t, v.Reason, "nobody's word is taken", what)
			assert.False(t, f.Over(), what)
		case Blocked:
			assert.Equal(t, Stop, v.Outcome, what)
			assert.Contains(t, v.Reason, "captures of line.yaml reads it: add the group next", what)
			shown, err := f.Show(plan.Captured{})
			require.NoError(t, err)
			assert.Equal(t, v, shown, "a capture does not help")
			assert.Equal(t, fit.Misfit, f.Status(v), what)
		}
	}
}

// Before a restart, what makes it dangerous is proven once more, where that was not done since the record was
// taken up.
func TestTakenUpBeforeARestart(t *testing.T) {
	reads := "    read: {model: '^Model (\\S+)'}\n    each: {slots: '^Slot (?P<name>\\S+) (?P<main>\\S+) (?P<next>next)?'}\n"
	steps := []plan.Instruction{step("activate", 1, next), step("announce", 1), step("restart", 1), step("activate", 2, next), step("restart", 2), step("announce", 3), step("restart", 3)}
	f := follower(t, reads, steps...)
	f.TakeUp(3, 0)
	assert.True(t, f.Again())
	assert.Equal(t, 1, f.Number(), "which slot starts is shown again")
	assert.Equal(t, Capture, f.Needs())
	f.passed()
	assert.False(t, f.Again())
	assert.Equal(t, 3, f.Number())
	f.Say()
	assert.Equal(t, 4, f.Number())
	f.passed()
	assert.Equal(t, 5, f.Number(), "it was shown just now")
	assert.False(t, f.Again())
	f.Say()
	f.Say()
	assert.Equal(t, 7, f.Number())
	assert.False(t, f.Again(), "nothing of this hop needs it")

	f = follower(t, reads, steps...)
	f.TakeUp(2, 1)
	assert.Equal(t, 2, f.Number())
	assert.Equal(t, 1, f.Tried())
	f.Say()
	assert.Equal(t, 0, f.Tried())
	assert.Equal(t, 1, f.Number(), "going on to the restart asks for it, too")
	for number, want := range map[int]int{-3: 1, 1: 1, 7: 7, 8: 8, 100: 8} {
		f := follower(t, reads, steps...)
		f.TakeUp(number, 0)
		assert.Equal(t, want, f.Number(), number)
		assert.Equal(t, want == 8, f.Over(), number)
	}
	own := step("install", 2)
	own.Restarts = true
	f = follower(t, reads, step("activate", 2, next), own)
	f.TakeUp(2, 0)
	assert.Equal(t, 1, f.Number(), "a step that ends in a restart is one")
}

// The digest of a plan changes with what is to be done.
func TestPlanIsNamed(t *testing.T) {
	one := follower(t, "", step("backup", 1), step("restart", 1, plan.Proof{Line: "up"}))
	assert.Len(t, one.Plan(), 16)
	assert.Equal(t, one.Plan(), follower(t, "", step("backup", 1), step("restart", 1, plan.Proof{Line: "up"})).Plan())
	for what, other := range map[string]*Follower{
		"another step":  follower(t, "", step("save", 1), step("restart", 1, plan.Proof{Line: "up"})),
		"another proof": follower(t, "", step("backup", 1), step("restart", 1, plan.Proof{Line: "down"})),
		"one less":      follower(t, "", step("restart", 1, plan.Proof{Line: "up"})),
	} {
		assert.NotEqual(t, one.Plan(), other.Plan(), what)
	}
	other := follower(t, "", step("backup", 1), step("restart", 1, plan.Proof{Line: "up"}))
	other.Book.To = strings.Repeat("3", 2)
	assert.NotEqual(t, one.Plan(), other.Plan(), "another goal")
}
