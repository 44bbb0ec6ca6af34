package plan

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/survey"
)

// Judge holds a step's packages against the device as it is by then, in full:
// only the members that make the hop, and of a hop that installs only the boot
// loader only what bears on that.
func (s *Step) Judge(rules Rules, o fit.Options) *fit.Verdict {
	v := fit.Match(s.only(), fit.Rulebooks(rules), survey.Join(s.Packages...), o)
	if s.BootOnly {
		bootOnly(v)
	}
	s.serves(v, rules)
	return v
}

// serves makes sure that the packages, read in full, hold for every member what
// the hop cannot do without: what a quick look found may have been something
// else, and a verdict without an image fits nobody.
func (s *Step) serves(v *fit.Verdict, rules Rules) {
	for _, b := range s.only().All() {
		for _, w := range s.wants(b, rules) {
			if !w.must || v.Serves(w.member, s.Release, s.FamilyOf(w.member), w.component, w.version) {
				continue
			}
			for i := range v.Members {
				m := &v.Members[i]
				if m.Name != w.member {
					continue
				}
				m.Checks = append(m.Checks, sides(check.Explain(check.Complete+".no_image").Line(w.component, fmt.Sprintf("%s %s", s.Release, w.component)), w.member, v.Package,
					fit.Cited{Side: fit.OfDevice, Value: w.member, Source: b.Source("name", b.Name.Spot)}, fit.Cited{Side: fit.OfPackage, Value: v.Package, Source: fact.Source{Kind: fact.FileName, File: v.Package}}))
				m.Verdict, v.Outcome = fit.Misfit, fit.Misfit
			}
		}
	}
}

// wanted is an image that a hop installs on a member; must says that it cannot
// do without.
type wanted struct {
	member, component, version string
	must                       bool
}

// wants lists the images that a hop installs on a box. It cannot do without the
// main one and the other half of its pair, or, when it installs only that, the
// boot loader.
func (s *Step) wants(b *device.Device, rules Rules) []wanted {
	var out []wanted
	name, rb := b.Name.Text, rules(b.Model.Text)
	family := s.FamilyOf(name)
	main := rb.Main(family)
	if !s.BootOnly {
		out = append(out, wanted{name, main, s.To, true})
	}
	for _, c := range s.Components {
		if (c.Member == "" || c.Member == name) && c.Component != main {
			out = append(out, wanted{name, c.Component, c.To, s.BootOnly || rb.Paired(family, main, c.Component)})
		}
	}
	return out
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

// bootOnly leaves of a verdict what bears on the boot loader alone.
func bootOnly(v *fit.Verdict) {
	keep := func(all []fit.Check) []fit.Check {
		return slices.DeleteFunc(slices.Clone(all), func(c fit.Check) bool {
			return c.Component != "" && c.Component != check.Boot || check.Find(c.Check).Whole
		})
	}
	v.Checks = keep(v.Checks)
	v.Outcome = fit.Fits
	for _, c := range v.Checks {
		v.Outcome = fit.Worse(v.Outcome, c.Outcome)
	}
	for i := range v.Members {
		m := &v.Members[i]
		m.Checks = keep(m.Checks)
		m.Chosen = slices.DeleteFunc(slices.Clone(m.Chosen), func(c fit.Chosen) bool { return c.Component != "boot" })
		m.Verdict = fit.Fits
		for _, c := range m.Checks {
			m.Verdict = fit.Worse(m.Verdict, c.Outcome)
		}
		v.Outcome = fit.Worse(v.Outcome, m.Verdict)
	}
	v.Notes = append(v.Notes, "only the boot loader of it is installed: what speaks of the other components is left out")
}

// Crosses tells whether the hop leads to another image family.
func (s *Step) Crosses() bool { return s.Family != "" && !strings.EqualFold(s.Family, s.FromFamily) }

// Changes tells whether the hop changes a component of a member.
func (s *Step) Changes(member, component string) bool {
	for _, c := range s.Components {
		if c.Component == component && (c.Member == "" || c.Member == member) {
			return true
		}
	}
	return false
}
