package check

import (
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// Run is how a check is asked: a function of one of the types below. Its type is its
// scope, what it looks at in one go. A check whose question comes up in several scopes
// has a run for each. A run looks and tells; it changes nothing of what it is given.
type Run interface{ scope() string }

type (
	// PerPackage looks at a package as such, whatever the device is.
	PerPackage func(s *survey.Survey) []Line

	// PerImage looks at each item that may be the image of a component, before one of them
	// is chosen by what all these runs said. Lines about an optional component that the
	// package brings for others only are not told.
	PerImage func(c *Case, k Component, cand *Candidate) []Line

	// PerRelease looks at a release whose conditions the install has to meet, on the state
	// after it. There is always a rulebook.
	PerRelease func(c *Case, a Asking) []Line

	// PerInstall looks at an install on one device, with the images that were chosen.
	PerInstall func(c *Case) []Line

	// PerGroup looks at the members of one device together.
	PerGroup func(d *device.Device, members []*Case) []Line

	// PerVerdict looks at all lines about one device, and gives back what becomes of them.
	PerVerdict func(c *Case, lines []Line) []Line
)

func (PerPackage) scope() string { return "package" }
func (PerImage) scope() string   { return "image" }
func (PerRelease) scope() string { return "release" }
func (PerInstall) scope() string { return "install" }
func (PerGroup) scope() string   { return "group" }
func (PerVerdict) scope() string { return "verdict" }

// Asking is a release whose conditions an install has to meet.
type Asking struct {
	// Release is nil where the rulebook does not list the one that the package stands for.
	Release *rulebook.Release
	// Only is the component that is installed without the main image, "" where the main
	// image is. Loaded: it is put on the device alone, as through a boot loader, and nothing
	// else is written.
	Only   string
	Loaded bool
}

// concerns tells whether a need of the release bears on what is installed. What is said of
// main speaks of where the device comes from, and binds a move of main.
func (a Asking) concerns(c *Case, n *rulebook.Need) bool {
	switch {
	case a.Loaded:
		return n.Component.Set() && n.Component.Text != a.Only || n.Memory.Set()
	case a.Only != "":
		return n.Component.Text != c.Main() && n.Component.Text != a.Only
	}
	return true
}

// Runs adds runs to a check, from an init of the check's file: a run refers to the
// check's codes, and those to the check.
func (c *Check) Runs(all ...Run) { c.runs = append(c.runs, all...) }

// Scopes names what the check looks at; for the documentation.
func (c *Check) Scopes() []string {
	var out []string
	for _, r := range c.runs {
		if s := r.scope(); !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// each calls do with the runs of one scope, in the order of the checks.
func each[R Run](do func(c *Check, run R)) {
	for _, c := range checks {
		for _, r := range c.runs {
			if run, ok := r.(R); ok {
				do(c, run)
			}
		}
	}
}

// Package runs the checks of packages as such.
func Package(s *survey.Survey) []Line {
	var out []Line
	for _, part := range s.Each() {
		each(func(_ *Check, run PerPackage) { out = append(out, run(part)...) })
	}
	return out
}

// image runs the checks of one image.
func (c *Case) image(k Component, cand *Candidate) []Line {
	out := make([]Line, 0, 16)
	each(func(_ *Check, run PerImage) { out = append(out, run(c, k, cand)...) })
	return out
}

// Install runs the checks of an install, once its images are chosen.
func (c *Case) Install() []Line {
	var out []Line
	c.asked(func(a Asking) { out = append(out, c.release(a)...) })
	each(func(_ *Check, run PerInstall) { out = append(out, run(c)...) })
	return out
}

// release runs the checks of what a release asks for.
func (c *Case) release(a Asking) []Line {
	var out []Line
	each(func(_ *Check, run PerRelease) { out = append(out, run(c, a)...) })
	return out
}

// asked goes through the releases whose conditions the install has to meet: that of the
// main image, whose conditions are asked even where it is not listed; else, for each
// component, the only one that brings its version. While do runs, it is the case's.
func (c *Case) asked(do func(a Asking)) {
	switch {
	case c.Rules == nil: // what nobody wrote down cannot be missing
		return
	case c.BringsMain():
		if c.Chosen[c.Main()] != nil { // else nothing is installed; why, other checks say
			do(Asking{Release: c.Release.Rule})
		}
		return
	}
	was := c.Release
	defer func() { c.Release = was }()
	for _, k := range c.Components() {
		cand := c.Chosen[k.Name]
		if cand == nil || k.Name == c.Main() {
			continue
		}
		text, cited, known := c.said(k.Name, cand)
		if all := c.bringing(k.Name, text); known && len(all) == 1 {
			c.Release = releaseAt(all[0], cited)
			do(Asking{Release: all[0], Only: k.Name})
		}
	}
}

// Verdict runs the checks of all lines about a device, and puts them in order.
func (c *Case) Verdict(lines []Line) []Line {
	each(func(_ *Check, run PerVerdict) { lines = run(c, lines) })
	return Sort(lines)
}

// Group runs the checks of a device's members together.
func Group(d *device.Device, members []*Case) []Line {
	var out []Line
	each(func(_ *Check, run PerGroup) { out = append(out, run(d, members)...) })
	return out
}
