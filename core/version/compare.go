package version

import (
	"slices"
	"sort"

	"fitcheck/core/truth"
)

// Ranges of one scheme are compared on the line of all versions that the scheme
// could read. The versions that they name cut it at edges: one before and one
// after each. A text that leaves its build open stands for a stretch of the line
// with all its builds, and its edges are those of the stretch. Between two edges
// lies a place, within which every version is as good as any other, and between
// two versions there is always room for another.

// edge is where a version begins or ends.
type edge struct {
	v     Version
	after bool
}

// below tells whether an edge lies below a version.
func (e edge) below(s *Scheme, v Version) bool {
	c := comparePrefix(v, e.v, s.fixed(e.v))
	return c > 0 || c == 0 && !e.after
}

// compareEdges orders two edges.
func compareEdges(s *Scheme, a, b edge) int {
	na, nb := s.fixed(a.v), s.fixed(b.v)
	if c := comparePrefix(a.v, b.v, min(na, nb)); c != 0 {
		return c
	}
	side := func(e edge) int {
		if e.after {
			return 1
		}
		return -1
	}
	switch {
	case na < nb: // b lies within the stretch of a
		return side(a)
	case na > nb:
		return -side(b)
	}
	return sign(side(a) - side(b))
}

// edgesOf lists the edges of ranges of one scheme, in order, each once.
func edgesOf(ranges ...*Range) []edge {
	s := schemeOf(ranges...)
	var out []edge
	for _, r := range ranges {
		if r == nil {
			continue
		}
		for _, all := range r.alts {
			for _, c := range all {
				out = append(out, edge{c.v, false}, edge{c.v, true})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b edge) int { return compareEdges(s, a, b) })
	return slices.CompactFunc(out, func(a, b edge) bool { return compareEdges(s, a, b) == 0 })
}

// placesOf are the places at which a version may be among edges: place p lies
// above the first p of them. One that leaves its build open may be at several.
func placesOf(s *Scheme, edges []edge, v Version) (from, to int) {
	from = sort.Search(len(edges), func(i int) bool { return !edges[i].below(s, v) })
	if !v.open {
		return from, from
	}
	end := edge{v, true}
	return from, sort.Search(len(edges), func(i int) bool { return compareEdges(s, edges[i], end) >= 0 })
}

// holdsAt tells whether the versions at a place lie in the range.
func (r *Range) holdsAt(place int, edges []edge) bool {
	if r == nil || r.any {
		return true
	}
	at := func(e edge) int {
		i, _ := slices.BinarySearchFunc(edges, e, func(a, b edge) int { return compareEdges(r.scheme, a, b) })
		return i
	}
	return r.met(func(c comparator) (below, above bool) {
		return place <= at(edge{c.v, false}), place > at(edge{c.v, true})
	})
}

// met tells whether some alternative holds for what lies where side says: below or
// above the version that a comparator names, or else at it.
func (r *Range) met(side func(c comparator) (below, above bool)) bool {
	for _, all := range r.alts {
		ok := true
		for _, c := range all {
			below, above := side(c)
			switch c.op {
			case "<":
				ok = below
			case "<=":
				ok = !above
			case "=":
				ok = !below && !above
			case "!=":
				ok = below || above
			case ">=":
				ok = !below
			case ">":
				ok = above
			}
			if !ok {
				break
			}
		}
		if ok {
			return true
		}
	}
	return false
}

func schemeOf(ranges ...*Range) *Scheme {
	for _, r := range ranges {
		if r != nil && r.scheme != nil {
			return r.scheme
		}
	}
	return nil
}

// Covers tells whether every version of another range lies in this one; nil
// stands for any version.
func (r *Range) Covers(o *Range) bool {
	m := NewMarks(schemeOf(r, o), r, o)
	return Covered(m.Spans(o), m.Spans(r))
}

// Meets tells whether some version lies in both ranges.
func (r *Range) Meets(o *Range) bool {
	m := NewMarks(schemeOf(r, o), r, o)
	return Overlap(m.Spans(o), m.Spans(r))
}

// Spans lists the stretches of a sorted list of versions that lie in the range,
// as half-open intervals of indices in ascending order, and those that may: of
// versions that leave their build open where the range asks for one. A nil range
// holds all.
func (r *Range) Spans(s *Scheme, sorted []Version) (in, unsure [][2]int) {
	if r == nil || r.any {
		return [][2]int{{0, len(sorted)}}, nil
	}
	add := func(to *[][2]int, from, end int) {
		switch n := len(*to); {
		case from >= end:
		case n > 0 && (*to)[n-1][1] == from:
			(*to)[n-1][1] = end
		default:
			*to = append(*to, [2]int{from, end})
		}
	}
	all := r.edges()
	at := 0
	for p := range len(all) + 1 {
		end := len(sorted)
		if p < len(all) {
			end = at + sort.Search(len(sorted)-at, func(i int) bool { return all[p].below(s, sorted[at+i]) })
		}
		if r.holdsAt(p, all) {
			add(&in, at, end)
		}
		at = end
	}
	if !r.asksForBuild() {
		return in, nil
	}
	// Versions that leave open what the range asks for are looked at one by one.
	sure := in
	in = nil
	for i, v := range sorted {
		held := slices.ContainsFunc(sure, func(x [2]int) bool { return x[0] <= i && i < x[1] })
		if v.open {
			switch r.Holds(v) {
			case truth.Unknown:
				add(&unsure, i, i+1)
				continue
			case truth.No:
				continue
			}
			held = true
		}
		if held {
			add(&in, i, i+1)
		}
	}
	return in, unsure
}

// asksForBuild tells whether the range names a version with its build.
func (r *Range) asksForBuild() bool {
	if r.scheme == nil || r.scheme.build < 0 {
		return false
	}
	for _, all := range r.alts {
		for _, c := range all {
			if !c.v.open {
				return true
			}
		}
	}
	return false
}

// Marks are the edges of some ranges, in order. They cut the line of all versions
// into places. Of two versions at one place, the ranges hold both or neither.
type Marks struct {
	scheme *Scheme
	at     []edge
}

// NewMarks takes the marks of ranges of one scheme.
func NewMarks(s *Scheme, ranges ...*Range) Marks { return Marks{s, edgesOf(ranges...)} }

// Places is how many places there are.
func (m Marks) Places() int { return len(m.at) + 1 }

// Place is that of a version, from 0 in ascending order; of one that leaves its
// build open and may be at several, ok is false and it is the lowest.
func (m Marks) Place(v Version) (place int, ok bool) {
	from, to := placesOf(m.scheme, m.at, v)
	return from, from == to
}

// Spans lists the places at which a range holds that the marks were taken from, as half-open
// intervals in ascending order; a nil range holds at all.
func (m Marks) Spans(r *Range) [][2]int {
	if r == nil || r.any {
		return [][2]int{{0, m.Places()}}
	}
	var out [][2]int
	from := 0
	for p := range len(r.own) + 1 {
		to := m.Places()
		if p < len(r.own) {
			i, _ := slices.BinarySearchFunc(m.at, r.own[p], func(a, b edge) int { return compareEdges(m.scheme, a, b) })
			to = i + 1
		}
		switch n := len(out); {
		case !r.holdsAt(p, r.own) || from >= to:
		case n > 0 && out[n-1][1] == from:
			out[n-1][1] = to
		default:
			out = append(out, [2]int{from, to})
		}
		from = to
	}
	return out
}

// Covered tells whether all of the places of some spans lie in others.
func Covered(inner, outer [][2]int) bool {
	k := 0
	for _, x := range inner {
		for k < len(outer) && outer[k][1] < x[1] {
			k++
		}
		if k == len(outer) || outer[k][0] > x[0] {
			return false
		}
	}
	return true
}

// Overlap tells whether two lists of spans have a place in common.
func Overlap(a, b [][2]int) bool {
	for i, k := 0, 0; i < len(a) && k < len(b); {
		if max(a[i][0], b[k][0]) < min(a[i][1], b[k][1]) {
			return true
		}
		if a[i][1] < b[k][1] {
			i++
		} else {
			k++
		}
	}
	return false
}

// Scheme is the one by which a range was read; nil of a nil range.
func (r *Range) Scheme() *Scheme {
	if r == nil {
		return nil
	}
	return r.scheme
}

// HoldsPlace tells whether the versions at a place lie in one of the ranges that
// the marks were taken from; a nil range holds all.
func (r *Range) HoldsPlace(place int, m Marks) bool { return r.holdsAt(place, m.at) }

// Newer tells whether some version that is newer than v lies in the range.
func (r *Range) Newer(v Version) bool {
	if r == nil || r.any {
		return true
	}
	edges := r.edges()
	_, to := placesOf(r.scheme, edges, v)
	for p := to + 1; p <= len(edges); p++ {
		if r.holdsAt(p, edges) {
			return true
		}
	}
	return false
}
