package path

import (
	"fmt"

	"fitcheck/core/truth"
)

// The search is Dijkstra's algorithm over the states: version of the main component,
// and context. What a move costs hangs on the version gone to, and on the rule
// only by whether it resets the configuration. So, in one context, a version
// that was reached without a reset from the cheapest state that leads there
// need not be looked at again, and of those that were reached by a reset only
// whether something leads there without one. Each state looks only at the
// versions that are still open, and the work grows with the versions rather
// than with their pairs.

// TooManyStates says that a search was given up at its bound.
type TooManyStates struct{ Bound int }

func (e *TooManyStates) Error() string {
	return fmt.Sprintf("the search was given up after %d states; raise the bound with -max-states, or take releases that nobody installs any more out of the rulebook", e.Bound)
}

// cost is compared from the first number to the last: what is preferred, then how
// many hops no rule gives as a hint, then how far the releases are from the newest.
type cost [5]int32

func (c cost) less(d cost) bool {
	for i := range c {
		if c[i] != d[i] {
			return c[i] < d[i]
		}
	}
	return false
}

func (c cost) plus(d cost) cost {
	for i := range c {
		c[i] += d[i]
	}
	return c
}

// price is the cost of a hop.
func (p Prefer) price(reset bool, outage, aside, age int32) cost {
	r := int32(0)
	if reset {
		r = 1
	}
	switch p {
	case Hops:
		return cost{1, r, outage, aside, age}
	case Outage:
		return cost{outage, r, 1, aside, age}
	}
	return cost{r, 1, outage, aside, age}
}

// state is what a team runs.
type state struct {
	line, version int32
	context       int32
}

// move is one hop: the release of a version, or only the boot loader of it.
type move struct {
	line, version int32
	bootOnly      bool
	reset         bool
}

type node struct {
	state
	cost cost
	via  move
	prev int32 // -1 at the start
	done bool
}

// search is one run.
type search struct {
	t      *team
	prefer Prefer
	// maybe: what is not known counts as right.
	maybe  bool
	bound  int
	banned map[hopKey]bool

	nodes  []node
	places map[[2]int32][]int32 // by context and line: the node of each version, -1 for none
	queue  []queued
	fields map[[2]int32]*openVersions // by context and line
	alone  map[[2]int32][]bootMove
	unsure bool // something that is not known was met
	filled int
}

type queued struct {
	cost cost
	node int32
}

// hopKey names a hop that is not to be taken.
type hopKey struct {
	fromLine, from, line, version int32
	bootOnly                      bool
}

// push and pop keep the cheapest in front: a binary heap, without the boxes that
// the standard one makes of every entry.
func (s *search) push(q queued) {
	s.queue = append(s.queue, q)
	for i := len(s.queue) - 1; i > 0; {
		parent := (i - 1) / 2
		if !s.queue[i].cost.less(s.queue[parent].cost) {
			break
		}
		s.queue[i], s.queue[parent] = s.queue[parent], s.queue[i]
		i = parent
	}
}

func (s *search) pop() queued {
	first, last := s.queue[0], len(s.queue)-1
	s.queue[0] = s.queue[last]
	s.queue = s.queue[:last]
	for i := 0; ; {
		least := i
		for _, child := range [2]int{2*i + 1, 2*i + 2} {
			if child < last && s.queue[child].cost.less(s.queue[least].cost) {
				least = child
			}
		}
		if least == i {
			return first
		}
		s.queue[i], s.queue[least] = s.queue[least], s.queue[i]
		i = least
	}
}

// openVersions is which versions of a line are open to moves in a context. next
// chains the closed ones to the open ones: the first for moves that keep the
// configuration, the second for those that reset it.
type openVersions struct{ next [2][]int32 }

func (f *openVersions) open(kind int, i int32) int32 {
	next := f.next[kind]
	for next[i] != i {
		next[i] = next[next[i]]
		i = next[i]
	}
	return i
}

// maxFields bounds the memory of fields and of the lists of nodes, in numbers.
const maxFields = 1 << 24

