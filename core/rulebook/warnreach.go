package rulebook

import (
	"fmt"
	"iter"
	"slices"
	"strings"

	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Releases that no other leads to, those that are entered and not left, and needs that nothing
// meets. What a rule says of some models or revisions only is taken for allowed where it allows,
// and not for forbidden where it forbids: a warning holds for all devices.

// reach looks at the releases of each family.
func (w *warner) reach() {
	w.needs()
	h := w.r.Hops
	if h == nil || !h.Upward.Set() && len(h.Rules) == 0 {
		return
	}
	for _, f := range w.r.Families.Entries {
		w.family(f.Key)
	}
}

// standing is a release of a family, and where it lies among the versions that rules name.
type standing struct {
	*Release
	place int
}

// maxMoves bounds how many moves are tried in all.
const maxMoves = 1_000_000

func (w *warner) family(name string) {
	scheme := w.r.Scheme(w.r.Main(name))
	marks := w.spans.marks[scheme]
	var all []standing
	for i := range w.r.Releases {
		if rel := &w.r.Releases[i]; rel.OfFamily(name) {
			place, ok := marks.Place(rel.parsed)
			if !ok { // a release that leaves its build open may be at several
				return
			}
			all = append(all, standing{rel, place})
		}
	}
	if len(all) < 2 {
		return
	}
	slices.SortStableFunc(all, func(a, b standing) int { return scheme.Compare(a.parsed, b.parsed) })
	m := &moves{w: w, family: name, scheme: scheme, speaking: map[int][]*HopRule{}, left: maxMoves}
	m.between()
	newest := len(all) - 1
	for newest > 0 && all[newest].Withdrawn.Set() {
		newest--
	}
	for i, rel := range all {
		if m.left <= 0 {
			return
		}
		if rel.Withdrawn.Set() {
			continue
		}
		others := nearest(all, i)
		if i > 0 && !m.enters(rel) && !anyOf(others, func(o standing) bool { return m.allowed(o, rel) }) && m.left > 0 {
			w.warn(rel.Spot, "add a rule that allows it from some other, or take the release out", "nothing leads to the release %s: no move to it from another that is listed is allowed", rel.Version.Text)
			continue
		}
		if i < newest && !m.leaves(rel) && !anyOf(others, func(o standing) bool { return !o.Withdrawn.Set() && m.allowed(rel, o) }) && m.left > 0 {
			w.warn(rel.Spot, "add a rule that allows a move from it, or mark it as withdrawn", "the release %s is a dead end: it can be entered, and no move from it to another that is listed is allowed", rel.Version.Text)
		}
	}
}

// nearest goes through the other releases of a family, those beside a release first; of very
// many, some hundreds are enough.
func nearest(all []standing, at int) iter.Seq[standing] {
	return func(yield func(standing) bool) {
		for d := 1; d < min(len(all), 500); d++ {
			if at+d < len(all) && !yield(all[at+d]) || at-d >= 0 && !yield(all[at-d]) {
				return
			}
		}
	}
}

func anyOf(all iter.Seq[standing], is func(standing) bool) bool {
	for o := range all {
		if is(o) {
			return true
		}
	}
	return false
}

// moves decides moves within a family.
type moves struct {
	w        *warner
	family   string
	scheme   *version.Scheme
	speaking map[int][]*HopRule // by the place of the release that is installed
	left     int
	// Rules that allow moves from other families, and to them.
	into, outOf []*HopRule
}

// allowed tells whether some device may move from one release to another.
func (m *moves) allowed(from, to standing) bool {
	m.left--
	if !overlap(from.Models, to.Models) {
		return false
	}
	for _, n := range m.w.r.onMain(to.Release) {
		if !n.Range.Contains(from.parsed) && len(n.Models)+len(n.Revisions)+len(n.Families) == 0 {
			return false
		}
	}
	for _, rule := range m.rulesTo(to.place) {
		m.left--
		if !m.holds(rule.from, from.place) {
			continue
		}
		scoped := len(rule.Models)+len(rule.Revisions) > 0
		switch {
		case *rule.Allow:
			return true
		case !scoped:
			return false
		}
	}
	if m.scheme.Compare(to.parsed, from.parsed) > 0 {
		return m.w.r.Hops.Upward.Text != "listed"
	}
	return m.w.r.Hops.Downward.Text == "open"
}

// holds tells whether a place lies in a range.
func (m *moves) holds(r *version.Range, place int) bool {
	x, ok := m.w.spans.in(m.scheme, r)
	return ok && version.Overlap(x, [][2]int{{place, place + 1}})
}

// rulesTo are the rules that speak of moves to a place, within the family.
func (m *moves) rulesTo(place int) []*HopRule {
	if have, ok := m.speaking[place]; ok {
		return have
	}
	out := []*HopRule{}
	for i := range m.w.r.Hops.Rules {
		rule := &m.w.r.Hops.Rules[i]
		if rule.FromFamily.Set() && !strings.EqualFold(rule.FromFamily.Text, m.family) || rule.ToFamily.Set() && !strings.EqualFold(rule.ToFamily.Text, m.family) {
			continue
		}
		if m.holds(rule.to, place) {
			out = append(out, rule)
		}
	}
	m.speaking[place] = out
	return out
}

// enters tells whether a rule leads to a release from another family.
func (m *moves) enters(rel standing) bool {
	return slices.ContainsFunc(m.into, func(h *HopRule) bool { return m.holds(h.to, rel.place) })
}

// leaves tells whether a rule leads from a release to another family.
func (m *moves) leaves(rel standing) bool {
	return slices.ContainsFunc(m.outOf, func(h *HopRule) bool { return m.holds(h.from, rel.place) })
}

// between takes the rules that allow moves from and to other families.
func (m *moves) between() {
	ours := func(t y.String) bool { return strings.EqualFold(t.Text, m.family) }
	for i := range m.w.r.Hops.Rules {
		h := &m.w.r.Hops.Rules[i]
		if !*h.Allow || !h.FromFamily.Set() && !h.ToFamily.Set() {
			continue
		}
		if (ours(h.ToFamily) || !h.ToFamily.Set()) && !ours(h.FromFamily) {
			m.into = append(m.into, h)
		}
		if (ours(h.FromFamily) || !h.FromFamily.Set()) && !ours(h.ToFamily) {
			m.outOf = append(m.outOf, h)
		}
	}
}

// needs finds those on a component that releases bring, and no release in the range.
func (w *warner) needs() {
	brought := map[string][]version.Version{} // by component, in ascending order
	add := func(component, text string) {
		if v, err := w.r.Scheme(component).Parse(text); err == nil {
			brought[component] = append(brought[component], v)
		}
	}
	for i := range w.r.Releases {
		rel := &w.r.Releases[i]
		main := w.r.mainFor(rel.Families)
		if _, ok := rel.Brings.Get(main); !ok {
			add(main, rel.Version.Text)
		}
		for _, b := range rel.Brings.Entries {
			add(b.Key, b.Value.Text)
		}
	}
	for component, list := range brought {
		s := w.r.Scheme(component)
		slices.SortFunc(list, s.Compare)
	}
	met := map[string]bool{}
	for i := range w.r.Releases {
		rel := &w.r.Releases[i]
		for k := range rel.Needs {
			n := &rel.Needs[k]
			list := brought[n.Component.Text]
			if n.Range == nil || len(list) == 0 {
				continue
			}
			key := n.Component.Text + " " + n.Within.Text
			ok, known := met[key]
			if !known {
				in, unsure := n.Range.Spans(w.r.Scheme(n.Component.Text), list)
				ok = len(in)+len(unsure) > 0
				met[key] = ok
			}
			if ok {
				continue
			}
			w.warn(n.Spot, fmt.Sprintf("list the release that brings it, or correct within:; releases bring %s", versionsText(list)), "no release that is listed brings %s %s, which %s needs", n.Component.Text, n.Within.Text, rel.Version.Text)
		}
	}
}

// versionsText names a few versions: the lowest, and the highest.
func versionsText(list []version.Version) string {
	list = slices.CompactFunc(slices.Clone(list), func(a, b version.Version) bool { return a.Text == b.Text })
	if n := len(list); n > 3 {
		return fmt.Sprintf("%s to %s", list[0].Text, list[n-1].Text)
	}
	var out []string
	for _, v := range list {
		out = append(out, v.Text)
	}
	return strings.Join(out, ", ")
}
