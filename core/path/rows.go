package path

import (
	"slices"
	"sort"
	"strconv"
	"strings"

	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	"fitcheck/core/version"
)

// Hop rules by the numbers. The versions of a family stand in a sorted list,
// and ranges become stretches of it. Versions between whose places no rule
// begins or ends to speak of what is left are a class: for each class, the
// versions gone to fall into runs of which one rule decides.

// line is the versions that the boxes of a team can be at while they run some
// image families, in order.
type line struct {
	families   []string // of each box
	family     string   // of the first
	main       string   // the main component
	scheme     *version.Scheme
	versions   []version.Version
	candidates []candidate            // for each version
	spans      map[string][2][][2]int // by the text of a range: the versions in it, and those that may be
	avoid      []int
	alone      []bool // by box: its boot loader may be installed by itself
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
	fromSpan []intervals // of each rule, in the versions of the family that is left
	toSpan   []intervals // in the versions of the family that is gone to
	fromCut  []int       // where classes of the family that is left begin
	to       int         // how many versions the family gone to has
	runs     [][]run     // by the class that is left
}

// intervals are the stretches of versions that a range holds, and those that it may hold.
type intervals struct{ in, unsure [][2]int }

// has tells whether a version is or may be in, and whether that is sure.
func (s intervals) has(i int) (is, sure bool) {
	if within(s.in, i) {
		return true, true
	}
	return within(s.unsure, i), false
}

func (s intervals) none() bool { return len(s.in) == 0 && len(s.unsure) == 0 }

// all lists both kinds of stretches.
func (s intervals) all() [][2]int {
	if len(s.unsure) == 0 {
		return s.in
	}
	return append(append([][2]int(nil), s.in...), s.unsure...)
}

// run is a stretch of versions gone to for which one rule decides, or none (-1).
// unsure: whether it does is not known.
type run struct {
	from, to int
	rule     int
	unsure   bool
}

func newRuleset(b *Box, from, to *line, fromFamily, toFamily string) *ruleset {
	s := &ruleset{r: b.Rules, fromCut: []int{0}, to: len(to.versions)}
	if b.Rules.Hops == nil {
		s.runs = make([][]run, 1)
		return s
	}
	for i := range b.Rules.Hops.Rules {
		h := &b.Rules.Hops.Rules[i]
		speaks := h.Speaks(b.Rules, rulebook.Move{FromFamily: fromFamily, ToFamily: toFamily, Model: b.Model, Revision: b.Revision})
		if speaks == truth.No {
			continue
		}
		rf, rt := h.Ranges()
		var fs, ts intervals
		fs.in, fs.unsure = rf.Spans(from.scheme, from.versions)
		ts.in, ts.unsure = rt.Spans(to.scheme, to.versions)
		if fs.none() || ts.none() {
			continue
		}
		s.rules, s.unsure = append(s.rules, h), append(s.unsure, speaks == truth.Unknown)
		s.fromSpan, s.toSpan = append(s.fromSpan, fs), append(s.toSpan, ts)
		for _, x := range fs.all() {
			s.fromCut = append(s.fromCut, x[0], x[1])
		}
	}
	s.fromCut = stretches(s.fromCut, len(from.versions))
	s.runs = make([][]run, len(s.fromCut))
	return s
}

// stretches sorts the places where stretches of a list begin; its end is none.
func stretches(cut []int, n int) []int {
	slices.Sort(cut)
	cut = slices.Compact(cut)
	for len(cut) > 1 && cut[len(cut)-1] >= n {
		cut = cut[:len(cut)-1]
	}
	return cut
}

// class finds the stretch of an index.
func class(cut []int, index int) int {
	return sort.SearchInts(cut, index+1) - 1
}

// row tells which rule decides moves from a version: the first that matches.
func (s *ruleset) row(from int) []run {
	k := class(s.fromCut, from)
	if s.runs[k] != nil {
		return s.runs[k]
	}
	at := s.fromCut[k]
	var match []int
	cut := []int{0}
	for i := range s.rules {
		if is, _ := s.fromSpan[i].has(at); is {
			match = append(match, i)
			for _, x := range s.toSpan[i].all() {
				cut = append(cut, x[0], x[1])
			}
		}
	}
	cut = stretches(cut, s.to)
	runs := make([]run, len(cut))
	for i, first := range cut {
		runs[i] = run{first, s.to, -1, false}
		if i+1 < len(cut) {
			runs[i].to = cut[i+1]
		}
	}
	// Each rule takes the runs that none before it has taken; next leads from one
	// that is taken to the next that may not be.
	next := make([]int, len(runs)+1)
	for i := range next {
		next[i] = i
	}
	free := func(i int) int {
		for next[i] != i {
			next[i] = next[next[i]]
			i = next[i]
		}
		return i
	}
	for _, rule := range match {
		_, sure := s.fromSpan[rule].has(at)
		for k, stretches := range [2][][2]int{s.toSpan[rule].in, s.toSpan[rule].unsure} {
			for _, x := range stretches {
				for i := free(class(cut, x[0])); i < len(runs) && runs[i].from < x[1]; i = free(i + 1) {
					runs[i].rule, runs[i].unsure = rule, !sure || k == 1 || s.unsure[rule]
					next[i] = i + 1
				}
			}
		}
	}
	s.runs[k] = runs
	return runs
}

