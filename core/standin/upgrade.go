package standin

import (
	"cmp"
	"context"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"errors"
	"fmt"
	"hash/crc32"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"text/template"
	"time"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/wording"
)

// Upgrade is a device that is upgraded, for trials: it takes the commands of its rulebook's
// wording, fetches, writes a slot, forgets a choice that was not saved, restarts into what
// starts next, and shows its state as the rulebook's captures are read.
type Upgrade struct {
	Box     *member.Member
	Formats *image.Set
	// Fetch gets a file from a server.
	Fetch func(ctx context.Context, server, name string) ([]byte, error)
	// FailFirst is how many fetches fail before one does not; Restarts how long one takes.
	FailFirst int
	Restarts  time.Duration
	// Tell is told what it does.
	Tell func(string)

	mu        sync.Mutex
	installed map[string]string // component to version
	slots     []bank
	saved     bool
	stored    map[string]storedFile // by component
	job       string
	reason    string
	templates []phrase
}

// bank is a slot: what it holds, and whether it runs or starts next.
type bank struct {
	name         string
	holds        map[string]string
	active, next bool
}

type storedFile struct {
	name, version, slot string
	data                []byte
}

// Begin makes it ready; the error says what of it is not known.
func (u *Upgrade) Begin() error {
	d := u.Box.Device
	if u.Box.Rules == nil {
		return fmt.Errorf("no rulebook knows the model of %s", d.File)
	}
	u.installed, u.stored, u.job, u.saved = map[string]string{}, map[string]storedFile{}, "idle", true
	for _, c := range u.Box.InstalledComponents() {
		if v := u.Box.Installed(c); v.Known() {
			u.installed[c] = v.First()
		}
	}
	for _, s := range d.Slots {
		b := bank{name: s.Name.Text, holds: map[string]string{}, active: s.Active}
		if s.Main.Set() {
			b.holds["main"] = s.Main.Text
		}
		for _, o := range s.Others.Entries {
			b.holds[o.Key] = o.Value.Text
		}
		u.slots = append(u.slots, b)
	}
	if len(u.installed) == 0 {
		return fmt.Errorf("%s does not say what is installed, and there is nothing to begin with", d.File)
	}
	u.templates = phrases(u.Box.Rules)
	if len(u.templates) == 0 {
		return fmt.Errorf("%s has no wording, so that nothing could be typed; add a procedure or a sequence", u.Box.Rules.File)
	}
	return nil
}

// phrase is a command as the rulebook words it.
type phrase struct {
	step string
	re   *regexp.Regexp
	text string // for who asks what can be typed
}

// hole begins and ends a field's name in a phrase before its holes are cut.
const hole = "\x01"

// phrases turns the wording of steps into patterns: what it speaks of becomes a group.
func phrases(rb *rulebook.Rulebook) []phrase {
	var out []phrase
	add := func(step, text string) {
		for _, slot := range []bool{true, false} { // with a slot to install to, and without one
			x := wordingHoles(slot)
			said, err := fill(text, x)
			if err != nil {
				continue
			}
			for line := range strings.SplitSeq(strings.TrimSpace(said), "\n") {
				line = strings.Join(strings.Fields(line), " ")
				re, shown := cut(line)
				if re != nil && !slices.ContainsFunc(out, func(p phrase) bool { return p.re.String() == re.String() && p.step == step }) {
					out = append(out, phrase{step, re, shown})
				}
			}
		}
	}
	for _, s := range rb.Ordered() {
		if s.Do.Set() {
			add(s.Step.Text, s.Do.Text)
		}
	}
	for _, e := range rb.Procedure.Entries {
		add(e.Key, e.Value.Text)
	}
	// The more that is said, the sooner it is tried: "show digest slot B" before "show digest B".
	slices.SortStableFunc(out, func(a, b phrase) int { return len(literal(b.text)) - len(literal(a.text)) })
	return out
}

var angle = regexp.MustCompile(`<[^>]*>`)

func literal(shown string) string { return angle.ReplaceAllString(shown, "") }

func wordingHoles(slot bool) rulebook.Wording {
	h := func(name string) string { return hole + name + hole }
	x := rulebook.Wording{Server: h("Server"), Protocol: h("Protocol"), Device: h("Device"), Model: h("Model"), Member: h("Member"), File: h("File"), Component: h("Component"), Active: h("Active"),
		Release: h("Release"), From: h("From"), To: h("To"), Digest: h("Digest"), MD5: h("MD5"), SHA512: h("SHA512"), Base: h("Base"), Files: h("Files"), SHA1: h("SHA1"), SHA256: h("SHA256"), CRC32: h("CRC32"), Root: h("Root"), Manager: h("Manager")}
	if slot {
		x.Slot = h("Slot")
	}
	return x
}

