package path

import (
	"cmp"
	"fmt"
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

// Request is what a path is asked for.
type Request struct {
	Device *device.Device
	// Rules finds the rulebook of a model; nil when none knows it.
	Rules func(model string) *rulebook.Rulebook
	Goal  Goal
	Options
}

// Result is the answer for a device, or for all members of a group.
type Result struct {
	// Plans has one answer for a device and for a group that keeps to one
	// version, and else one for each member.
	Plans []*Answer
	Notes []string
}

// Found tells whether there is a path for every plan.
func (r *Result) Found() bool {
	return !slices.ContainsFunc(r.Plans, func(a *Answer) bool { return !a.Found })
}

// Unsettled lists what would have to be known.
func (r *Result) Unsettled() []string {
	var out []string
	for _, a := range r.Plans {
		for _, u := range a.Unsettled {
			if !slices.Contains(out, u) {
				out = append(out, u)
			}
		}
	}
	return out
}

// Find searches the path of a device, or of a group. The error is of type
// *TooManyStates.
func Find(q Request) (*Result, error) {
	f := &finder{Request: q}
	var boxes []*Box
	for _, d := range q.Device.All() {
		boxes = append(boxes, NewBox(d, q.Rules(d.Model.Text)))
	}
	res := &Result{}
	defer func() {
		res.merge(f.Device, f.Goal)
		for _, a := range res.Plans {
			f.guessed(a, boxes)
		}
	}()
	if len(boxes) > 1 {
		why := f.apart(boxes)
		if why == "" {
			a, err := f.together(boxes)
			if err != nil {
				return nil, err
			}
			res.Plans = []*Answer{a}
			return res, nil
		}
		res.Notes = append(res.Notes, why)
	}
	for _, b := range boxes {
		a, err := f.solve([]*Box{b}, nil)
		if err != nil {
			return nil, err
		}
		if len(boxes) > 1 {
			a.Members = []string{a.Name}
			for i := range a.Hops {
				a.Hops[i].Members = a.Members
			}
		}
		res.Plans = append(res.Plans, a)
	}
	return res, nil
}

type finder struct{ Request }

// solve finds the path of boxes that run one version. at says what they run at
// the start, where that is not what the device file says.
func (f *finder) solve(boxes []*Box, at *meetingPoint) (*Answer, error) {
	a := &Answer{Name: boxes[0].Device.Name.Text, To: f.Goal.Version, Family: cmp.Or(f.Goal.Family, boxes[0].Family)}
	if len(boxes) > 1 {
		a.Name = f.Device.Name.Text
	}
	for _, b := range boxes {
		a.Unsettled = append(a.Unsettled, b.problems(f.NoRulebook)...)
	}
	if len(a.Unsettled) > 0 {
		return a, nil
	}
	from, _ := boxes[0].mainVersion()
	if at != nil {
		from = at.version
	}
	a.From = from
	extra := []string{from}
	if len(boxes[0].Rules.Releases) == 0 {
		extra = append(extra, f.Goal.Version)
	}
	wanted, problem := f.wanted(boxes)
	if problem != "" {
		a.Unsettled = []string{problem}
		return a, nil
	}
	t := newTeam(boxes, lines(boxes), extra, wanted, f.Options)
	goal := f.target(t)
	if goal.problem != "" {
		a.Unsettled = []string{goal.problem}
		return a, nil
	}
	a.To, a.Family, a.Notes = goal.text, t.lines[goal.line].family, goal.notes
	begin := stand{line: 0, version: int32(t.lines[0].find(from))}
	for _, b := range boxes {
		comps := b.installed()
		if at != nil && at.components[b] != nil {
			comps = at.components[b]
		}
		begin.components = append(begin.components, comps)
	}
	a.end = begin
	if !t.lines[0].candidates[begin.version].listed && len(t.rules.Releases) > 0 {
		a.Notes = append(a.Notes, fmt.Sprintf("%s does not list %s, which is installed; its rules are read by version all the same", t.rules.File, from))
	}
	t.hint(begin, goal)
	r := &route{finder: f, team: t, begin: begin, goal: goal, answer: a, at: at}
	if err := r.seek(); err != nil || a.Found || !goal.newest || len(a.Unsettled) > 0 {
		return a, err
	}
	return r.lower()
}