// cell is a stretch of versions gone to for which the rules say one thing.
type cell struct {
	from, to int32
	// forbidden: a rule forbids it for some box. unsure: the rulebook does not
	// settle it for some box. policy: no rule speaks for some box, so that it
	// depends on whether the move goes up or down.
	forbidden, unsure, policy, resets bool
}

// crossing is moves from one line to another, with the rules for each kind of
// box among those that make them.
type crossing struct {
	sets  []*ruleset
	cells [][]cell          // by the class that is left, where there is one kind
	kinds map[string][]cell // by the classes for all kinds, where there are several
}

func (t *team) crossing(from, to int) *crossing {
	x := &t.crossings[from*len(t.lines)+to]
	if x.sets != nil {
		return x
	}
	a, b := t.lines[from], t.lines[to]
	known := map[string]bool{}
	for i, box := range t.boxes {
		key := strings.Join([]string{box.Model, box.Revision, a.families[i], b.families[i]}, "\x00")
		if !known[key] {
			known[key] = true
			x.sets = append(x.sets, newRuleset(box, a, b, a.families[i], b.families[i]))
		}
	}
	x.cells, x.kinds = make([][]cell, len(x.sets[0].fromCut)), map[string][]cell{}
	return x
}

// cellsFor tells for moves from a version of one line what the rules say of all
// versions of another, for all boxes together.
func (t *team) cellsFor(from, to, index int) []cell {
	x := t.crossing(from, to)
	if len(x.sets) == 1 {
		known := &x.cells[class(x.sets[0].fromCut, index)]
		if *known == nil {
			*known = t.newCells(x.sets, from, to, index)
		}
		return *known
	}
	key := ""
	for _, s := range x.sets {
		key += strconv.Itoa(class(s.fromCut, index)) + " "
	}
	cells, ok := x.kinds[key]
	if !ok {
		cells = t.newCells(x.sets, from, to, index)
		x.kinds[key] = cells
	}
	return cells
}

func (t *team) newCells(sets []*ruleset, from, to, index int) []cell {
	rows := make([][]run, len(sets))
	cuts := []int{0}
	for k, s := range sets {
		rows[k] = s.row(index)
		for _, r := range rows[k] {
			cuts = append(cuts, r.from)
		}
	}
	n := len(t.lines[to].versions)
	if n == 0 { // a family of which nothing is known
		return []cell{}
	}
	cuts = stretches(cuts, n)
	at := make([]int, len(sets)) // run of each set
	var cells []cell
	for i, first := range cuts {
		end := n
		if i+1 < len(cuts) {
			end = cuts[i+1]
		}
		c := cell{from: int32(first), to: int32(end)}
		for k, s := range sets {
			if rows[k][at[k]].to <= first {
				at[k]++
			}
			s.add(&c, rows[k][at[k]], from != to)
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
	return cells
}

// add takes what a rule, or the policy, says of a move for one box.
func (s *ruleset) add(c *cell, r run, crossing bool) {
	if s.r.Hops == nil {
		c.unsure = true
		return
	}
	switch rule := r.rule; {
	case rule < 0 && crossing:
		c.forbidden = true
	case rule < 0:
		c.policy = true
	case r.unsure:
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

// parts lists the stretches that may be gone to from a version; the list holds
// until the next call.
func (t *team) parts(from, to, index int) []part {
	out := t.scratch[:0]
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
		if open := t.openBuilds(from, index, c); len(open) > 0 && (h.Upward.Text != "open" || h.Downward.Text != "open") {
			out = t.unsettle(out, open, c)
		}
	}
	t.scratch = out
	return out
}

// openBuilds lists the versions of a stretch of which nobody can say whether they are
// newer or older than one: they differ from it in a build that one of the two leaves open.
func (t *team) openBuilds(line, index int, c cell) []int32 {
	l := t.lines[line]
	v := l.versions[index]
	var out []int32
	for _, step := range [2]int{-1, 1} {
		for i := index + step; i >= 0 && i < len(l.versions) && l.scheme.Alike(l.versions[i], v); i += step {
			if _, known := l.scheme.Rank(l.versions[i], v); !known && int32(i) >= c.from && int32(i) < c.to {
				out = append(out, int32(i))
			}
		}
	}
	return out
}

// unsettle cuts versions out of stretches, and adds them as not settled.
func (t *team) unsettle(all []part, open []int32, c cell) []part {
	var out []part
	for _, p := range all {
		from := p.from
		for i := p.from; i < p.to; i++ {
			if slices.Contains(open, i) {
				if from < i {
					out = append(out, part{from, i, p.unsure, p.reset})
				}
				from = i + 1
			}
		}
		if from < p.to {
			out = append(out, part{from, p.to, p.unsure, p.reset})
		}
	}
	for _, i := range open {
		out = append(out, part{i, i + 1, true, c.resets})
	}
	return out
}

// entered tells whether the rules let anything but a version itself come to it;
// needs and all else apart.
func (t *team) entered(line, version int32) bool {
	h := t.rules.Hops
	if h == nil {
		return true
	}
	for from := range t.lines {
		for i := range t.lines[from].versions {
			if from == int(line) && i == int(version) {
				continue
			}
			cells := t.cellsFor(from, int(line), i)
			c := cells[sort.Search(len(cells), func(k int) bool { return cells[k].to > version })]
			switch {
			case c.forbidden:
			case !c.policy, int(version) > i && h.Upward.Text != "listed", int(version) < i && h.Downward.Text == "open":
				return true
			}
		}
	}
	return false
}
