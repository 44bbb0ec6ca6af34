package path

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

// The search is held against one that knows nothing of places, contexts and
// stretches: it makes every move from every state, in full, on rulebooks small
// enough for that, and reads them from the plan they were written from rather
// than from the rulebook package.

type planRange struct{ low, high int } // versions from low up to, not including, high

func (r planRange) has(v int) bool { return v >= r.low && v < r.high }
func (r planRange) String() string {
	return fmt.Sprintf(">=%s <%s", ver(r.low), ver(r.high))
}

// ver writes a version: 23 is 2.3.
func ver(v int) string { return fmt.Sprintf("%d.%d", v/10, v%10) }

type planNeed struct {
	component string // or "controller" (companion), "storage"
	within    planRange
}

type planRelease struct {
	version   int
	family    string
	brings    map[string]int
	needs     []planNeed
	withdrawn bool
	drops     bool
	resets    bool
	outage    int // -1 is not known
	revisions []string
}

type planRule struct {
	from, to             planRange
	fromFamily, toFamily string
	revisions            []string
	allow, resets        bool
}

type planBox struct {
	name, revision string // revision "" is not known
	boot, aux      int    // 0 is not known
	family         string // of a member of a chassis; "" is the family of all
	// guessed: what is not known stands in the file as a guess.
	guessed bool
}

type plan struct {
	families   []string
	order      []string
	paired     string // what moves with main: boot, aux or nothing
	bootMust   bool   // the boot loader may not be left out
	empty      bool   // there is a family without releases
	downOpen   bool
	upListed   bool
	releases   []planRelease
	rules      []planRule
	boxes      []planBox
	from, goal int
	goalFamily string
	attached   bool
	controller int // 0 is not known
	prefer     Prefer
}

func makePlan(r *rand.Rand) plan {
	p := plan{families: []string{"fa"}, order: []string{"boot", "main", "aux"}, downOpen: r.IntN(2) == 0, upListed: r.IntN(3) == 0, from: 10 + r.IntN(4), attached: r.IntN(2) == 0,
		prefer: []Prefer{Resets, Hops, Outage}[r.IntN(3)], controller: r.IntN(3) * 10}
	if r.IntN(2) == 0 {
		p.order = []string{"aux", "main", "boot"}
	}
	group := r.IntN(3) == 0
	chassis := group && r.IntN(3) == 0
	if chassis || !group && r.IntN(2) == 0 {
		p.families = append(p.families, "fb")
	}
	p.empty, p.bootMust = r.IntN(4) == 0, r.IntN(4) == 0
	switch r.IntN(6) {
	case 0:
		p.paired = "aux"
	case 1:
		p.paired, p.bootMust = "boot", false
	}
	within := func() planRange {
		low := 10 + r.IntN(14)
		if r.IntN(3) == 0 {
			low = 0
		}
		high := low + 1 + r.IntN(14)
		if r.IntN(2) == 0 {
			high = 99
		}
		return planRange{low, high}
	}
	revisions := func() []string {
		switch r.IntN(8) {
		case 0:
			return []string{"A1"}
		case 1:
			return []string{"A2"}
		}
		return nil
	}
	for _, f := range p.families {
		for v := 10; v < 24; v++ {
			if r.IntN(2) == 0 {
				continue
			}
			rel := planRelease{version: v, family: f, brings: map[string]int{}, withdrawn: r.IntN(10) == 0, drops: r.IntN(10) == 0, resets: r.IntN(8) == 0, outage: r.IntN(6) - 1, revisions: revisions()}
			if r.IntN(2) == 0 && p.paired != "boot" {
				rel.brings["boot"] = 10 + r.IntN(10)
			}
			if r.IntN(3) == 0 && p.paired != "aux" {
				rel.brings["aux"] = 10 + r.IntN(10)
			}
			if p.paired != "" {
				rel.brings[p.paired] = v
			}
			for range max(0, r.IntN(4)-1) {
				rel.needs = append(rel.needs, planNeed{[]string{"boot", "aux", "main", "boot", "controller"}[r.IntN(5)], within()})
			}
			p.releases = append(p.releases, rel)
		}
	}
	for range r.IntN(7) {
		rule := planRule{from: within(), to: within(), allow: r.IntN(3) > 0, resets: r.IntN(2) == 0, revisions: revisions()}
		if len(p.families) > 1 {
			switch r.IntN(4) {
			case 0:
				rule.fromFamily = p.families[r.IntN(2)]
			case 1:
				rule.toFamily = p.families[r.IntN(2)]
			case 2:
				rule.fromFamily, rule.toFamily = p.families[r.IntN(2)], p.families[r.IntN(2)]
			}
		}
		p.rules = append(p.rules, rule)
	}
	n := 1
	if group {
		n = 2 + r.IntN(2)
	}
	for i := range n {
		b := planBox{name: fmt.Sprintf("m%d", i), revision: []string{"A1", "A2"}[r.IntN(2)], boot: 10 + r.IntN(6), aux: 10 + r.IntN(6)}
		switch r.IntN(12) {
		case 0:
			b.revision = ""
		case 1:
			b.boot = 0
		case 2:
			b.aux = 0
		}
		b.guessed = r.IntN(2) == 0
		if chassis {
			b.family = p.families[min(i, 1)]
		}
		p.boxes = append(p.boxes, b)
	}
	if len(p.releases) > 0 {
		goal := p.releases[r.IntN(len(p.releases))]
		p.goal, p.goalFamily = goal.version, goal.family
		if chassis {
			p.goalFamily = ""
		}
	}
	return p
}

