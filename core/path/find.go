package path

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/spelling"
	"fitcheck/core/truth"
)

// Request is what a path is asked for.
type Request struct {
	Device *device.Device
	// Rules finds the rulebook of a model; nil when none knows it.
	Rules func(model string) *rulebook.Rulebook
	Goal  Goal
	Options
}

// Result is the answer for a device, or for all members of a group.
type Result struct {
	// Plans has one answer for a device and for a group that keeps to one
	// version, and else one for each member.
	Plans []*Answer
	Notes []string
}

// Found tells whether there is a path for every plan.
func (r *Result) Found() bool {
	return !slices.ContainsFunc(r.Plans, func(a *Answer) bool { return !a.Found })
}

// Unsettled lists what would have to be known.
func (r *Result) Unsettled() []string {
	var out []string
	for _, a := range r.Plans {
		for _, u := range a.Unsettled {
			if !slices.Contains(out, u) {
				out = append(out, u)
			}
		}
	}
	return out
}

// Find searches the path of a device, or of a group. The error is of type
// *TooManyStates.
func Find(q Request) (*Result, error) {
	f := &finder{Request: q}
	var boxes []*Box
	for _, d := range q.Device.All() {
		boxes = append(boxes, NewBox(d, q.Rules(d.Model.Text)))
	}
	res := &Result{}
	defer func() {
		res.merge(f.Device, f.Goal)
		for _, a := range res.Plans {
			f.guessed(a, boxes)
		}
	}()
	if len(boxes) > 1 {
		why := f.apart(boxes)
		if why == "" {
			a, err := f.together(boxes)
			if err != nil {
				return nil, err
			}
			res.Plans = []*Answer{a}
			return res, nil
		}
		res.Notes = append(res.Notes, why)
	}
	for _, b := range boxes {
		a, err := f.solve([]*Box{b}, nil)
		if err != nil {
			return nil, err
		}
		if len(boxes) > 1 {
			a.Members = []string{a.Name}
			for i := range a.Hops {
				a.Hops[i].Members = a.Members
			}
		}
		res.Plans = append(res.Plans, a)
	}
	return res, nil
}

type finder struct{ Request }

// apart says why the members of a group do not move together, or "".
func (f *finder) apart(boxes []*Box) string {
	if !f.Device.Uniform {
		return "the device file does not say that all members run one version (uniform: true): each has a path of its own"
	}
	first := boxes[0]
	for _, b := range boxes {
		switch {
		case b.Rules == nil || b.Rules != first.Rules:
			return "the members have different rulebooks: each has a path of its own"
		case b.Rules.Scheme(b.Rules.Main(b.Family)) != first.Rules.Scheme(first.Rules.Main(first.Family)) || b.Rules.Main(b.Family) != first.Rules.Main(first.Family):
			return "the members' image families count versions in different ways: each has a path of its own"
		case f.Goal.Family != "" && !strings.EqualFold(f.Goal.Family, b.Family):
			return "members cross to another image family one by one: each has a path of its own"
		}
	}
	return ""
}

