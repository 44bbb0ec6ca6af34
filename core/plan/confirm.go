package plan

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// Confirmation is what came of an install, held against what the plan promised.
type Confirmation struct {
	Device   string
	From, To string
	Verdict  fit.Outcome
	Members  []ConfirmedMember
	Checks   []fit.Check // about the group as such
	Next     []string    // what nobody but a person can see
}

// ConfirmedMember is the same for one box.
type ConfirmedMember struct {
	Name    string
	Verdict fit.Outcome
	Checks  []fit.Check
}

// Confirm holds what was read off the device afterwards against the plan. Only
// what the captures say counts: what they do not tell is unsettled.
func Confirm(t *Target, after *device.Draft) *Confirmation {
	c := &Confirmation{Device: t.Device.Name.Text, Verdict: fit.Fits}
	for _, a := range t.Result.Plans {
		c.From, c.To = a.From, a.To
	}
	before, promised := t.Device.All(), t.End().All()
	group := len(t.Device.Members) > 0
	told := map[string][]device.Finding{}
	for _, f := range after.Findings {
		told[f.Member] = append(told[f.Member], f)
	}
	for i, b := range promised {
		name := b.Name.Text
		key := ""
		if group {
			key = memberKey(name, after.Members)
		}
		m := ConfirmedMember{Name: name}
		w := &witness{rules: t.Rules(b.Model.Text), told: told[key], family: familyOf(b, t.Rules)}
		if group && key == "" {
			m.Checks = []fit.Check{{Check: "member", Outcome: fit.Misfit, Device: "not there", Package: "member " + name, Because: "the captures do not show this member", Advice: "see whether it came back; capture the console again",
				Sources: []fit.Cited{{Side: fit.OfPackage, Value: "member " + name, Source: t.Device.Source("name", b.Name.Spot)}}}}
		} else {
			if group {
				m.Checks = append(m.Checks, fit.Check{Check: "member", Outcome: fit.Fits, Device: "there", Package: "member " + name, Because: "the member is there"})
			}
			m.Checks = append(m.Checks, w.box(t, before[i], b)...)
		}
		m.Verdict = worst(m.Checks)
		c.Verdict = fit.Worse(c.Verdict, m.Verdict)
		c.Members = append(c.Members, m)
	}
	if group {
		c.Checks = append(c.Checks, strangers(after, promised)...)
		if t.Device.Uniform {
			c.Checks = append(c.Checks, uniform(t, promised, told, after.Members))
		}
	}
	for _, x := range after.Contradictions {
		var said []string
		for _, v := range x.Values {
			said = append(said, fmt.Sprintf("%s says %s", v.Where, v.Text))
		}
		c.Checks = append(c.Checks, fit.Check{Check: "agreement", Outcome: fit.Unsettled, Because: fmt.Sprintf("%s: %s", x.Label(), strings.Join(said, "; ")), Advice: "capture the console again, and give only what is of now"})
	}
	c.Verdict = fit.Worse(c.Verdict, worst(c.Checks))
	for _, s := range t.Steps {
		for _, rel := range s.Releases {
			if rel == nil {
				continue
			}
			for _, text := range rel.ChecksAfter {
				if !slices.Contains(c.Next, text.Text) {
					c.Next = append(c.Next, text.Text)
				}
			}
		}
	}
	return c
}

// memberKey is the name under which captures speak of a member.
func memberKey(name string, told []string) string {
	for _, t := range told {
		if strings.EqualFold(t, name) {
			return t
		}
	}
	return ""
}

func worst(all []fit.Check) fit.Outcome {
	out := fit.Fits
	for _, c := range all {
		out = fit.Worse(out, c.Outcome)
	}
	return out
}

// witness is what the captures say of one box.
type witness struct {
	rules  *rulebook.Rulebook
	told   []device.Finding
	family string
}

// find is what they say of a key, guesses left out.
func (w *witness) find(key string) (device.Value, bool) {
	for _, f := range w.told {
		if f.Key == key && !f.Guess() && len(f.Values) > 0 {
			return f.Values[0], true
		}
	}
	return device.Value{}, false
}

func captured(v device.Value) fit.Cited {
	return fit.Cited{Side: fit.OfDevice, Value: v.Text, Source: fact.Source{Kind: fact.Capture, File: v.Where}}
}