func list(key string, texts []string) string {
	if len(texts) == 0 {
		return ""
	}
	return fmt.Sprintf(", %s: [%s]", key, strings.Join(texts, ", "))
}

func (p plan) rulebook() string {
	var b strings.Builder
	fmt.Fprintf(&b, "kind: rulebook\ntitle: t\nmaker: m\nmodels:\n  M:\n    families: [%s]\n    revisions: {A1: {arch: arm}, A2: {arch: arm}}\n  OLD: {}\nfamilies:\n", strings.Join(p.all(), ", "))
	for _, f := range p.all() {
		pair := ""
		if p.paired != "" {
			pair = fmt.Sprintf("paired: [[main, %s]], ", p.paired)
		}
		fmt.Fprintf(&b, "  %s: {%scomponents: {", f, pair)
		for i, c := range p.order {
			if i > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(&b, "%s: {optional: %v}", c, !(c == "boot" && p.bootMust))
		}
		b.WriteString("}}\n")
	}
	b.WriteString("releases:\n")
	for _, rel := range p.releases {
		fmt.Fprintf(&b, "  - {version: '%s', families: [%s], resets_config: %v%s", ver(rel.version), rel.family, rel.resets, list("revisions", rel.revisions))
		if rel.outage >= 0 {
			fmt.Fprintf(&b, ", minutes: {install: %d, outage: %d}", rel.outage, rel.outage)
		}
		if rel.withdrawn {
			b.WriteString(", withdrawn: bad")
		}
		if rel.drops {
			b.WriteString(", drops: [OLD]")
		}
		var brings, needs []string
		for _, c := range p.order {
			if v, ok := rel.brings[c]; ok && c != p.paired {
				brings = append(brings, fmt.Sprintf("%s: '%s'", c, ver(v)))
			}
		}
		for _, n := range rel.needs {
			if n.component == "controller" {
				needs = append(needs, fmt.Sprintf("{companion: controller, within: '%s'}", n.within))
			} else {
				needs = append(needs, fmt.Sprintf("{component: %s, within: '%s'}", n.component, n.within))
			}
		}
		fmt.Fprintf(&b, ", brings: {%s}, needs: [%s]}\n", strings.Join(brings, ", "), strings.Join(needs, ", "))
	}
	up, down := "open", "closed"
	if p.upListed {
		up = "listed"
	}
	if p.downOpen {
		down = "open"
	}
	fmt.Fprintf(&b, "hops:\n  upward: %s\n  downward: %s\n  rules:%s\n", up, down, map[bool]string{true: " []"}[len(p.rules) == 0])
	for _, r := range p.rules {
		fmt.Fprintf(&b, "    - {from: '%s', to: '%s', allow: %v", r.from, r.to, r.allow)
		if r.resets {
			b.WriteString(", resets_config: true")
		}
		if r.fromFamily != "" {
			fmt.Fprintf(&b, ", from_family: %s", r.fromFamily)
		}
		if r.toFamily != "" {
			fmt.Fprintf(&b, ", to_family: %s", r.toFamily)
		}
		fmt.Fprintf(&b, "%s}\n", list("revisions", r.revisions))
	}
	return b.String()
}

