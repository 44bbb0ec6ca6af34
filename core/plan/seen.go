package plan

import (
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/rulebook"
)

var (
	seenCheck = check.Register(&check.Check{Name: "seen", Order: 345, Of: "confirm", Doc: "Do the captures show what is to be seen afterwards?"})

	seenShown   = seenCheck.Code("shown", fit.Fits, "a line that the rulebook asks for is there, or one that it does not want is not", "%s", "")
	seenMissing = seenCheck.Code("missing", fit.Misfit, "a line that the rulebook asks for is not there", "%s: no line of the captures shows it", "look at the device yourself; if it is as it should be, capture what shows it")
	seenWrong   = seenCheck.Code("not_wanted", fit.Misfit, "a line that the rulebook does not want is there", "%s: the captures show %q", "look at the device yourself before you go on")
	seenOld     = seenCheck.Code("not_compared", fit.Unsettled, "a line is there that may be old, and no captures from before are at hand", "%s: the captures show %q, and nobody knows whether it is new", "give what was captured before with -before")
	seenNot     = seenCheck.Code("not_recognised", fit.Unsettled, "no rulebook recognises the captures, so that what they do not show says nothing", "%s: no rulebook recognises the captures", "capture what the rulebook's captures: reads")
)

// ConfirmCaptured is Confirm with what the lines of the captures must show, and must not.
func ConfirmCaptured(t *Target, c Captured) *Confirmation {
	out := Confirm(t, c.Draft)
	for _, a := range t.afterChecks() {
		for _, p := range afterProofs(a.AfterCheck) {
			out.Checks = append(out.Checks, p.seen(a.by, c))
		}
	}
	out.Checks = check.Sort(out.Checks)
	out.Verdict = fit.Worse(out.Verdict, worst(out.Checks))
	return out
}

// afterProofs are what captures must show of a check afterwards, and what they must not.
func afterProofs(a rulebook.AfterCheck) []Proof {
	var out []Proof
	if a.MustShow.Set() {
		out = append(out, Proof{MustShow: a.MustShow.Regexp, Says: a.Text()})
	}
	if a.MustNotShow.Set() {
		out = append(out, Proof{MustNotShow: a.MustNotShow.Regexp, NewOnly: a.NewOnly, Says: a.Text()})
	}
	return out
}

func (p Proof) seen(by fact.Source, c Captured) fit.Check {
	found, matched := p.find(c)
	file := "the captures"
	if len(c.Lines) > 0 {
		file = c.Lines[0].At.File
	}
	shown := fit.Cited{Side: fit.OfDevice, Value: "not shown", Source: fact.Source{Kind: fact.Capture, File: file}}
	if matched {
		shown = fit.Cited{Side: fit.OfDevice, Value: strings.TrimSpace(found.Text), Source: found.At}
	}
	asked := fit.Cited{Side: fit.OfPackage, Value: p.Says, Source: by}
	l := seenShown.Line("", p.Says)
	switch {
	case p.MustShow != nil && matched, p.MustShow == nil && !matched && c.Recognised:
	case !matched && !c.Recognised:
		l = seenNot.Line("", p.Says)
	case p.MustShow != nil:
		l = seenMissing.Line("", p.Says)
	case p.NewOnly && c.Before == nil:
		l = seenOld.Line("", p.Says, strings.TrimSpace(found.Text))
	default:
		l = seenWrong.Line("", p.Says, strings.TrimSpace(found.Text))
	}
	return sides(l, shown.Value, p.Says, shown, asked)
}

// find is the first line that a pattern matches; of what must not be new, the first that was
// not there before.
func (p Proof) find(c Captured) (device.TextLine, bool) {
	re := p.MustShow
	if re == nil {
		re = p.MustNotShow
	}
	was := func(text string) bool {
		return p.NewOnly && slices.ContainsFunc(c.Before, func(l device.TextLine) bool { return strings.TrimSpace(l.Text) == strings.TrimSpace(text) })
	}
	for _, l := range c.Lines {
		if re.MatchString(l.Text) && !was(l.Text) {
			return l, true
		}
	}
	return device.TextLine{}, false
}
