package path

import (
	"cmp"
	"fmt"
	"strings"

	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	"fitcheck/core/wording"
)

// wayBack tells how the device could return to what it runs now, once it is
// there: through another slot that keeps it, or by hops; and after which hop
// nothing leads back.
func (r *route) wayBack(stands []stand) error {
	a := r.answer
	if len(a.Hops) == 0 {
		return nil
	}
	back, err := r.back(stands, len(a.Hops))
	if err != nil {
		return err
	}
	a.Back = back
	if back.Found {
		return nil
	}
	for i := range a.Hops {
		if a.Hops[i].BootOnly && i+1 < len(a.Hops) {
			continue // what runs is still what ran
		}
		b, err := r.back(stands, i+1)
		if err != nil {
			return err
		}
		if !b.Found {
			a.Hops[i].NoReturn = true
			return nil
		}
	}
	return nil
}

// back is the way back after so many hops.
func (r *route) back(stands []stand, hops int) (*Back, error) {
	b := &Back{}
	end := stands[hops]
	notes := r.fallsBackTo(hops)
	if end.line == r.begin.line && end.version == r.begin.version {
		return &Back{Found: true, By: "hops", Because: fmt.Sprintf("it still runs %s; the newer boot loader stays", r.answer.From), Notes: notes}, nil
	}
	slots, why := r.bySlot(end, hops)
	if slots != "" {
		b.Found, b.By, b.Because = true, "slot", slots
		for _, h := range r.answer.Hops[:hops] {
			if h.ResetsConfig {
				b.Because += "; the configuration was reset on the way: load the settings that were saved before"
				break
			}
		}
	}
	s := r.newSearch(false, nil)
	home := int32(-1)
	if r.mayReturn() {
		var err error
		home, err = s.run(r.startState(end), func(s state) bool { return s.line == r.begin.line && s.version == r.begin.version })
		if err != nil {
			return nil, err
		}
	}
	b.Notes = notes
	if home >= 0 {
		moves := s.moves(home)
		from := r.begin
		r.begin, r.returning = end, true
		b.Hops, _ = r.follow(moves)
		r.begin, r.returning = from, false
		if !b.Found {
			b.Found, b.By = true, "hops"
			b.Because = strings.Join(append(r.losses(b.Hops), why...), "; ")
		}
		return b, nil
	}
	if b.Found {
		return b, nil
	}
	direct := r.team.against(end, move{line: r.begin.line, version: r.begin.version})
	parts := why
	for _, reason := range direct[:min(2, len(direct))] {
		parts = append(parts, fmt.Sprintf("%s: %s", r.answer.From, reason.text))
		b.Sources = append(b.Sources, reason.sources...)
	}
	if len(direct) == 0 {
		parts = append(parts, "no hops lead back to "+r.answer.From)
	}
	b.Because = strings.Join(parts, "; ")
	return b, nil
}

// mayReturn tells, without a search, whether hops could lead back at all.
func (r *route) mayReturn() bool {
	if r.returns == nil {
		_, dead := r.standing(r.begin.line, r.begin.version)
		may := !dead && r.team.entered(r.begin.line, r.begin.version)
		r.returns = &may
	}
	return *r.returns
}

// losses says what a way back costs.
func (r *route) losses(hops []Hop) []string {
	resets, outage := 0, rulebook.MinuteSpan{}
	for _, h := range hops {
		if h.ResetsConfig {
			resets++
		}
		if h.Minutes != nil {
			outage = outage.Plus(h.Minutes.Outage)
		}
	}
	out := []string{fmt.Sprintf("by %s", wording.Count(len(hops), "hop"))}
	switch {
	case resets > 0:
		out[0] += fmt.Sprintf(", with the configuration reset %s", times(resets))
	default:
		out[0] += ", and the configuration is kept"
	}
	if outage.To > 0 {
		out[0] += fmt.Sprintf(", %s without service", outage.Text())
	}
	return out
}

func times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// Slots follows what the slots of a device hold: every install of a main image
// goes to a slot that is not active, the longest untouched one first, and makes
// it active.
type Slots struct {
	Names  []string
	Main   []string // version, "" when it is not known
	Active int      // -1 when it is not known
	order  []int    // from the longest untouched
}

// NewSlots takes the slots as the device file gives them.
func NewSlots(b *Box) Slots {
	s := Slots{Active: -1}
	for i, slot := range b.Device.Slots {
		s.Names, s.Main = append(s.Names, slot.Name.Text), append(s.Main, slot.Main.Text)
		if slot.Active {
			s.Active = i
			if v := b.Installed(b.Rules.Main(b.Family)); v.Known() && s.Main[i] == "" {
				s.Main[i] = v.First()
			}
		}
		s.order = append(s.order, i)
	}
	return s
}

