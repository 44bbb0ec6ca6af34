package path

import (
	"fmt"
	"maps"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	"fitcheck/core/version"
)

// What the search does by numbers is told here by words: the same questions,
// put to the rulebook one move at a time.

// stand is what the boxes of a team run at some point, in full.
type stand struct {
	line, version int32
	components    []map[string]string // by box, the main component left out
}

func (t *team) text(line, v int32) string { return t.lines[line].versions[v].Text }

// from is the version of the main component that a box is at.
func (t *team) from(s stand) version.Version { return t.lines[s.line].versions[s.version] }

// against lists all that is against a move, box by box; one that every box has
// stands there once.
func (t *team) against(s stand, m move) []reason {
	var all [][]reason
	for b := range t.boxes {
		if m.bootOnly && !t.raises(s, m, b) {
			continue
		}
		all = append(all, t.boxAgainst(s, m, b))
	}
	if len(all) == 0 {
		return []reason{{text: "it raises no boot loader"}}
	}
	var out []reason
	for i, reasons := range all {
		for _, r := range reasons {
			shared, first := 0, true
			for k, others := range all {
				for _, o := range others {
					if o.text == r.text {
						shared++
						first = first && k >= i
						break
					}
				}
			}
			if !first {
				continue
			}
			if shared < len(t.boxes) && len(t.boxes) > 1 {
				r.text = t.boxes[r.box].Device.Name.Text + ": " + r.text
			}
			out = append(out, r)
		}
	}
	return out
}

// bringsOlderBoot tells that a release would write an older boot loader over the one installed on a box.
func (t *team) bringsOlderBoot(s stand, m move, b int, rel *rulebook.Release) (reason, bool) {
	l, box := t.lines[m.line], t.boxes[b]
	if m.bootOnly || box.boot == l.main || box.optional(l.families[b], box.boot) {
		return reason{}, false
	}
	v, brings := box.bringsOf(rel, l.families[b], box.boot)
	have, known := s.components[b][box.boot]
	if !brings || !known || t.newer(box.boot, v, have) || t.rules.Scheme(box.boot).Equal(v, have) {
		return reason{}, false
	}
	return reason{code: versionOlderBoot, text: fmt.Sprintf("it brings %s %s, and the newer %s is installed: an older boot loader is never written over a newer one", box.boot, v, have), sources: []Cited{{"brings " + v, t.rules.Source(rel.Spot)}}}, true
}

// boxAgainst are the reasons of one box against a move.
func (t *team) boxAgainst(s stand, m move, b int) []reason {
	l, box := t.lines[m.line], t.boxes[b]
	c := &l.candidates[m.version]
	rel := c.releases[b]
	if rel == nil {
		r := reason{code: pathNotListed, box: b, text: fmt.Sprintf("the rulebook lists no release %s for %s", l.versions[m.version].Text, box.hardware())}
		if l.families[b] != "" {
			r.text += ", family " + l.families[b]
		}
		r.sources = []Cited{{"not listed", fact.Source{Kind: fact.Rulebook, File: t.rules.File}}}
		return []reason{r}
	}
	of := Cited{"release " + l.versions[m.version].Text, t.rules.Source(rel.Spot)}
	out := append([]reason(nil), c.standing[b]...)
	if !m.bootOnly {
		if r, ok := t.forbidden(s, m, b); ok {
			out = append(out, r)
		}
		if t.lowersPairedBoot(state{line: s.line, version: s.version}, m.line, m.version) {
			out = append(out, reason{code: versionOlderBoot, text: "its boot loader is older than the one installed and moves with the " + l.main, sources: []Cited{of}})
		}
	}
	if r, ok := t.bringsOlderBoot(s, m, b, rel); ok {
		out = append(out, r)
	}
	if _, known := s.components[b][box.boot]; m.bootOnly && !known {
		out = append(out, reason{code: versionBootUnknown, text: fmt.Sprintf("the installed %s is not known; a newer one may be there, and none may be put back", box.boot), unknown: true, sources: []Cited{box.missing()}})
	}
	for n := range rel.NeedsOf(t.rules, l.families[b], box.Model, box.Revision) {
		if !n.Component.Set() || m.bootOnly && (n.Component.Text == l.main || n.Component.Text == box.boot) {
			continue
		}
		if r, ok := t.lacks(s, m, b, rel, n); ok {
			out = append(out, r)
		}
	}
	for i := range out {
		out[i].box = b
	}
	return out
}

