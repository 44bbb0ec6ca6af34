package path

import (
	"cmp"
	"slices"
)

// Picture is what can be drawn of an answer: the known releases, the way among
// them, and the moves that are forbidden.
type Picture struct {
	Versions  []Known
	Forbidden []Forbidden
	// Left is how many releases were left out of a great number.
	Left int
}

// Known is a version in a picture, the newest first within its family.
type Known struct {
	Version, Family string
	// State is runs, goal, stop, open (it could be installed) or closed.
	State string
	Why   string // of one that is closed
}

// Forbidden is a move that somebody might want to make, and cannot.
type Forbidden struct {
	From, FromFamily, To, ToFamily string
	Because                        string
	Brief                          string // the same without the move itself
	Sources                        []Cited
}

// maxKnown bounds the releases of a picture.
const maxKnown = 40

// draw makes the picture of the answer.
//
// In one piece: one pass over the hops; columns and lines are laid out together.
func (r *route) draw(moves []move) *Picture {
	t := r.team
	p := &Picture{}
	stops := []move{{line: r.begin.line, version: r.begin.version}}
	stands := []stand{r.begin}
	for _, m := range moves {
		_, after := t.step(stands[len(stands)-1], m)
		if m.bootOnly {
			stands[len(stands)-1] = after // the same stop, with another boot loader
			continue
		}
		stops, stands = append(stops, m), append(stands, after)
	}
	if len(moves) == 0 && (r.goal.line != r.begin.line || r.goal.version != r.begin.version) {
		stops, stands = append(stops, move{line: r.goal.line, version: r.goal.version}), append(stands, stand{})
	}
	for li, l := range t.lines {
		first := len(p.Versions)
		for i := len(l.versions) - 1; i >= 0; i-- {
			at := slices.IndexFunc(stops, func(m move) bool { return int(m.line) == li && int(m.version) == i })
			k := Known{Version: l.versions[i].Text, Family: l.family, State: "open"}
			switch {
			case int32(li) == r.goal.line && int32(i) == r.goal.version:
				k.State = "goal"
			case at == 0:
				k.State = "runs"
			case at > 0:
				k.State = "stop"
			case !l.candidates[i].listed:
				continue
			case len(p.Versions)-first >= maxKnown/len(t.lines):
				p.Left++
				continue
			}
			if b, dead := r.standing(int32(li), int32(i)); dead {
				k.Why = b.Because
				if k.State == "open" {
					k.State = "closed"
				}
			}
			p.Versions = append(p.Versions, k)
		}
	}
	for i := range stops {
		for k := i + 1; k < len(stops); k++ {
			if k == i+1 && len(moves) > 0 {
				continue // that is the way itself
			}
			against := t.against(stands[i], stops[k])
			if len(against) == 0 {
				continue
			}
			a, b := t.lines[stops[i].line], t.lines[stops[k].line]
			p.Forbidden = append(p.Forbidden, Forbidden{a.versions[stops[i].version].Text, a.family, b.versions[stops[k].version].Text, b.family, against[0].text, cmp.Or(against[0].brief, against[0].text), against[0].sources})
		}
	}
	return p
}