// together plans for a group that runs one version. Members that run another
// are first brought to where the others are; where they cannot go there, the
// others come to them, or all meet at the goal.
func (f *finder) together(boxes []*Box) (*Answer, error) {
	a := &Answer{Name: f.Device.Name.Text}
	for _, b := range boxes {
		a.Members = append(a.Members, b.Device.Name.Text)
		a.Unsettled = append(a.Unsettled, b.problems(f.NoRulebook)...)
	}
	if len(a.Unsettled) > 0 {
		return a, nil
	}
	at := f.versions(boxes)
	if len(at) == 1 {
		joint, err := f.solve(boxes, nil)
		if err != nil {
			return nil, err
		}
		joint.Members = a.Members
		return joint, nil
	}
	goal := f.target(newTeam(boxes, [][]string{families(boxes)}, nil, nil, f.Options))
	if goal.problem != "" {
		a.To, a.Unsettled = f.Goal.Version, []string{goal.problem}
		return a, nil
	}
	meets := at
	if !slices.ContainsFunc(meets, func(m versionGroup) bool { return m.scheme().Equal(m.version, goal.text) }) {
		meets = append(meets, versionGroup{version: goal.text, rules: boxes[0]})
	}
	var why []string
	var first *Answer
	for i, m := range meets {
		plan, err := f.by(boxes, at, m.version, goal.text)
		if err != nil {
			return nil, err
		}
		plan.Members, plan.Name = a.Members, a.Name
		if i == 0 {
			first = plan
		}
		if plan.Found {
			plan.Notes = append(plan.Notes, why...)
			return plan, nil
		}
		for _, b := range plan.Blocked[:min(1, len(plan.Blocked))] {
			why = append(why, fmt.Sprintf("all members cannot first meet at %s: %s: %s", m.version, b.Release, b.Because))
		}
	}
	return first, nil
}

// versionGroup is the members that run one version.
type versionGroup struct {
	version string
	boxes   []*Box
	rules   *Box
}

func (g versionGroup) scheme() interface{ Equal(a, b string) bool } {
	return g.rules.Rules.Scheme(g.rules.Rules.Main(g.rules.Family))
}

// versions lists what members run: what most of them run first.
func (f *finder) versions(boxes []*Box) []versionGroup {
	var out []versionGroup
next:
	for _, b := range boxes {
		v, _ := b.mainVersion()
		for i := range out {
			if out[i].scheme().Equal(out[i].version, v) {
				out[i].boxes = append(out[i].boxes, b)
				continue next
			}
		}
		out = append(out, versionGroup{v, []*Box{b}, b})
	}
	slices.SortStableFunc(out, func(a, b versionGroup) int { return len(b.boxes) - len(a.boxes) })
	return out
}

// meetingPoint is where the members of a group are once all run one version.
type meetingPoint struct {
	version    string
	components map[*Box]map[string]string
	// installs are the main versions that a box was brought to on the way.
	installs map[*Box][]string
}

// by plans for a group by way of one version at which all meet.
//
// In one piece: one pass over the members that must meet, whose hops end in one row.
func (f *finder) by(boxes []*Box, at []versionGroup, meet, goal string) (*Answer, error) {
	var before []Hop
	there := &meetingPoint{meet, map[*Box]map[string]string{}, map[*Box][]string{}}
	total := &Answer{From: at[0].version, To: f.Goal.Version}
	for _, g := range at {
		if g.scheme().Equal(g.version, meet) {
			continue
		}
		inner := &finder{Request: f.Request}
		inner.Goal = Goal{Version: meet}
		inner.Plain = true
		a, err := inner.solve(g.boxes, nil)
		if err != nil {
			return nil, err
		}
		total.States += a.States
		names := make([]string, len(g.boxes))
		for i, b := range g.boxes {
			names[i] = b.Device.Name.Text
		}
		if !a.Found {
			total.Unsettled, total.Blocked = a.Unsettled, a.Blocked
			total.Notes = append(total.Notes, fmt.Sprintf("%s runs %s and cannot be brought to %s", strings.Join(names, ", "), g.version, meet))
			return total, nil
		}
		for i := range a.Hops {
			a.Hops[i].Members = names
			for k := range a.Hops[i].Components {
				if c := &a.Hops[i].Components[k]; c.Member == "" {
					c.Member = names[0]
				}
			}
			why := fmt.Sprintf("brings %s to %s, where the others are", strings.Join(names, ", "), meet)
			if g.scheme().Equal(goal, meet) {
				why = fmt.Sprintf("brings %s to %s", strings.Join(names, ", "), meet)
			}
			a.Hops[i].Because = why + "; " + a.Hops[i].Because
		}
		before = append(before, a.Hops...)
		for i, b := range g.boxes {
			there.components[b] = a.end.components[i]
			for _, h := range a.Hops {
				if !h.BootOnly {
					there.installs[b] = append(there.installs[b], h.To)
				}
			}
		}
	}
	a, err := f.solve(boxes, there)
	if err != nil {
		return nil, err
	}
	if a.Found {
		a.Hops = append(before, a.Hops...)
	}
	a.States += total.States
	a.Notes = append(a.Notes, "the members do not run one version now: "+f.spread(at))
	if most := at[0]; !most.scheme().Equal(most.version, meet) { // then what most run is not where they come together
		a.From, a.Back = most.version, nil
		for i := range a.Hops {
			a.Hops[i].NoReturn = false
		}
		a.Notes = append(a.Notes, "the members come from several versions, and no way back leads to all of them: ask for the way back of each by itself")
	}
	return a, nil
}