func (p plan) device() string {
	var b strings.Builder
	unit := func(x planBox) string {
		t := fmt.Sprintf("installed: {main: '%s'", ver(p.from))
		var guessed []string
		say := func(key, text string, known bool) {
			if !known && x.guessed {
				guessed = append(guessed, fmt.Sprintf("installed.%s: 'x:1 (guess)'", key))
				text = "1.1"
			}
			if known || x.guessed {
				t += fmt.Sprintf(", %s: '%s'", key, text)
			}
		}
		say("boot", ver(x.boot), x.boot > 0)
		say("aux", ver(x.aux), x.aux > 0)
		t += "}"
		switch {
		case x.revision != "":
			t += ", revision: " + x.revision
		case x.guessed:
			t += ", revision: A1"
			guessed = append(guessed, "revision: 'x:1 (guess)'")
		}
		if x.family != "" {
			t += ", family: " + x.family
		}
		if len(guessed) > 0 {
			t += ", read_from: {" + strings.Join(guessed, ", ") + "}"
		}
		return t
	}
	b.WriteString("kind: device\nname: d\nmodel: M\n")
	if !slices.ContainsFunc(p.boxes, func(x planBox) bool { return x.family != "" }) {
		b.WriteString("family: fa\n")
	}
	if p.controller > 0 {
		fmt.Fprintf(&b, "companions: {controller: '%s'}\n", ver(p.controller))
	}
	if p.attached {
		b.WriteString("attached: [OLD]\n")
	}
	if len(p.boxes) == 1 {
		b.WriteString(strings.NewReplacer(", revision: A", "\nrevision: A", ", read_from", "\nread_from").Replace(unit(p.boxes[0])) + "\n")
		return b.String()
	}
	b.WriteString("group: stack\nuniform: true\nmembers:\n")
	for _, x := range p.boxes {
		fmt.Fprintf(&b, "  - {name: %s, %s}\n", x.name, unit(x))
	}
	return b.String()
}

// all lists the families, the one without releases among them.
func (p plan) all() []string {
	if p.empty {
		return append(slices.Clone(p.families), "fz")
	}
	return p.families
}

// fullState is what all boxes run, in full.
type fullState struct {
	family string
	main   int
	comps  [3][2]int // boot and aux of each box; 0 is not known
}

const (
	no = iota
	dontKnow
	yes
)

func and(a, b int) int { return min(a, b) }

// of is the release of a version for a box; ok is false where there is none.
func (p plan) of(rel planRelease, box planBox) (planRelease, bool) {
	if box.family == "" || box.family == rel.family {
		return rel, true
	}
	for _, o := range p.releases {
		if o.family == box.family && o.version == rel.version {
			return o, true
		}
	}
	return rel, false
}

// outage is how long a move to a version takes.
func (p plan) outage(rel planRelease, bootOnly bool) int32 {
	most := int32(0)
	for _, box := range p.boxes {
		own, ok := p.of(rel, box)
		if !ok {
			continue
		}
		if own.outage < 0 {
			return unknownOutage
		}
		most = max(most, int32(own.outage))
	}
	return most
}

// moveFull makes a move if it is possible; how sure that is, and what it costs.
func (p plan) moveFull(s fullState, rel planRelease, bootOnly bool) (to fullState, sure int, reset bool) {
	to, sure = s, yes
	chassis := p.boxes[0].family != ""
	if bootOnly {
		raised := false
		reset = false
		if rel.family != s.family && !chassis || p.paired == "boot" {
			return to, no, false
		}
		for i, box := range p.boxes {
			rel, is := p.of(rel, box)
			v, ok := rel.brings["boot"]
			if !is || !ok || v <= s.comps[i][0] {
				continue
			}
			can := p.boxMay(s, rel, i, box, true)
			if s.comps[i][0] == 0 {
				can = and(can, dontKnow)
			}
			if can == no {
				continue
			}
			to.comps[i][0] = v
			sure = and(sure, can)
			raised = true
		}
		if !raised {
			return to, no, false
		}
		return to, sure, false
	}
	if to.main = rel.version; !chassis {
		to.family = rel.family
	}
	if p.paired == "boot" && rel.version < s.main && to.family == s.family {
		return to, no, false
	}
	for i, box := range p.boxes {
		rel, is := p.of(rel, box)
		if !is {
			return to, no, false
		}
		reset = reset || rel.resets
		sure = and(sure, p.boxMay(s, rel, i, box, false))
		allowed, resets := p.ruled(s, rel, box)
		sure = and(sure, allowed)
		reset = reset || resets
		if v, ok := rel.brings["boot"]; ok {
			to.comps[i][0] = max(v, s.comps[i][0])
		}
		if v, ok := rel.brings["aux"]; ok {
			to.comps[i][1] = v
		}
	}
	return to, sure, reset
}

