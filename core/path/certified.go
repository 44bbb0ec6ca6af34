package path

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/rulebook"
	"fitcheck/core/spelling"
	"fitcheck/core/truth"
)

// wanted is what a certified set asks of the boxes' components but the main one; the
// problem says why that is not known.
func (f *finder) wanted(boxes []*Box) (all [][]rulebook.Wanted, problem string) {
	set := f.Goal.Set
	if set == nil {
		return nil, ""
	}
	for _, b := range boxes {
		list, problem := set.For(b.Rules, b.Model)
		if problem != "" {
			return nil, problem
		}
		main := b.Rules.Main(b.Family)
		all = append(all, slices.DeleteFunc(slices.Clone(list), func(w rulebook.Wanted) bool { return w.Component == main }))
	}
	return all, ""
}

// certified finds the newest release that the set's ranges take for all boxes.
func (f *finder) certified(t *team, at int32) target {
	set, l := f.Goal.Set, t.lines[at]
	if len(set.Entries) == 0 {
		problem := fmt.Sprintf("no rulebook of the kit has a certified set %s", set.Name)
		switch near := spelling.Nearest(set.Name, set.Known); {
		case near != "":
			problem += "; did you mean certified:" + near + "?"
		case len(set.Known) > 0:
			problem += "; there are " + strings.Join(set.Known, ", ")
		}
		return target{problem: problem}
	}
	wanted, problem := f.wanted(t.boxes)
	if problem != "" {
		return target{problem: problem}
	}
	mains := make([]rulebook.Wanted, len(t.boxes))
	for b, box := range t.boxes {
		list, _ := set.For(box.Rules, box.Model)
		i := slices.IndexFunc(list, func(w rulebook.Wanted) bool { return w.Component == l.main })
		switch {
		case len(list) == 0:
			return target{problem: fmt.Sprintf("the certified set %s says nothing of %s", set.Name, box.Model)}
		case i < 0:
			return target{problem: fmt.Sprintf("the certified set %s does not say which %s is certified for %s", set.Name, l.main, box.Model)}
		}
		mains[b] = list[i]
	}
	for i := len(l.versions) - 1; i >= 0; i-- {
		held := true
		for _, w := range mains {
			held = held && w.Range.Holds(l.versions[i]) == truth.Yes
		}
		// What runs may be on the set, and be withdrawn or not listed: going there is no install.
		runs := at == 0 && t.runsAlready(l, i)
		if !held || !runs && !t.meant(l, &l.candidates[i], "") && len(t.rules.Releases) > 0 {
			continue
		}
		return target{line: at, version: int32(i), text: l.versions[i].Text, wanted: wanted,
			notes: []string{fmt.Sprintf("%s is what the certified set %s wants (%s, %s)", l.versions[i].Text, set.Name, mains[0].Text, mains[0].Source.Where())}}
	}
	return target{problem: fmt.Sprintf("%s lists no release that stands for %s and is %s, as the certified set %s wants (%s)", t.rules.File, t.boxes[0].hardware(), mains[0].Text, set.Name, mains[0].Source.Where())}
}

// runsAlready tells whether all boxes run a version.
func (t *team) runsAlready(l *line, version int) bool {
	for _, b := range t.boxes {
		v, err := b.mainVersion()
		if err != nil || l.find(v) != version {
			return false
		}
	}
	return true
}

// reached tells whether a state is the goal: its release, and what a certified set
// wants of the other components.
func (r *route) reached(s state) bool {
	return s.line == r.goal.line && s.version == r.goal.version && len(r.lacks(s.context)) == 0
}

// obstacle is a component of a box that is not as a certified set wants it.
type obstacle struct {
	box   int
	want  rulebook.Wanted
	known bool
}

func (r *route) lacks(context int32) []obstacle {
	var out []obstacle
	t := r.team
	for b, list := range r.goal.wanted {
		for _, w := range list {
			i := t.watching(w.Component)
			if i < 0 {
				continue
			}
			place := t.places[context][b*len(t.watched)+i]
			if place < 0 || !w.Range.HoldsPlace(int(place), t.watched[i].marks) {
				out = append(out, obstacle{b, w, place >= 0})
			}
		}
	}
	return out
}

// lacking says what keeps the device from a certified set whose release it can reach.
func (r *route) lacking(s *search) {
	for i := range s.nodes {
		n := &s.nodes[i]
		if !n.done || n.line != r.goal.line || n.version != r.goal.version {
			continue
		}
		versions := r.replay(s, int32(i)).components
		for _, l := range r.lacks(n.context) {
			box := r.team.boxes[l.box]
			cited := Cited{l.want.Component + " " + l.want.Text, l.want.Source}
			if !l.known {
				r.answer.Unsettled = append(r.answer.Unsettled, fmt.Sprintf("the installed %s of %s is not known, and the certified set %s wants %s; read it off the device and add it to %s",
					l.want.Component, box.Device.Name.Text, r.Goal.Set.Name, l.want.Text, box.Device.File))
				continue
			}
			r.answer.Blocked = append(r.answer.Blocked, Blocked{Release: r.team.name(r.goal.line, r.goal.version, 0), Code: pathCertified.Name, Sources: []Cited{cited},
				Because: fmt.Sprintf("with it %s would run %s %s, and the certified set %s wants %s; no release that it can take from there brings that", box.Device.Name.Text, l.want.Component, versions[l.box][l.want.Component], r.Goal.Set.Name, l.want.Text)})
		}
		return
	}
}
