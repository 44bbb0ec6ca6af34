package fit

import (
	"fitcheck/core/device"
	"fitcheck/core/survey"
)

// Image judges one item of a package as an image of a component for one device:
// whether it is whole and for this hardware, whatever runs there and whatever
// else the package holds. ok is false when there is no such item.
func Image(d *device.Device, rules Rulebooks, s *survey.Survey, address, component string, o Options) (checks []Check, version string, ok bool) {
	it := s.Find(address)
	if it == nil {
		return nil, "", false
	}
	rb := rules(d.Model.Text)
	j := &judge{subject: newSubject(d, rb), s: s, rb: rb, o: o}
	j.chosen = map[string]*candidate{}
	j.release = j.releaseByName()
	c := j.candidate(j.named(component), it)
	for _, ch := range append(j.packageChecks(), c.checks...) {
		if ch.Check != "slot" && ch.Check != "handling" && ch.Outcome != NotApplicable {
			checks = append(checks, ch)
		}
	}
	return sortChecks(checks), j.versionOf(c).Value, true
}

// named finds a component of the device's family by name.
func (j *judge) named(name string) component {
	for _, c := range j.components() {
		if c.name == name {
			return c
		}
	}
	return component{name: name}
}
