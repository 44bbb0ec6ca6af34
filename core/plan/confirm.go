package plan

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	"fitcheck/core/version"
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

// The reasons of a confirmation. Where a check of a match asks the same afterwards,
// it gives them.
var (
	identityCheck  = check.Register(&check.Check{Name: "identity", Order: 4, Of: "confirm", Doc: "Is this a capture of the device that was installed?"})
	memberCheck    = check.Register(&check.Check{Name: "member", Order: 2, Of: "confirm", Doc: "Are all members there?"})
	unchangedCheck = check.Register(&check.Check{Name: "unchanged", Order: 330, Of: "confirm", Doc: "Is what an install leaves alone as it was?"})
	settingsCheck  = check.Register(&check.Check{Name: "settings", Order: 340, Of: "confirm", Doc: "Are the settings saved?"})

	identityBySerial  = identityCheck.Code("by_serial", fit.Fits, "the capture shows the device's serial number", "the capture shows its serial number %s", "")
	identityByName    = identityCheck.Code("by_name", fit.Fits, "there is no serial number to compare, and name, model and revision are the device's, as far as the capture shows them", "the capture shows its %s", "")
	identityOtherBox  = identityCheck.Code("another_device", fit.Misfit, "the capture shows the serial number, name, model or revision of another device", "this is another device: the capture shows the %s %s, and the device file says %s", "capture the console of the device that was installed")
	identityNewName   = identityCheck.Code("name_reset", fit.Unsettled, "the capture shows another name, and the install resets the configuration", "the capture shows the name %s and not %s; the install resets the configuration, perhaps the name with it", "read the serial number off the device, and capture it, too")
	identityRenamed   = identityCheck.Code("renamed", fit.Note, "the serial number is the device's, and the name is another", "the serial number is the device's, and it calls itself %s", "")
	identityOtherwise = identityCheck.Code("described_otherwise", fit.Note, "the serial number is the device's, and the capture shows another model or revision than the device file", "the serial number is the device's, and the capture shows the %s %s, where the device file says %s: one of the two is wrong", "")
	identityNone      = identityCheck.Code("not_told", fit.Unsettled, "the capture shows neither a serial number nor a name", "nothing in the captures tells which device it is: no serial number and no name%s", "capture what the device says of itself, with its serial number or its name")

	memberThere    = memberCheck.Code("there", fit.Fits, "the member is there", "the member is there", "")
	memberGone     = memberCheck.Code("not_there", fit.Misfit, "the captures do not show a member", "the captures do not show this member", "see whether it came back; capture the console again")
	memberStranger = memberCheck.Code("not_known", fit.Unsettled, "the captures show a member that the device file does not know", "there is a member %s that the device file does not know", "add it to the device file, or see why it is there")

	unchangedAll  = unchangedCheck.Code("as_it_was", fit.Fits, "nothing changed that should not have", "nothing changed that should not have, as far as the captures tell: %s", "")
	unchangedNone = unchangedCheck.Code("not_told", fit.Note, "the captures tell nothing of what should not have changed", "the captures tell nothing of what should not have changed", "")
	unchangedNot  = unchangedCheck.Code("changed", fit.Misfit, "something changed that an install leaves alone", "%s was %s and is now %s", "is this a capture of the same device?")

	settingsSaved   = settingsCheck.Code("saved", fit.Fits, "the settings are saved", "the settings are saved", "")
	settingsUnsaved = settingsCheck.Code("not_saved", fit.Misfit, "the settings are not saved", "the settings are not saved", "save them, or the next restart loses them")
	settingsUnknown = settingsCheck.Code("not_told", fit.Note, "the captures do not tell", "the captures do not tell whether the settings are saved: save them", "")

	versionPlanned  = check.Find("version").Code("as_planned", fit.Fits, "after the install, a component has the planned version", "%s is %s, as planned", "")
	versionOther    = check.Find("version").Code("not_as_planned", fit.Misfit, "after the install, a component has another version than planned", "%s is %s; the plan says %s", "do not go on; see the way back in the runbook")
	versionNotTold  = check.Find("version").Code("not_told", fit.Unsettled, "after the install, the captures do not tell the version of a component", "the captures do not tell the version of %s", "capture what the device says of it, and confirm again")
	versionTwice    = check.Find("version").Code("contradicted", fit.Unsettled, "the captures say two things of what runs", "the captures say that %s is %s, and that the active slot %s holds %s", "capture the console again, and give only what is of now")
	versionBuild    = check.Find("version").Code("build_not_told", fit.Unsettled, "the captures, or the plan, leave the build open", "%s is %s; the plan says %s: the build is not told", "capture the whole version, with its build")
	slotPlanned     = check.Find("slot").Code("active_as_planned", fit.Fits, "after the install, the planned slot is active", "slot %s is active, as planned", "")
	slotOther       = check.Find("slot").Code("other_active", fit.Misfit, "after the install, another slot is active than planned", "slot %s is active; the plan says %s", "it may have started the old image again: read what the console said at the restart")
	slotNotTold     = check.Find("slot").Code("active_not_told", fit.Unsettled, "after the install, the captures do not tell which slot is active", "the captures do not tell which slot is active", "capture what the device says of its slots, and confirm again")
	slotKept        = check.Find("slot").Code("holds_way_back", fit.Fits, "after the install, another slot holds what it held: the way back", "slot %s still holds %s: the way back", "")
	slotOverwritten = check.Find("slot").Code("not_as_planned", fit.Misfit, "after the install, another slot holds something else than planned", "slot %s holds %s; the plan says %s", "the way back by this slot is gone; see the runbook for another")
	slotBuild       = check.Find("slot").Code("build_not_told", fit.Unsettled, "after the install, the captures, or the plan, leave open the build that another slot holds", "slot %s holds %s; the plan says %s: the build is not told", "see what the slot holds, with its build, before you count on it as the way back")
	attachedBack    = check.Find("attached").Code("back", fit.Fits, "what was attached is back", "%s is back", "")
	attachedGone    = check.Find("attached").Code("not_back", fit.Misfit, "what was attached is not back", "%s", "see why it is not back before you go on")
	attachedNotTold = check.Find("attached").Code("not_told", fit.Unsettled, "the captures do not tell what is attached", "the captures do not tell what is attached", "see whether %s is back")
	attachedFollows = check.Find("attached").Code("follows", fit.Fits, "what takes its firmware from the device runs its release", "%s runs %s, as the device does", "")
	attachedStayed  = check.Find("attached").Code("stayed", fit.Misfit, "what takes its firmware from the device runs another release", "%s runs %s; the device brings it to %s", "see what the device says of it, and have it updated, before you go on")
	attachedUnsure  = check.Find("attached").Code("not_yet", fit.Unsettled, "whether what takes its firmware from the device has got the release is not known yet", "%s runs %s; the device brings it to %s, and %s", "wait until it is done, capture it again, and confirm again")
	agreementNow    = check.Find("agreement").Code("captures_contradict", fit.Unsettled, "captures contradict each other", "%s: %s", "capture the console again, and give only what is of now")
	uniformNow      = check.Find("uniform").Code("runs_one_version", fit.Fits, "after the install, all members run one version", "all members run %s", "")
	uniformNotNow   = check.Find("uniform").Code("runs_several", fit.Misfit, "after the install, members run different versions", "%s runs %s, and others %s", "bring all members to one version")
	uniformNotTold  = check.Find("uniform").Code("not_told", fit.Unsettled, "after the install, not every member tells its version", "not every member tells its version", "capture what each of them says of its version")
)