func (p plan) boxMay(s fullState, rel planRelease, i int, box planBox, bootOnly bool) int {
	can := yes
	if len(rel.revisions) > 0 {
		switch {
		case box.revision == "":
			can = dontKnow
		case !slices.Contains(rel.revisions, box.revision):
			return no
		}
	}
	if rel.withdrawn || rel.drops && p.attached {
		return no
	}
	if v, ok := rel.brings["boot"]; ok {
		if p.boxes[i].boot == 0 { // what was not known at the start is never known
			can = and(can, dontKnow)
		}
		if p.bootMust && !bootOnly && v < s.comps[i][0] {
			return no
		}
	}
	firstOf := func(c string) bool {
		return slices.Index(p.order, c) < slices.Index(p.order, "main")
	}
	for _, n := range rel.needs {
		have, after := 0, -1
		bring := func(c string, v int, ok bool) {
			if !ok || bootOnly {
				return
			}
			if c == "boot" {
				v = max(v, have)
			}
			if after = v; firstOf(c) {
				have = v
			}
		}
		switch n.component {
		case "main":
			if bootOnly {
				continue
			}
			have = s.main
		case "controller":
			have = p.controller
		case "boot":
			if bootOnly {
				continue
			}
			have = s.comps[i][0]
			v, ok := rel.brings["boot"]
			bring("boot", v, ok)
		case "aux":
			have = s.comps[i][1]
			v, ok := rel.brings["aux"]
			bring("aux", v, ok)
		}
		for _, at := range []int{have, after} {
			switch {
			case at < 0 || at > 0 && n.within.has(at):
			case at == 0:
				can = and(can, dontKnow)
			default:
				return no
			}
		}
	}
	return can
}

func (p plan) ruled(s fullState, rel planRelease, box planBox) (int, bool) {
	for _, r := range p.rules {
		if !r.from.has(s.main) || !r.to.has(rel.version) {
			continue
		}
		family := s.family
		if box.family != "" {
			family = box.family
		}
		if r.fromFamily == "" && r.toFamily == "" && family != rel.family || r.fromFamily != "" && r.fromFamily != family || r.toFamily != "" && r.toFamily != rel.family {
			continue
		}
		if len(r.revisions) > 0 {
			if box.revision == "" {
				return dontKnow, r.resets
			}
			if !slices.Contains(r.revisions, box.revision) {
				continue
			}
		}
		if r.allow {
			return yes, r.resets
		}
		return no, false
	}
	switch {
	case box.family == "" && s.family != rel.family:
		return no, false
	case rel.version == s.main:
		return yes, false
	case rel.version > s.main && !p.upListed, rel.version < s.main && p.downOpen:
		return yes, false
	}
	return no, false
}

// exhaust finds the least cost by making every move from every state until
// nothing gets cheaper.
func (p plan) exhaust(maybe bool) (cost, bool) {
	return p.exhaustFrom(p.begin(), p.goalFamily, p.goal, maybe)
}

func (p plan) begin() fullState {
	begin := fullState{family: "fa", main: p.from}
	for i, b := range p.boxes {
		begin.comps[i] = [2]int{b.boot, b.aux}
	}
	return begin
}

func (p plan) exhaustFrom(begin fullState, family string, goal int, maybe bool) (cost, bool) {
	ages := p.ages()
	best := map[fullState]cost{begin: {}}
	work := []fullState{begin}
	for len(work) > 0 {
		s := work[0]
		work = work[1:]
		for _, rel := range p.releases {
			for _, bootOnly := range []bool{false, true} {
				to, sure, reset := p.moveFull(s, rel, bootOnly)
				if sure == no || sure == dontKnow && !maybe {
					continue
				}
				c := best[s].plus(p.prefer.price(reset, p.outage(rel, bootOnly), 1, ages[[2]any{rel.family, rel.version}]))
				if had, ok := best[to]; !ok || c.less(had) {
					best[to] = c
					work = append(work, to)
				}
			}
		}
	}
	least, found := cost{}, false
	for s, c := range best {
		if (family == "" || s.family == family) && s.main == goal && (!found || c.less(least)) {
			least, found = c, true
		}
	}
	return least, found
}

// has tells whether some member is of a family.
func (p plan) has(family string) bool {
	return slices.ContainsFunc(p.boxes, func(b planBox) bool { return b.family == family })
}

// ages counts the versions of a family that are newer, the one that runs among
// them.
func (p plan) ages() map[[2]any]int32 {
	out := map[[2]any]int32{}
	for _, rel := range p.releases {
		newer := map[int]bool{}
		for _, o := range p.releases {
			if (o.family == rel.family || p.boxes[0].family != "" && p.has(o.family)) && o.version > rel.version {
				newer[o.version] = true
			}
		}
		if p.from > rel.version {
			newer[p.from] = true
		}
		out[[2]any{rel.family, rel.version}] = int32(len(newer))
	}
	return out
}

