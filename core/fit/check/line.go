package check

import (
	"fitcheck/core/fact"
)

// Outcome is how a check came out, or a whole verdict.
type Outcome string

// The outcomes. Note and NotApplicable change no verdict.
const (
	Fits          Outcome = "fits"
	Misfit        Outcome = "misfit"
	Unsettled     Outcome = "unsettled"
	Note          Outcome = "note"
	NotApplicable Outcome = "n/a"
)

// Rank orders outcomes by how bad they are.
func (o Outcome) Rank() int {
	switch o {
	case Misfit:
		return 2
	case Unsettled:
		return 1
	}
	return 0
}

// Worse returns the worse of two outcomes as far as verdicts go.
func Worse(a, b Outcome) Outcome {
	switch max(a.Rank(), b.Rank()) {
	case 2:
		return Misfit
	case 1:
		return Unsettled
	}
	return Fits
}

// The sides of a comparison. Where the device has no say, such as in digests,
// what a header or list states is held against the package's content.
const (
	OfDevice  = "device"
	OfPackage = "package"
	OfRule    = "rule"
	OfStated  = "stated"
)

// Cited is one side of a comparison with the place it was read from.
type Cited struct {
	Side   string
	Value  string
	Source fact.Source
}

// Line is one line of a verdict: a reason, with both sides of what was compared.
type Line struct {
	Check     string // "revision"
	Component string // "" when it is about the whole package
	Code      string // "revision.excluded"
	Outcome   Outcome
	Device    string // the device's side as text, or what is stated
	Package   string // the package's side
	Because   string
	Sources   []Cited
	Advice    string // what would settle it; for misfit and unsettled
}

// Cite adds sources.
func (l *Line) Cite(sources ...Cited) *Line {
	l.Sources = append(l.Sources, sources...)
	return l
}

// Worst is the worst outcome among lines.
func Worst(all []Line) Outcome {
	out := Fits
	for i := range all {
		out = Worse(out, all[i].Outcome)
	}
	return out
}