// Confirm holds what was read off the device afterwards against the plan. Only what
// the captures say counts: what they do not tell is unsettled.
//
// In one piece: for each member the same checks, and then those of the group.
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
	resets := slices.ContainsFunc(t.Steps, func(s Step) bool { return s.ResetsConfig })
	known := map[string]bool{}
	for i, b := range promised {
		key := ""
		if group {
			key = memberKey(before[i], after.Members, told)
			known[key] = true
		}
		m := ConfirmedMember{Name: b.Name.Text}
		w := newWitness(t, b, told[key], after)
		switch {
		case group && key == "":
			l := memberGone.Line("")
			l.Device, l.Package = "not there", "member "+b.Name.Text
			m.Checks = []fit.Check{*l.Cite(w.planned("name", "member "+b.Name.Text, b.Name.Spot), w.captures("not there"))}
		default:
			if group {
				l := memberThere.Line("")
				l.Device, l.Package = "there", "member "+b.Name.Text
				m.Checks = append(m.Checks, *l.Cite(w.planned("name", "member "+b.Name.Text, b.Name.Spot), w.captures("member "+key)))
			}
			m.Checks = append(m.Checks, w.identity(before[i], group, key, resets)...)
			m.Checks = append(m.Checks, w.box(before[i])...)
		}
		m.Checks = check.Sort(m.Checks)
		m.Verdict = worst(m.Checks)
		c.Verdict = fit.Worse(c.Verdict, m.Verdict)
		c.Members = append(c.Members, m)
	}
	if group {
		w := newWitness(t, t.Device, nil, after)
		for _, name := range after.Members {
			if !known[name] {
				l := memberStranger.Line("", name)
				l.Device, l.Package = "member "+name, "not in the device file"
				c.Checks = append(c.Checks, *l.Cite(w.captures("member "+name), fit.Cited{Side: fit.OfPackage, Value: l.Package, Source: t.Device.Source("name", t.Device.Name.Spot)}))
			}
		}
		if t.Device.Uniform {
			c.Checks = append(c.Checks, uniform(t, before, promised, told, after))
		}
	}
	for _, x := range after.Contradictions {
		var said []string
		l := agreementNow.Line("")
		for i, v := range x.Values {
			said = append(said, fmt.Sprintf("%s says %s", v.At, v.Text))
			side := captured(v)
			if i == 0 {
				side.Side = fit.OfStated
			} else {
				side.Side = fit.OfPackage
			}
			l.Cite(side)
		}
		one := agreementNow.Line("", x.Label(), strings.Join(said, "; "))
		one.Device, one.Package, one.Sources = x.Values[0].Text, x.Values[len(x.Values)-1].Text, l.Sources
		c.Checks = append(c.Checks, one)
	}
	c.Checks = check.Sort(c.Checks)
	c.Verdict = fit.Worse(c.Verdict, worst(c.Checks))
	for _, a := range t.afterChecks() {
		if !a.ByCapture() && !slices.Contains(c.Next, a.Text()) {
			c.Next = append(c.Next, a.Text())
		}
	}
	return c
}