func fill(text string, x rulebook.Wording) (string, error) {
	t, err := template.New("").Parse(text)
	if err != nil {
		return "", err
	}
	var b strings.Builder
	err = t.Execute(&b, x)
	return b.String(), err
}

// cut makes the pattern of a phrase, and how it is shown.
func cut(line string) (*regexp.Regexp, string) {
	var re, shown strings.Builder
	re.WriteString(`(?i)^`)
	seen := map[string]bool{}
	for i, part := range strings.Split(line, hole) {
		switch {
		case i%2 == 0:
			re.WriteString(strings.ReplaceAll(regexp.QuoteMeta(part), " ", `\s+`))
			shown.WriteString(part)
		case seen[part]:
			re.WriteString(`\S+`)
			shown.WriteString("<" + part + ">")
		default:
			seen[part] = true
			re.WriteString(`(?P<` + part + `>` + map[bool]string{true: `.+`, false: `\S+?`}[part == "Files"] + `)`)
			shown.WriteString("<" + part + ">")
		}
	}
	out, err := regexp.Compile(re.String() + `$`)
	if err != nil || strings.TrimSpace(literal(shown.String())) == "" {
		return nil, ""
	}
	return out, shown.String()
}

// Do carries out a command, and gives what the console says. restarts tells that the device
// restarts now.
func (u *Upgrade) Do(ctx context.Context, command string) (says []string, restarts bool) {
	command = strings.Join(strings.Fields(command), " ")
	for _, p := range u.templates {
		m := p.re.FindStringSubmatch(command)
		if m == nil {
			continue
		}
		words := map[string]string{}
		for i, n := range p.re.SubexpNames() {
			if n != "" {
				words[n] = m[i]
			}
		}
		return u.step(ctx, p.step, words)
	}
	says = []string{"not understood; what is understood:"}
	for _, p := range u.templates {
		says = append(says, "  "+p.text)
	}
	return says, false
}

func (u *Upgrade) step(ctx context.Context, step string, words map[string]string) (says []string, restarts bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case step == "transfer", words["Server"] != "" && step != "backup" && step != "save":
		return u.fetch(ctx, words), false
	case step == "verify":
		return u.digests(words), false
	case step == "install":
		return u.install(), u.Box.Rules.Installing(u.Box.Family()).Automatic()
	case step == "activate", words["Slot"] != "":
		return u.choose(words["Slot"]), false
	case step == "save":
		u.saved = true
		return []string{"saved"}, false
	case step == "restart":
		return []string{"restarting"}, true
	case step == "back":
		return u.choose(words["Active"]), false
	case step == "check", step == "space", step == "dry_run":
		return u.Shows(), false
	}
	return []string{"done"}, false
}

// choose makes a slot the one that starts next; that is lost with a restart unless it is saved.
func (u *Upgrade) choose(slot string) []string {
	i := slices.IndexFunc(u.slots, func(b bank) bool { return strings.EqualFold(b.name, slot) })
	if i < 0 {
		return []string{fmt.Sprintf("there is no slot %s", slot)}
	}
	for k := range u.slots {
		u.slots[k].next = k == i
	}
	u.saved = false
	return []string{fmt.Sprintf("slot %s starts next; the choice is not saved", u.slots[i].name)}
}

// fetch gets what a command asks for; where the device asks for the manifest, that, and what
// it gives this model.
func (u *Upgrade) fetch(ctx context.Context, words map[string]string) []string {
	u.job, u.reason = "running", ""
	fail := func(why string) []string {
		u.job, u.reason = "failed", why
		return append([]string{"failed: " + why}, u.Shows()...)
	}
	names := []string{cmp.Or(words["File"], words["Base"])}
	if names[0] == "" {
		names = strings.Fields(words["Files"])
	}
	how := u.Box.Rules.Installing(u.Box.Family())
	if how.Fetches.Text == rulebook.FetchesManifest || len(names) == 0 {
		var err error
		if names, err = u.listed(ctx, words["Server"], how); err != nil {
			return fail(err.Error())
		}
	}
	var says []string
	for _, name := range names {
		if u.FailFirst > 0 {
			u.FailFirst--
			return fail("no answer from the server")
		}
		data, err := u.Fetch(ctx, words["Server"], name)
		if err != nil {
			return fail(wording.Text(err))
		}
		says = append(says, u.take(name, words["Slot"], data)...)
	}
	u.job = "done"
	return append(says, u.Shows()...)
}