// ruling is what the hop rules say of a move for one box.
func (t *team) ruling(s stand, m move, b int) rulebook.Ruling {
	return t.rules.Rule(rulebook.Move{From: t.from(s), To: t.lines[m.line].versions[m.version], FromFamily: t.lines[s.line].families[b], ToFamily: t.lines[m.line].families[b],
		Model: t.boxes[b].Model, Revision: t.boxes[b].Revision})
}

func (t *team) forbidden(s stand, m move, b int) (reason, bool) {
	r := t.ruling(s, m, b)
	if r.Settled && r.Allowed {
		return reason{}, false
	}
	res := reason{code: pathForbidden, unknown: !r.Settled, brief: r.Because, text: fmt.Sprintf("the move from %s is not allowed: %s", t.name(s.line, s.version, b), r.Because)}
	if res.unknown {
		res.code = pathNotSettled
		res.text = fmt.Sprintf("whether the move from %s is allowed is not known: %s", t.name(s.line, s.version, b), r.Because)
	}
	if r.Via != "" {
		res.text += "; it is to go by way of " + r.Via
	}
	if r.Source.File != "" {
		res.sources = []Cited{{r.Document, r.Source}}
	}
	return res, true
}

// name is a version with its family, where there are several.
func (t *team) name(line, v int32, b int) string {
	text := t.text(line, v)
	if len(t.lines) > 1 && t.lines[line].families[b] != "" {
		text += " of " + t.lines[line].families[b]
	}
	return text
}

// situation is what a box is at some point.
func (t *team) situation(s stand, b int) rulebook.Situation {
	return t.boxes[b].situation(t.lines[s.line].families[b], t.from(s).Text, s.components[b])
}

// lacks tells whether a need on a component does not hold, counting what the
// release installs before its main component.
func (t *team) lacks(s stand, m move, b int, rel *rulebook.Release, n *rulebook.Need) (reason, bool) {
	box, family, name := t.boxes[b], t.lines[m.line].families[b], n.Component.Text
	now := t.situation(s, b)
	held := n.Met(t.rules, now)
	if v, ok := t.installs(rel, family, b, name, s.components[b]); ok && !m.bootOnly && name != t.lines[m.line].main {
		versions := maps.Clone(s.components[b])
		if versions == nil {
			versions = map[string]string{}
		}
		versions[name] = v
		after := n.Met(t.rules, box.situation(t.lines[s.line].families[b], t.from(s).Text, versions))
		if box.before(family, name, t.lines[m.line].main) {
			held = after
		} else {
			held = held.And(after)
		}
	}
	if held == truth.Yes {
		return reason{}, false
	}
	r := reason{code: needsFails, need: n, box: b, unknown: held == truth.Unknown, sources: []Cited{box.citeNeed(n)}}
	if r.unknown {
		r.code = needsDeviceUnknown
	}
	have, known := now.Version(name)
	switch {
	case n.Doubt() != "":
		r.code, r.text = needsRuleFault, n.Doubt()
	case !known:
		r.unknown, r.code = true, needsDeviceUnknown
		r.text = fmt.Sprintf("it needs %s, and the installed %s is not known", n.Text(), name)
		r.sources = append(r.sources, box.missing())
	case r.unknown:
		r.code = needsBuildUnknown
		r.text = fmt.Sprintf("it needs %s, and %s %s leaves open the build that decides", n.Text(), name, have)
	default:
		r.text = fmt.Sprintf("it needs %s, and %s %s is installed", n.Text(), name, have)
	}
	if n.Why.Set() {
		r.text += " (" + n.Why.Text + ")"
	}
	return r, true
}

// installs tells which version of a component a release puts on a box that has
// others: no older boot loader goes over a newer one.
func (t *team) installs(rel *rulebook.Release, family string, b int, component string, have map[string]string) (string, bool) {
	v, ok := t.boxes[b].bringsOf(rel, family, component)
	if ok && component == t.boxes[b].boot && !t.newer(component, v, have[component]) {
		return "", false
	}
	return v, ok
}

