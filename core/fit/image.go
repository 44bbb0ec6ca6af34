package fit

import (
	"fitcheck/core/device"
	"fitcheck/core/fit/check"
	"fitcheck/core/member"
	"fitcheck/core/survey"
)

// Image judges one item of a package as an image of a component that is put on a
// device alone, whatever runs there and whatever else the package holds: whether it
// is whole and for this hardware, whether its release stands, and whether what is on
// the device can start it. ok is false when there is no such item.
func Image(d *device.Device, rules Rulebooks, s *survey.Survey, address, component string, o Options) (checks []Check, version string, ok bool) {
	it := s.Find(address)
	if it == nil {
		return nil, "", false
	}
	c := check.New(member.Resolve(d, rules(d.Model.Text)), s, o.checks())
	c.Release = c.ByName()
	k := c.Candidate(c.Named(component), it)
	for _, l := range append(check.Package(s), k.Lines...) {
		if check.Find(l.Check).Hardware && l.Check != "slot" && l.Outcome != NotApplicable {
			checks = append(checks, l)
		}
	}
	checks = append(checks, c.Alone(component, k)...)
	return check.Sort(checks), k.Version().Value, true
}