// memberKey is the name under which captures speak of a member: that of the one with
// its serial number, else its own.
func memberKey(b *device.Device, told []string, of map[string][]device.Finding) string {
	for _, t := range told {
		w := &witness{told: of[t]}
		if v, ok := w.find("serial"); ok && b.Serial.Set() && strings.EqualFold(v.Text, b.Serial.Text) {
			return t
		}
	}
	for _, t := range told {
		if strings.EqualFold(t, b.Name.Text) {
			return t
		}
	}
	return ""
}

func worst(all []fit.Check) fit.Outcome { return check.Worst(all) }

// witness is what the captures say of one box.
type witness struct {
	rules    *rulebook.Rulebook
	told     []device.Finding
	family   string
	promised *device.Device
	files    string // the captures, for what they do not tell
}

func newWitness(t *Target, promised *device.Device, told []device.Finding, after *device.Draft) *witness {
	w := &witness{rules: t.Rules(promised.Model.Text), told: told, promised: promised, files: "the captures"}
	w.family = familyOf(promised, t.Rules)
	for _, f := range after.Findings {
		for _, v := range f.Values {
			w.files = v.At.File
		}
	}
	return w
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
	return fit.Cited{Side: fit.OfDevice, Value: v.Text, Source: v.At}
}

// captures are those as a whole.
func (w *witness) captures(said string) fit.Cited {
	return fit.Cited{Side: fit.OfDevice, Value: said, Source: fact.Source{Kind: fact.Capture, File: w.files}}
}

// planned is where what was promised stands.
func (w *witness) planned(key, value string, at y.Spot) fit.Cited {
	return fit.Cited{Side: fit.OfPackage, Value: value, Source: w.promised.Source(key, at)}
}

// line makes a line with both sides.
func sides(l fit.Check, device, planned string, sources ...fit.Cited) fit.Check {
	l.Device, l.Package = device, planned
	return *l.Cite(sources...)
}