// one holds a value against what was promised.
func (w *witness) one(check, component, key, want string, promised fit.Cited, equal func(a, b string) bool) fit.Check {
	c := fit.Check{Check: check, Component: component, Package: want, Device: "not told", Sources: []fit.Cited{promised}}
	v, ok := w.find(key)
	switch {
	case !ok:
		c.Outcome = fit.Unsettled
		c.Because = fmt.Sprintf("the captures do not tell %s", key)
		c.Advice = "capture what the device says of it, and confirm again"
	case equal(v.Text, want):
		c.Outcome, c.Device, c.Because = fit.Fits, v.Text, fmt.Sprintf("%s is %s, as planned", key, v.Text)
		c.Sources = append(c.Sources, captured(v))
	default:
		c.Outcome, c.Device = fit.Misfit, v.Text
		c.Because = fmt.Sprintf("%s is %s, and the plan promised %s", key, v.Text, want)
		c.Advice = "do not go on; see the way back in the runbook"
		c.Sources = append(c.Sources, captured(v))
	}
	return c
}

// box checks one box: versions, slots, what must not have changed, what is
// attached, the settings.
func (w *witness) box(t *Target, before, promised *device.Device) []fit.Check {
	var out []fit.Check
	planned := func(key, value string, at y.Spot) fit.Cited {
		return fit.Cited{Side: fit.OfPackage, Value: value, Source: promised.Source(key, at)}
	}
	for _, e := range promised.Installed.Entries {
		scheme := w.rules.Scheme(e.Key)
		key := "installed." + e.Key
		if _, guessed := promised.Guessed(key); guessed {
			continue
		}
		out = append(out, w.one("version", e.Key, key, e.Value.Text, planned(key, e.Value.Text, e.Value.Spot), scheme.Equal))
	}
	out = append(out, w.slots(promised, planned)...)
	out = append(out, w.unchanged(before, promised)...)
	for _, a := range promised.Attached {
		out = append(out, w.attached(a, planned("attached", a.Text, a.Spot)))
	}
	if v, ok := w.find("config.saved"); ok && v.Text != "true" {
		out = append(out, fit.Check{Check: "settings", Outcome: fit.Misfit, Device: "not saved", Because: "the settings are not saved", Advice: "save them, or the next restart loses them", Sources: []fit.Cited{captured(v)}})
	} else if ok {
		out = append(out, fit.Check{Check: "settings", Outcome: fit.Fits, Device: "saved", Because: "the settings are saved", Sources: []fit.Cited{captured(v)}})
	} else {
		out = append(out, fit.Check{Check: "settings", Outcome: fit.Note, Because: "the captures do not tell whether the settings are saved: save them"})
	}
	return out
}

// slots checks which slot runs, and what the others hold.
func (w *witness) slots(promised *device.Device, planned func(key, value string, at y.Spot) fit.Cited) []fit.Check {
	var out []fit.Check
	scheme := w.rules.Scheme(w.rules.Main(w.family))
	for _, s := range promised.Slots {
		name := s.Name.Text
		if s.Active {
			c := fit.Check{Check: "slot", Component: name, Package: "active", Device: "not told", Outcome: fit.Unsettled, Because: "the captures do not tell which slot is active", Advice: "capture what the device says of its slots, and confirm again",
				Sources: []fit.Cited{planned("slots."+name, "slot "+name+" active", s.Spot)}}
			for _, other := range promised.Slots {
				v, ok := w.find("slots." + other.Name.Text + ".active")
				if !ok || v.Text != "true" {
					continue
				}
				c.Device, c.Sources = "slot "+other.Name.Text, append(c.Sources, captured(v))
				if c.Advice = ""; other.Name.Text == name {
					c.Outcome, c.Because = fit.Fits, fmt.Sprintf("slot %s is active, as planned", name)
				} else {
					c.Outcome, c.Because = fit.Misfit, fmt.Sprintf("slot %s is active, and the plan promised %s", other.Name.Text, name)
					c.Advice = "it may have started the old image again: read what the console said at the restart"
				}
			}
			out = append(out, c)
		}
		if s.Main.Set() && !s.Active {
			if v, ok := w.find("slots." + name + ".main"); ok && !scheme.Equal(v.Text, s.Main.Text) {
				out = append(out, w.one("slot", name, "slots."+name+".main", s.Main.Text, planned("slots."+name, s.Main.Text, s.Main.Spot), scheme.Equal))
			} else if ok {
				out = append(out, fit.Check{Check: "slot", Component: name, Outcome: fit.Fits, Device: v.Text, Package: s.Main.Text, Because: fmt.Sprintf("slot %s holds %s still: the way back", name, v.Text), Sources: []fit.Cited{captured(v)}})
			}
		}
	}
	return out
}