func (f *finder) spread(at []versionGroup) string {
	var parts []string
	for _, g := range at {
		var names []string
		for _, b := range g.boxes {
			names = append(names, b.Device.Name.Text)
		}
		parts = append(parts, fmt.Sprintf("%s at %s", strings.Join(names, ", "), g.version))
	}
	return strings.Join(parts, "; ")
}

func families(boxes []*Box) []string {
	var out []string
	for _, b := range boxes {
		out = append(out, b.Family)
	}
	return out
}

// lines lists the families that boxes can be in on the way: of a single box all
// that its model may run, of several those that they run now.
func lines(boxes []*Box) [][]string {
	out := [][]string{families(boxes)}
	if len(boxes) == 1 {
		for _, f := range boxes[0].families {
			if !strings.EqualFold(f, boxes[0].Family) {
				out = append(out, []string{f})
			}
		}
	}
	return out
}

// solve finds the path of boxes that run one version. at says what they run at
// the start, where that is not what the device file says.
func (f *finder) solve(boxes []*Box, at *meetingPoint) (*Answer, error) {
	a := &Answer{Name: boxes[0].Device.Name.Text, To: f.Goal.Version, Family: cmp.Or(f.Goal.Family, boxes[0].Family)}
	if len(boxes) > 1 {
		a.Name = f.Device.Name.Text
	}
	for _, b := range boxes {
		a.Unsettled = append(a.Unsettled, b.problems(f.NoRulebook)...)
	}
	if len(a.Unsettled) > 0 {
		return a, nil
	}
	from, _ := boxes[0].mainVersion()
	if at != nil {
		from = at.version
	}
	a.From = from
	extra := []string{from}
	if len(boxes[0].Rules.Releases) == 0 {
		extra = append(extra, f.Goal.Version)
	}
	wanted, problem := f.wanted(boxes)
	if problem != "" {
		a.Unsettled = []string{problem}
		return a, nil
	}
	t := newTeam(boxes, lines(boxes), extra, wanted, f.Options)
	goal := f.target(t)
	if goal.problem != "" {
		a.Unsettled = []string{goal.problem}
		return a, nil
	}
	a.To, a.Family, a.Notes = goal.text, t.lines[goal.line].family, goal.notes
	begin := stand{line: 0, version: int32(t.lines[0].find(from))}
	for _, b := range boxes {
		comps := b.installed()
		if at != nil && at.components[b] != nil {
			comps = at.components[b]
		}
		begin.components = append(begin.components, comps)
	}
	a.end = begin
	if !t.lines[0].candidates[begin.version].listed && len(t.rules.Releases) > 0 {
		a.Notes = append(a.Notes, fmt.Sprintf("%s does not list %s, which is installed; its rules are read by version all the same", t.rules.File, from))
	}
	t.hint(begin, goal)
	r := &route{finder: f, team: t, begin: begin, goal: goal, answer: a, at: at}
	if err := r.seek(); err != nil || a.Found || !goal.newest || len(a.Unsettled) > 0 {
		return a, err
	}
	return r.lower()
}