// identity tells whether the captures are of the device: by its serial number, else by
// its name, model and revision.
//
// In one piece: the signs by which a device is known again, the surest first.
func (w *witness) identity(before *device.Device, group bool, key string, resets bool) []fit.Check {
	of := func(key string, t y.String) (v device.Value, shown, given bool) {
		_, guessed := before.Guessed(key)
		v, shown = w.find(key)
		return v, shown, t.Set() && !guessed
	}
	was := func(key string, t y.String) fit.Cited {
		return fit.Cited{Side: fit.OfPackage, Value: t.Text, Source: before.Source(key, t.Spot)}
	}
	var out []fit.Check
	name, nameShown, _ := of("name", before.Name)
	if group && !nameShown {
		name, nameShown = device.Value{Text: key, At: fact.Source{Kind: fact.Capture, File: w.files}}, true
	}
	sameName := nameShown && strings.EqualFold(name.Text, before.Name.Text)
	other := func(what string, v device.Value, key string, t y.String) fit.Check {
		return sides(identityOtherBox.Line("", what, v.Text, t.Text), v.Text, t.Text, captured(v), was(key, t))
	}
	var otherwise struct {
		what string
		v    device.Value
		t    y.String
	}
	if v, shown, given := of("model", before.Model); shown && given && w.rules.SameModel(v.Text, before.Model.Text) == truth.No {
		otherwise.what, otherwise.v, otherwise.t = "model", v, before.Model
	} else if v, shown, given := of("revision", before.Revision); shown && given && !strings.EqualFold(v.Text, before.Revision.Text) {
		otherwise.what, otherwise.v, otherwise.t = "revision", v, before.Revision
	}
	if v, shown, given := of("serial", before.Serial); shown && given {
		if !strings.EqualFold(strings.TrimSpace(v.Text), strings.TrimSpace(before.Serial.Text)) {
			return []fit.Check{other("serial number", v, "serial", before.Serial)}
		}
		out = append(out, sides(identityBySerial.Line("", v.Text), v.Text, before.Serial.Text, captured(v), was("serial", before.Serial)))
		if nameShown && !sameName {
			out = append(out, sides(identityRenamed.Line("", name.Text), name.Text, before.Name.Text, captured(name), was("name", before.Name)))
		}
		if otherwise.what != "" {
			out = append(out, sides(identityOtherwise.Line("", otherwise.what, otherwise.v.Text, otherwise.t.Text), otherwise.v.Text, otherwise.t.Text, captured(otherwise.v), was(otherwise.what, otherwise.t)))
		}
		return out
	}
	if otherwise.what != "" {
		return []fit.Check{other(otherwise.what, otherwise.v, otherwise.what, otherwise.t)}
	}
	switch {
	case !nameShown:
		seen := ""
		if v, ok := w.find("model"); ok {
			seen = fmt.Sprintf("; a %s is not the only one of its model", v.Text)
		}
		return []fit.Check{sides(identityNone.Line("", seen), "not told", before.Name.Text, w.captures("not told"), was("name", before.Name))}
	case !sameName && resets:
		return []fit.Check{sides(identityNewName.Line("", name.Text, before.Name.Text), name.Text, before.Name.Text, captured(name), was("name", before.Name))}
	case !sameName:
		return []fit.Check{other("name", name, "name", before.Name)}
	}
	shown := []string{"name"}
	sources := []fit.Cited{captured(name), was("name", before.Name)}
	for _, k := range []struct {
		key string
		was y.String
	}{{"model", before.Model}, {"revision", before.Revision}} {
		if v, ok := w.find(k.key); ok && k.was.Set() {
			shown, sources = append(shown, k.key), append(sources, captured(v), was(k.key, k.was))
		}
	}
	return []fit.Check{sides(identityByName.Line("", strings.Join(shown, ", ")), name.Text, before.Name.Text, sources...)}
}

// active is the slot that the captures tell to be active, and what it holds.
func (w *witness) active(promised *device.Device) (slot string, at, holds device.Value, ok bool) {
	for _, f := range w.told {
		name, is := strings.CutPrefix(f.Key, "slots.")
		if !is {
			continue
		}
		if name, is = strings.CutSuffix(name, ".active"); is && !f.Guess() && f.Values[0].Text == "true" {
			holds, _ = w.find("slots." + name + ".main")
			return name, f.Values[0], holds, true
		}
	}
	return "", device.Value{}, device.Value{}, false
}

// version is what the captures say of an installed component; of the main one, what the
// active slot holds speaks, too. clash names the slot that says otherwise.
func (w *witness) version(component string) (v device.Value, ok bool, clash *device.Value, slot string) {
	v, ok = w.find("installed." + component)
	if component != w.rules.Main(w.family) {
		return v, ok, nil, ""
	}
	slot, _, holds, is := w.active(w.promised)
	if !is || holds.Text == "" {
		return v, ok, nil, ""
	}
	if !ok {
		return holds, true, nil, ""
	}
	scheme := w.rules.Scheme(component)
	switch scheme.Same(v.Text, holds.Text) {
	case truth.No:
		return v, true, &holds, slot
	case truth.Unknown:
		if leavesOpen(scheme, v.Text) {
			return holds, true, nil, ""
		}
	}
	return v, true, nil, ""
}

