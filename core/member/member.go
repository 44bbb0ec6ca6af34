// Package member resolves one device against the rulebook of its line: what is
// known of it, and by whom; what is only guessed; what contradicts what. That is
// decided here and nowhere else, so that whoever judges a device, finds its way or
// confirms an install holds the same things for known.
//
// What the device file says comes first, then what the rulebook says of the model
// and its hardware revision. A value that the two contradict each other on, or that
// the device file contradicts itself on, is known to nobody.
package member

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	y "fitcheck/core/yamlfile"
)

// Member is one box, resolved.
type Member struct {
	Device *device.Device
	Rules  *rulebook.Rulebook // nil when no rulebook knows the model
	// Model is the rulebook's entry; nil when the model is not known, or not to it.
	Model *y.Entry[rulebook.Model]

	values    map[fact.Name]Value
	installed map[string]Value
}

// Resolve resolves a box. rules is the rulebook that knows its model, nil for none.
func Resolve(d *device.Device, rules *rulebook.Rulebook) *Member {
	m := &Member{Device: d, Rules: rules, values: map[fact.Name]Value{}, installed: map[string]Value{}}
	for _, v := range []struct {
		name fact.Name
		key  string
		text y.String
	}{{fact.Model, "model", d.Model}, {fact.Revision, "revision", d.Revision}, {fact.Arch, "arch", d.Arch}, {fact.Region, "region", d.Region},
		{fact.Platform, "platform", d.Platform}, {fact.Hypervisor, "hypervisor", d.Hypervisor}, {fact.Family, "family", d.Family}} {
		m.values[v.name] = m.one(v.name, v.key, v.text)
	}
	m.values[fact.Board] = m.list(fact.Board, "boards", d.Boards)
	m.values[fact.Feature] = m.list(fact.Feature, "features", d.Features)
	if m.values[fact.Model].Known() {
		if e, ok := rules.FindModel(d.Model.Text); ok {
			m.Model = e
			m.byModel(&e.Value)
		}
	}
	return m
}

// Of resolves every box of a device.
func Of(d *device.Device, rules func(model string) *rulebook.Rulebook) []*Member {
	var out []*Member
	for _, b := range d.All() {
		out = append(out, Resolve(b, rules(b.Model.Text)))
	}
	return out
}

// at is where a key stands in the device file, or would stand.
func (m *Member) at(key string, spot y.Spot) fact.Source {
	if spot.Line == 0 {
		return fact.Source{Kind: fact.DeviceFile, File: m.Device.File}
	}
	return m.Device.Source(key, spot)
}

// one is the value of a key with one text.
func (m *Member) one(n fact.Name, key string, t y.String) Value {
	at := m.at(key, t.Spot)
	if !t.Set() {
		return Value{At: at}
	}
	if from, guessed := m.Device.Guessed(key); guessed {
		return Value{State: Guessed, Guess: t.Text, GuessedFrom: from, At: at}
	}
	return known(at, fact.Fact{About: n, Value: t.Text, Source: at})
}

// list is the value of a key with several texts.
func (m *Member) list(n fact.Name, key string, list []y.String) Value {
	if len(list) == 0 {
		return Value{At: m.at(key, y.Spot{})}
	}
	var facts []fact.Fact
	var texts []string
	for _, t := range list {
		facts = append(facts, fact.Fact{About: n, Value: t.Text, Source: m.Device.Source(key, t.Spot)})
		texts = append(texts, t.Text)
	}
	if from, guessed := m.Device.Guessed(key); guessed {
		return Value{State: Guessed, Guess: strings.Join(texts, ", "), GuessedFrom: from, At: facts[0].Source}
	}
	return known(facts[0].Source, facts...)
}

