package path

import (
	"container/heap"
	"fmt"
	"maps"
)

// Alternative is another path, worse than the one that was found first.
type Alternative struct {
	Hops []Hop
}

// alternatives finds the next best paths that are really different: each leaves
// out a stop of every better one, so that none is a better one with a detour.
// Each search forbids hops of paths that were found before (Lawler's way of
// splitting: one search for each hop of the path that a region's best takes).
func (r *route) alternatives(best []move, reached func(state) bool) error {
	if r.All < 2 || len(best) == 0 {
		return nil
	}
	left := &priorityQueue{}
	split := func(parent map[hopKey]bool, moves []move) error {
		for _, k := range r.keys(moves) {
			banned := maps.Clone(parent)
			if banned == nil {
				banned = map[hopKey]bool{}
			}
			banned[k] = true
			s := r.newSearch(false, banned)
			end, err := s.run(r.startState(r.begin), reached)
			if err != nil {
				return err
			}
			if end >= 0 {
				heap.Push(left, subproblem{banned, s.moves(end), s.nodes[end].cost})
			}
		}
		return nil
	}
	accepted := [][]move{best}
	if err := split(nil, best); err != nil {
		return err
	}
	// The number of searches is bounded: paths that differ only by detours can be
	// very many.
	for tries := 0; left.Len() > 0 && len(accepted) < r.All && tries < 8*r.All; tries++ {
		next := heap.Pop(left).(subproblem)
		different := true
		for _, a := range accepted {
			different = different && !contains(next.moves, a)
		}
		if different {
			accepted = append(accepted, next.moves)
			hops, _ := r.follow(next.moves)
			r.answer.Alternatives = append(r.answer.Alternatives, Alternative{hops})
		}
		if err := split(next.banned, next.moves); err != nil {
			return err
		}
	}
	if len(accepted) < r.All {
		r.answer.Notes = append(r.answer.Notes, fmt.Sprintf("%d really different ways were asked for, and there %s %d", r.All, map[bool]string{true: "is", false: "are"}[len(accepted) == 1], len(accepted)))
	}
	return nil
}

// keys names the hops of a path.
func (r *route) keys(moves []move) []hopKey {
	var out []hopKey
	at := move{line: r.begin.line, version: r.begin.version}
	for _, m := range moves {
		out = append(out, hopKey{at.line, at.version, m.line, m.version, m.bootOnly})
		if !m.bootOnly {
			at = m
		}
	}
	return out
}

// contains tells whether a path makes all the installs of another.
func contains(path, other []move) bool {
	have := map[[3]int32]bool{}
	key := func(m move) [3]int32 {
		boot := int32(0)
		if m.bootOnly {
			boot = 1
		}
		return [3]int32{m.line, m.version, boot}
	}
	for _, m := range path {
		have[key(m)] = true
	}
	for _, m := range other {
		if !have[key(m)] {
			return false
		}
	}
	return true
}

// subproblem is the paths that take none of some hops, with the best of them. What is left after each path is cut
// into one for each of its hops.
type subproblem struct {
	banned map[hopKey]bool
	moves  []move
	cost   cost
}

type priorityQueue []subproblem

func (h priorityQueue) Len() int           { return len(h) }
func (h priorityQueue) Less(i, k int) bool { return h[i].cost.less(h[k].cost) }
func (h priorityQueue) Swap(i, k int)      { h[i], h[k] = h[k], h[i] }
func (h *priorityQueue) Push(x any)        { *h = append(*h, x.(subproblem)) }
func (h *priorityQueue) Pop() any {
	last := len(*h) - 1
	x := (*h)[last]
	*h = (*h)[:last]
	return x
}
