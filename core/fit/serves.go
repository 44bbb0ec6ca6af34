package fit

import (
	"slices"
	"strings"

	"fitcheck/core/fit/check"
	"fitcheck/core/truth"
)

// Serves tells whether the package holds a release's image of a component for a
// member. It asks what the package is, and not whether it may be installed now;
// what the file name alone says does not count. version is what the component
// is to be at, where that is known: a package that does not say its release may
// still hold it. family is the image family gone to, "" for any.
func (v *Verdict) Serves(member, release, family, component, version string) bool {
	for _, c := range v.Checks {
		if c.Outcome == Misfit && check.Find(c.Check).Hardware {
			return false
		}
	}
	for _, m := range v.Members {
		if m.Name != member {
			continue
		}
		if family != "" && m.family != "" && !strings.EqualFold(m.family, family) {
			return false
		}
		for _, c := range m.Checks {
			if c.Outcome == Misfit && check.Find(c.Check).Hardware && (c.Component == "" || c.Component == component) {
				return false
			}
		}
		own := m.release.Text != "" && m.scheme.Equal(m.release.Text, release) && m.release.Strong()
		return slices.ContainsFunc(m.Chosen, func(c Chosen) bool {
			switch {
			case c.Component != component:
				return false
			case version != "" && c.Version != "": // its own version, whatever else lies beside it
				return m.schemes(component).Same(c.Version, version) != truth.No
			}
			return own
		})
	}
	return false
}

// Family is the image family that the member would run after the install.
func (m *Member) Family() string { return m.family }

// StandsFor tells whether the package says that it is of a release for a member, by its
// images or by its name alone.
func (v *Verdict) StandsFor(member, release, family string) bool {
	for _, m := range v.Members {
		if m.Name == member {
			return m.release.Text != "" && m.scheme.Same(m.release.Text, release) != truth.No && (family == "" || m.family == "" || strings.EqualFold(m.family, family))
		}
	}
	return false
}

// RunsAlready tells whether the package brings no other main version than the one that each
// device runs.
func (v *Verdict) RunsAlready() bool {
	runs := false
	for c := range v.All() {
		switch {
		case c.Check != "path":
		case c.Code == check.RunsAlready:
			runs = true
		case c.Outcome != NotApplicable:
			return false
		}
	}
	return runs
}
