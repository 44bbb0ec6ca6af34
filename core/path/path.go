// Package path finds how a device gets from what it runs to a version it is to
// run, and back: over all components at once, by the releases, hop rules and
// needs of a rulebook.
//
// A state is the image family and the version of every component. A move
// installs one release, or only the boot loader that a release brings. The
// search goes from the state that is nearest in cost to the next; what is not
// known is never taken for right: a path that needs it is no path, and what
// would have to be known is told.
package path

import (
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

// Prefer is what a path is to have as little of as can be.
type Prefer string

// The ways to prefer one path to another; ties go to the newest releases.
const (
	Resets Prefer = "resets" // resets of the configuration, hops, outage
	Hops   Prefer = "hops"   // hops, resets, outage
	Outage Prefer = "outage" // outage, resets, hops
)

// MaxStates bounds a search unless Options say otherwise.
const MaxStates = 1_000_000

// Options steer a search.
type Options struct {
	Prefer Prefer
	// Avoid are versions that may not be on the way.
	Avoid []string
	// MaxStates bounds the states that are looked at; 0 is MaxStates.
	MaxStates int

	banned map[[2]string]bool // hops from one version to another that are not to be taken
}

// Goal is where a path is to end.
type Goal struct {
	Version string
	Family  string // "" is the one that the device runs
}

// Cited is what a line rests on.
type Cited struct {
	Value  string
	Source fact.Source
}

// Change is what a hop does to one component of one member.
type Change struct {
	Member    string // "" for a single device
	Component string
	From, To  string // From is "" when it is not known
}

// Hop is one install on the way.
type Hop struct {
	Release      string
	Family       string
	From, To     string // versions of the main component
	BootOnly     bool   // only the boot loader of the release is installed
	Components   []Change
	Because      string
	Sources      []Cited
	ResetsConfig bool
	Install      int // minutes
	Outage       int // of them without service
	// NoReturn: after this hop nothing leads back to where the path began.
	NoReturn bool
	Notes    []string
	Rule     *rulebook.Release
}

// Blocked is a release that stands in the way, or cannot be reached, and why.
type Blocked struct {
	Release string
	Because string
	Sources []Cited
}

// Back is the way back to what the device runs now.
type Back struct {
	Found   bool
	By      string // "slot", "hops" or ""
	Because string
	Hops    []Hop
}

// Answer is what a search found.
type Answer struct {
	Name     string
	Members  []string // of a group that moves together
	From, To string
	Family   string
	Found    bool
	// Unsettled says what would have to be known; then there is no path yet.
	Unsettled []string
	Hops      []Hop
	Blocked   []Blocked
	Back      *Back
	Notes     []string
	// States is how many states were looked at.
	States int
}

// Minutes sums up the path: minutes of all installs, and of outage.
func (a *Answer) Minutes() (install, outage int) {
	for _, h := range a.Hops {
		install += h.Install
		outage += h.Outage
	}
	return install, outage
}

// Resets counts the hops that reset the configuration.
func (a *Answer) Resets() int {
	n := 0
	for _, h := range a.Hops {
		if h.ResetsConfig {
			n++
		}
	}
	return n
}
