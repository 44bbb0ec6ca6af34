package rulebook

import (
	"slices"
	"strings"

	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Rules are held against each other on the line of all versions that their ranges could name,
// cut at the versions that they do name: a range becomes a few spans of numbers, and comparing
// two of them costs next to nothing, however many rules there are.

// spans are the ranges of a rulebook's rules and needs as spans of places, by their scheme.
type spans struct {
	marks map[*version.Scheme]version.Marks
	of    map[*version.Range][][2]int
}

// spansOf takes the ranges of hop rules, and of needs on the component that hops speak of.
func (r *Rulebook) spansOf() *spans {
	all := map[*version.Scheme][]*version.Range{}
	add := func(x *version.Range) {
		if x != nil {
			all[x.Scheme()] = append(all[x.Scheme()], x)
		}
	}
	for i := range r.Hops.Rules {
		add(r.Hops.Rules[i].from)
		add(r.Hops.Rules[i].to)
	}
	for i := range r.Releases {
		for _, n := range r.onMain(&r.Releases[i]) {
			add(n.Range)
		}
	}
	s := &spans{map[*version.Scheme]version.Marks{}, map[*version.Range][][2]int{}}
	for scheme, ranges := range all {
		m := version.NewMarks(scheme, ranges...)
		s.marks[scheme] = m
		for _, x := range ranges {
			s.of[x] = m.Spans(x)
		}
	}
	return s
}

// onMain lists the needs of a release on the component that hops speak of.
func (r *Rulebook) onMain(rel *Release) []*Need {
	var out []*Need
	main := ""
	for k := range rel.Needs {
		n := &rel.Needs[k]
		if n.Range == nil || !n.Component.Set() {
			continue
		}
		if main == "" {
			main = r.mainFor(rel.Families)
		}
		if n.Component.Text == main {
			out = append(out, n)
		}
	}
	return out
}

// in is a range in the spans of a scheme; nil is all of it. ok is false of one of another scheme.
func (s *spans) in(scheme *version.Scheme, r *version.Range) (out [][2]int, ok bool) {
	if r == nil {
		return s.marks[scheme].Spans(nil), true
	}
	return s.of[r], r.Scheme() == scheme
}

// covers tells whether every version of one range lies in another; nil stands for any version.
func (s *spans) covers(outer, inner *version.Range) bool {
	if outer == nil {
		return true
	}
	x, ok := s.in(outer.Scheme(), inner)
	return ok && version.Covered(x, s.of[outer])
}

// meet tells whether some version lies in both of two ranges of one scheme.
func (s *spans) meet(a, b *version.Range) bool {
	if a == nil || b == nil {
		return true
	}
	return a.Scheme() != b.Scheme() || version.Overlap(s.of[a], s.of[b])
}

// rules finds hop rules that never decide.
func (w *warner) rules() {
	if w.r.Hops == nil {
		return
	}
	w.spans = w.r.spansOf()
	// A rule that speaks of one version only covers none but those of the same version.
	var wide []*HopRule
	points := map[string][]*HopRule{}
	needy := w.needy()
	for i := range w.r.Hops.Rules {
		rule := &w.r.Hops.Rules[i]
		w.scope(rule.Models, []y.String{rule.FromFamily, rule.ToFamily})
		if rule.Via.Set() && len(w.r.Releases) > 0 && w.r.FindRelease(rule.Via.Text, rule.FromFamily.Text, "", "") == nil {
			w.warn(rule.Via.Spot, w.near(rule.Via.Text, w.r.Known()), "via names %s, which is no release of the rulebook", rule.Via.Text)
		}
		earlier := slices.Concat(wide[:min(len(wide), maxCompared)], points[rule.From.Text])
		slices.SortStableFunc(earlier, func(a, b *HopRule) int { return a.Line - b.Line })
		if rule.From.Set() && !strings.ContainsAny(rule.From.Text, "<>|*") {
			points[rule.From.Text] = append(points[rule.From.Text], rule)
		} else {
			wide = append(wide, rule)
		}
		for _, before := range earlier {
			if !w.coversAll(before, rule) {
				continue
			}
			switch {
			case *before.Allow == *rule.Allow:
				w.warn(rule.Spot, "take it out, or put it before that one", "this rule never decides: the rule in line %d comes first and matches all that it would", before.Line)
			case w.coversAll(rule, before):
				w.warn(rule.Spot, "find out which of the two is right, and take the other one out", "this rule contradicts the one in line %d, which speaks of the same moves and comes first", before.Line)
			default:
				w.warn(rule.Spot, "put it before that one if it is the exception", "this rule never decides, and says otherwise than the rule in line %d, which comes first and matches all that it would", before.Line)
			}
			break
		}
		w.neverHolds(rule, needy)
	}
}

// maxCompared is how many rules that speak of several versions are held against another.
const maxCompared = 2000

// needy lists the releases that need something of the component that hops speak of.
func (w *warner) needy() []*Release {
	var out []*Release
	for i := range w.r.Releases {
		if len(w.r.onMain(&w.r.Releases[i])) > 0 {
			out = append(out, &w.r.Releases[i])
		}
	}
	return out
}

// neverHolds finds rules that allow what the need of every release on main
// forbids.
func (w *warner) neverHolds(rule *HopRule, needy []*Release) {
	if !*rule.Allow || rule.from == nil {
		return
	}
	for _, rel := range needy {
		for _, n := range w.r.onMain(rel) {
			if !w.spans.meet(n.Range, rule.from) && (rule.to == nil || rule.to.Contains(rel.parsed)) {
				w.warn(rule.Spot, "correct one of the two", "this rule allows moves from %s to %s, and that release needs %s %s (line %d)", rule.From.Text, rel.Version.Text, n.Component.Text, n.Within.Text, n.Line)
			}
		}
	}
}

// coversAll tells whether a rule matches every move that another matches.
func (w *warner) coversAll(h, o *HopRule) bool {
	sameFamily := !o.FromFamily.Set() && !o.ToFamily.Set()
	switch {
	case !h.FromFamily.Set() && !h.ToFamily.Set():
		if !sameFamily {
			return false
		}
	case sameFamily:
		return false
	default:
		if h.FromFamily.Set() && !strings.EqualFold(h.FromFamily.Text, o.FromFamily.Text) || h.ToFamily.Set() && !strings.EqualFold(h.ToFamily.Text, o.ToFamily.Text) {
			return false
		}
	}
	return within(o.Models, h.Models) && within(o.Revisions, h.Revisions) && w.spans.covers(h.from, o.from) && w.spans.covers(h.to, o.to)
}
