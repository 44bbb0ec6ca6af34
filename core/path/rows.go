package path

import (
	"slices"
	"sort"

	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// Hop rules by the numbers. The versions of a family stand in a sorted list,
// and ranges become stretches of it. Where no range begins or ends, versions
// are alike: such stretches are classes, and for a class that a move comes
// from, one row tells for each class that it goes to which rule decides.

// line is an image family with its versions in order.
type line struct {
	family   string
	scheme   *version.Scheme
	versions []version.Version
}

func (l *line) index(v version.Version) int {
	return sort.Search(len(l.versions), func(i int) bool { return l.scheme.Compare(l.versions[i], v) >= 0 })
}

// ruleset is the hop rules for moves of one box from one family to another.
type ruleset struct {
	r        *rulebook.Rulebook
	rules    []*rulebook.HopRule
	unsure   []bool
	fromSpan [][][2]int // of each rule, in the versions of the family that is left
	toSpan   [][][2]int // in classes of the family that is gone to
	fromCut  []int      // where classes of the family that is left begin
	toCut    []int      // where classes of the family that is gone to begin
	rows     [][]int32  // by the class that is left: rule of each class, -1 where none speaks
}

func newRuleset(b *Box, from, to *line) *ruleset {
	s := &ruleset{r: b.Rules, fromCut: []int{0}, toCut: []int{0}}
	if b.Rules.Hops == nil {
		s.rows = make([][]int32, 1)
		return s
	}
	var toRaw [][][2]int
	for i := range b.Rules.Hops.Rules {
		h := &b.Rules.Hops.Rules[i]
		speaks, unsure := h.Speaks(b.Rules, rulebook.Move{FromFamily: from.family, ToFamily: to.family, Model: b.Model, Revision: b.Revision})
		if !speaks {
			continue
		}
		rf, rt := h.Ranges()
		fs, ts := rf.Spans(from.scheme, from.versions), rt.Spans(to.scheme, to.versions)
		if len(fs) == 0 || len(ts) == 0 {
			continue
		}
		s.rules, s.unsure = append(s.rules, h), append(s.unsure, unsure)
		s.fromSpan, toRaw = append(s.fromSpan, fs), append(toRaw, ts)
		for _, x := range fs {
			s.fromCut = append(s.fromCut, x[0], x[1])
		}
		for _, x := range ts {
			s.toCut = append(s.toCut, x[0], x[1])
		}
	}
	s.fromCut, s.toCut = classes(s.fromCut, len(from.versions)), classes(s.toCut, len(to.versions))
	for _, spans := range toRaw {
		var in [][2]int
		for _, x := range spans {
			in = append(in, [2]int{class(s.toCut, x[0]), class(s.toCut, x[1]-1) + 1})
		}
		s.toSpan = append(s.toSpan, in)
	}
	s.rows = make([][]int32, len(s.fromCut))
	return s
}

// classes sorts the places where classes begin; the end of the list is none.
func classes(cut []int, n int) []int {
	slices.Sort(cut)
	cut = slices.Compact(cut)
	for len(cut) > 1 && cut[len(cut)-1] >= n {
		cut = cut[:len(cut)-1]
	}
	return cut
}

// class finds the class of an index.
func class(cut []int, index int) int {
	return sort.SearchInts(cut, index+1) - 1
}

// row tells which rule decides moves from a version, by the class gone to.
func (s *ruleset) row(from int) []int32 {
	k := class(s.fromCut, from)
	if s.rows[k] != nil {
		return s.rows[k]
	}
	row := make([]int32, len(s.toCut))
	next := make([]int32, len(row)+1) // the next class that no rule has taken
	for i := range row {
		row[i] = -1
	}
	for i := range next {
		next[i] = int32(i)
	}
	var free func(i int32) int32
	free = func(i int32) int32 {
		for next[i] != i {
			next[i] = next[next[i]]
			i = next[i]
		}
		return i
	}
	at := s.fromCut[k]
	for i := range s.rules {
		if !slices.ContainsFunc(s.fromSpan[i], func(x [2]int) bool { return x[0] <= at && at < x[1] }) {
			continue
		}
		for _, x := range s.toSpan[i] {
			for c := free(int32(x[0])); int(c) < x[1]; c = free(c + 1) {
				row[c] = int32(i)
				next[c] = c + 1
			}
		}
	}
	s.rows[k] = row
	return row
}

// verdict is what the rules say of a move, without words.
type verdict struct {
	allowed, settled, resets bool
	rule                     int32 // -1 for the policy
}

// decide tells what the rules say of a move between two places of the lists;
// up is how the version gone to compares with the one that is left.
func (s *ruleset) decide(rule int32, crossing bool, up int) verdict {
	h := s.r.Hops
	if h == nil {
		return verdict{rule: -1}
	}
	if rule >= 0 {
		r := s.rules[rule]
		return verdict{*r.Allow, !s.unsure[rule], r.ResetsConfig, rule}
	}
	switch {
	case crossing:
		return verdict{settled: true, rule: -1}
	case up > 0:
		return verdict{allowed: h.Upward.Text == "open", settled: h.Upward.Set(), rule: -1}
	case up == 0:
		return verdict{allowed: true, settled: true, rule: -1}
	}
	return verdict{allowed: h.Downward.Text == "open", settled: true, rule: -1}
}

// words is the ruling itself, for those moves that are told.
func (s *ruleset) words(v verdict, m rulebook.Move) rulebook.Ruling {
	if s.r.Hops == nil {
		return s.r.Rule(m)
	}
	if v.rule >= 0 {
		return s.rules[v.rule].Ruling(s.r, s.unsure[v.rule])
	}
	return s.r.Policy(m)
}