// hint marks the versions that rules which forbid moves from here, or to the goal,
// name as the ones to go by way of: of two ways that are as good, one through them is
// taken.
func (t *team) hint(begin stand, goal target) {
	if t.rules.Hops == nil {
		return
	}
	for i := range t.rules.Hops.Rules {
		h := &t.rules.Hops.Rules[i]
		from, to := h.Ranges()
		if !h.Via.Set() || *h.Allow || from.Holds(t.from(begin)) == truth.No && to.Holds(t.lines[goal.line].versions[goal.version]) == truth.No {
			continue
		}
		for _, l := range t.lines {
			if k := l.find(h.Via.Text); k >= 0 {
				l.candidates[k].aside = 0
			}
		}
	}
}

// lower finds the highest release below the newest that can be reached, where nothing
// but needs on companions and the boot loader keeps the device from the newest.
func (r *route) lower() (*Answer, error) {
	t, first := r.team, r.answer
	why := r.caps(r.goal.line, r.goal.version)
	if why == "" {
		return first, nil
	}
	l := t.lines[r.goal.line]
	for v := r.goal.version - 1; v >= 0; v-- {
		if !t.meant(l, &l.candidates[v], r.goal.channel) {
			continue
		}
		if r.goal.line == r.begin.line && v < r.begin.version {
			break // nobody asked to go down
		}
		a := &Answer{Name: first.Name, Members: first.Members, From: first.From, To: l.versions[v].Text, Family: l.family, States: first.States, end: r.begin}
		a.Notes = append([]string(nil), first.Notes[:min(1, len(first.Notes))]...)
		next := &route{finder: r.finder, team: t, begin: r.begin, answer: a, at: r.at, goal: target{line: r.goal.line, version: v, text: a.To}}
		if err := next.seek(); err != nil {
			return nil, err
		}
		if a.Found {
			a.Capped = &Capped{Release: l.versions[r.goal.version].Text, Because: why}
			return a, nil
		}
		if len(a.Unsettled) > 0 || r.capsOf(next, v) == "" {
			return first, nil
		}
	}
	return first, nil
}

func (r *route) capsOf(next *route, v int32) string { return next.caps(r.goal.line, v) }

// caps says which needs on companions and the boot loader alone are against a release,
// from the nearest state; "" when something else is.
func (r *route) caps(line, version int32) string {
	var why []string
	for _, b := range r.answer.Blocked {
		if !strings.HasPrefix(b.Code, "needs.") {
			return ""
		}
	}
	for _, reason := range r.team.against(r.begin, move{line: line, version: version}) {
		n := reason.need
		switch {
		case n == nil && reason.code == pathForbidden: // the way leads elsewhere, and a need may cap it
		case n == nil || reason.unknown, !n.Companion.Set() && n.Component.Text != r.team.boxes[reason.box].boot:
			return ""
		default:
			why = append(why, reason.text)
		}
	}
	return strings.Join(why, "; ")
}

// route is the search of one team's path and what is told of it.
type route struct {
	*finder
	team    *team
	begin   stand
	goal    target
	answer  *Answer
	at      *meetingPoint // where members came together first; nil when they were
	returns *bool         // see mayReturn
	// returning: hops are told that lead back to where it began.
	returning bool
}

func (r *route) newSearch(maybe bool, banned map[hopKey]bool) *search {
	return &search{t: r.team, prefer: r.Prefer, maybe: maybe, bound: r.MaxStates, banned: banned}
}

func (r *route) startState(s stand) state {
	return state{s.line, s.version, r.team.context(s.components)}
}