// byModel adds what the rulebook says of the model and revision, and finds what
// contradicts it.
func (m *Member) byModel(model *rulebook.Model) {
	revision := m.values[fact.Revision]
	if revision.Known() && len(model.Revs.Entries) > 0 {
		if _, ok := model.Revision(revision.First()); !ok {
			var listed []fact.Fact
			for _, e := range model.Revs.Entries {
				listed = append(listed, fact.Fact{About: fact.Revision, Value: e.Key, Source: m.Rules.Source(e.Spot)})
			}
			revision = revision.against(listed, fmt.Sprintf("the rulebook does not know the revision %s of %s; it knows %s", revision.Facts[0].Value, m.Model.Key, strings.Join(model.Revs.Keys(), ", ")))
		}
	}
	m.values[fact.Revision] = revision
	m.byBoards()
	revision = m.values[fact.Revision]
	if f, ok := m.Rules.Arch(model, revision.First()); ok && revision.State != Contradicted {
		m.merge(fact.Arch, []fact.Fact{f}, func(a, b string) bool { return fact.CanonicalArch(a) == fact.CanonicalArch(b) })
	}
	if fs := m.Rules.Boards(model, revision.First()); len(fs) > 0 && revision.State != Contradicted {
		m.merge(fact.Board, fs, strings.EqualFold)
	}
	var families []fact.Fact
	for _, t := range model.Families {
		families = append(families, fact.Fact{About: fact.Family, Value: t.Text, Source: m.Rules.Source(t.Spot)})
	}
	if len(families) == 1 || m.values[fact.Family].Known() && len(families) > 0 {
		m.merge(fact.Family, families, strings.EqualFold)
	}
	if v := m.values[fact.Family]; v.Known() { // in the rulebook's spelling
		for _, f := range families {
			if strings.EqualFold(f.Value, v.Facts[0].Value) {
				v.Facts = []fact.Fact{{About: fact.Family, Value: f.Value, Source: v.Facts[0].Source}}
				m.values[fact.Family] = v
			}
		}
	}
}

// byBoards finds boards that the rulebook gives to other hardware than the model
// and revision that the device file names.
func (m *Member) byBoards() {
	boards := m.values[fact.Board]
	if !boards.Known() {
		return
	}
	var models, revisions []fact.Fact
	ours, ofRevision, owned := false, false, false
	revision := m.values[fact.Revision]
	for _, b := range boards.Facts {
		for _, o := range m.Rules.Owners(b.Value) {
			owned = true
			models = append(models, fact.Fact{About: fact.Model, Value: o.Model, Source: o.Source})
			if o.Model != m.Model.Key {
				continue
			}
			ours = true
			if o.Revision != "" {
				revisions = append(revisions, fact.Fact{About: fact.Revision, Value: o.Revision, Source: o.Source})
			}
			ofRevision = ofRevision || o.Revision == "" || strings.EqualFold(o.Revision, revision.First())
		}
	}
	switch {
	case owned && !ours:
		m.values[fact.Model] = m.values[fact.Model].against(models, fmt.Sprintf("its board %s is that of %s", fact.Values(boards.Facts), fact.Values(models)))
	case ours && revision.Known() && !ofRevision:
		m.values[fact.Revision] = revision.against(revisions, fmt.Sprintf("its board %s is that of revision %s", fact.Values(boards.Facts), fact.Values(revisions)))
	}
}

// merge joins what the rulebook says to what the device file says: it fills a gap,
// and it contradicts when no value of it equals one of the file's.
func (m *Member) merge(n fact.Name, by []fact.Fact, same func(a, b string) bool) {
	v := m.values[n]
	if v.State == Missing || v.State == Guessed {
		m.values[n] = known(by[0].Source, by...)
		return
	}
	for _, a := range v.Facts {
		for _, b := range by {
			if same(a.Value, b.Value) {
				return
			}
		}
	}
	m.values[n] = v.against(by, fmt.Sprintf("by the device file its %s is %s; by the rulebook it is %s", n, fact.Values(v.Facts), fact.Values(by)))
}

// Value is what is known in a respect that images speak of, too: model, revision,
// arch, board, family, region, platform, feature.
func (m *Member) Value(n fact.Name) Value { return m.values[n] }

// First is the first known text in a respect, "" for none.
func (m *Member) First(n fact.Name) string { return m.values[n].First() }

// Family is the image family that it runs, "" when that is not known.
func (m *Member) Family() string { return m.First(fact.Family) }