// listed fetches the manifest, and lists the files that it gives to this model.
func (u *Upgrade) listed(ctx context.Context, server string, how rulebook.Install) ([]string, error) {
	rb := u.Box.Rules
	for i := range rb.Packages {
		m := rb.Packages[i].Manifest
		if m == nil || !m.Item.Set() {
			continue
		}
		name := path.Base(m.Item.Pattern)
		if strings.ContainsAny(name, "*?[{") {
			continue
		}
		name = how.Under(name)
		data, err := u.Fetch(ctx, server, name)
		if err != nil {
			return nil, fmt.Errorf("%s: %s", name, wording.Text(err))
		}
		u.tell("%s was read", name)
		var out []string
		for _, r := range m.Read(name, data, archive.DefaultLimits()).Records {
			models := r.Claim.About(fact.Model)
			ours := len(models) == 0
			for _, f := range models {
				ours = ours || rb.CanonicalModel(f.Value) == rb.CanonicalModel(u.Box.First(fact.Model))
			}
			if ours {
				out = append(out, path.Join(path.Dir(name), r.File))
			}
		}
		return out, nil
	}
	return nil, errors.New("the rulebook does not name the manifest that is asked for")
}

// take writes a file where it belongs.
func (u *Upgrade) take(name, slot string, data []byte) []string {
	component, version := u.kindOf(name, slot, data)
	if slot == "" && u.slotted(component) {
		slot = u.other()
	}
	u.stored[component] = storedFile{path.Base(name), version, slot, data}
	if i := slices.IndexFunc(u.slots, func(b bank) bool { return strings.EqualFold(b.name, slot) }); i >= 0 && slot != "" {
		u.slots[i].holds[component] = version
	}
	u.tell("%s was fetched: %s %s, %d bytes", path.Base(name), component, version, len(data))
	return []string{fmt.Sprintf("%s %d bytes", path.Base(name), len(data))}
}

func (u *Upgrade) slotted(component string) bool {
	f, ok := u.Box.Rules.Family(u.Box.Family())
	if !ok {
		return component == "main" && len(u.slots) > 0
	}
	c, ok := f.Components.Get(component)
	return ok && c.Value.Slotted && len(u.slots) > 0
}

// other is a slot that does not run.
func (u *Upgrade) other() string {
	for _, b := range u.slots {
		if !b.active {
			return b.name
		}
	}
	return ""
}

// kindOf tells what an image is for, and its version: by its place and its header, as the
// rulebook reads them.
//
// In one piece: what an image says of itself, source after source; the rulebook counts more than the header.
func (u *Upgrade) kindOf(name, slot string, data []byte) (component, version string) {
	rb := u.Box.Rules
	_, m := readImage(u.Formats, data)
	var said []string
	if m != nil {
		said = titles(m)
		for _, f := range m.Facts {
			switch f.About {
			case fact.Component:
				component = f.Value
			case fact.Version:
				version = f.Value
			}
		}
	}
	for i := range rb.Packages {
		for _, it := range rb.Packages[i].Items {
			if !it.Match.Match(name) && !it.Match.Match(path.Base(name)) {
				continue
			}
			component = cmp.Or(it.Component.Text, component)
			for _, t := range said {
				if g := it.Title.Regexp; g != nil && g.MatchString(t) {
					if k := g.SubexpIndex("version"); k > 0 {
						version = cmp.Or(g.FindStringSubmatch(t)[k], version)
					}
				}
			}
		}
	}
	component = cmp.Or(component, rb.Main(u.Box.Family()))
	if slot != "" {
		component = rb.Main(u.Box.Family())
	}
	if version == "" { // a word of a title that reads as a version of this component
		for _, t := range said {
			for _, w := range strings.Fields(t) {
				if _, err := rb.Scheme(component).Parse(w); err == nil && strings.ContainsAny(w, "0123456789") {
					version = w
				}
			}
		}
	}
	return component, cmp.Or(version, "unknown")
}

// install makes what was fetched the thing that runs after a restart.
func (u *Upgrade) install() []string {
	if len(u.stored) == 0 {
		u.job, u.reason = "failed", "nothing was fetched"
		return []string{"nothing was fetched"}
	}
	if s := u.other(); s != "" && slices.ContainsFunc(u.slots, func(b bank) bool { return len(b.holds) > 0 }) {
		if f, ok := u.stored[u.Box.Rules.Main(u.Box.Family())]; ok && f.slot != "" && u.Box.Rules.Installing(u.Box.Family()).Automatic() {
			u.choose(f.slot)
			u.saved = true
		}
	}
	u.job = "done"
	return append([]string{"installed"}, u.Shows()...)
}