func (r *route) seek() error {
	a := r.answer
	reached := r.reached
	sure := r.newSearch(false, nil)
	end, err := sure.run(r.startState(r.begin), reached)
	if err != nil {
		return err
	}
	a.States = len(sure.nodes)
	if end >= 0 {
		a.Found = true
		best := sure.moves(end)
		hops, stands := r.follow(best)
		a.Hops, a.end = hops, stands[len(stands)-1]
		if len(hops) == 0 {
			a.Notes = append(a.Notes, "it already runs "+a.To)
		}
		if sure.unsure && len(hops) > 1 && !r.Plain {
			if err := r.shorter(sure.nodes[end].cost); err != nil {
				return err
			}
		}
		if !r.Plain {
			if r.Options.Picture {
				a.Picture = r.draw(best)
			}
			if err := r.alternatives(best, reached); err != nil {
				return err
			}
			return r.wayBack(stands)
		}
		return nil
	}
	maybe := sure
	if sure.unsure {
		maybe = r.newSearch(true, nil)
		end, err = maybe.run(r.startState(r.begin), reached)
		if err != nil {
			return err
		}
		a.States += len(maybe.nodes)
	}
	if end >= 0 {
		a.Unsettled = r.unknowns(maybe.moves(end))
		a.Maybe, _ = r.follow(maybe.moves(end))
	} else if r.lacking(maybe); len(a.Blocked)+len(a.Unsettled) == 0 {
		r.blockers(maybe)
	}
	if r.Options.Picture && !r.Plain {
		a.Picture = r.draw(nil)
	}
	return nil
}

// shorter notes that what is not known would open a better way.
func (r *route) shorter(found cost) error {
	s := r.newSearch(true, nil)
	end, err := s.run(r.startState(r.begin), r.reached)
	if err != nil || end < 0 {
		return err
	}
	c := s.nodes[end].cost
	if [3]int32(c[:3]) != [3]int32(found[:3]) {
		r.answer.Notes = append(r.answer.Notes, fmt.Sprintf("a better way (%s) would open if this were known: %s", r.stops(s.moves(end)), strings.Join(r.unknowns(s.moves(end)), "; ")))
	}
	return nil
}