// Next is the slot that the next install goes to; -1 when that is not known.
func (s *Slots) Next() int {
	if s.Active < 0 {
		return -1
	}
	if len(s.Names) == 1 {
		return 0
	}
	for _, i := range s.order {
		if i != s.Active {
			return i
		}
	}
	return -1
}

// Install writes a version to the next slot and makes it active.
func (s *Slots) Install(version string) {
	i := s.Next()
	if i < 0 {
		return
	}
	s.Main[i], s.Active = version, i
	var order []int
	for _, k := range s.order {
		if k != i {
			order = append(order, k)
		}
	}
	s.order = append(order, i)
}

// Other is a slot that is not active and holds a version.
func (s *Slots) Other(version string, equal func(a, b string) bool) (name string, ok bool) {
	for i, v := range s.Main {
		if i != s.Active && s.Active >= 0 && v != "" && equal(v, version) {
			return s.Names[i], true
		}
	}
	return "", false
}

// bySlot tells whether, after so many hops, another slot of every box still
// holds what runs now and the components that are there by then can start it;
// else why not.
func (r *route) bySlot(end stand, hops int) (found string, why []string) {
	t := r.team
	scheme := t.lines[r.begin.line].scheme
	for b, box := range t.boxes {
		name := ""
		if len(t.boxes) > 1 {
			name = box.Device.Name.Text + ": "
		}
		slots := r.slots(b, hops)
		if len(slots.Names) == 0 {
			return "", nil
		}
		if slots.Active < 0 {
			return "", []string{name + "which slot is active is not known"}
		}
		if len(slots.Names) == 1 {
			return "", []string{name + "there is one slot only"}
		}
		slot, ok := slots.Other(r.answer.From, scheme.Equal)
		if !ok {
			return "", []string{fmt.Sprintf("%sno other slot holds %s any more", name, r.answer.From)}
		}
		if rel := t.lines[r.begin.line].candidates[r.begin.version].releases[b]; rel != nil {
			at := stand{line: r.begin.line, version: r.begin.version, components: end.components}
			for n := range rel.NeedsOf(t.rules, t.lines[r.begin.line].families[b], t.boxes[b].Model, t.boxes[b].Revision) {
				if n.Component.Set() && n.Component.Text != t.lines[r.begin.line].main && n.Met(t.rules, t.situation(at, b)) != truth.Yes {
					have := end.components[b][n.Component.Text]
					return "", []string{fmt.Sprintf("%sslot %s still holds %s, which needs %s, and by then it has %s", name, slot, r.answer.From, n.Text(), have)}
				}
			}
		}
		if found == "" {
			found = fmt.Sprintf("slot %s still holds %s: activate it and restart", slot, r.answer.From)
		}
	}
	if len(t.boxes) > 1 {
		found = fmt.Sprintf("the other slot of every member still holds %s: activate it on all and restart", r.answer.From)
	}
	return found, nil
}

// slots are those of a box after so many hops of the answer.
func (r *route) slots(b, hops int) Slots {
	s := NewSlots(r.team.boxes[b])
	if r.at != nil {
		for _, v := range r.at.installs[r.team.boxes[b]] {
			s.Install(v)
		}
	}
	for _, h := range r.answer.Hops[:hops] {
		if !h.BootOnly {
			s.Install(h.To)
		}
	}
	return s
}

// fallsBackTo says what a factory reset leaves running after so many hops,
// where the rulebook says so.
func (r *route) fallsBackTo(hops int) []string {
	t := r.team
	to := r.answer.Hops[hops-1]
	f, ok := t.rules.Family(to.Family)
	if !ok || !f.FactoryReset.Starts.Set() {
		return nil
	}
	where := t.rules.Source(f.FactoryReset.Spot).Where()
	switch f.FactoryReset.Starts.Text {
	case "running":
		return []string{fmt.Sprintf("a factory reset keeps %s (%s)", to.To, where)}
	case "other-slot":
		s := r.slots(0, hops)
		for i, v := range s.Main {
			if i != s.Active && s.Active >= 0 {
				return []string{fmt.Sprintf("a factory reset falls back to slot %s, which then holds %s (%s)", s.Names[i], cmp.Or(v, "a version that is not known"), where)}
			}
		}
		return []string{fmt.Sprintf("a factory reset falls back to the other slot (%s)", where)}
	}
	return []string{fmt.Sprintf("a factory reset falls back to %s (%s)", f.FactoryReset.Starts.Text, where)}
}
