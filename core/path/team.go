package path

import (
	"slices"
	"sort"

	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// team is the boxes that move together: one, or the members of a group that
// must run one version.
//
// The search does not look at the versions of components as such. Needs speak
// of ranges of them; versions between whose ends no range begins or ends are
// alike. Such stretches are places, and the places of all components of all
// boxes that some need speaks of are a context. What a release does to a
// context, and which needs hold in it, depends on nothing else.
type team struct {
	boxes []*Box
	rules *rulebook.Rulebook
	lines []*line
	// watched are the components that needs speak of, the main ones left out,
	// and the boot loader, each with the marks of those needs.
	watched   []watch
	crossings []crossing // by line left and line gone to
	scratch   []part

	contexts numbering
	brought  numbering
	afters   map[[2]int32]int32 // by context and what is brought: the context after
	places   [][]int16          // of each context: box by box, in the order of watched; -1 unknown
}

type watch struct {
	component string
	scheme    *version.Scheme
	marks     version.Marks
	taken     map[string][]bool // by the text of a range: the places in it
}

// newTeam takes boxes of one rulebook. lines are the families of each line, box
// by box.
//
// wanted is what a certified set asks of the components, box by box; nil for nothing.
func newTeam(boxes []*Box, lines [][]string, extra []string, wanted [][]rulebook.Wanted, o Options) *team {
	t := &team{boxes: boxes, rules: boxes[0].Rules, contexts: numbering{}, brought: numbering{}, afters: map[[2]int32]int32{}}
	for i, families := range lines {
		texts := extra
		if i > 0 && len(t.rules.Releases) > 0 { // what runs is of the first
			texts = nil
		}
		t.lines = append(t.lines, t.newLine(families, texts))
	}
	t.crossings = make([]crossing, len(t.lines)*len(t.lines))
	t.watch(wanted)
	for _, l := range t.lines {
		for _, v := range o.Avoid {
			if i := l.find(v); i >= 0 {
				l.avoid = append(l.avoid, i)
			}
		}
		for i := range l.candidates {
			t.prepare(l, &l.candidates[i], o)
		}
	}
	return t
}

// newLine lists the versions that a family has, or that its boxes run.
func (t *team) newLine(families, extra []string) *line {
	l := &line{families: families, family: families[0], spans: map[string][2][][2]int{}, main: t.rules.Main(families[0])}
	l.scheme = t.rules.Scheme(l.main)
	if f, ok := t.rules.Family(l.family); ok {
		l.bootPaired = pairs(f, "boot", l.main)
	}
	type entry struct {
		v   version.Version
		rel *rulebook.Release
	}
	var all []entry
	for i := range t.rules.Releases {
		rel := &t.rules.Releases[i]
		if slices.ContainsFunc(families, rel.OfFamily) {
			all = append(all, entry{rel.Parsed(), rel})
		}
	}
	for _, text := range extra {
		if v, err := l.scheme.Parse(text); err == nil {
			all = append(all, entry{v, nil})
		}
	}
	sort.SliceStable(all, func(i, j int) bool { return l.scheme.Compare(all[i].v, all[j].v) < 0 })
	for _, e := range all {
		n := len(l.versions)
		if n == 0 || l.scheme.Compare(l.versions[n-1], e.v) != 0 {
			l.versions = append(l.versions, e.v)
			l.candidates = append(l.candidates, candidate{index: n, releases: make([]*rulebook.Release, len(t.boxes))})
			n++
		}
		if e.rel == nil {
			continue
		}
		c := &l.candidates[n-1]
		c.listed = true
		for b, box := range t.boxes {
			if !e.rel.OfFamily(families[b]) {
				continue
			}
			if had := c.releases[b]; had != nil {
				if had.For(t.rules, box.Model, box.Revision) != truth.No {
					continue
				}
			}
			c.releases[b] = e.rel
		}
	}
	return l
}

// watch finds the components that needs, or a certified set, speak of.
func (t *team) watch(wanted [][]rulebook.Wanted) {
	ranges := map[string][]*version.Range{}
	for _, box := range wanted {
		for _, w := range box {
			ranges[w.Component] = append(ranges[w.Component], w.Range)
		}
	}
	mains := map[string]bool{}
	for _, l := range t.lines {
		mains[l.main] = true
	}
	t.watchBoot(ranges)
	for i := range t.rules.Releases {
		for k := range t.rules.Releases[i].Needs {
			if n := &t.rules.Releases[i].Needs[k]; n.Component.Set() {
				ranges[n.Component.Text] = append(ranges[n.Component.Text], n.Range)
			}
		}
	}
	var names []string
	for name := range ranges {
		if !mains[name] || len(mains) > 1 {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	for _, name := range names {
		s := t.rules.Scheme(name)
		t.watched = append(t.watched, watch{name, s, version.NewMarks(s, ranges[name]...), map[string][]bool{}})
	}
}

// watchBoot watches the boot loader where every version that is brought counts: where a
// release may not leave it out, because an older one never goes over a newer one; and of
// a group, where each member takes it that has an older one.
func (t *team) watchBoot(ranges map[string][]*version.Range) {
	for b, box := range t.boxes {
		for _, l := range t.lines {
			if box.optional(l.families[b], box.boot) && len(t.boxes) == 1 || box.boot == l.main {
				continue
			}
			for i := range l.candidates {
				rel := l.candidates[i].releases[b]
				if rel == nil {
					continue
				}
				if text, ok := box.bringsOf(rel, l.families[b], box.boot); ok {
					if r, err := version.ParseRange(t.rules.Scheme(box.boot), "="+text); err == nil {
						ranges[box.boot] = append(ranges[box.boot], r)
					}
				}
			}
		}
	}
}

func (t *team) watching(component string) int {
	return slices.IndexFunc(t.watched, func(w watch) bool { return w.component == component })
}

// context takes the versions of all components, box by box.
func (t *team) context(versions []map[string]string) int32 {
	places := make([]int16, 0, len(t.boxes)*len(t.watched))
	for b := range t.boxes {
		for _, w := range t.watched {
			place := int16(-1)
			if text, ok := versions[b][w.component]; ok {
				if v, err := w.scheme.Parse(text); err == nil {
					if at, sure := w.marks.Place(v); sure {
						place = int16(at)
					}
				}
			}
			places = append(places, place)
		}
	}
	return t.intern(places)
}

func (t *team) intern(places []int16) int32 {
	id := t.contexts.number(places)
	if int(id) == len(t.places) {
		t.places = append(t.places, places)
	}
	return id
}

// numbering numbers lists of places: equal ones alike.
type numbering map[string]int32

func (n numbering) number(list []int16) int32 {
	key := make([]byte, 0, 2*len(list))
	for _, p := range list {
		key = append(key, byte(p), byte(p>>8))
	}
	id, ok := n[string(key)]
	if !ok {
		id = int32(len(n))
		n[string(key)] = id
	}
	return id
}

// bootAlone tells whether a box may have its boot loader installed by itself.
func (t *team) bootAlone(l *line, b int) bool {
	if l.alone == nil {
		for b := range t.boxes {
			l.alone = append(l.alone, t.movesAlone(l, b))
		}
	}
	return l.alone[b]
}

func (t *team) movesAlone(l *line, b int) bool {
	family := l.families[b]
	box := t.boxes[b]
	if box.boot == l.main || !slices.Contains(box.components(family), box.boot) {
		return false
	}
	f, ok := t.rules.Family(family)
	if !ok {
		return false
	}
	return !slices.ContainsFunc(f.Paired, func(group []y.String) bool { return holds(group, box.boot) }) // pairs move together
}

// pairs tells whether two components are halves of one pair.
func pairs(f *rulebook.Family, a, b string) bool {
	return slices.ContainsFunc(f.Paired, func(group []y.String) bool { return holds(group, a) && holds(group, b) })
}

func holds(group []y.String, component string) bool {
	return slices.ContainsFunc(group, func(t y.String) bool { return t.Text == component })
}