func (r *route) stops(moves []move) string {
	var out []string
	for _, m := range moves {
		text := r.team.text(m.line, m.version)
		if m.bootOnly {
			text = "the boot loader of " + text
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

// unknowns lists what a path needs that is not known.
func (r *route) unknowns(moves []move) []string {
	var out []string
	s := r.begin
	for _, m := range moves {
		for _, reason := range r.team.against(s, m) {
			text := r.team.text(m.line, m.version) + ": " + reason.text
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
		_, s = r.team.step(s, m)
	}
	return out
}

// follow makes moves one by one, and says of each why it is there.
func (r *route) follow(moves []move) ([]Hop, []stand) {
	s := r.begin
	stands := []stand{s}
	var hops []Hop
	for i, m := range moves {
		h, after := r.team.step(s, m)
		r.because(&h, s, moves, i)
		if len(r.team.boxes) > 1 {
			for b, box := range r.team.boxes {
				if !m.bootOnly || r.team.raises(s, m, b) {
					h.Members = append(h.Members, box.Device.Name.Text)
				}
			}
		}
		hops = append(hops, h)
		stands = append(stands, after)
		s = after
	}
	return hops, stands
}

// because tells why a hop is on the way: why the next one cannot come first,
// and what allows it.
func (r *route) because(h *Hop, s stand, moves []move, i int) {
	t, m := r.team, moves[i]
	var parts []string
	if i+1 < len(moves) {
		next := t.text(moves[i+1].line, moves[i+1].version)
		if against := t.against(s, moves[i+1]); len(against) > 0 {
			parts = append(parts, fmt.Sprintf("before %s: %s", next, against[0].text))
			h.Sources = append(h.Sources, against[0].sources...)
		} else {
			parts = append(parts, fmt.Sprintf("before %s: this way %s", next, r.gain()))
		}
	} else if r.returning {
		parts = append(parts, "this is what ran before")
	} else if !r.Plain {
		parts = append(parts, "this is where it is to go")
	}
	if m.bootOnly {
		parts = append(parts, "the boot loader alone, which the rules for "+t.lines[m.line].main+" do not bind")
	} else {
		seen := map[string]bool{}
		for b := range t.boxes {
			ruling := t.ruling(s, m, b)
			if ruling.Because == "" || seen[ruling.Because] {
				continue
			}
			seen[ruling.Because] = true
			if !ruling.Default || len(parts) == 0 {
				parts = append(parts, ruling.Because)
			}
			if ruling.Source.File != "" {
				h.Sources = append(h.Sources, Cited{ruling.Document, ruling.Source})
			}
		}
	}
	for _, rel := range h.Releases {
		if rel != nil && rel.Version.Set() {
			c := Cited{"release " + rel.Version.Text, t.rules.Source(rel.Spot)}
			if !slices.Contains(h.Sources, c) {
				h.Sources = append(h.Sources, c)
			}
		}
	}
	for b := range t.boxes {
		if from := t.boxes[b].Installed(t.lines[s.line].main); i == 0 && from.Known() && len(t.boxes) == 1 {
			h.Sources = append(h.Sources, Cited{from.First(), from.Facts[0].Source})
		}
	}
	h.Because = strings.Join(parts, "; ")
}

// gain is what the preferred way has less of.
func (r *route) gain() string {
	switch r.Prefer {
	case Hops:
		return "resets less, or takes less time"
	case Outage:
		return "means less outage"
	}
	return "resets the configuration less often, or means less outage"
}

// target is the version that a path is to lead to.
type target struct {
	line, version int32
	text          string
	problem       string // why there is none
	notes         []string
	wanted        [][]rulebook.Wanted // what a certified set asks of the components, box by box
	newest        bool                // it was asked for as the newest
	channel       string              // of which channel; "" for any
}

// target finds the version that is asked for.
func (f *finder) target(t *team) target {
	box := t.boxes[0]
	at := 0
	if want := f.Goal.Family; want != "" {
		at = slices.IndexFunc(t.lines, func(l *line) bool { return strings.EqualFold(l.family, want) })
		if at < 0 {
			return target{problem: fmt.Sprintf("by %s, %s may not run the family %s; it may run %s", t.rules.File, box.Model, want, strings.Join(box.families, ", "))}
		}
	}
	text := strings.TrimSpace(f.Goal.Version)
	channel, byChannel := strings.CutPrefix(text, "channel:")
	if f.Goal.Set != nil {
		return f.certified(t, int32(at))
	}
	if text == Latest || byChannel {
		return t.newest(int32(at), strings.TrimSpace(channel), byChannel)
	}
	if i, ok := t.lines[at].lookUp(text, t.rules); ok {
		return target{line: int32(at), version: int32(i), text: t.lines[at].versions[i].Text}
	}
	if f.Goal.Family == "" {
		var found []target
		for k, l := range t.lines {
			if i, ok := l.lookUp(text, t.rules); ok {
				found = append(found, target{line: int32(k), version: int32(i), text: l.versions[i].Text, notes: []string{fmt.Sprintf("%s is a release of the family %s, not of %s", text, l.family, box.Family)}})
			}
		}
		if len(found) == 1 {
			return found[0]
		}
		if len(found) > 1 {
			return target{problem: fmt.Sprintf("several families have a release %s; say which with -family", text)}
		}
	}
	problem := fmt.Sprintf("%s lists no release %s", t.rules.File, text)
	if fam := t.lines[at].family; fam != "" {
		problem += " of the family " + fam
	}
	if word := spelling.Nearest(text, append(t.channels(int32(at)), Latest)); word != "" && !strings.ContainsAny(text, "0123456789") {
		return target{problem: problem + "; did you mean " + word + "?"}
	}
	if near := t.lines[at].nearest(text); len(near) > 0 {
		problem += "; the nearest are " + strings.Join(near, ", ")
	}
	return target{problem: problem + "; read its release notes and add it, or ask for another"}
}

// Latest asks for the newest release that stands.
const Latest = "latest"

// channels lists the channels of the releases of a line, as they are asked for.
func (t *team) channels(at int32) []string {
	var out []string
	for i := range t.lines[at].candidates {
		for _, rel := range t.lines[at].candidates[i].releases {
			out = addChannels(out, rel, "channel:")
		}
	}
	return out
}

// addChannels adds those of a release that are not there yet, each behind a prefix.
func addChannels(to []string, rel *rulebook.Release, prefix string) []string {
	if rel == nil {
		return to
	}
	for _, c := range rel.Channel.All {
		if !slices.Contains(to, prefix+c.Text) {
			to = append(to, prefix+c.Text)
		}
	}
	return to
}

// newest finds the newest release that stands and is meant for all boxes.
func (t *team) newest(at int32, channel string, byChannel bool) target {
	l := t.lines[at]
	var channels []string
	for i := len(l.versions) - 1; i >= 0; i-- {
		c := &l.candidates[i]
		for _, rel := range c.releases {
			if rel != nil && !rel.Withdrawn.Set() {
				channels = addChannels(channels, rel, "")
			}
		}
		of := ""
		if byChannel {
			of = channel
		}
		if !t.meant(l, c, of) {
			continue
		}
		what := "the newest release for it"
		if byChannel {
			what = "the newest release of the channel " + channel
		}
		return target{line: at, version: int32(i), text: l.versions[i].Text, newest: true, channel: of, notes: []string{fmt.Sprintf("%s is %s", l.versions[i].Text, what)}}
	}
	if byChannel {
		slices.Sort(channels)
		return target{problem: fmt.Sprintf("%s lists no release of the channel %q for %s; there is %s", t.rules.File, channel, t.boxes[0].hardware(), cmp.Or(strings.Join(channels, ", "), "none"))}
	}
	return target{problem: fmt.Sprintf("%s lists no release that stands for %s", t.rules.File, t.boxes[0].hardware())}
}

// meant tells whether a version is listed, stands, is for all boxes, and is of a
// channel; "" is any.
func (t *team) meant(l *line, c *candidate, channel string) bool {
	if !c.listed {
		return false
	}
	for b, rel := range c.releases {
		if rel == nil || rel.Withdrawn.Set() || rel.For(t.rules, t.boxes[b].Model, t.boxes[b].Revision) == truth.No || channel != "" && !rel.Channel.Has(channel) {
			return false
		}
	}
	return true
}

// find is the index of a version that is in the line.
func (l *line) find(text string) int {
	v, err := l.scheme.Parse(text)
	if err != nil {
		return -1
	}
	i := l.index(v)
	if i < len(l.versions) && l.scheme.Compare(l.versions[i], v) == 0 {
		return i
	}
	return -1
}

// only is the index of the only listed release that a version may be which leaves
// its build open, or gives one that the releases leave open.
func (l *line) only(text string) int {
	found := -1
	for i := range l.versions {
		if l.candidates[i].listed && l.scheme.Same(l.versions[i].Text, text) != truth.No {
			if found >= 0 {
				return -1
			}
			found = i
		}
	}
	return found
}

// lookUp finds a listed release by its version, which may be written compactly
// where that can mean one only.
func (l *line) lookUp(text string, r *rulebook.Rulebook) (int, bool) {
	i := l.find(text)
	if _, err := l.scheme.Parse(text); err == nil && (i < 0 || !l.candidates[i].listed) && len(r.Releases) > 0 {
		if k := l.only(text); k >= 0 {
			i = k
		}
	}
	if i < 0 {
		var known []string
		for k := range l.versions {
			known = append(known, l.versions[k].Text)
		}
		if all := l.scheme.Expand(text, known); len(all) == 1 {
			i = l.find(all[0])
		}
	}
	return i, i >= 0 && (l.candidates[i].listed || len(r.Releases) == 0)
}
