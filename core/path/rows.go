package path

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// Hop rules by the numbers. The versions of a family stand in a sorted list,
// and ranges become stretches of it. Where no range begins or ends, versions
// are alike: such stretches are classes, and for a class that a move comes
// from, one row tells for each class that it goes to which rule decides.

// line is the versions that the boxes of a team can be at while they run some
// image families, in order.
type line struct {
	families   []string // of each box
	family     string   // of the first
	main       string   // the main component
	scheme     *version.Scheme
	versions   []version.Version
	candidates []candidate // for each version
	// bootPaired: the boot loader is half of a pair with the main component.
	bootPaired bool
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

func newRuleset(b *Box, from, to *line, fromFamily, toFamily string) *ruleset {
	s := &ruleset{r: b.Rules, fromCut: []int{0}, toCut: []int{0}}
	if b.Rules.Hops == nil {
		s.rows = make([][]int32, 1)
		return s
	}
	var toRaw [][][2]int
	for i := range b.Rules.Hops.Rules {
		h := &b.Rules.Hops.Rules[i]
		speaks, unsure := h.Speaks(b.Rules, rulebook.Move{FromFamily: fromFamily, ToFamily: toFamily, Model: b.Model, Revision: b.Revision})
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

// cell is a stretch of versions gone to for which the rules say one thing.
type cell struct {
	from, to int32
	// forbidden: a rule forbids it for some box. unsure: the rulebook does not
	// settle it for some box. policy: no rule speaks for some box, so that it
	// depends on whether the move goes up or down.
	forbidden, unsure, policy, resets bool
}

// cellsFor tells for moves from a version of one line what the rules say of all
// versions of another, for all boxes together.
func (t *team) cellsFor(from, to, index int) []cell {
	lines := [2]int{from, to}
	sets, ok := t.sets[lines]
	if !ok {
		a, b := t.lines[from], t.lines[to]
		known := map[string]*ruleset{}
		for i, box := range t.boxes {
			key := strings.Join([]string{box.Model, box.Revision, a.families[i], b.families[i]}, "\x00")
			if known[key] == nil {
				known[key] = newRuleset(box, a, b, a.families[i], b.families[i])
				sets = append(sets, known[key])
			}
		}
		t.sets[lines] = sets
	}
	key := fmt.Sprint(lines)
	for _, s := range sets {
		key += fmt.Sprint(" ", class(s.fromCut, index))
	}
	if cells, ok := t.cells[key]; ok {
		return cells
	}
	var cuts []int
	for _, s := range sets {
		cuts = append(cuts, s.toCut...)
	}
	n := len(t.lines[to].versions)
	cuts = classes(append(cuts, 0), n)
	var cells []cell
	for i, at := range cuts {
		end := n
		if i+1 < len(cuts) {
			end = cuts[i+1]
		}
		c := cell{from: int32(at), to: int32(end)}
		for _, s := range sets {
			s.add(&c, index, at, from != to)
		}
		if last := len(cells) - 1; last >= 0 {
			same := c
			same.from, same.to = cells[last].from, cells[last].to
			if same == cells[last] {
				cells[last].to = c.to
				continue
			}
		}
		cells = append(cells, c)
	}
	t.cells[key] = cells
	return cells
}

// add takes what the rules say of a move for one box.
func (s *ruleset) add(c *cell, from, to int, crossing bool) {
	if s.r.Hops == nil {
		c.unsure = true
		return
	}
	rule := s.row(from)[class(s.toCut, to)]
	switch {
	case rule < 0 && crossing:
		c.forbidden = true
	case rule < 0:
		c.policy = true
	case s.unsure[rule]:
		c.unsure = true
		c.resets = c.resets || s.rules[rule].ResetsConfig
	case !*s.rules[rule].Allow:
		c.forbidden = true
	default:
		c.resets = c.resets || s.rules[rule].ResetsConfig
	}
}

// part is a stretch of versions that may be gone to.
type part struct {
	from, to      int32
	unsure, reset bool
}

// parts lists the stretches that may be gone to from a version.
func (t *team) parts(from, to, index int) []part {
	var out []part
	h := t.rules.Hops
	for _, c := range t.cellsFor(from, to, index) {
		if c.forbidden {
			continue
		}
		if !c.policy {
			out = append(out, part{c.from, c.to, c.unsure, c.resets})
			continue
		}
		at := int32(index)
		if h.Downward.Text == "open" && c.from < at {
			out = append(out, part{c.from, min(c.to, at), c.unsure, c.resets})
		}
		if c.from <= at && at < c.to {
			out = append(out, part{at, at + 1, c.unsure, c.resets})
		}
		if h.Upward.Text != "listed" && c.to > at+1 {
			out = append(out, part{max(c.from, at+1), c.to, c.unsure || !h.Upward.Set(), c.resets})
		}
	}
	return out
}