// Families are those that the model may run.
func (m *Member) Families() []string {
	if m.Model == nil {
		return nil
	}
	var out []string
	for _, t := range m.Model.Value.Families {
		out = append(out, t.Text)
	}
	return out
}

// MayRun tells whether the model may run a family, and gives its spelling.
func (m *Member) MayRun(family string) (string, bool) {
	for _, f := range m.Families() {
		if strings.EqualFold(f, family) {
			return f, true
		}
	}
	return "", false
}

// Main is the component whose version stands for the release.
func (m *Member) Main() string {
	if m.Rules == nil {
		return "main"
	}
	return m.Rules.Main(m.LikelyFamily())
}

// LikelyFamily is the family whose components are looked for: the one that it
// runs, or what speaks for one where that is not known. It decides nothing.
func (m *Member) LikelyFamily() string {
	v := m.values[fact.Family]
	switch {
	case v.Known():
		return v.First()
	case v.Guess != "":
		return v.Guess
	case len(v.Facts) > 0:
		return v.Facts[0].Value
	}
	return ""
}

// Installed is the version of a component that is installed. Of the main one the
// active slot speaks, too; where one of the two gives the build and the other does
// not, that one counts.
func (m *Member) Installed(component string) Value {
	if v, ok := m.installed[component]; ok {
		return v
	}
	v := m.readInstalled(component)
	m.installed[component] = v
	return v
}

func (m *Member) readInstalled(component string) Value {
	d := m.Device
	key := "installed." + component
	var v Value
	if e, ok := d.Installed.Get(component); ok {
		v = m.one(fact.Version, key, e.Value)
	} else {
		v = Value{At: m.at(key, y.Spot{})}
	}
	if component != m.Main() {
		return v
	}
	for _, s := range d.Slots {
		if !s.Active || !s.Main.Set() {
			continue
		}
		slot := m.one(fact.Version, "slots."+s.Name.Text, s.Main)
		switch {
		case !v.Known():
			if slot.Known() {
				return slot
			}
			if v.State == Missing {
				return slot
			}
		case slot.Known():
			switch m.Rules.Scheme(component).Same(v.First(), slot.First()) {
			case truth.No:
				return v.against(slot.Facts, fmt.Sprintf("by the device file it runs %s, and its active slot %s holds %s", v.First(), s.Name.Text, slot.First()))
			case truth.Unknown:
				a, err := m.Rules.Scheme(component).Parse(v.First())
				_, err2 := m.Rules.Scheme(component).Parse(slot.First())
				switch {
				case err != nil || err2 != nil:
					return v.against(slot.Facts, fmt.Sprintf("by the device file it runs %s, and its active slot %s holds %s", v.First(), s.Name.Text, slot.First()))
				case a.LeavesOpen(): // and the slot does not
					return slot
				}
			}
		}
	}
	return v
}

// InstalledComponents lists the components of which the device file gives a
// version, in its order.
func (m *Member) InstalledComponents() []string {
	out := m.Device.Installed.Keys()
	if main := m.Main(); !slices.Contains(out, main) && m.Installed(main).State != Missing {
		out = append(out, main)
	}
	return out
}

// Companion is the version of a system that is tied to the device.
func (m *Member) Companion(name string) Value {
	key := "companions." + name
	for _, e := range m.Device.Companions.Entries {
		if strings.EqualFold(e.Key, name) {
			v := m.one(fact.Version, "companions."+e.Key, e.Value)
			return v
		}
	}
	return Value{At: m.at(key, y.Spot{})}
}

// Attached is what is attached, as the device file names it.
func (m *Member) Attached() Value { return m.list(fact.Model, "attached", m.Device.AttachedModels()) }

// StorageFree is the free storage in bytes, of the device that stores the files: where
// another manages it, that one's.
func (m *Member) StorageFree() (int64, Value) {
	if by := m.Device.ManagedBy; by.Set() {
		manager := m.Device.Manager()
		if _, guessed := m.Device.Guessed("managed_by"); guessed || manager == nil {
			return 0, Value{At: m.at("managed_by", by.Spot)}
		}
		m = &Member{Device: manager}
	}
	return m.size("storage_free", m.Device.StorageFree, y.Size{})
}

