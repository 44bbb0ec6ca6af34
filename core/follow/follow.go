// Package follow goes through a runbook step by step: what was answered at each, whether it
// is proven, and whether one may go on. It asks nobody and prints nothing.
package follow

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"regexp/syntax"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
)

// Follower is where one is in a runbook.
type Follower struct {
	Target *plan.Target
	Book   *plan.Runbook
	Steps  []plan.Instruction

	at     int          // index of the step that is to be done
	tries  int          // of that step that failed
	again  int          // index of the step that must be proven once more before at; -1 for none
	said   int          // number of the step that was left behind last
	proven map[int]bool // indexes of steps that were passed since it was taken up
}

// New begins a runbook.
func New(t *plan.Target, b *plan.Runbook) *Follower {
	f := &Follower{Target: t, Book: b, again: -1, proven: map[int]bool{}}
	for _, s := range b.Sections {
		f.Steps = append(f.Steps, s.Steps...)
	}
	return f
}

// Plan is a digest of the steps: a record of other steps is not taken up.
func (f *Follower) Plan() string {
	b, err := json.Marshal(struct {
		Device, To string
		Steps      []plan.Instruction
	}{f.Book.Device, f.Book.To, f.Steps})
	if err != nil { // proofs hold compiled patterns, which say themselves as text
		b = fmt.Appendf(nil, "%v", f.Steps)
	}
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:8])
}

// Over tells that no step is left.
func (f *Follower) Over() bool { return f.at >= len(f.Steps) }

// Number is the step that is asked about, from 1: the next one, or one before it that must be
// proven once more.
func (f *Follower) Number() int {
	if f.again >= 0 {
		return f.again + 1
	}
	return f.at + 1
}

// Step is that step.
func (f *Follower) Step() plan.Instruction { return f.Steps[f.Number()-1] }

// Again tells that it was proven before, and must be once more.
func (f *Follower) Again() bool { return f.again >= 0 }

// Tried is how often the step failed.
func (f *Follower) Tried() int { return f.tries }

// TakeUp goes to a step where it was left.
func (f *Follower) TakeUp(number, tries int) {
	f.at, f.tries, f.again = min(max(number-1, 0), len(f.Steps)), tries, -1
	f.arrive()
}

// arrive looks back where a restart comes next: what was proven before it, and not since it
// was taken up, is proven once more. Since then the device may have been changed.
func (f *Follower) arrive() {
	if f.Over() || !f.restarts(f.at) {
		return
	}
	for i := f.at - 1; i >= 0 && f.Steps[i].Hop == f.Steps[f.at].Hop && !f.restarts(i); i-- {
		if f.stops(i) && f.provable(i) {
			if !f.proven[i] {
				f.again = i
			}
			return
		}
	}
}

// restarts tells a step behind which the device starts anew.
func (f *Follower) restarts(i int) bool {
	in := f.Steps[i]
	return in.Step == "restart" || in.Restarts
}

// Need is what a step asks for before one may go on.
type Need int

// The needs.
const (
	Word    Need = iota // somebody says that it is done
	Capture             // a capture must show it
	Blocked             // it must be shown, and no capture of this line shows it
)

// Needs tells what the step asks for.
func (f *Follower) Needs() Need {
	i := f.Number() - 1
	switch {
	case f.provable(i):
		return Capture
	case f.stops(i):
		return Blocked
	}
	return Word
}

// stops tells whether going on without proof could start the wrong thing, or a damaged one.
func (f *Follower) stops(i int) bool {
	return slices.ContainsFunc(f.Steps[i].Proofs, func(p plan.Proof) bool { return p.Key == plan.Next || len(p.Sums) > 0 })
}

// provable tells whether a capture of this line can show that a step is done.
func (f *Follower) provable(i int) bool {
	proofs := f.Steps[i].Proofs
	if len(proofs) == 0 {
		return false
	}
	rules := f.rulesOf(f.Steps[i].Member)
	for _, p := range proofs {
		if shows(rules, p) {
			return true
		}
	}
	return false
}

func (f *Follower) rulesOf(member string) *rulebook.Rulebook {
	for _, b := range f.Target.Device.All() {
		if member == "" || b.Name.Text == member {
			return f.Target.Rules(b.Model.Text)
		}
	}
	return nil
}

