package member

import (
	"fmt"
	"slices"

	"fitcheck/core/fact"
)

// State is how far a value is known.
type State int

// The states. Only what is known decides anything; a guess and a contradiction
// are told, and count as unknown.
const (
	Missing State = iota
	Known
	Guessed
	Contradicted
)

// Value is what is known of a device in one respect, and by whom.
type Value struct {
	State State
	// Facts are what is known, or one side of a contradiction; Against is the
	// other.
	Facts, Against []fact.Fact
	// Guess is what was only guessed, and GuessedFrom from what.
	Guess, GuessedFrom string
	// Why says of a contradiction what contradicts what.
	Why string
	// At is where the value stands in the device file, or would stand.
	At fact.Source
}

// Known tells whether the value decides anything.
func (v Value) Known() bool { return v.State == Known }

// First is the first known text, "" where none is known.
func (v Value) First() string {
	if v.State != Known || len(v.Facts) == 0 {
		return ""
	}
	return v.Facts[0].Value
}

// Text is the value for people, with what is wrong with it.
func (v Value) Text() string {
	switch v.State {
	case Known:
		return fact.Values(v.Facts)
	case Guessed:
		return fmt.Sprintf("not known, guessed to be %s", v.Guess)
	case Contradicted:
		return fmt.Sprintf("%s against %s", fact.Values(v.Facts), fact.Values(v.Against))
	}
	return "not known"
}

// Said lists the facts on both sides; none where nobody says anything.
func (v Value) Said() []fact.Fact {
	if len(v.Against) == 0 {
		return slices.Clip(v.Facts) // what is appended stays with who appends
	}
	out := append([]fact.Fact(nil), v.Facts...)
	return append(out, v.Against...)
}

// known makes a value of facts.
func known(at fact.Source, facts ...fact.Fact) Value {
	if len(facts) == 0 {
		return Value{At: at}
	}
	return Value{State: Known, Facts: facts, At: at}
}

// against makes a contradiction of two sides.
func (v Value) against(facts []fact.Fact, why string) Value {
	v.State, v.Against, v.Why = Contradicted, facts, why
	return v
}