// newer tells whether a version of a component is newer than another, which may
// be unknown.
func (t *team) newer(component, v, than string) bool {
	scheme := t.rules.Scheme(component)
	a, err1 := scheme.Parse(v)
	b, err2 := scheme.Parse(than)
	return err1 == nil && (err2 != nil || scheme.Compare(a, b) > 0)
}

// raises tells whether a boot-only move changes the boot loader of a box.
func (t *team) raises(s stand, m move, b int) bool {
	l, box := t.lines[m.line], t.boxes[b]
	rel := l.candidates[m.version].releases[b]
	if rel == nil || !t.bootAlone(l, b) {
		return false
	}
	v, ok := box.bringsOf(rel, l.families[b], box.boot)
	if !ok || !t.newer(box.boot, v, s.components[b][box.boot]) {
		return false
	}
	if stands(l.candidates[m.version].standing[b]) == truth.No {
		return len(t.boxes) == 1 // of a group, the others go without it
	}
	for n := range rel.NeedsOf(t.rules, l.families[b], box.Model, box.Revision) {
		if n.Component.Set() && n.Component.Text != l.main && n.Component.Text != box.boot && len(t.boxes) > 1 {
			if r, lacks := t.lacks(s, m, b, rel, n); lacks && !r.unknown {
				return false
			}
		}
	}
	return true
}

// step makes a move: the hop, and what is run after it.
func (t *team) step(s stand, m move) (Hop, stand) {
	l := t.lines[m.line]
	c := &l.candidates[m.version]
	h := Hop{Release: l.versions[m.version].Text, From: t.text(s.line, s.version), To: t.text(m.line, m.version), BootOnly: m.bootOnly, Family: l.family, FromFamily: t.lines[s.line].family, ResetsConfig: m.reset}
	after := stand{line: m.line, version: m.version}
	if m.bootOnly {
		h.To, after.line, after.version = h.From, s.line, s.version
	}
	for b, box := range t.boxes {
		if f := l.families[b]; !strings.EqualFold(f, l.family) {
			if h.Families == nil {
				h.Families = map[string]string{}
			}
			h.Families[box.Device.Name.Text] = f
		}
		comps := maps.Clone(s.components[b])
		if comps == nil {
			comps = map[string]string{}
		}
		after.components = append(after.components, comps)
		rel := c.releases[b]
		h.Releases = append(h.Releases, rel)
		if rel == nil || m.bootOnly && !t.raises(s, m, b) {
			continue
		}
		h.time(rel, box.Rules.Installing(l.families[b]).Rolling())
		member := ""
		if len(t.boxes) > 1 {
			member = box.Device.Name.Text
		}
		for _, name := range box.components(l.families[b]) {
			if m.bootOnly && name != box.boot {
				continue
			}
			if name == l.main {
				if from := t.text(s.line, s.version); from != h.To || !strings.EqualFold(t.lines[s.line].families[b], l.families[b]) {
					h.Components = append(h.Components, Change{member, name, from, h.To})
				}
				continue
			}
			v, ok := t.installs(rel, l.families[b], b, name, comps)
			if !ok || t.rules.Scheme(name).Equal(v, comps[name]) {
				continue
			}
			h.Components = append(h.Components, Change{member, name, comps[name], v})
			comps[name] = v
		}
	}
	return h, after
}

// FamilyOf is the image family that a member goes to.
func (h *Hop) FamilyOf(member string) string {
	if f, ok := h.Families[member]; ok {
		return f
	}
	return h.Family
}

// time takes what a release says of its minutes. Members are installed side by side, unless
// they go through it one after the other; one that gives no minutes leaves them unknown.
func (h *Hop) time(rel *rulebook.Release, rolling bool) {
	if !rel.Minutes.Known() || h.untimed {
		h.Minutes, h.untimed = nil, true
		return
	}
	if h.Minutes == nil {
		h.Minutes = &rulebook.Minutes{}
	}
	join := rulebook.MinuteSpan.Beside
	if rolling {
		join = rulebook.MinuteSpan.Plus
	}
	h.Minutes.Install = join(h.Minutes.Install, rel.Minutes.Install)
	h.Minutes.Outage = join(h.Minutes.Outage, rel.Minutes.Outage)
}
