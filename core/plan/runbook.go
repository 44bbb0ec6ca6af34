package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/duration"
	"fitcheck/core/fit"
	fitpath "fitcheck/core/path"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	"fitcheck/core/survey"
)

// Runbook is the steps of one night, in order.
type Runbook struct {
	Device   string
	From, To string
	Server   string // as the device reaches it; "" when nobody said
	Sections []Section
	// Install and Outage are minutes in all; Known is false when the rulebook
	// gives none for some hop.
	Install, Outage rulebook.MinuteSpan
	Known           bool
}

// Section is one part of the night.
type Section struct {
	Title   string
	Steps   []Instruction
	Minutes int // 0 when it is not known
	// At is the minute at which it begins, -1 when that is not known.
	At int
}

// Instruction is one step.
type Instruction struct {
	Step string // its name in the sequence; "" for what stands before and after the hops
	Hop  int    // from 1; 0 before and after
	// Member is the box that it is taken on, Component what it is about; "" for all of them.
	Member, Component string

	Text     string
	Commands []string // the device's own wording
	See      []string // what to look for
	Warn     bool
	Back     string // what to do instead when it goes wrong

	Restarts bool          // the device starts anew by itself at the end of it
	Wait     rulebook.Span // how long it takes, where that is known
	Tries    int           // how often it is tried; 0 for once
	// Proofs are what a capture must show once it is done.
	Proofs []Proof
}

// RunbookOptions say what a runbook cannot know.
type RunbookOptions struct {
	Server string // as the device reaches it
	Dir    string // where the files are staged
	// Keep names the package that holds what runs now; "" when none is at hand.
	Keep string
	// Window is the minutes that there are; 0 when nobody said.
	Window int
}

// Write writes the runbook for a target whose files have their names.
func Write(t *Target, files []Serving, o RunbookOptions) *Runbook {
	w := &writer{t: t, files: files, o: o}
	b := &Runbook{Device: t.Device.Name.Text, Server: o.Server, Known: true}
	for _, a := range t.Result.Plans {
		b.From, b.To = a.From, a.To
	}
	if len(t.Result.Plans) == 0 && len(t.Steps) > 0 {
		b.From, b.To = t.Steps[0].From, t.Steps[0].To
	}
	for _, s := range t.Steps {
		if !s.Minutes.Known() {
			b.Known = false
			continue
		}
		b.Install = b.Install.Plus(s.Minutes.Install)
		b.Outage = b.Outage.Plus(s.Minutes.Outage)
	}
	before := w.before(b)
	before.At = -1
	b.Sections = append(b.Sections, before)
	at := 0
	for i := range t.Steps {
		s := w.hop(i)
		s.At = at
		if t.Steps[i].Minutes.Known() && at >= 0 {
			s.Minutes = t.Steps[i].Minutes.Install.To
			at += s.Minutes
		} else {
			at = -1
		}
		b.Sections = append(b.Sections, s)
	}
	after := w.after()
	after.At = at
	b.Sections = append(b.Sections, after)
	return b
}

type writer struct {
	t     *Target
	files []Serving
	o     RunbookOptions
}

// rules is the rulebook of a box.
func (w *writer) rules(b *device.Device) *rulebook.Rulebook { return w.t.Rules(b.Model.Text) }

func (w *writer) server() string {
	if w.o.Server != "" {
		return w.o.Server
	}
	return "SERVER"
}

// wording is what the words of a step may speak of, for one box.
func (w *writer) wording(b *device.Device, s *Step) rulebook.Wording {
	x := rulebook.Wording{Server: w.server(), Device: w.t.Device.Name.Text, Model: b.Model.Text, Release: s.Release, From: s.From, To: s.To}
	if b.Name.Text != w.t.Device.Name.Text {
		x.Member = b.Name.Text
	}
	if rb := w.rules(b); rb != nil && rb.Transfer != nil {
		x.Protocol = rb.Transfer.Protocol.Text
	}
	for _, slot := range b.Slots {
		if slot.Active {
			x.Active = slot.Name.Text
		}
	}
	return x
}

// say adds the device's own wording, where there is one.
func (w *writer) say(i *Instruction, b *device.Device, step string, x rulebook.Wording) {
	if text, ok := w.rules(b).Say(step, x); ok {
		for line := range strings.SplitSeq(strings.TrimSpace(text), "\n") {
			if line = strings.TrimSpace(line); !slices.Contains(i.Commands, line) {
				i.Commands = append(i.Commands, line)
			}
		}
	}
}