func (s *search) field(context, line int32) (*openVersions, error) {
	key := [2]int32{context, line}
	if f := s.fields[key]; f != nil {
		return f, nil
	}
	l := s.t.lines[line]
	n := len(l.versions)
	if s.filled += 2 * n; s.filled > maxFields {
		return nil, &TooManyStates{s.bound}
	}
	f := &openVersions{[2][]int32{make([]int32, n+1), make([]int32, n+1)}}
	for i := range n {
		may := s.t.possible(l, &l.candidates[i], context)
		s.unsure = s.unsure || may == truth.Unknown
		open := int32(i)
		if may == truth.No || may == truth.Unknown && !s.maybe {
			open++
		}
		f.next[0][i], f.next[1][i] = open, open
	}
	f.next[0][n], f.next[1][n] = int32(n), int32(n)
	s.fields[key] = f
	return f, nil
}

// run searches from a state until one is reached that the goal takes, or all
// are seen. It gives the node reached, or -1.
func (s *search) run(from state, goal func(state) bool) (int32, error) {
	s.places, s.fields, s.alone = map[[2]int32][]int32{}, map[[2]int32]*openVersions{}, map[[2]int32][]bootMove{}
	if s.bound == 0 {
		s.bound = MaxStates
	}
	s.nodes = make([]node, 0, 2*len(s.t.lines[from.line].versions))
	s.nodes = append(s.nodes, node{state: from, prev: -1})
	s.at(from)[from.version] = 0
	s.push(queued{node: 0})
	for len(s.queue) > 0 {
		q := s.pop()
		n := &s.nodes[q.node]
		if n.done || n.cost != q.cost {
			continue
		}
		n.done = true
		if goal(n.state) {
			return q.node, nil
		}
		if err := s.expand(q.node); err != nil {
			return -1, err
		}
		if len(s.nodes) > s.bound {
			return -1, &TooManyStates{s.bound}
		}
	}
	return -1, nil
}

func (s *search) expand(at int32) error {
	n := s.nodes[at]
	// First, so that of two moves of one cost the boot loader alone is taken.
	for _, b := range s.bootMoves(n.context, n.line) {
		if !s.banned[hopKey{n.line, n.version, n.line, b.version, true}] {
			s.reach(at, state{n.line, n.version, b.context}, b.price, move{n.line, b.version, true, false})
		}
	}
	for line := range s.t.lines {
		f, err := s.field(n.context, int32(line))
		if err != nil {
			return err
		}
		for _, p := range s.t.parts(int(n.line), line, int(n.version)) {
			if p.unsure {
				if s.unsure = true; !s.maybe {
					continue
				}
			}
			s.expandPart(at, int32(line), f, p)
		}
	}
	return nil
}

func (s *search) expandPart(at, line int32, f *openVersions, p part) {
	n := s.nodes[at]
	l := s.t.lines[line]
	kind := 0
	if p.reset {
		kind = 1
	}
	for v := f.open(kind, p.from); v < p.to; v = f.open(kind, v+1) {
		c := &l.candidates[v]
		met := s.t.mainsMet(c, n.state, line)
		s.unsure = s.unsure || met == truth.Unknown
		if met == truth.No || met == truth.Unknown && !s.maybe || s.t.lowersPairedBoot(n.state, line, v) || s.banned[hopKey{n.line, n.version, line, v, false}] {
			continue
		}
		f.next[1][v] = v + 1
		if kind == 0 {
			f.next[0][v] = v + 1
		}
		reset := p.reset || c.resets
		price := s.prefer.price(reset, c.outage, c.aside, int32(len(l.versions))-1-v)
		s.reach(at, state{line, v, s.t.after(c, n.context)}, price, move{line, v, false, reset})
	}
}

func (s *search) reach(from int32, to state, price cost, via move) {
	total := s.nodes[from].cost.plus(price)
	nodes := s.at(to)
	i := nodes[to.version]
	switch {
	case i < 0:
		i = int32(len(s.nodes))
		nodes[to.version] = i
		s.nodes = append(s.nodes, node{state: to, cost: total, via: via, prev: from})
	case s.nodes[i].done || !total.less(s.nodes[i].cost):
		return
	default:
		s.nodes[i].cost, s.nodes[i].via, s.nodes[i].prev = total, via, from
	}
	s.push(queued{total, i})
}

