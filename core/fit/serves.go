package fit

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
)

// identityChecks are those that tell whether an image is whole and for a device,
// whatever runs there and what must be done first.
var identityChecks = []string{"intact", "digest", "signature", "agreement", "model", "revision", "arch", "board", "region", "platform", "feature", "slot"}

// Serves tells whether the package holds a release's image of a component for a
// member. It asks what the package is, and not whether it may be installed now;
// what the file name alone says does not count. version is what the component
// is to be at, where that is known: a package that does not say its release may
// still hold it. family is the image family gone to, "" for any.
func (v *Verdict) Serves(member, release, family, component, version string) bool {
	isRelease := v.Release != "" && v.scheme.Equal(v.Release, release) && v.release.from.Strength() > fact.ByName
	for _, c := range v.Checks {
		if c.Outcome == Misfit && slices.Contains(identityChecks, c.Check) {
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
			if c.Outcome == Misfit && slices.Contains(identityChecks, c.Check) && (c.Component == "" || c.Component == component) {
				return false
			}
		}
		return slices.ContainsFunc(m.Chosen, func(c Chosen) bool {
			return c.Component == component && (isRelease || version != "" && c.Version == version)
		})
	}
	return false
}

// Family is the image family that the member would run after the install.
func (m *Member) Family() string { return m.family }