// reach warns where who fetches from the server is in another network than it.
func (w *writer) reach(add func(Instruction)) {
	var told []string
	for _, box := range append([]*device.Device{w.t.Device}, w.boxes()...) {
		by := box
		if m := box.Manager(); m != nil {
			by = m
		}
		text, ok := ServerAddress(by.Name.Text, by.Address.Text, w.o.Server)
		if how := w.rules(box).Installing(box.Family.Text).FetchedBy.First(); ok || slices.Contains(told, text) || how == rulebook.ByPerson || how == rulebook.ByMaker {
			continue
		}
		told = append(told, text)
		add(Instruction{Text: fmt.Sprintf("%s: see that there is a route between them, and that nothing on it keeps the files back.", text), Warn: true})
	}
}

func (w *writer) before(b *Runbook) Section {
	s := Section{Title: "Before"}
	add := func(i Instruction) { s.Steps = append(s.Steps, i) }
	w.entitlement(add)
	w.releaseNotes(add)
	for _, text := range w.t.FromKit() {
		add(Instruction{Text: strings.ToUpper(text[:1]) + text[1:] + "."})
	}
	if open := w.unsettled(); open != "" {
		add(Instruction{Text: open, Warn: true})
	}
	w.settings(add)
	keep := "Keep a package of what runs now at hand, off the device; the kit has none."
	if w.o.Keep != "" {
		keep = fmt.Sprintf("Keep %s at hand: it holds what runs now.", w.o.Keep)
	}
	add(Instruction{Text: keep})
	add(Instruction{Text: "Have the console at hand, by cable, not only over the network that the device itself carries."})
	w.reach(add)
	add(w.window(b))
	for _, a := range w.t.Result.Plans {
		for i, h := range a.Hops {
			if h.NoReturn {
				add(Instruction{Text: fmt.Sprintf("After hop %d nothing leads back to %s: decide now whether that is acceptable.", i+1, cmp.Or(h.Begin, a.From)), Warn: true})
			}
		}
	}
	stage := Instruction{Text: fmt.Sprintf("Lay out the files for the server, and check them: fitcheck stage -device %s%s -into %s%s", shell.Quote(w.t.Name), w.to(), shell.Quote(cmp.Or(w.o.Dir, "DIR")), w.given())}
	for _, f := range w.files {
		stage.See = append(stage.See, fmt.Sprintf("%s  %s", f.Digests.Of(digest.SHA256), f.Name))
	}
	add(stage)
	return s
}

// entitlement says until when it runs, and of when the releases are.
func (w *writer) entitlement(add func(Instruction)) {
	d := w.t.Device
	if until := d.EntitledUntil; until.Set() {
		text := fmt.Sprintf("The entitlement runs until %s", until.Day.Format("2006-01-02"))
		for _, st := range w.t.Steps {
			for _, rel := range st.Releases {
				if rel != nil && rel.Date.Set() {
					text += fmt.Sprintf("; release %s is of %s", rel.Version.Text, rel.Date.Day.Format("2006-01-02"))
					break
				}
			}
		}
		add(Instruction{Text: text + "."})
	}
}

// releaseNotes says which to read, once for each package.
func (w *writer) releaseNotes(add func(Instruction)) {
	var seen []string
	for _, st := range w.t.Steps {
		for _, p := range st.Packages {
			if slices.Contains(seen, p.Path) {
				continue
			}
			seen = append(seen, p.Path)
			read := fmt.Sprintf("Read the release notes of %s; %s holds none.", st.Release, path.Base(p.Path))
			if slices.ContainsFunc(p.Items, func(it *survey.Item) bool { return it.Role == "notes" }) {
				read = fmt.Sprintf("Read the release notes of %s: fitcheck notes %s", st.Release, shell.Quote(p.Path))
			}
			add(Instruction{Text: read})
		}
	}
}

