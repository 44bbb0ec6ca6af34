package plan

import (
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// Shelf is the packages at hand, as surveys found them.
type Shelf struct {
	Rules   Rules
	Surveys []*survey.Survey
	Options fit.Options
}

// Step is a hop with the packages that carry it.
type Step struct {
	path.Hop
	// Before is the device as it is when the hop is made.
	Before *device.Device
	// Packages carry the release for all members that make the hop; none when it
	// is to be downloaded.
	Packages []*survey.Survey
}

// Steps finds the packages for the hops of a path.
func (s *Shelf) Steps(d *device.Device, hops []path.Hop) []Step {
	var out []Step
	for i, h := range hops {
		step := Step{Hop: h, Before: After(d, s.Rules, hops[:i])}
		step.Packages = s.carry(&step)
		out = append(out, step)
	}
	return out
}

// carry picks packages that together hold the images of a hop: one for all of
// them where there is one, else as few as serve.
func (s *Shelf) carry(h *Step) []*survey.Survey {
	var want []wanted
	for _, b := range h.only().All() {
		want = append(want, h.wants(b, s.Rules)...)
	}
	served := make([][]wanted, len(s.Surveys))
	fits := make([]*fit.Verdict, len(s.Surveys))
	for i, one := range s.Surveys {
		v := fit.Match(h.Before, fit.Rulebooks(s.Rules), one, s.Options)
		fits[i] = v
		for _, w := range want {
			if v.Serves(w.member, h.Release, h.Family, w.component, w.version) {
				served[i] = append(served[i], w)
			}
		}
	}
	var out []*survey.Survey
	for left := slices.Clone(want); len(left) > 0; {
		best, most := -1, 0
		for i := range s.Surveys {
			n := 0
			// Two packages of one name cannot be told apart by their items' addresses.
			if slices.ContainsFunc(out, func(o *survey.Survey) bool { return o.Name == s.Surveys[i].Name }) {
				continue
			}
			for _, w := range served[i] {
				if slices.Contains(left, w) {
					n++
				}
			}
			if n > most || n == most && n > 0 && fit.Better(fits[i], fits[best]) < 0 {
				best, most = i, n
			}
		}
		if best < 0 {
			if slices.ContainsFunc(left, func(w wanted) bool { return w.must }) {
				return nil
			}
			break
		}
		out = append(out, s.Surveys[best])
		left = slices.DeleteFunc(left, func(w wanted) bool { return slices.Contains(served[best], w) })
	}
	return out
}

// Has tells whether some package holds a release for some box of a device,
// wherever on a path it would be installed.
func (s *Shelf) Has(d *device.Device) func(rel *rulebook.Release) bool {
	type held struct{ release, family string }
	var all []held
	for _, one := range s.Surveys {
		v := fit.Match(d, fit.Rulebooks(s.Rules), one, s.Options)
		for _, b := range d.All() {
			rb := s.Rules(b.Model.Text)
			if rb == nil {
				continue
			}
			for _, m := range v.Members {
				for _, c := range m.Chosen {
					if m.Name == b.Name.Text && v.Serves(m.Name, v.Release, "", c.Component, "") {
						all = append(all, held{v.Release, m.Family()})
					}
				}
			}
		}
	}
	return func(rel *rulebook.Release) bool {
		return slices.ContainsFunc(all, func(h held) bool {
			for _, b := range d.All() {
				rb := s.Rules(b.Model.Text)
				if rb != nil && rel.OfFamily(h.family) && rb.Scheme(rb.Main(h.family)).Equal(h.release, rel.Version.Text) {
					return true
				}
			}
			return false
		})
	}
}

// Keeps names a package that holds what a device runs now; "" when none does.
func (s *Shelf) Keeps(d *device.Device) string {
	for _, b := range d.All() {
		rb := s.Rules(b.Model.Text)
		if rb == nil {
			continue
		}
		main := rb.Main(familyOf(b, s.Rules))
		runs, ok := b.Version(main)
		if !ok {
			continue
		}
		for _, one := range s.Surveys {
			if fit.Match(b, fit.Rulebooks(s.Rules), one, s.Options).Serves(b.Name.Text, runs.Value, "", main, "") {
				return one.Path
			}
		}
		return ""
	}
	return ""
}