// unchanged finds what an install must leave as it was.
func (w *witness) unchanged(before, promised *device.Device) []fit.Check {
	var out []fit.Check
	for _, k := range []struct {
		key string
		was y.Text
	}{{"model", before.Model}, {"revision", before.Revision}, {"serial", before.Serial}, {"arch", before.Arch}, {"region", before.Region}, {"platform", before.Platform}, {"family", promised.Family}} {
		v, ok := w.find(k.key)
		if !ok || !k.was.Set() {
			continue
		}
		if _, guessed := before.Guessed(k.key); guessed {
			continue
		}
		equal := strings.EqualFold
		switch k.key {
		case "model":
			equal = func(a, b string) bool { return w.rules.CanonicalModel(a) == w.rules.CanonicalModel(b) }
		case "arch":
			equal = func(a, b string) bool { return fact.CanonicalArch(a) == fact.CanonicalArch(b) }
		}
		if equal(v.Text, k.was.Text) {
			continue
		}
		out = append(out, fit.Check{Check: "unchanged", Component: k.key, Outcome: fit.Misfit, Device: v.Text, Package: k.was.Text, Because: fmt.Sprintf("%s was %s, and is %s now", k.key, k.was.Text, v.Text),
			Advice:  "is this a capture of the same device?",
			Sources: []fit.Cited{{Side: fit.OfPackage, Value: k.was.Text, Source: before.Source(k.key, k.was.Spot)}, captured(v)}})
	}
	if len(out) == 0 {
		out = append(out, fit.Check{Check: "unchanged", Outcome: fit.Fits, Because: "nothing changed that should not have, as far as the captures tell"})
	}
	return out
}

func (w *witness) attached(a y.Text, planned fit.Cited) fit.Check {
	c := fit.Check{Check: "attached", Component: a.Text, Package: a.Text, Device: "not told", Outcome: fit.Unsettled, Because: "the captures do not tell what is attached", Advice: "see whether " + a.Text + " is back", Sources: []fit.Cited{planned}}
	for _, f := range w.told {
		if f.Key != "attached" || f.Guess() {
			continue
		}
		c.Outcome, c.Device, c.Because = fit.Misfit, "others", a.Text+" is not among what is attached"
		for _, v := range f.Values {
			if w.rules.CanonicalModel(v.Text) == w.rules.CanonicalModel(a.Text) {
				c.Outcome, c.Device, c.Because, c.Advice = fit.Fits, v.Text, a.Text+" is back", ""
				c.Sources = append(c.Sources, captured(v))
				return c
			}
		}
	}
	return c
}

// strangers are members that the plan does not know.
func strangers(after *device.Draft, promised []*device.Device) []fit.Check {
	var out []fit.Check
	for _, name := range after.Members {
		if !slices.ContainsFunc(promised, func(b *device.Device) bool { return strings.EqualFold(b.Name.Text, name) }) {
			out = append(out, fit.Check{Check: "member", Outcome: fit.Unsettled, Device: "member " + name, Because: fmt.Sprintf("there is a member %s that the device file does not know", name), Advice: "add it to the device file, or see why it is there"})
		}
	}
	return out
}

// uniform: all members that tell run one version.
func uniform(t *Target, promised []*device.Device, told map[string][]device.Finding, members []string) fit.Check {
	c := fit.Check{Check: "uniform", Outcome: fit.Fits}
	first := ""
	for _, b := range promised {
		rb := t.Rules(b.Model.Text)
		main := rb.Main(familyOf(b, t.Rules))
		w := &witness{rules: rb, told: told[memberKey(b.Name.Text, members)]}
		v, ok := w.find("installed." + main)
		switch {
		case !ok:
			if c.Outcome = fit.Worse(c.Outcome, fit.Unsettled); c.Outcome == fit.Unsettled {
				c.Because = "not every member tells its version"
			}
			continue
		case first == "":
			first = v.Text
		case !rb.Scheme(main).Equal(first, v.Text):
			c.Outcome, c.Because, c.Advice = fit.Misfit, fmt.Sprintf("%s runs %s, and others %s", b.Name.Text, v.Text, first), "bring all members to one version"
		}
		c.Sources = append(c.Sources, captured(v))
	}
	if c.Outcome == fit.Fits {
		c.Because = fmt.Sprintf("all members run %s", first)
	}
	return c
}