// planOpen is the advice where the captures tell the build, and the plan does not.
const planOpen = "the plan leaves the build open: write the whole version where the plan has it from, and confirm again"

func reads(s *version.Scheme, text string) bool {
	_, err := s.Parse(text)
	return err == nil
}

func leavesOpen(s *version.Scheme, text string) bool {
	v, err := s.Parse(text)
	return err == nil && v.LeavesOpen()
}

// versions holds the installed components against what was promised.
func (w *witness) versions() []fit.Check {
	var out []fit.Check
	promised := w.promised
	for _, e := range promised.Installed.Entries {
		key := "installed." + e.Key
		if _, guessed := promised.Guessed(key); guessed {
			continue
		}
		want, of := e.Value.Text, w.planned(key, e.Value.Text, e.Value.Spot)
		v, ok, clash, slot := w.version(e.Key)
		code := versionPlanned
		switch {
		case !ok:
			out = append(out, sides(versionNotTold.Line(e.Key, e.Key), "not told", want, of, w.captures("not told")))
			continue
		case clash != nil:
			out = append(out, sides(versionTwice.Line(e.Key, e.Key, v.Text, slot, clash.Text), v.Text+" against "+clash.Text, want, of, captured(v), captured(*clash)))
			continue
		}
		args := []any{e.Key, v.Text, want}
		switch w.rules.Scheme(e.Key).Same(v.Text, want) {
		case truth.Yes:
			args = args[:2]
		case truth.Unknown:
			if code = versionBuild; !reads(w.rules.Scheme(e.Key), v.Text) {
				code = versionOther
			}
		default:
			code = versionOther
		}
		line := code.Line(e.Key, args...)
		if code == versionBuild && leavesOpen(w.rules.Scheme(e.Key), want) { // of the captures it is not to be had
			line = line.Advise(planOpen)
		}
		out = append(out, sides(line, v.Text, want, of, captured(v)))
	}
	return out
}

// box checks one box: versions, slots, what must not have changed, what is attached,
// the settings.
func (w *witness) box(before *device.Device) []fit.Check {
	out := w.versions()
	out = append(out, w.slots()...)
	out = append(out, w.unchanged(before)...)
	out = append(out, w.attached()...)
	out = append(out, w.follows(before)...)
	v, ok := w.find("config.saved")
	wish := fit.Cited{Side: fit.OfPackage, Value: "saved", Source: fact.Source{Kind: fact.DeviceFile, File: w.promised.File}}
	switch {
	case ok && v.Text != "true":
		out = append(out, sides(settingsUnsaved.Line(""), "not saved", "saved", captured(v), wish))
	case ok:
		out = append(out, sides(settingsSaved.Line(""), "saved", "saved", captured(v), wish))
	default:
		out = append(out, sides(settingsUnknown.Line(""), "not told", "saved", w.captures("not told"), wish))
	}
	return out
}

// slots checks which slot runs, and what the others hold.
func (w *witness) slots() []fit.Check {
	var out []fit.Check
	scheme := w.rules.Scheme(w.rules.Main(w.family))
	for _, s := range w.promised.Slots {
		name := s.Name.Text
		if s.Active {
			of := w.planned("slots."+name, "slot "+name+" active", s.Spot)
			active, at, _, ok := w.active(w.promised)
			switch {
			case !ok:
				out = append(out, sides(slotNotTold.Line(name), "not told", "active", of, w.captures("not told")))
			case active == name:
				out = append(out, sides(slotPlanned.Line(name, name), "slot "+active, "active", of, captured(at)))
			default:
				out = append(out, sides(slotOther.Line(name, active, name), "slot "+active, "active", of, captured(at)))
			}
		}
		if v, ok := w.find("slots." + name + ".main"); ok && s.Main.Set() && !s.Active {
			of := w.planned("slots."+name, s.Main.Text, s.Main.Spot)
			code, args := slotOverwritten, []any{name, v.Text, s.Main.Text}
			switch scheme.Same(v.Text, s.Main.Text) {
			case truth.Yes:
				code, args = slotKept, args[:2]
			case truth.Unknown:
				if reads(scheme, v.Text) {
					code = slotBuild
				}
			}
			line := code.Line(name, args...)
			if code == slotBuild && leavesOpen(scheme, s.Main.Text) {
				line = line.Advise(planOpen)
			}
			out = append(out, sides(line, v.Text, s.Main.Text, of, captured(v)))
		}
	}
	return out
}