// settings has them saved and copied, and warns where the way does not keep them.
func (w *writer) settings(add func(Instruction)) {
	d := w.t.Device
	save := Instruction{Text: "Save the running settings on the device."}
	switch c := d.Config; {
	case c != nil && c.Saved != nil && *c.Saved:
		save.Text = "The settings are saved on the device; save them again if anything was changed since."
	case c != nil && c.Saved != nil:
		save.Text, save.Warn = "The settings are NOT saved on the device: save them now.", true
	}
	backup := Instruction{Text: "Copy the settings off the device."}
	if d.Config != nil && d.Config.BackedUp.Set() {
		backup.Text = fmt.Sprintf("Copy the settings off the device; the last copy is of %s.", d.Config.BackedUp.Day.Format("2006-01-02"))
	}
	for _, box := range w.boxes() {
		if len(w.t.Steps) > 0 {
			x := w.wording(box, &w.t.Steps[0])
			w.say(&save, box, "save", x)
			w.say(&backup, box, "backup", x)
		}
	}
	save.Commands, backup.Commands = unique(save.Commands), unique(backup.Commands)
	add(save)
	add(backup)
	switch crosses := slices.ContainsFunc(w.t.Steps, func(s Step) bool { return s.Crosses() }); {
	case crosses:
		add(Instruction{Text: "On the way the device goes to another image family, which does not take the settings of this one: write down what it needs to be set up anew, and be sure that you reach it without its settings.", Warn: true})
	case w.resets():
		add(Instruction{Text: "On the way the configuration is RESET: be sure that the copy can be loaded again, and that you reach the device without it.", Warn: true})
	}
}

// window is the time to agree on.
func (w *writer) window(b *Runbook) Instruction {
	window := "Agree on a time window"
	if b.Known {
		window += fmt.Sprintf(": the installs take %s, %s of it without service, and checking comes on top", b.Install.Text(), b.Outage.Text())
	} else {
		window += "; the rulebook does not say for every hop how long it takes"
	}
	warn := false
	if w.o.Window > 0 && b.Known {
		warn = b.Install.To > w.o.Window
		if warn {
			window += fmt.Sprintf(". The window of %s is TOO SHORT", duration.Minutes(w.o.Window))
		} else {
			window += fmt.Sprintf(". The window has %s", duration.Minutes(w.o.Window))
		}
	}
	return Instruction{Text: window + ".", Warn: warn}
}

// to is what tells other commands where to go.
func (w *writer) to() string {
	if len(w.t.Result.Plans) == 0 {
		return ""
	}
	return " " + w.t.Result.Plans[0].Asked()
}

// given names the packages that were given, and what was accepted: stage then lays out
// what this runbook is about.
func (w *writer) given() string {
	var paths []string
	for _, st := range w.t.Steps {
		for _, p := range st.Packages {
			if t := shell.Quote(p.Path); st.Given && !slices.Contains(paths, t) {
				paths = append(paths, t)
			}
		}
	}
	t := ""
	if w.t.EvenIf {
		t = " -even-if unsettled"
	}
	for _, p := range paths {
		t += " " + p
	}
	return t
}

// unsettled says what of the verdicts is not settled.
func (w *writer) unsettled() string {
	var all []string
	for _, a := range w.t.Result.Plans {
		all = append(all, a.Unsettled...)
	}
	for _, v := range w.t.Verdicts {
		if v == nil {
			continue
		}
		for c := range v.All() {
			if c.Outcome == fit.Unsettled && !slices.Contains(all, c.Check+": "+c.Because) {
				all = append(all, c.Check+": "+c.Because)
			}
		}
	}
	if len(all) == 0 {
		return ""
	}
	return "Not settled: " + strings.Join(all, "; ") + "."
}

func (w *writer) resets() bool {
	return slices.ContainsFunc(w.t.Steps, func(s Step) bool { return s.ResetsConfig })
}

func (w *writer) boxes() []*device.Device { return w.t.Device.All() }

// hop writes the steps of one hop, member by member in the order in which the
// device file lists them.
func (w *writer) hop(i int) Section {
	st := &w.t.Steps[i]
	s := Section{Title: fmt.Sprintf("Hop %d: release %s", i+1, st.Release)}
	if st.BootOnly {
		s.Title = fmt.Sprintf("Hop %d: only the boot loader of release %s", i+1, st.Release)
	}
	var boxes []*device.Device
	for _, b := range st.Before.All() {
		if len(st.Members) == 0 || slices.Contains(st.Members, b.Name.Text) {
			boxes = append(boxes, b)
		}
	}
	group := len(st.Before.Members) > 0
	if group {
		s.Title += ", on " + strings.Join(names(boxes), ", ")
	}
	s.Steps = append(s.Steps, w.sequence(i, boxes, group)...)
	reached := []string(nil)
	if f, ok := w.rules(w.boxes()[0]).Family(st.Family); ok && f.FactoryReset.Reached() != "" {
		reached = []string{"with the settings of the factory, " + f.FactoryReset.Reached()}
	}
	switch {
	case st.Crosses():
		s.Steps = append(s.Steps, Instruction{See: reached, Text: fmt.Sprintf("It runs %s now: set it up anew. The settings of %s are never loaded into it; keep the copy for the way back.", st.Family, st.FromFamily), Warn: true})
	case st.ResetsConfig:
		s.Steps = append(s.Steps, Instruction{See: reached, Text: "The configuration is reset now: load the copy again, and save it.", Warn: true})
	}
	return s
}