// shows tells whether captures, read by a rulebook, can hold a proof. Files, digests and texts
// stand in the lines of any capture.
func shows(rb *rulebook.Rulebook, p plan.Proof) bool {
	switch {
	case p.Job:
		return rb != nil && reads(rb, func(key string) bool { return key == "job.state" })
	case p.Key == "":
		return true
	case rb == nil:
		return false
	case p.Key == plan.Next || p.Key == plan.Active:
		group := map[string]string{plan.Next: "next", plan.Active: "active"}[p.Key]
		return reads(rb, func(key string) bool { return strings.HasPrefix(key, "slots.") && strings.HasSuffix(key, "."+group) })
	}
	head, rest, _ := strings.Cut(p.Key, ".")
	if head == "slots" {
		what := rest[strings.LastIndexByte(rest, '.')+1:]
		return reads(rb, func(key string) bool { return strings.HasPrefix(key, "slots.") && strings.HasSuffix(key, "."+what) })
	}
	return reads(rb, func(key string) bool { return key == p.Key || head == "installed" && key == "installed.*" })
}

// reads tells whether some pattern of the captures reads a key that is wanted: "slots.*.main".
func reads(rb *rulebook.Rulebook, want func(key string) bool) bool {
	for _, c := range rb.CaptureRules() {
		for _, k := range c.Read {
			if want(k.Key) {
				return true
			}
		}
		for _, e := range c.Each {
			for _, g := range groups(e.Pattern.String()) {
				switch e.Key {
				case "slots", "files":
					g = e.Key + ".*." + g
				case "installed":
					g = "installed.*"
				case "members":
					if g == "main" || g == "boot" {
						g = "installed." + g
					}
					g = strings.Replace(g, "_", ".", 1)
				}
				if want(g) {
					return true
				}
			}
		}
	}
	return false
}

func groups(pattern string) []string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(re.CapNames(), func(n string) bool { return n == "" })
}

// Verdict is what an answer led to.
type Verdict struct {
	Outcome string // go_on, wait, again, stop, unknown
	Answer  *plan.StepAnswer
	Reason  string
	ByWord  bool
	Try     int // how often it failed so far
}

// What an answer leads to.
const (
	GoOn    = "go_on"
	Wait    = "wait"    // the device still works on it
	Again   = "again"   // it failed, and may be tried again
	Stop    = "stop"    // do not go on
	Unknown = "unknown" // it is not proven: another capture is needed
)

// Say takes somebody's word that a step is done. seen says that he looked for what it must
// show.
func (f *Follower) Say() Verdict {
	switch f.Needs() {
	case Capture:
		return Verdict{Outcome: Unknown, Reason: "a capture can show whether this step is done: nobody's word is taken for it"}
	case Blocked:
		return Verdict{Outcome: Stop, Reason: f.blocked()}
	}
	f.passed()
	return Verdict{Outcome: GoOn, ByWord: true}
}

func (f *Follower) blocked() string {
	rb := f.rulesOf(f.Step().Member)
	file := "the rulebook"
	if rb != nil {
		file = rb.File
	}
	return fmt.Sprintf("whether the right slot starts next must be shown before a restart, and no pattern under captures of %s reads it: add the group next to each: slots:, or go on by the printed runbook, on your own eyes", file)
}

// Show holds captures against the step.
func (f *Follower) Show(c plan.Captured) (Verdict, error) {
	if f.Needs() == Blocked {
		return Verdict{Outcome: Stop, Reason: f.blocked()}, nil
	}
	a, err := plan.JudgeStep(f.Target, f.Book, f.Number(), c)
	if err != nil {
		return Verdict{}, err
	}
	v := Verdict{Answer: a, Reason: a.Reason}
	switch a.Outcome {
	case plan.StepDone:
		v.Outcome = GoOn
		f.passed()
	case plan.StepRunning:
		v.Outcome = Wait
	case plan.StepFailed:
		f.tries++
		v.Try, v.Outcome = f.tries, Stop
		if f.tries < f.Step().Tries {
			v.Outcome = Again
		}
	case plan.StepStop:
		v.Outcome = Stop
	default:
		v.Outcome = Unknown
		if f.Needs() == Word && c.Draft != nil && ofThis(a) { // a capture that only goes into the record
			v.Outcome, v.ByWord, v.Reason = GoOn, true, ""
			f.passed()
		}
	}
	return v, nil
}

// ofThis tells that nothing in a capture is against this device, where nothing can prove the
// step.
func ofThis(a *plan.StepAnswer) bool {
	return !slices.ContainsFunc(a.Shown, func(s plan.Shown) bool { return s.Holds == truth.No })
}

// Answered is the number of the step that was passed last.
func (f *Follower) Answered() int { return f.said }

func (f *Follower) passed() {
	f.said = f.Number()
	f.proven[f.Number()-1] = true
	if f.again >= 0 {
		f.again = -1
		return
	}
	f.at++
	f.tries = 0
	f.arrive()
}

// Status is the verdict on where one stands: fits when all is done.
func (f *Follower) Status(last Verdict) fit.Outcome {
	switch {
	case f.Over():
		return fit.Fits
	case last.Outcome == Stop:
		return fit.Misfit
	}
	return fit.Unsettled
}
