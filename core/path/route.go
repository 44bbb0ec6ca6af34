package path

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/truth"
)

// hint marks the versions that rules which forbid moves from here, or to the goal,
// name as the ones to go by way of: of two ways that are as good, one through them is
// taken.
func (t *team) hint(begin stand, goal target) {
	if t.rules.Hops == nil {
		return
	}
	for i := range t.rules.Hops.Rules {
		h := &t.rules.Hops.Rules[i]
		from, to := h.Ranges()
		if !h.Via.Set() || *h.Allow || from.Holds(t.from(begin)) == truth.No && to.Holds(t.lines[goal.line].versions[goal.version]) == truth.No {
			continue
		}
		for _, l := range t.lines {
			if k := l.find(h.Via.Text); k >= 0 {
				l.candidates[k].aside = 0
			}
		}
	}
}

// lower finds the highest release below the newest that can be reached, where nothing
// but needs on companions and the boot loader keeps the device from the newest.
func (r *route) lower() (*Answer, error) {
	t, first := r.team, r.answer
	why := r.caps(r.goal.line, r.goal.version)
	if why == "" {
		return first, nil
	}
	l := t.lines[r.goal.line]
	for v := r.goal.version - 1; v >= 0; v-- {
		if !t.meant(l, &l.candidates[v], r.goal.channel) {
			continue
		}
		if r.goal.line == r.begin.line && v < r.begin.version {
			break // nobody asked to go down
		}
		a := &Answer{Name: first.Name, Members: first.Members, From: first.From, To: l.versions[v].Text, Family: l.family, States: first.States, end: r.begin}
		a.Notes = append([]string(nil), first.Notes[:min(1, len(first.Notes))]...)
		next := &route{finder: r.finder, team: t, begin: r.begin, answer: a, at: r.at, goal: target{line: r.goal.line, version: v, text: a.To}}
		if err := next.seek(); err != nil {
			return nil, err
		}
		if a.Found {
			a.Capped = &Capped{Release: l.versions[r.goal.version].Text, Because: why}
			return a, nil
		}
		if len(a.Unsettled) > 0 || r.capsOf(next, v) == "" {
			return first, nil
		}
	}
	return first, nil
}

func (r *route) capsOf(next *route, v int32) string { return next.caps(r.goal.line, v) }

// caps says which needs on companions and the boot loader alone are against a release,
// from the nearest state; "" when something else is.
func (r *route) caps(line, version int32) string {
	var why []string
	for _, b := range r.answer.Blocked {
		if !strings.HasPrefix(b.Code, "needs.") {
			return ""
		}
	}
	for _, reason := range r.team.against(r.begin, move{line: line, version: version}) {
		n := reason.need
		switch {
		case n == nil && reason.code == pathForbidden: // the way leads elsewhere, and a need may cap it
		case n == nil || reason.unknown, !n.Companion.Set() && n.Component.Text != r.team.boxes[reason.box].boot:
			return ""
		default:
			why = append(why, reason.text)
		}
	}
	return strings.Join(why, "; ")
}

// route is the search of one team's path and what is told of it.
type route struct {
	*finder
	team    *team
	begin   stand
	goal    target
	answer  *Answer
	at      *meetingPoint // where members came together first; nil when they were
	returns *bool         // see mayReturn
	// returning: hops are told that lead back to where it began.
	returning bool
}

func (r *route) newSearch(maybe bool, banned map[hopKey]bool) *search {
	return &search{t: r.team, prefer: r.Prefer, maybe: maybe, bound: r.MaxStates, banned: banned}
}

func (r *route) startState(s stand) state {
	return state{s.line, s.version, r.team.context(s.components)}
}

func (r *route) seek() error {
	a := r.answer
	reached := r.reached
	sure := r.newSearch(false, nil)
	end, err := sure.run(r.startState(r.begin), reached)
	if err != nil {
		return err
	}
	a.States = len(sure.nodes)
	if end >= 0 {
		a.Found = true
		best := sure.moves(end)
		hops, stands := r.follow(best)
		a.Hops, a.end = hops, stands[len(stands)-1]
		if len(hops) == 0 {
			a.Notes = append(a.Notes, "it already runs "+a.To)
		}
		if sure.unsure && len(hops) > 1 && !r.Plain {
			if err := r.shorter(sure.nodes[end].cost); err != nil {
				return err
			}
		}
		if !r.Plain {
			if r.Options.Picture {
				a.Picture = r.draw(best)
			}
			if err := r.alternatives(best, reached); err != nil {
				return err
			}
			return r.wayBack(stands)
		}
		return nil
	}
	maybe := sure
	if sure.unsure {
		maybe = r.newSearch(true, nil)
		end, err = maybe.run(r.startState(r.begin), reached)
		if err != nil {
			return err
		}
		a.States += len(maybe.nodes)
	}
	if end >= 0 {
		a.Unsettled = r.unknowns(maybe.moves(end))
		a.Maybe, _ = r.follow(maybe.moves(end))
	} else if r.lacking(maybe); len(a.Blocked)+len(a.Unsettled) == 0 {
		r.blockers(maybe)
	}
	if r.Options.Picture && !r.Plain {
		a.Picture = r.draw(nil)
	}
	return nil
}

