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
		before := After(d, s.Rules, hops[:i])
		out = append(out, Step{Hop: h, Before: before, Packages: s.carry(before, &h)})
	}
	return out
}

// carry picks packages that together hold the images of a hop: one for all
// members where there is one, else as few as serve.
func (s *Shelf) carry(before *device.Device, h *path.Hop) []*survey.Survey {
	want := h.Members
	if len(want) == 0 {
		for _, b := range before.All() {
			want = append(want, b.Name.Text)
		}
	}
	served := make([][]string, len(s.Surveys))
	fits := make([]*fit.Verdict, len(s.Surveys))
	for i, one := range s.Surveys {
		v := fit.Match(before, fit.Rulebooks(s.Rules), one, s.Options)
		fits[i] = v
		for _, name := range want {
			if v.Serves(name, h.Release, h.Family, s.component(before, name, h)) {
				served[i] = append(served[i], name)
			}
		}
	}
	var out []*survey.Survey
	for left := slices.Clone(want); len(left) > 0; {
		best, most := -1, 0
		for i := range s.Surveys {
			n := 0
			for _, name := range served[i] {
				if slices.Contains(left, name) {
					n++
				}
			}
			if n > most || n == most && n > 0 && fit.Better(fits[i], fits[best]) < 0 {
				best, most = i, n
			}
		}
		if best < 0 {
			return nil
		}
		out = append(out, s.Surveys[best])
		left = slices.DeleteFunc(left, func(name string) bool { return slices.Contains(served[best], name) })
	}
	return out
}

// component is what the hop cannot do without.
func (s *Shelf) component(d *device.Device, member string, h *path.Hop) string {
	if h.BootOnly {
		return "boot"
	}
	for _, b := range d.All() {
		if b.Name.Text == member {
			return s.Rules(b.Model.Text).Main(h.Family)
		}
	}
	return "main"
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
					if m.Name == b.Name.Text && v.Serves(m.Name, v.Release, "", c.Component) {
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