// at lists the nodes of a context and line.
func (s *search) at(of state) []int32 {
	key := [2]int32{of.context, of.line}
	nodes := s.places[key]
	if nodes == nil {
		nodes = make([]int32, len(s.t.lines[of.line].versions))
		for i := range nodes {
			nodes[i] = -1
		}
		s.places[key] = nodes
		s.filled += len(nodes)
	}
	return nodes
}

// mainsMet tells whether the needs of a release on the main component hold.
func (t *team) mainsMet(c *candidate, from state, line int32) truth.Truth {
	all := truth.Yes
	for i := range c.mains {
		m := &c.mains[i]
		switch {
		case m.need.Doubt() != "":
			all = all.And(truth.Unknown)
		case from.line == line:
			is := truth.No
			if within(m.spans, int(from.version)) {
				is = truth.Yes
			} else if within(m.unsure, int(from.version)) {
				is = truth.Unknown
			}
			all = all.And(is)
		case t.lines[from.line].main != t.lines[line].main:
			return truth.No
		default:
			all = all.And(m.need.Range.Holds(t.lines[from.line].versions[from.version]))
		}
	}
	return all
}

func within(spans [][2]int, i int) bool {
	for _, x := range spans {
		if x[0] <= i && i < x[1] {
			return true
		}
	}
	return false
}

// lowersPairedBoot: a boot loader that is half of a pair with the main
// component would have to go down with it.
func (t *team) lowersPairedBoot(from state, line, version int32) bool {
	l := t.lines[line]
	return l.bootPaired && from.line == line && version < from.version
}

// bootMove is the boot loaders of one release, installed by themselves.
type bootMove struct {
	version int32
	context int32
	price   cost
}

// bootMoves lists, for each context that they lead to, the cheapest.
func (s *search) bootMoves(context, line int32) []bootMove {
	key := [2]int32{context, line}
	if known, ok := s.alone[key]; ok {
		return known
	}
	l := s.t.lines[line]
	best := map[int32]int{}
	var out []bootMove
	for i := range l.candidates {
		c := &l.candidates[i]
		to, ok := s.bootAfter(c, l, context)
		if !ok {
			continue
		}
		b := bootMove{int32(i), to, s.prefer.price(false, c.outage, c.aside, int32(len(l.versions)-1-i))}
		k, seen := best[to]
		switch {
		case !seen:
			best[to] = len(out)
			out = append(out, b)
		case len(s.banned) > 0: // one of them may not be taken
			out = append(out, b)
		case b.price.less(out[k].price):
			out[k] = b
		}
	}
	s.alone[key] = out
	return out
}

// bootAfter is the context once every box whose boot loader a release raises
// has it.
func (s *search) bootAfter(c *candidate, l *line, context int32) (int32, bool) {
	t := s.t
	var places []int16
	for b, box := range t.boxes {
		if !t.bootAlone(l, b) {
			continue
		}
		w := t.watching(box.boot)
		if w < 0 {
			continue
		}
		i := b*len(t.watched) + w
		to, have := c.brings[i], t.places[context][i]
		if to < 0 || to <= have {
			continue
		}
		may := t.bootPossible(c, b, context)
		if may != truth.No && have < 0 {
			may = truth.Unknown // a newer one may be there
		}
		if may == truth.No {
			continue // the others go without it
		}
		if may == truth.Unknown {
			if s.unsure = true; !s.maybe {
				return 0, false
			}
		}
		if places == nil {
			places = append(places, t.places[context]...)
		}
		places[i] = to
	}
	if places == nil {
		return 0, false
	}
	return t.intern(places), true
}

// moves lists the moves that lead to a node.
func (s *search) moves(to int32) []move {
	var out []move
	for i := to; s.nodes[i].prev >= 0; i = s.nodes[i].prev {
		out = append([]move{s.nodes[i].via}, out...)
	}
	return out
}