// digests shows those of what was fetched.
func (u *Upgrade) digests(words map[string]string) []string {
	var of []string
	for c, f := range u.stored {
		named := cmp.Or(words["Slot"], words["Component"], words["Base"], words["File"])
		if named == "" || strings.EqualFold(named, f.slot) || strings.EqualFold(named, c) || strings.EqualFold(path.Base(named), f.name) {
			of = append(of, c)
		}
	}
	if len(of) == 0 {
		return []string{"nothing of that name was fetched"}
	}
	slices.Sort(of)
	var says []string
	for _, c := range of {
		f := u.stored[c]
		says = append(says, fmt.Sprintf("sha256 %x  %s", sha256.Sum256(f.data), f.name), fmt.Sprintf("md5 %x  %s", md5.Sum(f.data), f.name), fmt.Sprintf("sha1 %x  %s", sha1.Sum(f.data), f.name), fmt.Sprintf("crc32 %08x  %s", crc32.ChecksumIEEE(f.data), f.name))
	}
	return append(says, u.Shows()...)
}

// Restart starts it anew: from the slot that starts next, where that choice was saved, and
// with what was fetched beside it.
func (u *Upgrade) Restart() {
	u.mu.Lock()
	defer u.mu.Unlock()
	main := u.Box.Rules.Main(u.Box.Family())
	start := slices.IndexFunc(u.slots, func(b bank) bool { return b.active })
	if next := slices.IndexFunc(u.slots, func(b bank) bool { return b.next }); next >= 0 && u.saved {
		start = next
	} else if next >= 0 {
		u.tell("the choice of slot %s was not saved, and is forgotten", u.slots[next].name)
	}
	changed := len(u.slots) == 0 || start >= 0 && !u.slots[start].active
	for i := range u.slots {
		u.slots[i].active, u.slots[i].next = i == start, false
	}
	if start >= 0 {
		for c, v := range u.slots[start].holds {
			u.installed[c] = v
		}
	}
	for c, f := range u.stored {
		if f.slot == "" && (c != main || changed) {
			u.installed[c] = f.version
		}
	}
	if changed {
		u.stored = map[string]storedFile{}
	}
	u.saved, u.job = true, "idle"
	u.tell("it runs %s %s", main, u.installed[main])
}

func (u *Upgrade) tell(format string, args ...any) {
	if u.Tell != nil {
		u.Tell(fmt.Sprintf(format, args...))
	}
}

// Shows is its state as a capture holds it. It is called with the lock held, or by nobody else
// at the time.
func (u *Upgrade) Shows() []string {
	var out []string
	d := u.Box.Device
	read := map[string]string{"name": d.Name.Text, "model": d.Model.Text, "revision": d.Revision.Text, "serial": d.Serial.Text, "family": d.Family.Text, "region": d.Region.Text,
		"start.saved": map[bool]string{true: "saved", false: "unsaved"}[u.saved], "job.state": u.job, "job.reason": u.reason, "address": d.Address.Text}
	for c, v := range u.installed {
		read["installed."+c] = v
	}
	for _, rule := range u.Box.Rules.CaptureRules() {
		if line, ok := speak(rule.Recognise, nil, ""); ok {
			out = append(out, line)
		}
		for _, k := range rule.Read {
			v := read[k.Key]
			if v == "" {
				continue
			}
			for _, line := range said(k, v) {
				if !strings.HasPrefix(line, d.Name.Text+"> ") { // its prompt says that
					out = append(out, line)
				}
			}
		}
		for _, e := range rule.Each {
			out = append(out, u.list(e)...)
		}
	}
	return out
}

// said is a line that gives a value; yes and no are said as the pattern can read them.
func said(k device.KeyPattern, value string) []string {
	for _, v := range append([]string{value}, map[string][]string{"saved": {"yes", "true"}, "unsaved": {"no", "false"}}[value]...) {
		if line, ok := speak(k.Pattern, map[string]string{}, v); ok {
			return []string{line}
		}
	}
	return nil
}

// list is the lines of a list.
func (u *Upgrade) list(e device.KeyPattern) []string {
	var out []string
	add := func(values map[string]string) {
		if line, ok := speak(e.Pattern, values, ""); ok {
			out = append(out, line)
		}
	}
	switch e.Key {
	case "slots":
		for _, b := range u.slots {
			values := map[string]string{"name": b.name}
			for c, v := range b.holds {
				values[c] = v
			}
			if b.active {
				values["active"] = mark
			}
			if b.next {
				values["next"] = mark
			}
			add(values)
		}
	case "installed":
		for _, c := range slices.Sorted(maps.Keys(u.installed)) {
			add(map[string]string{"component": c, "version": u.installed[c]})
		}
	case "files":
		for _, c := range slices.Sorted(maps.Keys(u.stored)) {
			f := u.stored[c]
			add(map[string]string{"file": f.name, "component": c, "version": f.version, "size": fmt.Sprint(len(f.data)), "md5": fmt.Sprintf("%x", md5.Sum(f.data))})
		}
	}
	return out
}
