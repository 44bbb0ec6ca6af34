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
	// Given are those that somebody named. Each serves the hops that it stands for, or
	// is refused; others serve only hops for which none was given.
	Given   []*survey.Survey
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
	// Given tells that the packages were given for this hop.
	Given bool
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
// them where there is one, else as few as serve. Those that were given for the hop go
// before all others, and where there are any no other does.
func (s *Shelf) carry(h *Step) []*survey.Survey {
	var want []wanted
	for _, b := range h.only().All() {
		want = append(want, h.wants(b, s.Rules)...)
	}
	var given []*survey.Survey
	for _, one := range s.Given {
		if s.standsFor(one, h) {
			given = append(given, one)
		}
	}
	if len(given) > 0 {
		h.Given = true
		if out := s.pick(h, want, given); out != nil {
			return out
		}
		return given // they are refused, with what is wrong with them
	}
	return s.pick(h, want, s.Surveys)
}

// standsFor tells whether a package says that it is of a hop's release, by whatever it
// says it, for some member.
func (s *Shelf) standsFor(one *survey.Survey, h *Step) bool {
	v := fit.Match(h.Before, fit.Rulebooks(s.Rules), one, s.Options)
	for _, b := range h.only().All() {
		if rb := s.Rules(b.Model.Text); rb != nil && v.StandsFor(b.Name.Text, h.Release, h.FamilyOf(b.Name.Text)) {
			return true
		}
		for _, w := range h.wants(b, s.Rules) {
			if v.Serves(w.member, h.Release, h.FamilyOf(w.member), w.component, w.version) {
				return true
			}
		}
	}
	return false
}

// pick chooses among packages; nil when they do not hold what the hop cannot do without.
func (s *Shelf) pick(h *Step, want []wanted, among []*survey.Survey) []*survey.Survey {
	served := make([][]wanted, len(among))
	fits := make([]*fit.Verdict, len(among))
	for i, one := range among {
		v := fit.Match(h.Before, fit.Rulebooks(s.Rules), one, s.Options)
		fits[i] = v
		for _, w := range want {
			if v.Serves(w.member, h.Release, h.FamilyOf(w.member), w.component, w.version) {
				served[i] = append(served[i], w)
			}
		}
	}
	var out []*survey.Survey
	for left := slices.Clone(want); len(left) > 0; {
		best, most := -1, 0
		for i := range among {
			n := 0
			// Two packages of one name cannot be told apart by their items' addresses.
			if slices.ContainsFunc(out, func(o *survey.Survey) bool { return o.Name == among[i].Name }) {
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
		out = append(out, among[best])
		left = slices.DeleteFunc(left, func(w wanted) bool { return slices.Contains(served[best], w) })
	}
	return out
}

// Unused lists the packages that were given and stand for no hop, with their verdicts
// for the device as it is.
func (s *Shelf) Unused(d *device.Device, steps []Step) []*fit.Verdict {
	var out []*fit.Verdict
	for _, one := range s.Given {
		if !slices.ContainsFunc(steps, func(st Step) bool { return slices.Contains(st.Packages, one) || s.standsFor(one, &st) }) {
			out = append(out, fit.Match(d, fit.Rulebooks(s.Rules), one, s.Options))
		}
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
		runs := path.NewBox(b, rb).Installed(main)
		if !runs.Known() {
			continue
		}
		for _, one := range s.Surveys {
			if fit.Match(b, fit.Rulebooks(s.Rules), one, s.Options).Serves(b.Name.Text, runs.First(), "", main, "") {
				return one.Path
			}
		}
		return ""
	}
	return ""
}
