package plan

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
)

// Target is a device with its way and what was found of each step.
type Target struct {
	Name   string // as it was given
	Device *device.Device
	Rules  Rules
	Result *path.Result
	Steps  []Step
	// EvenIf accepts what is not settled.
	EvenIf bool
	// Keep is a package at hand that holds what runs now, "" for none.
	Keep string
	// Unused are packages that were given and stand for no step.
	Unused []*fit.Verdict
	// Verdicts of the steps' packages; nil where a package is missing.
	Verdicts []*fit.Verdict
}

// HopsOf are the hops of a plan; of one that is not settled, those that there
// would be if it were, where that is accepted.
func (t *Target) HopsOf(a *path.Answer) []path.Hop {
	if !a.Found && t.EvenIf {
		return a.Maybe
	}
	return a.Hops
}

// Hops are those of all plans, one after the other.
func (t *Target) Hops() []path.Hop {
	var out []path.Hop
	for _, a := range t.Result.Plans {
		out = append(out, t.HopsOf(a)...)
	}
	return out
}

// FromKit says of each hop for which no package was given, where some were, which one of
// the kit it takes.
func (t *Target) FromKit() []string {
	given := slices.ContainsFunc(t.Steps, func(s Step) bool { return s.Given })
	var out []string
	for i, s := range t.Steps {
		if !given || s.Given || len(s.Packages) == 0 {
			continue
		}
		var names []string
		for _, p := range s.Packages {
			names = append(names, p.Path)
		}
		out = append(out, fmt.Sprintf("hop %d takes %s of the kit: no package was given for release %s", i+1, strings.Join(names, " and "), s.Release))
	}
	return out
}

// Files lists the files that the target's steps fetch.
func (t *Target) Files() []Serving {
	var out []Serving
	for i := range t.Steps {
		if v := t.Verdicts[i]; v != nil {
			out = append(out, t.Steps[i].Files(i+1, t.Device.Name.Text, v, t.Rules)...)
		}
	}
	return out
}

// End is the device once all is done.
func (t *Target) End() *device.Device { return After(t.Device, t.Rules, t.Hops()) }

// Transfer is what the device's way of fetching files carries; nil where the
// rulebook does not say.
func (t *Target) Transfer(string) *rulebook.Transfer {
	for _, b := range t.Device.All() {
		if rb := t.Rules(b.Model.Text); rb != nil && rb.Transfer != nil {
			return rb.Transfer
		}
	}
	return nil
}

// afterChecks are what is to be seen to once all is done.
func (t *Target) afterChecks() []askedAfter {
	var out []askedAfter
	for i := range t.Steps {
		for _, b := range t.Device.All() {
			rb := t.Rules(b.Model.Text)
			for _, a := range rb.AfterChecks(t.Steps[i].Releases...) {
				asked := askedAfter{a, rb.Source(a.Spot)}
				if !slices.ContainsFunc(out, func(o askedAfter) bool { return o.by == asked.by }) {
					out = append(out, asked)
				}
			}
		}
	}
	return out
}

// askedAfter is what is to be seen afterwards, and the place in a rulebook that asks for it.
type askedAfter struct {
	rulebook.AfterCheck
	by fact.Source
}