func (p plan) find(t *testing.T) *Answer {
	rb, err := rulebook.Read("r.yaml", []byte(p.rulebook()))
	require.NoError(t, err, p.rulebook())
	d, err := device.Read("d.yaml", []byte(p.device()))
	require.NoError(t, err, p.device())
	res, err := Find(Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: Goal{Version: ver(p.goal), Family: p.goalFamily}, Options: Options{Prefer: p.prefer, All: 3}})
	require.NoError(t, err)
	require.Len(t, res.Plans, 1)
	return res.Plans[0]
}

// walk makes the hops of an answer by the plan.
func (p plan) walk(t *testing.T, hops []Hop, s fullState) (cost, fullState) {
	ages := p.ages()
	total := cost{}
	for _, h := range hops {
		i := slices.IndexFunc(p.releases, func(r planRelease) bool { return ver(r.version) == h.Release && r.family == h.Family })
		if i < 0 { // of a chassis, the release of other members
			i = slices.IndexFunc(p.releases, func(r planRelease) bool { return ver(r.version) == h.Release && p.has(r.family) })
		}
		require.GreaterOrEqual(t, i, 0)
		rel := p.releases[i]
		to, sure, reset := p.moveFull(s, rel, h.BootOnly)
		require.Equal(t, yes, sure, "the hop to %s is not allowed: %+v from %+v\n%s\n%s", h.Release, h, s, p.rulebook(), p.device())
		require.Equal(t, reset, h.ResetsConfig)
		require.Equal(t, ver(s.main), h.From)
		require.Equal(t, ver(to.main), h.To)
		require.NotEmpty(t, h.Because)
		require.NotEmpty(t, h.Sources)
		for _, c := range h.Components {
			b := max(0, slices.IndexFunc(p.boxes, func(b planBox) bool { return b.name == c.Member }))
			if k := slices.Index([]string{"boot", "aux"}, c.Component); k >= 0 {
				require.Equal(t, c.To, ver(to.comps[b][k]), "%+v from %+v to %+v\n%s\n%s", h, s, to, p.rulebook(), p.device())
			}
		}
		total = total.plus(p.prefer.price(reset, p.outage(rel, h.BootOnly), 1, ages[[2]any{rel.family, rel.version}]))
		s = to
	}
	return total, s
}

func TestAgreesWithTheExhaustiveSearch(t *testing.T) {
	found, unsettled, blocked, back, others := 0, 0, 0, 0, 0
	seeds := 4000
	if testing.Short() {
		seeds = 300
	}
	for seed := range seeds {
		p := makePlan(rand.New(rand.NewPCG(uint64(seed), 6)))
		if p.goal == 0 {
			continue
		}
		a := p.find(t)
		want, ok := p.exhaust(false)
		told := fmt.Sprintf("seed %d\n%s\n%s\nto %s %s\n%+v", seed, p.rulebook(), p.device(), ver(p.goal), p.goalFamily, a)
		require.Equal(t, ok, a.Found, told)
		if !ok {
			_, ok = p.exhaust(true)
			require.Equal(t, ok, len(a.Unsettled) > 0, told)
			require.Equal(t, !ok, len(a.Blocked) > 0, told)
			for _, b := range a.Blocked {
				require.NotEmpty(t, b.Because, told)
				require.NotEmpty(t, b.Sources, told)
			}
			if ok {
				unsettled++
			} else {
				blocked++
			}
			continue
		}
		found++
		begin := p.begin()
		got, end := p.walk(t, a.Hops, begin)
		require.Equal(t, want, got, told)
		require.Equal(t, p.goal, end.main, told)
		last := got
		for _, o := range a.Alternatives {
			others++
			c, _ := p.walk(t, o.Hops, begin)
			require.False(t, c.less(last), "alternatives come in order: "+told)
			last = c
		}
		if a.Back != nil {
			_, home := p.exhaustFrom(end, "fa", p.from, false)
			require.Equal(t, home, a.Back.Found, told)
		}
		if a.Back != nil && len(a.Back.Hops) > 0 {
			back++
			_, home := p.walk(t, a.Back.Hops, end)
			require.Equal(t, p.from, home.main, told)
		}
	}
	t.Logf("%d found, %d unsettled, %d blocked, %d ways back, %d alternatives", found, unsettled, blocked, back, others)
	require.Greater(t, found, seeds/5)
	require.Greater(t, blocked, seeds/5)
	require.Greater(t, unsettled, seeds/100)
}
