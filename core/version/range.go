package version

import (
	"fmt"
	"regexp"
	"strings"

	"fitcheck/core/truth"
)

// Range is a set of versions: alternatives of comparators that must all hold.
//
//	>=8.0.0 <8.2.0 || 9.1.0     comparators < <= = != >= >; blank is AND, || is OR
//	*                           any version
//	8.4.2                       a bare version means equal
type Range struct {
	Text   string
	scheme *Scheme
	any    bool
	alts   [][]comparator
	own    []edge // of its comparators, sorted
}

type comparator struct {
	op string
	v  Version
}

// operator finds where a comparator starts. Versions may hold blanks
// ("3.6.2 build 1187"), so blanks alone do not separate.
var operator = regexp.MustCompile(`<=|>=|!=|<|>|=`)

// maxComparators is how many versions one range may name.
const maxComparators = 1000

// ParseRange reads a range for a scheme.
func ParseRange(s *Scheme, text string) (*Range, error) {
	r := &Range{Text: strings.TrimSpace(text), scheme: s}
	if r.Text == "*" {
		r.any = true
		return r, nil
	}
	versions := 0
	for _, alt := range strings.Split(r.Text, "||") {
		alt = strings.TrimSpace(alt)
		if alt == "" {
			return nil, fmt.Errorf("the range %.200q has an empty part: write comparators such as >=8.2.0, or * for any version", text)
		}
		var all []comparator
		starts := operator.FindAllStringIndex(alt, maxComparators+1)
		bare := len(starts) == 0 || starts[0][0] != 0
		if versions += len(starts); bare {
			versions++
		}
		if versions > maxComparators {
			return nil, fmt.Errorf("the range %.60q… has more than %d versions in it; write it as one from and one to", text, maxComparators)
		}
		if bare {
			end := len(alt)
			if len(starts) > 0 {
				end = starts[0][0]
			}
			v, err := s.Parse(alt[:end])
			if err != nil {
				return nil, fmt.Errorf("in the range %.200q: %w", text, err)
			}
			all = append(all, comparator{"=", v})
		}
		for i, st := range starts {
			end := len(alt)
			if i+1 < len(starts) {
				end = starts[i+1][0]
			}
			v, err := s.Parse(alt[st[1]:end])
			if err != nil {
				return nil, fmt.Errorf("in the range %.200q: %w", text, err)
			}
			all = append(all, comparator{alt[st[0]:st[1]], v})
		}
		r.alts = append(r.alts, all)
	}
	r.own = edgesOf(r)
	return r, nil
}

// edges are those of the range's own comparators.
func (r *Range) edges() []edge { return r.own }

// Contains tells whether the version is known to lie in the range.
func (r *Range) Contains(v Version) bool { return r.Holds(v) == truth.Yes }

// Holds tells whether the version lies in the range. In a range, a text without
// its build stands for all its builds: ">=3.6.2" takes 3.6.2 build 5, and ">3.6.2"
// does not. A version that leaves its build open lies in a range for certain only
// when all its builds do. A nil range holds all.
func (r *Range) Holds(v Version) truth.Truth {
	if r == nil || r.any {
		return truth.Yes
	}
	if !v.open { // it lies at one place, which needs no looking for
		return truth.Of(r.met(func(c comparator) (below, above bool) {
			order := comparePrefix(v, c.v, r.scheme.fixed(c.v))
			return order < 0, order > 0
		}))
	}
	edges := r.edges()
	from, to := placesOf(r.scheme, edges, v)
	first := r.holdsAt(from, edges)
	for p := from + 1; p <= to; p++ {
		if r.holdsAt(p, edges) != first {
			return truth.Unknown
		}
	}
	return truth.Of(first)
}

// String is the range as written.
func (r *Range) String() string { return r.Text }