// Memory is the size of the memory in bytes, by the device file or the rulebook.
// Where they contradict each other it is the smaller.
func (m *Member) Memory() (int64, Value) {
	var by y.Size
	if m.Model != nil && m.values[fact.Revision].State != Contradicted {
		if s, ok := m.Rules.MemorySize(&m.Model.Value, m.First(fact.Revision)); ok {
			by = s
		}
	}
	return m.size("memory", m.Device.Memory, by)
}

// size is a number of bytes by the device file, else by the rulebook.
func (m *Member) size(key string, own, by y.Size) (int64, Value) {
	of := func(s y.Size, src fact.Source) fact.Fact { return fact.Fact{Value: y.FormatSize(s.Bytes), Source: src} }
	at := m.at(key, own.Spot)
	from, guessed := m.Device.Guessed(key)
	switch {
	case own.Set() && !guessed:
		v := known(at, of(own, at))
		if by.Set() && by.Bytes != own.Bytes {
			v = v.against([]fact.Fact{of(by, m.Rules.Source(by.Spot))}, fmt.Sprintf("by the device file its %s is %s; by the rulebook it is %s", key, y.FormatSize(own.Bytes), y.FormatSize(by.Bytes)))
			return min(own.Bytes, by.Bytes), v
		}
		return own.Bytes, v
	case by.Set():
		src := m.Rules.Source(by.Spot)
		return by.Bytes, known(src, of(by, src))
	case guessed && own.Set():
		return 0, Value{State: Guessed, Guess: y.FormatSize(own.Bytes), GuessedFrom: from, At: at}
	}
	return 0, Value{At: at}
}

// SlotSize is how large a slot is, by the rulebook.
func (m *Member) SlotSize() (int64, Value) {
	if m.Model != nil && m.values[fact.Revision].State != Contradicted {
		if s, ok := m.Rules.SlotSize(&m.Model.Value, m.First(fact.Revision)); ok {
			src := m.Rules.Source(s.Spot)
			return s.Bytes, known(src, fact.Fact{Value: y.FormatSize(s.Bytes), Source: src})
		}
	}
	return 0, Value{At: m.at("slots", y.Spot{})}
}

// Entitled is until when the device is entitled to new releases.
func (m *Member) Entitled() (y.Date, Value) {
	d := m.Device.EntitledUntil
	v := m.one(fact.Built, "entitled_until", y.String{Text: d.Day.Format("2006-01-02"), Spot: d.Spot})
	return d, v
}

// Slots is what is known of the slots as a whole: a guess where any of them is.
func (m *Member) Slots() Value {
	slots := m.Device.Slots
	if len(slots) == 0 {
		return Value{At: m.at("slots", y.Spot{})}
	}
	var facts []fact.Fact
	v := Value{At: m.Device.Source("slots", slots[0].Spot)}
	for _, s := range slots {
		text := s.Name.Text
		if s.Main.Set() {
			text += " " + s.Main.Text
		}
		if s.Active {
			text += ", active"
		}
		facts = append(facts, fact.Fact{Value: text, Source: m.Device.Source("slots."+s.Name.Text, s.Spot)})
		if from, guessed := m.Device.Guessed("slots." + s.Name.Text); guessed {
			v.State, v.Guess, v.GuessedFrom = Guessed, text, from
		}
	}
	if v.State == Guessed {
		return v
	}
	return known(facts[0].Source, facts...)
}

// DoesNotStart tells that the device waits in its boot loader or is silent, and
// how.
func (m *Member) DoesNotStart() (state string, yes bool) {
	s := m.Device.State.Text
	return s, s == "boot-loader" || s == "silent"
}

// Hardware names the device in words: model and revision, as far as they are known.
func (m *Member) Hardware() string {
	t := strings.TrimSpace(m.First(fact.Model) + " " + m.First(fact.Revision))
	if t == "" {
		return m.Device.Name.Text
	}
	return t
}