// unchanged finds what an install must leave as it was.
func (w *witness) unchanged(before *device.Device) []fit.Check {
	var out []fit.Check
	var same []string
	var sources []fit.Cited
	for _, k := range []struct {
		key string
		was y.String
	}{{"model", before.Model}, {"revision", before.Revision}, {"serial", before.Serial}, {"arch", before.Arch}, {"region", before.Region}, {"platform", before.Platform}, {"hypervisor", before.Hypervisor}, {"family", w.promised.Family}} {
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
			equal = func(a, b string) bool { return w.rules.SameModel(a, b) == truth.Yes }
		case "arch":
			equal = func(a, b string) bool { return fact.CanonicalArch(a) == fact.CanonicalArch(b) }
		}
		was := fit.Cited{Side: fit.OfPackage, Value: k.was.Text, Source: before.Source(k.key, k.was.Spot)}
		if equal(v.Text, k.was.Text) {
			same, sources = append(same, k.key), append(sources, was, captured(v))
			continue
		}
		out = append(out, sides(unchangedNot.Line(k.key, k.key, k.was.Text, v.Text), v.Text, k.was.Text, was, captured(v)))
	}
	switch {
	case len(out) > 0:
	case len(same) == 0:
		out = append(out, sides(unchangedNone.Line(""), "not told", "as it was", w.captures("not told"), w.planned("name", before.Name.Text, before.Name.Spot)))
	default:
		out = append(out, sides(unchangedAll.Line("", strings.Join(same, ", ")), "as it was", "as it was", sources...))
	}
	return out
}

// attached counts what is attached, model by model: two of one model are two.
func (w *witness) attached() []fit.Check {
	var out []fit.Check
	var models []y.String
	count := map[string]int{}
	for _, a := range w.promised.AttachedModels() {
		m := w.rules.CanonicalModel(a.Text)
		if count[m]++; count[m] == 1 {
			models = append(models, a)
		}
	}
	told := false
	have := map[string][]device.Value{}
	for _, f := range w.told {
		if f.Key == "attached" && !f.Guess() {
			told = true
			for _, v := range f.Values {
				m := w.rules.CanonicalModel(v.Text)
				have[m] = append(have[m], v)
			}
		}
	}
	for _, a := range models {
		m := w.rules.CanonicalModel(a.Text)
		want := a.Text
		if count[m] > 1 {
			want = fmt.Sprintf("%d × %s", count[m], a.Text)
		}
		of := w.planned("attached", want, a.Spot)
		if !told {
			out = append(out, sides(attachedNotTold.Line(a.Text).Advise(attachedNotTold.Advice, a.Text), "not told", want, of, w.captures("not told")))
			continue
		}
		sources := []fit.Cited{of}
		for _, v := range have[m] {
			sources = append(sources, captured(v))
		}
		if n := len(have[m]); n < count[m] {
			text := a.Text + " is not among what is attached"
			if n > 0 {
				text = fmt.Sprintf("of %d %s only %d came back", count[m], a.Text, n)
			} else {
				sources = append(sources, w.captures("no "+a.Text))
			}
			out = append(out, sides(attachedGone.Line(a.Text, text), fmt.Sprintf("%d of them", n), want, sources...))
			continue
		}
		if gone := w.missingByName(m, have[m]); gone != "" { // as many as before, and not the same
			out = append(out, sides(attachedGone.Line(a.Text, gone+" is not among what is attached"), "others", want, sources...))
			continue
		}
		out = append(out, sides(attachedBack.Line(a.Text, want), want, want, sources...))
	}
	return out
}

