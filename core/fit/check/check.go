// Package check holds the checks that make a verdict, one file each.
//
// A check is a value that is registered: its name, what it asks, the reasons that
// it may give (codes, each with its outcome, its words and what to do), and what
// kind of question it is. There is no other list of checks. A line of a verdict can
// only be made from a code, so none can bear a name that is not registered, and
// Sort, which puts lines in the order of the checks, never drops one.
package check

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
)

// Check is one question that is asked before something fits.
type Check struct {
	Name string
	Doc  string
	// Order is its place among the lines of a verdict.
	Order int
	// Column is the group of checks among which it stands in the matrix of a verdict.
	Column string
	// Of is the command whose question it is, where that is not match.
	Of string
	// Respect is what it is about, where images and devices are compared in it.
	Respect fact.Name
	// Far is how far from the device an image is that it excludes, among those that
	// come nearest: another model is farther than another revision, and that is
	// farther than damage.
	Far int
	// Hardware: it tells whether an image is whole and for a device, whatever runs
	// there and what must be done first.
	Hardware bool
	// First: it is among those that make a fit what it is. Explains: it says why it does
	// not apply.
	First, Explains bool
	// Lacking: it may fail only because something is not in the package.
	Lacking bool
	// Bytes: it rests on the bytes alone, and on nothing that a rulebook says. Headers: so it
	// does where only headers and what is known of the device are its sources.
	Bytes, Headers bool
	// Whole: it is about an install as a whole, and says nothing of a boot loader
	// that is installed alone.
	Whole bool
	Codes []*Code

	runs []Run
}

// Code is a reason that a check may give.
type Code struct {
	Check   *Check
	Name    string // "revision.excluded"
	Outcome Outcome
	// Words and Advice are formats: the reason with its deciding values, and what
	// would settle it.
	Words, Advice string
	// Doc says when the reason is given.
	Doc string
	// Stands: neither -trust-names nor -even-if unsettled covers it.
	Stands bool
}

var (
	checks     []*Check // in their order
	registered = map[string]*Check{}
	codes      = map[string]*Code{}
)

// Register adds a check. Two of one name or one place are a fault of the program.
func Register(c *Check) *Check {
	for _, o := range checks {
		if o.Name == c.Name || o.Order == c.Order {
			panic(fmt.Sprintf("check: %s and %s have one name or one place", o.Name, c.Name))
		}
	}
	checks = append(checks, c)
	registered[c.Name] = c
	slices.SortFunc(checks, func(a, b *Check) int { return a.Order - b.Order })
	return c
}

// Code adds a reason to a check.
func (c *Check) Code(name string, o Outcome, doc, words, advice string) *Code {
	k := &Code{Check: c, Name: c.Name + "." + name, Outcome: o, Doc: doc, Words: words, Advice: advice}
	if codes[k.Name] != nil {
		panic("check: two codes " + k.Name)
	}
	codes[k.Name] = k
	c.Codes = append(c.Codes, k)
	return k
}

// stands marks a reason that nothing covers.
func (k *Code) stands() *Code {
	k.Stands = true
	return k
}

// All lists the checks in their order.
func All() []*Check { return slices.Clone(checks) }

// Codes lists all reasons, check by check.
func Codes() []*Code {
	var out []*Code
	for _, c := range checks {
		out = append(out, c.Codes...)
	}
	return out
}

// Find finds a check by its name; nil for none.
func Find(name string) *Check {
	return registered[name]
}

// Explain finds a code by its name; nil for none.
func Explain(name string) *Code { return codes[strings.TrimSpace(name)] }

// Line makes a line of a reason. The arguments are those of its words.
func (k *Code) Line(component string, args ...any) Line {
	l := Line{Check: k.Check.Name, Component: component, Code: k.Name, Outcome: k.Outcome, Because: k.Words}
	if len(args) > 0 {
		l.Because = fmt.Sprintf(k.Words, args...)
	}
	if k.Outcome == Misfit || k.Outcome == Unsettled {
		l.Advice = k.Advice
	}
	return l
}

// become turns a line into one of another reason, with its sides and sources.
func (k *Code) become(l Line, args ...any) Line {
	n := k.Line(l.Component, args...)
	n.Device, n.Package, n.Sources = l.Device, l.Package, l.Sources
	return n
}

// Advise fills in the advice, where the reason leaves it open.
func (l Line) Advise(format string, args ...any) Line {
	l.Advice = format
	if len(args) > 0 {
		l.Advice = fmt.Sprintf(format, args...)
	}
	return l
}

// Sort puts lines in the order of their checks. A line of a check that is not
// registered is a fault of the program, never silence.
func Sort(all []Line) []Line {
	for i := range all {
		if Find(all[i].Check) == nil {
			panic(fmt.Sprintf("check: the line %q is of a check that is not registered", all[i].Check))
		}
	}
	slices.SortStableFunc(all, func(a, b Line) int { return Find(a.Check).Order - Find(b.Check).Order })
	return all
}

// AnyStands tells whether one of some lines is of a reason that nothing covers: a name
// says something else than stronger sources do.
func AnyStands(all []Line) bool {
	for i := range all {
		if all[i].Stands() {
			return true
		}
	}
	return false
}

// Stands tells whether a line is of a reason that nothing covers.
func (l *Line) Stands() bool {
	k := Explain(l.Code)
	return k != nil && k.Stands
}
