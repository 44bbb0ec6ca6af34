package path

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/shell"
	"fitcheck/core/truth"
)

// maxBlocked bounds what is told of a path that there is not.
const maxBlocked = 10

// blockers says what stands in the way: from the goal backwards through the
// releases that would lead there, as far as those that are blocked from where
// the device can get to.
func (r *route) blockers(s *search) {
	t := r.team
	type place struct{ line, version int32 }
	reached := map[place]bool{}
	for i := range s.nodes {
		if n := &s.nodes[i]; n.done {
			reached[place{n.line, n.version}] = true
		}
	}
	seen := map[place]bool{}
	work := []place{{r.goal.line, r.goal.version}}
	for len(work) > 0 && len(r.answer.Blocked) < maxBlocked {
		at := work[0]
		work = work[1:]
		if seen[at] {
			continue
		}
		seen[at] = true
		if b, dead := r.standing(at.line, at.version); dead {
			r.answer.Blocked = append(r.answer.Blocked, b)
			continue
		}
		// From the state that comes nearest, what is against the last step?
		m := move{line: at.line, version: at.version}
		from := r.replay(s, r.leastAgainst(s, m))
		against := t.against(from, m)
		hop := false
		for _, reason := range against {
			b := Blocked{Release: t.name(at.line, at.version, 0), Code: reason.code.Name, Because: reason.text, Sources: reason.sources}
			if reason.need != nil && reason.need.Component.Text != t.lines[at.line].main {
				b.Because += r.whoRaises(s, from, at.line, reason)
			} else {
				hop = true
			}
			r.answer.Blocked = append(r.answer.Blocked, b)
		}
		if !hop {
			continue
		}
		// Releases from which the rules do lead there, and that are not reached.
		const most = 4
		found := 0
		for line := range t.lines {
			for i := len(t.lines[line].versions) - 1; i >= 0 && found < most; i-- {
				p := place{int32(line), int32(i)}
				if reached[p] || seen[p] || p == at || !t.lines[line].candidates[i].listed {
					continue
				}
				if r.leads(p.line, p.version, at.line, at.version) {
					work = append(work, p)
					found++
				}
			}
		}
	}
	r.nearestReached(s)
}

// standing is what is against a release wherever one comes from; dead when that
// alone rules it out.
func (r *route) standing(line, version int32) (Blocked, bool) {
	t := r.team
	b := Blocked{Release: t.name(line, version, 0)}
	c := &t.lines[line].candidates[version]
	var texts []string
	of := map[string][]string{}
	for i, box := range t.boxes {
		reasons := c.standing[i]
		if c.releases[i] == nil {
			reasons = t.boxAgainst(r.begin, move{line: line, version: version}, i)
		}
		for _, reason := range reasons {
			if reason.unknown {
				continue
			}
			if b.Code == "" {
				b.Code = reason.code.Name
			}
			if of[reason.text] == nil {
				texts = append(texts, reason.text)
			}
			of[reason.text] = append(of[reason.text], box.Device.Name.Text)
			for _, c := range reason.sources {
				if !slices.Contains(b.Sources, c) {
					b.Sources = append(b.Sources, c)
				}
			}
		}
	}
	for i, text := range texts {
		if len(of[text]) < len(t.boxes) { // said of some members only
			texts[i] = strings.Join(of[text], ", ") + ": " + text
		}
	}
	b.Because = strings.Join(texts, "; ")
	return b, len(texts) > 0
}

// leastAgainst is the reached state from which fewest things are against a
// move; of a great many states the nearest few are tried. The start is always
// reached.
func (r *route) leastAgainst(s *search, m move) int32 {
	var all []int32
	for i := range s.nodes {
		if s.nodes[i].done {
			all = append(all, int32(i))
		}
	}
	distance := func(i int32) int32 {
		d := s.nodes[i].version - m.version
		if s.nodes[i].line != m.line {
			return 1 << 30
		}
		return max(d, -d)
	}
	slices.SortStableFunc(all, func(a, b int32) int { return int(distance(a) - distance(b)) })
	const tried = 64
	best, least := int32(-1), 0
	for _, i := range all[:min(tried, len(all))] {
		n := len(r.team.against(r.replay(s, i), m))
		if best < 0 || n < least {
			best, least = i, n
		}
	}
	return best
}

// replay is a state in full.
func (r *route) replay(s *search, node int32) stand {
	at := r.begin
	for _, m := range s.moves(node) {
		_, at = r.team.step(at, m)
	}
	return at
}

// leads tells whether the hop rules, and the needs on main, allow a move.
func (r *route) leads(fromLine, from, line, version int32) bool {
	t := r.team
	c := &t.lines[line].candidates[version]
	if t.mainsMet(c, state{line: fromLine, version: from}, line) == truth.No {
		return false
	}
	for _, p := range t.parts(int(fromLine), int(line), int(from)) {
		if p.from <= version && version < p.to {
			return true
		}
	}
	return false
}

// whoRaises names the releases that would bring a component to where a need
// asks for it, and why they do not.
func (r *route) whoRaises(s *search, from stand, line int32, lack reason) string {
	t := r.team
	box, name := t.boxes[lack.box], lack.need.Component.Text
	family := t.lines[line].families[lack.box]
	var would []string
	const most = 3
	l := t.lines[line]
	for i := len(l.candidates) - 1; i >= 0 && len(would) < most; i-- {
		rel := l.candidates[i].releases[lack.box]
		if rel == nil {
			continue
		}
		text, ok := box.bringsOf(rel, family, name)
		v, err := t.rules.Scheme(name).Parse(text)
		if !ok || err != nil || !lack.need.Range.Contains(v) {
			continue
		}
		alone := name == box.boot && t.bootAlone(l, lack.box)
		m := move{line: line, version: int32(i), bootOnly: alone}
		why := "the way there is blocked as well"
		if all := t.boxAgainst(r.replay(s, r.leastAgainst(s, m)), m, lack.box); len(all) > 0 {
			why = all[0].text
		}
		would = append(would, fmt.Sprintf("%s brings %s %s, but %s", l.versions[i].Text, name, text, why))
	}
	have := from.components[lack.box][name]
	if len(would) == 0 {
		return fmt.Sprintf("; %s lists no release that brings %s", t.rules.File, lack.need.Text())
	}
	if have == "" {
		return "; " + strings.Join(would, "; ")
	}
	return fmt.Sprintf("; nothing that can be installed brings %s from %s to %s: %s", name, have, lack.need.Within.Text, strings.Join(would, "; "))
}

// nearestReached notes how far the device can get.
func (r *route) nearestReached(s *search) {
	t := r.team
	best := int32(-1)
	for i := range s.nodes {
		n := &s.nodes[i]
		if n.done && n.line == r.goal.line && n.version <= r.goal.version && (best < 0 || n.version > s.nodes[best].version) {
			best = int32(i)
		}
	}
	if best > 0 && s.nodes[best].version != r.begin.version {
		r.answer.Notes = append(r.answer.Notes, fmt.Sprintf("it can get as far as %s: fitcheck path -device %s -to %s shows how", t.text(r.goal.line, s.nodes[best].version), shell.Quote(r.Device.File), shell.Quote(t.lines[r.goal.line].versions[s.nodes[best].version].Text)))
	}
}