// follows holds what takes its firmware from the device against the release that it was given:
// what ran the device's own main version before must run the new one.
func (w *witness) follows(before *device.Device) []fit.Check {
	main := w.rules.Main(w.family)
	scheme := w.rules.Scheme(main)
	ran, had := before.Installed.Get(main)
	will, has := w.promised.Installed.Get(main)
	if _, guessed := before.Guessed("installed." + main); guessed || !had || !has {
		return nil
	}
	var out []fit.Check
	for _, a := range w.promised.Attached {
		if !a.Main.Set() || scheme.Same(a.Main.Text, ran.Value.Text) != truth.Yes {
			continue
		}
		v, told := w.saidOf(a)
		if !told { // that it is gone, or not told of, has been said
			continue
		}
		want, is := will.Value.Text, v.More["main"]
		of := w.planned("attached", a.Label()+" at "+want, a.Main.Spot)
		l := func(c *check.Code, args ...any) {
			out = append(out, sides(c.Line(a.Label(), append([]any{a.Label()}, args...)...), cmp.Or(is, "not told"), want, of, captured(v)))
		}
		job, _ := w.find("job.state")
		switch same := scheme.Same(is, want); {
		case is == "":
			l(attachedUnsure, "a version that is not told", want, "the captures must tell it")
		case same == truth.Yes:
			l(attachedFollows, is)
		case same == truth.Unknown:
			l(attachedUnsure, is, want, "its build is not told")
		case job.Text == "running" || job.Text == "scheduled":
			l(attachedUnsure, is, want, "the device is still at work")
		default:
			l(attachedStayed, is, want)
		}
	}
	return out
}

// saidOf is what the captures tell of one that is attached: by its serial number, else by its
// name, else as the only one of its model.
func (w *witness) saidOf(a device.Attached) (device.Value, bool) {
	var told, of []device.Value
	for _, f := range w.told {
		if f.Key == "attached" && !f.Guess() {
			told = append(told, f.Values...)
		}
	}
	for _, by := range []struct {
		key string
		is  y.String
	}{{"serial", a.Serial}, {"name", a.Name}} {
		for _, v := range told {
			if by.is.Set() && strings.EqualFold(v.More[by.key], by.is.Text) {
				return v, true
			}
		}
	}
	for _, v := range told {
		if w.rules.CanonicalModel(v.Text) == w.rules.CanonicalModel(a.Model.Text) {
			of = append(of, v)
		}
	}
	if len(of) == 1 && !a.Serial.Set() && !a.Name.Set() {
		return of[0], true
	}
	return device.Value{}, false
}

// missingByName is what of a model was attached by name or serial number, and is not among what
// the captures tell by name; "" where it is, or they tell no names.
func (w *witness) missingByName(model string, have []device.Value) string {
	for _, a := range w.promised.Attached {
		if w.rules.CanonicalModel(a.Model.Text) != model {
			continue
		}
		for key, t := range map[string]y.String{"serial": a.Serial, "name": a.Name} {
			told := slices.ContainsFunc(have, func(v device.Value) bool { return v.More[key] != "" })
			if t.Set() && told && !slices.ContainsFunc(have, func(v device.Value) bool { return strings.EqualFold(v.More[key], t.Text) }) {
				return a.Label()
			}
		}
	}
	return ""
}

// uniform: all members that tell run one version. A member that the captures do not show tells nothing: what they show
// without a name may be of any device.
func uniform(t *Target, before, promised []*device.Device, told map[string][]device.Finding, after *device.Draft) fit.Check {
	base := uniformNow.Line("")
	base.Cite(fit.Cited{Side: fit.OfPackage, Value: "one version", Source: t.Device.Source("name", t.Device.Name.Spot)})
	var known []string
	missing := ""
	for i, b := range promised {
		key := memberKey(before[i], after.Members, told)
		if key == "" {
			missing = b.Name.Text
			continue
		}
		w := newWitness(t, b, told[key], after)
		main := w.rules.Main(w.family)
		v, ok, clash, _ := w.version(main)
		switch {
		case !ok || clash != nil:
			missing = b.Name.Text
			continue
		}
		for _, other := range known {
			switch w.rules.Scheme(main).Same(other, v.Text) {
			case truth.No:
				return sides(uniformNotNow.Line("", b.Name.Text, v.Text, other), v.Text, "one version", append(base.Sources, captured(v))...)
			case truth.Unknown: // of one of them the build
				missing = b.Name.Text
			}
		}
		known = append(known, v.Text)
		base.Cite(captured(v))
	}
	if missing != "" {
		w := newWitness(t, t.Device, nil, after)
		return sides(uniformNotTold.Line(""), missing+" does not tell", "one version", append(base.Sources, w.captures("not told"))...)
	}
	return sides(uniformNow.Line("", known[0]), known[0], "one version", base.Sources...)
}