// shorter notes that what is not known would open a better way.
func (r *route) shorter(found cost) error {
	s := r.newSearch(true, nil)
	end, err := s.run(r.startState(r.begin), r.reached)
	if err != nil || end < 0 {
		return err
	}
	c := s.nodes[end].cost
	if [3]int32(c[:3]) != [3]int32(found[:3]) {
		r.answer.Notes = append(r.answer.Notes, fmt.Sprintf("a better way (%s) would open if this were known: %s", r.stops(s.moves(end)), strings.Join(r.unknowns(s.moves(end)), "; ")))
	}
	return nil
}

func (r *route) stops(moves []move) string {
	var out []string
	for _, m := range moves {
		text := r.team.text(m.line, m.version)
		if m.bootOnly {
			text = "the boot loader of " + text
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// unknowns lists what a path needs that is not known.
func (r *route) unknowns(moves []move) []string {
	var out []string
	s := r.begin
	for _, m := range moves {
		for _, reason := range r.team.against(s, m) {
			text := r.team.text(m.line, m.version) + ": " + reason.text
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
		_, s = r.team.step(s, m)
	}
	return out
}

// follow makes moves one by one, and says of each why it is there.
func (r *route) follow(moves []move) ([]Hop, []stand) {
	s := r.begin
	stands := []stand{s}
	var hops []Hop
	for i, m := range moves {
		h, after := r.team.step(s, m)
		r.because(&h, s, moves, i)
		if len(r.team.boxes) > 1 {
			for b, box := range r.team.boxes {
				if !m.bootOnly || r.team.raises(s, m, b) {
					h.Members = append(h.Members, box.Device.Name.Text)
				}
			}
		}
		hops = append(hops, h)
		stands = append(stands, after)
		s = after
	}
	return hops, stands
}

// because tells why a hop is on the way: why the next one cannot come first,
// and what allows it.
func (r *route) because(h *Hop, s stand, moves []move, i int) {
	t, m := r.team, moves[i]
	var parts []string
	if i+1 < len(moves) {
		next := t.text(moves[i+1].line, moves[i+1].version)
		if against := t.against(s, moves[i+1]); len(against) > 0 {
			parts = append(parts, fmt.Sprintf("before %s: %s", next, against[0].text))
			h.Sources = append(h.Sources, against[0].sources...)
		} else {
			parts = append(parts, fmt.Sprintf("before %s: this way %s", next, r.gain()))
		}
	} else if r.returning {
		parts = append(parts, "this is what ran before")
	} else if !r.Plain {
		parts = append(parts, "this is where it is to go")
	}
	if m.bootOnly {
		parts = append(parts, "the boot loader alone, which the rules for "+t.lines[m.line].main+" do not bind")
	} else {
		seen := map[string]bool{}
		for b := range t.boxes {
			ruling := t.ruling(s, m, b)
			if ruling.Because == "" || seen[ruling.Because] {
				continue
			}
			seen[ruling.Because] = true
			if !ruling.Default || len(parts) == 0 {
				parts = append(parts, ruling.Because)
			}
			if ruling.Source.File != "" {
				h.Sources = append(h.Sources, Cited{ruling.Document, ruling.Source})
			}
		}
	}
	for _, rel := range h.Releases {
		if rel != nil && rel.Version.Set() {
			c := Cited{"release " + rel.Version.Text, t.rules.Source(rel.Spot)}
			if !slices.Contains(h.Sources, c) {
				h.Sources = append(h.Sources, c)
			}
		}
	}
	for b := range t.boxes {
		if from := t.boxes[b].Installed(t.lines[s.line].main); i == 0 && from.Known() && len(t.boxes) == 1 {
			h.Sources = append(h.Sources, Cited{from.First(), from.Facts[0].Source})
		}
	}
	h.Because = strings.Join(parts, "; ")
}

// gain is what the preferred way has less of.
func (r *route) gain() string {
	switch r.Prefer {
	case Hops:
		return "resets less, or takes less time"
	case Outage:
		return "means less outage"
	}
	return "resets the configuration less often, or means less outage"
}
