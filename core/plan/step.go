package plan

import (
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/fit"
)

// Judge holds a step's packages against the device as it is by then, in full:
// only the members that make the hop, and of a hop that installs only the boot
// loader only what bears on that.
func (s *Step) Judge(rules Rules, o fit.Options) *fit.Verdict {
	v := fit.MatchAll(s.only(), fit.Rulebooks(rules), s.Packages, o)[0]
	if s.BootOnly {
		bootOnly(v)
	}
	return v
}

// only is the device with those members that make the hop.
func (s *Step) only() *device.Device {
	if len(s.Members) == 0 || len(s.Before.Members) == 0 {
		return s.Before
	}
	d := *s.Before
	d.Members = nil
	for _, m := range s.Before.Members {
		if slices.Contains(s.Members, m.Name.Text) {
			d.Members = append(d.Members, m)
		}
	}
	return &d
}

// notOfBoot are checks that speak of the main image, or of the install as a
// whole.
var notOfBoot = []string{"path", "paired", "uniform", "version", "complete"}

// bootOnly leaves of a verdict what bears on the boot loader alone.
func bootOnly(v *fit.Verdict) {
	keep := func(all []fit.Check) []fit.Check {
		return slices.DeleteFunc(slices.Clone(all), func(c fit.Check) bool {
			return c.Component != "" && c.Component != "boot" || slices.Contains(notOfBoot, c.Check)
		})
	}
	v.Checks = keep(v.Checks)
	v.Verdict = fit.Fits
	for _, c := range v.Checks {
		v.Verdict = fit.Worse(v.Verdict, c.Outcome)
	}
	for i := range v.Members {
		m := &v.Members[i]
		m.Checks = keep(m.Checks)
		m.Chosen = slices.DeleteFunc(slices.Clone(m.Chosen), func(c fit.Chosen) bool { return c.Component != "boot" })
		m.Verdict = fit.Fits
		for _, c := range m.Checks {
			m.Verdict = fit.Worse(m.Verdict, c.Outcome)
		}
		v.Verdict = fit.Worse(v.Verdict, m.Verdict)
	}
	v.Notes = append(v.Notes, "only the boot loader of it is installed: what speaks of the other components is left out")
}

// Changes tells whether the hop changes a component of a member.
func (s *Step) Changes(member, component string) bool {
	for _, c := range s.Components {
		if c.Component == component && (c.Member == "" || c.Member == member) {
			return true
		}
	}
	return false
}
