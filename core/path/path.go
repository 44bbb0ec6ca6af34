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
	"cmp"
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
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
	// OnHand tells, when it is set, whether a package of a release is at hand;
	// then only such releases are installed.
	OnHand func(rel *rulebook.Release) bool
	// All is how many ways to find: the best one and others, really different.
	All int
	// MaxStates bounds the states that are looked at; 0 is MaxStates.
	MaxStates int
	// Picture asks for what can be drawn.
	Picture bool

	// NoRulebook says, when it is set, why no rulebook knows a device, and what to do.
	NoRulebook func(d *device.Device) string

	Plain bool // the path alone, without the way back and the like
}

// Goal is where a path is to end.
type Goal struct {
	// Version is a release, "latest", "channel:NAME" or "certified:NAME".
	Version string
	// Set is the certified set, where that is asked for.
	Set    *rulebook.CertifiedSet
	Family string // "" is the one that the device runs
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
	Release  string
	Releases []*rulebook.Release // of each box of the team; nil for one that it leaves alone
	// Family is the image family gone to, FromFamily the one that is left.
	Family, FromFamily string
	// Families are those of members that go to another than Family.
	Families     map[string]string
	From, To     string   // versions of the main component
	BootOnly     bool     // only the boot loader of the release is installed
	Members      []string // of a group: those that make this hop
	Components   []Change
	Because      string
	Sources      []Cited
	ResetsConfig bool
	Minutes      *rulebook.Minutes // nil when the rulebook does not say
	// NoReturn: after this hop nothing leads back to where the path began.
	NoReturn bool
	// Begin is what ran on its members where the path began, where a plan of several
	// families has members that ran different versions; else the plan's From.
	Begin string
	Notes []string

	untimed bool // some release of it gives no minutes
}

// Blocked is a release that stands in the way, or cannot be reached, and why.
type Blocked struct {
	Release string
	Code    string
	Because string
	Sources []Cited
}

// Capped is the release that would be the newest, and why it cannot be reached.
type Capped struct {
	Release, Because string
}

// Back is the way back to what the device runs now.
type Back struct {
	Found   bool
	By      string // "slot", "hops" or ""
	Because string
	Sources []Cited
	// Hops is the way back by hops, where there is one, also when a slot does.
	Hops  []Hop
	Notes []string
}

// Answer is what a search found.
type Answer struct {
	Name     string
	Members  []string // of a group that moves together
	From, To string
	Family   string
	Found    bool
	// Capped says what keeps the device from the newest release, where a need on a
	// companion or a boot loader alone does; the path leads to the highest that can be
	// reached.
	Capped *Capped
	// Unsettled says what would have to be known; then there is no path yet.
	Unsettled []string
	Hops      []Hop
	Blocked   []Blocked
	Back      *Back
	// Alternatives are other ways, the best first.
	Alternatives []Alternative
	// Maybe is the way that there would be if what is unsettled held.
	Maybe []Hop
	Notes []string
	// Picture is there when it was asked for.
	Picture *Picture
	// States is how many states were looked at.
	States int

	end   stand
	asked string // for what the path was asked, where To is several versions
}

// Minutes sums up the path: minutes of all installs, and of outage; and of how many
// hops the rulebook gives none, so that the sums are only a part.
func (a *Answer) Minutes() (install, outage rulebook.MinuteSpan, unknown int) {
	for _, h := range a.Hops {
		if h.Minutes == nil {
			unknown++
			continue
		}
		install = install.Plus(h.Minutes.Install)
		outage = outage.Plus(h.Minutes.Outage)
	}
	return install, outage, unknown
}

// Asked is how another command is asked for the same way.
func (a *Answer) Asked() string {
	t := "-to " + shell.Quote(cmp.Or(a.asked, a.To))
	if slices.ContainsFunc(a.Hops, func(h Hop) bool { return h.Family != h.FromFamily }) {
		t += " -family " + shell.Quote(a.Family)
	}
	return t
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
