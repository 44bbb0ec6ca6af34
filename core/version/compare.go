package version

import (
	"slices"
	"sort"
)

// Two ranges of one scheme are compared on the line of all versions that the
// scheme could read: the versions that they name cut it into points and the
// gaps between them, and within a gap every version lies alike. Between two
// versions there is always room for another.

// cuts lists the versions that ranges name, in order, each once.
func cuts(s *Scheme, ranges ...*Range) []Version {
	var out []Version
	for _, r := range ranges {
		if r == nil {
			continue
		}
		for _, all := range r.alts {
			for _, c := range all {
				out = append(out, c.v)
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return s.Compare(out[i], out[j]) < 0 })
	return slices.CompactFunc(out, func(a, b Version) bool { return s.Compare(a, b) == 0 })
}

// holds tells whether a position lies in the range: 2k is the gap before the
// k-th cut, 2k+1 the cut itself. A nil range holds all.
func (r *Range) holds(position int, cuts []Version) bool {
	if r == nil || r.any {
		return true
	}
	for _, all := range r.alts {
		ok := true
		for _, c := range all {
			at := 2*slices.IndexFunc(cuts, func(v Version) bool { return r.scheme.Compare(v, c.v) == 0 }) + 1
			d := position - at
			switch c.op {
			case "<":
				ok = d < 0
			case "<=":
				ok = d <= 0
			case "=":
				ok = d == 0
			case "!=":
				ok = d != 0
			case ">=":
				ok = d >= 0
			case ">":
				ok = d > 0
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
	all := cuts(schemeOf(r, o), r, o)
	for p := range 2*len(all) + 1 {
		if o.holds(p, all) && !r.holds(p, all) {
			return false
		}
	}
	return true
}

// Meets tells whether some version lies in both ranges.
func (r *Range) Meets(o *Range) bool {
	all := cuts(schemeOf(r, o), r, o)
	for p := range 2*len(all) + 1 {
		if o.holds(p, all) && r.holds(p, all) {
			return true
		}
	}
	return false
}

// Spans lists the stretches of a sorted list of versions that lie in the range,
// as half-open intervals of indices in ascending order. A nil range holds all.
func (r *Range) Spans(s *Scheme, sorted []Version) [][2]int {
	if r == nil || r.any {
		return [][2]int{{0, len(sorted)}}
	}
	all := cuts(s, r)
	var out [][2]int
	add := func(from, to int) {
		switch {
		case from >= to:
		case len(out) > 0 && out[len(out)-1][1] == from:
			out[len(out)-1][1] = to
		default:
			out = append(out, [2]int{from, to})
		}
	}
	at := 0
	for k, cut := range all {
		low := at + sort.Search(len(sorted)-at, func(i int) bool { return s.Compare(sorted[at+i], cut) >= 0 })
		high := low + sort.Search(len(sorted)-low, func(i int) bool { return s.Compare(sorted[low+i], cut) > 0 })
		if r.holds(2*k, all) {
			add(at, low)
		}
		if r.holds(2*k+1, all) {
			add(low, high)
		}
		at = high
	}
	if r.holds(2*len(all), all) {
		add(at, len(sorted))
	}
	return out
}

// Marks are the versions that some ranges name, in order. They cut the line of
// all versions into places: the marks themselves and the gaps between them. Of
// two versions at one place, the ranges hold both or neither.
type Marks struct {
	scheme *Scheme
	at     []Version
}

// NewMarks takes the marks of ranges of one scheme.
func NewMarks(s *Scheme, ranges ...*Range) Marks { return Marks{s, cuts(s, ranges...)} }

// Places is how many places there are.
func (m Marks) Places() int { return 2*len(m.at) + 1 }

// Place is that of a version, from 0 in ascending order.
func (m Marks) Place(v Version) int {
	i := sort.Search(len(m.at), func(i int) bool { return m.scheme.Compare(m.at[i], v) >= 0 })
	if i < len(m.at) && m.scheme.Compare(m.at[i], v) == 0 {
		return 2*i + 1
	}
	return 2 * i
}

// HoldsPlace tells whether the versions at a place lie in one of the ranges that
// the marks were taken from; a nil range holds all.
func (r *Range) HoldsPlace(place int, m Marks) bool { return r.holds(place, m.at) }
