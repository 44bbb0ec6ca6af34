package check

import (
	"fmt"
	"slices"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

var rulebookCheck = Register(&Check{Name: "rulebook", Column: "rules", Order: 5, Doc: "Is what decides confirmed in the rulebook, and not a guess of a draft?"})

var (
	rulebookGuess   = rulebookCheck.Code("guess", Unsettled, "the rulebook still guesses what the verdict rests on", "the rulebook guesses what this rests on: %s", "hold each guess against release notes and labels, correct it, and take its GUESS away")
	rulebookByGuess = rulebookCheck.Code("by_guess", Unsettled, "it would be a misfit, and by a guess of the rulebook only", "by a guess of the rulebook: %s", "hold each guess against release notes and labels, correct it, and take its GUESS away")
)

func init() {
	rulebookCheck.Runs(PerVerdict(func(c *Case, lines []Line) []Line { return c.Guessed(lines) }))
}

// Guessed keeps guesses of the rulebook from deciding: what would be a misfit by one is not
// settled, and nothing fits. sections are those that the lines rest on beside what all do.
func (c *Case) Guessed(lines []Line, sections ...string) []Line {
	var entry *rulebook.Package
	if c.Survey.Rulebook == c.Rules {
		entry = c.Survey.Entry
	}
	guess := c.Rules.Guess(c.First(fact.Model), c.Family(), entry, c.Release.Rule)
	for _, s := range sections {
		if guess == (rulebook.Guess{}) {
			guess = c.Rules.GuessIn(s)
		}
	}
	if guess == (rulebook.Guess{}) {
		return lines
	}
	rests := false
	for i, l := range lines {
		if l.Outcome != Fits && l.Outcome != Misfit || byItself(l) {
			continue
		}
		rests = true
		if l.Outcome == Misfit {
			lines[i] = rulebookByGuess.become(l, fmt.Sprintf("%s: %s", l.Check, l.Because)).Advise("%s", rulebookByGuess.Advice)
		}
	}
	if !rests {
		return lines
	}
	l := rulebookGuess.Line("", guess)
	l.Device, l.Package = c.Hardware(), "guessed"
	l.Cite(c.ofDevice(), ofName("judged by it", c.Survey.Name), Cited{OfRule, guess.String(), fact.Source{Kind: fact.Rulebook, File: guess.File, Line: guess.Line}})
	return append(lines, l)
}

// byItself tells a line that rests on nothing that a rulebook says: on the bytes themselves.
func byItself(l Line) bool {
	c := Find(l.Check)
	if c == nil {
		return false
	}
	return c.Bytes || c.Headers && !slices.ContainsFunc(l.Sources, func(s Cited) bool {
		return s.Source.Kind != fact.Header && s.Source.Kind != fact.DeviceFile && s.Source.Kind != fact.Capture
	})
}
