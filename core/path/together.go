package path

import (
	"fmt"
	"slices"
	"strings"
)

// apart says why the members of a group do not move together, or "".
func (f *finder) apart(boxes []*Box) string {
	if !f.Device.Uniform {
		return "the device file does not say that all members run one version (uniform: true): each has a path of its own"
	}
	first := boxes[0]
	for _, b := range boxes {
		switch {
		case b.Rules == nil || b.Rules != first.Rules:
			return "the members have different rulebooks: each has a path of its own"
		case b.Rules.Scheme(b.Rules.Main(b.Family)) != first.Rules.Scheme(first.Rules.Main(first.Family)) || b.Rules.Main(b.Family) != first.Rules.Main(first.Family):
			return "the members' image families count versions in different ways: each has a path of its own"
		case f.Goal.Family != "" && !strings.EqualFold(f.Goal.Family, b.Family):
			return "members cross to another image family one by one: each has a path of its own"
		}
	}
	return ""
}

// together plans for a group that runs one version. Members that run another
// are first brought to where the others are; where they cannot go there, the
// others come to them, or all meet at the goal.
func (f *finder) together(boxes []*Box) (*Answer, error) {
	a := &Answer{Name: f.Device.Name.Text}
	for _, b := range boxes {
		a.Members = append(a.Members, b.Device.Name.Text)
		a.Unsettled = append(a.Unsettled, b.problems(f.NoRulebook)...)
	}
	if len(a.Unsettled) > 0 {
		return a, nil
	}
	at := f.versions(boxes)
	if len(at) == 1 {
		joint, err := f.solve(boxes, nil)
		if err != nil {
			return nil, err
		}
		joint.Members = a.Members
		return joint, nil
	}
	goal := f.target(newTeam(boxes, [][]string{families(boxes)}, nil, nil, f.Options))
	if goal.problem != "" {
		a.To, a.Unsettled = f.Goal.Version, []string{goal.problem}
		return a, nil
	}
	meets := at
	if !slices.ContainsFunc(meets, func(m versionGroup) bool { return m.scheme().Equal(m.version, goal.text) }) {
		meets = append(meets, versionGroup{version: goal.text, rules: boxes[0]})
	}
	var why []string
	var first *Answer
	for i, m := range meets {
		plan, err := f.by(boxes, at, m.version, goal.text)
		if err != nil {
			return nil, err
		}
		plan.Members, plan.Name = a.Members, a.Name
		if i == 0 {
			first = plan
		}
		if plan.Found {
			plan.Notes = append(plan.Notes, why...)
			return plan, nil
		}
		for _, b := range plan.Blocked[:min(1, len(plan.Blocked))] {
			why = append(why, fmt.Sprintf("all members cannot first meet at %s: %s: %s", m.version, b.Release, b.Because))
		}
	}
	return first, nil
}

// versionGroup is the members that run one version.
type versionGroup struct {
	version string
	boxes   []*Box
	rules   *Box
}

func (g versionGroup) scheme() interface{ Equal(a, b string) bool } {
	return g.rules.Rules.Scheme(g.rules.Rules.Main(g.rules.Family))
}

// versions lists what members run: what most of them run first.
func (f *finder) versions(boxes []*Box) []versionGroup {
	var out []versionGroup
next:
	for _, b := range boxes {
		v, _ := b.mainVersion()
		for i := range out {
			if out[i].scheme().Equal(out[i].version, v) {
				out[i].boxes = append(out[i].boxes, b)
				continue next
			}
		}
		out = append(out, versionGroup{v, []*Box{b}, b})
	}
	slices.SortStableFunc(out, func(a, b versionGroup) int { return len(b.boxes) - len(a.boxes) })
	return out
}

// meetingPoint is where the members of a group are once all run one version.
type meetingPoint struct {
	version    string
	components map[*Box]map[string]string
	// installs are the main versions that a box was brought to on the way.
	installs map[*Box][]string
}

// by plans for a group by way of one version at which all meet.
//
// In one piece: one pass over the members that must meet, whose hops end in one row.
func (f *finder) by(boxes []*Box, at []versionGroup, meet, goal string) (*Answer, error) {
	var before []Hop
	there := &meetingPoint{meet, map[*Box]map[string]string{}, map[*Box][]string{}}
	total := &Answer{From: at[0].version, To: f.Goal.Version}
	for _, g := range at {
		if g.scheme().Equal(g.version, meet) {
			continue
		}
		inner := &finder{Request: f.Request}
		inner.Goal = Goal{Version: meet}
		inner.Plain = true
		a, err := inner.solve(g.boxes, nil)
		if err != nil {
			return nil, err
		}
		total.States += a.States
		names := make([]string, len(g.boxes))
		for i, b := range g.boxes {
			names[i] = b.Device.Name.Text
		}
		if !a.Found {
			total.Unsettled, total.Blocked = a.Unsettled, a.Blocked
			total.Notes = append(total.Notes, fmt.Sprintf("%s runs %s and cannot be brought to %s", strings.Join(names, ", "), g.version, meet))
			return total, nil
		}
		for i := range a.Hops {
			a.Hops[i].Members = names
			for k := range a.Hops[i].Components {
				if c := &a.Hops[i].Components[k]; c.Member == "" {
					c.Member = names[0]
				}
			}
			why := fmt.Sprintf("brings %s to %s, where the others are", strings.Join(names, ", "), meet)
			if g.scheme().Equal(goal, meet) {
				why = fmt.Sprintf("brings %s to %s", strings.Join(names, ", "), meet)
			}
			a.Hops[i].Because = why + "; " + a.Hops[i].Because
		}
		before = append(before, a.Hops...)
		for i, b := range g.boxes {
			there.components[b] = a.end.components[i]
			for _, h := range a.Hops {
				if !h.BootOnly {
					there.installs[b] = append(there.installs[b], h.To)
				}
			}
		}
	}
	a, err := f.solve(boxes, there)
	if err != nil {
		return nil, err
	}
	if a.Found {
		a.Hops = append(before, a.Hops...)
	}
	a.States += total.States
	a.Notes = append(a.Notes, "the members do not run one version now: "+f.spread(at))
	if most := at[0]; !most.scheme().Equal(most.version, meet) { // then what most run is not where they come together
		a.From, a.Back = most.version, nil
		for i := range a.Hops {
			a.Hops[i].NoReturn = false
		}
		a.Notes = append(a.Notes, "the members come from several versions, and no way back leads to all of them: ask for the way back of each by itself")
	}
	return a, nil
}

func (f *finder) spread(at []versionGroup) string {
	var parts []string
	for _, g := range at {
		var names []string
		for _, b := range g.boxes {
			names = append(names, b.Device.Name.Text)
		}
		parts = append(parts, fmt.Sprintf("%s at %s", strings.Join(names, ", "), g.version))
	}
	return strings.Join(parts, "; ")
}

func families(boxes []*Box) []string {
	var out []string
	for _, b := range boxes {
		out = append(out, b.Family)
	}
	return out
}

// lines lists the families that boxes can be in on the way: of a single box all
// that its model may run, of several those that they run now.
func lines(boxes []*Box) [][]string {
	out := [][]string{families(boxes)}
	if len(boxes) == 1 {
		for _, f := range boxes[0].families {
			if !strings.EqualFold(f, boxes[0].Family) {
				out = append(out, []string{f})
			}
		}
	}
	return out
}
