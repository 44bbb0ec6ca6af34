// Package certified holds devices against a certified set: versions of components, model
// by model, that a site, a solution or a maker's matrix has certified to work together.
package certified

import (
	"fmt"
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
)

// State is where a device stands to a set.
type State string

// The states, the best first.
const (
	On      State = "on"
	Unknown State = "unknown"
	Beyond  State = "beyond"
	Below   State = "below"
)

var order = []State{On, Unknown, Beyond, Below}

func worse(a, b State) State {
	if slices.Index(order, b) > slices.Index(order, a) {
		return b
	}
	return a
}

// Component is one component of a member against what the set wants of it.
type Component struct {
	Name      string
	Installed member.Value
	Wanted    rulebook.Wanted
	State     State
	Why       string // where it is not known
}

// Member is a device, or a member of a group.
type Member struct {
	Name, Model string
	State       State
	Problem     string // why nothing is known of it
	Components  []Component
}

// Result is a device against a set. Takes is the way there; nil where it is on it.
type Result struct {
	Device  *device.Device
	Set     *rulebook.CertifiedSet
	State   State
	Members []Member
	Takes   *path.Result
}

// Judge holds a device against a set, without looking for the way there.
func Judge(d *device.Device, rules func(model string) *rulebook.Rulebook, set *rulebook.CertifiedSet) *Result {
	res := &Result{Device: d, Set: set, State: On}
	for _, m := range member.Of(d, rules) {
		one := judge(m, set)
		res.Members = append(res.Members, one)
		res.State = worse(res.State, one.State)
	}
	return res
}

func judge(m *member.Member, set *rulebook.CertifiedSet) Member {
	model := m.Value(fact.Model)
	out := Member{Name: m.Device.Name.Text, Model: m.First(fact.Model), State: Unknown}
	switch {
	case !model.Known():
		out.Problem = fmt.Sprintf("the model of %s is %s", out.Name, model.Text())
		return out
	case m.Rules == nil:
		out.Problem = fmt.Sprintf("no rulebook knows the model %s", out.Model)
		return out
	}
	wanted, problem := set.For(m.Rules, out.Model)
	switch {
	case problem != "":
		out.Problem = problem
		return out
	case len(wanted) == 0:
		out.Problem = fmt.Sprintf("the certified set %s says nothing of %s", set.Name, out.Model)
		return out
	}
	out.State = On
	for _, w := range wanted {
		c := component(m, w)
		out.Components = append(out.Components, c)
		out.State = worse(out.State, c.State)
	}
	return out
}

func component(m *member.Member, w rulebook.Wanted) Component {
	c := Component{Name: w.Component, Wanted: w, Installed: m.Installed(w.Component), State: Unknown}
	if !c.Installed.Known() {
		c.Why = fmt.Sprintf("the installed %s is %s; read it off the device and add it to %s", w.Component, c.Installed.Text(), m.Device.File)
		return c
	}
	v, err := m.Rules.Scheme(w.Component).Parse(c.Installed.First())
	if err != nil {
		c.Why = err.Error()
		return c
	}
	switch w.Range.Holds(v) {
	case truth.Yes:
		c.State = On
	case truth.Unknown:
		c.Why = fmt.Sprintf("%s leaves its build open, and that decides", c.Installed.First())
	case truth.No:
		c.State = Beyond
		if w.Range.Newer(v) {
			c.State = Below
		}
	}
	return c
}