func names(boxes []*device.Device) []string {
	var out []string
	for _, b := range boxes {
		out = append(out, b.Name.Text)
	}
	return out
}

// picked is one image that is installed on a box.
type picked struct {
	component, title, version, slot string
	file                            Serving
}

// chosen lists what is installed on a box at a hop, in order.
func (w *writer) chosen(hop int, b *device.Device) []picked {
	st, v := &w.t.Steps[hop], w.t.Verdicts[hop]
	rb := w.rules(b)
	var out []picked
	if v == nil {
		return nil
	}
	for _, m := range v.Members {
		if m.Name != b.Name.Text {
			continue
		}
		for _, c := range m.Chosen {
			for _, f := range w.files {
				for _, u := range f.For {
					if u.Hop != hop+1 || u.Member != b.Name.Text || u.Component != c.Component || u.Device != w.t.Device.Name.Text {
						continue
					}
					p := picked{component: c.Component, title: c.Component, version: c.Version, slot: c.Slot, file: f}
					if fam, ok := rb.Family(st.FamilyOf(m.Name)); ok {
						if e, ok := fam.Components.Get(c.Component); ok && e.Value.Title.Set() {
							p.title = e.Value.Title.Text
						}
					}
					out = append(out, p)
				}
			}
		}
	}
	return out
}

// back is what to do when a box does not come up after a hop.
func (w *writer) back(hop int, b *device.Device, x rulebook.Wording) string {
	text := ""
	if x.Slot != "" && x.Active != "" && x.Slot != x.Active && !w.t.Steps[hop].BootOnly {
		text = fmt.Sprintf("start it from slot %s, which still holds %s", x.Active, x.From)
		if said, ok := w.rules(b).Say("back", x); ok {
			text += ": " + strings.TrimSpace(said)
		}
	}
	if e, _ := w.rules(b).RecoveryFor(b.Model.Text, b.Revision.Text); e != nil {
		if text != "" {
			text += "; else "
		}
		text += fmt.Sprintf("through its boot loader: fitcheck recover -device %s", shell.Quote(w.t.Name))
	}
	if text == "" {
		text = "the rulebook knows no way to start it again; have the maker's support at hand"
	}
	return text
}

func (w *writer) after() Section {
	s := Section{Title: "Afterwards"}
	confirm := fmt.Sprintf("Capture what the console says now, and hold it against the plan: fitcheck confirm -device %s -after CAPTURE%s", shell.Quote(w.t.Name), w.to())
	save := Instruction{Text: "Save the settings, and copy them off the device once more."}
	for _, b := range w.boxes() {
		if n := len(w.t.Steps); n > 0 {
			x := w.wording(b, &w.t.Steps[n-1])
			w.say(&save, b, "save", x)
			w.say(&save, b, "backup", x)
		}
	}
	save.Commands = unique(save.Commands)
	s.Steps = append(s.Steps, Instruction{Text: confirm}, save)
	for _, a := range w.t.Result.Plans {
		s.Steps = append(s.Steps, Instruction{Text: wayBack(a), Warn: a.Back != nil && !a.Back.Found})
	}
	return s
}

// wayBack tells the way back of a plan in a sentence.
func wayBack(a *fitpath.Answer) string {
	b := a.Back
	switch {
	case b == nil:
		return "Nothing was installed: there is no way back to go."
	case !b.Found:
		return fmt.Sprintf("There is no way back to %s: %s.", a.From, b.Because)
	}
	return fmt.Sprintf("The way back to %s: %s.", a.From, b.Because)
}

// unique leaves out what stands in a list before: members that are alike are
// told the same once.
func unique(list []string) []string {
	var out []string
	for _, t := range list {
		if !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}
