package path

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// Box is one device as the search sees it.
type Box struct {
	Device   *device.Device
	Rules    *rulebook.Rulebook
	Model    string // "" when it is not known
	Revision string
	Family   string
	families []string // image families that the model may run
	boot     string   // the component that may be installed by itself
}

// NewBox takes what is known of a device; a guess is not.
func NewBox(d *device.Device, r *rulebook.Rulebook) *Box {
	b := &Box{Device: d, Rules: r, boot: "boot"}
	if f, ok := d.Fact(fact.Model, "model", d.Model); ok {
		b.Model = f.Value
	}
	if f, ok := d.Fact(fact.Revision, "revision", d.Revision); ok {
		b.Revision = f.Value
	}
	if f, ok := d.Fact(fact.Family, "family", d.Family); ok {
		b.Family = f.Value
	}
	if m, ok := r.FindModel(b.Model); ok {
		for _, t := range m.Value.Families {
			b.families = append(b.families, t.Text)
		}
		if b.Family == "" && len(b.families) == 1 {
			b.Family = b.families[0]
		}
	}
	for i, f := range b.families { // in the rulebook's spelling
		if strings.EqualFold(f, b.Family) {
			b.Family = b.families[i]
		}
	}
	return b
}

// components lists the components of a family in the order in which they are
// installed.
func (b *Box) components(family string) []string {
	f, ok := b.Rules.Family(family)
	if !ok || len(f.Components.Entries) == 0 {
		return []string{"main"}
	}
	return f.Components.Keys()
}

// before tells whether a component is installed before another.
func (b *Box) before(family, first, second string) bool {
	order := b.components(family)
	i, k := slices.Index(order, first), slices.Index(order, second)
	return i >= 0 && i < k
}

// bringsOf tells which version of a component a release brings for a family: as
// it says; the main component in any case, and with it the others of its pair.
func (b *Box) bringsOf(rel *rulebook.Release, family, component string) (string, bool) {
	main := b.Rules.Main(family)
	if component == main {
		return rel.Version.Text, true
	}
	if e, ok := rel.Brings.Get(component); ok {
		return e.Value.Text, slices.Contains(b.components(family), component)
	}
	f, ok := b.Rules.Family(family)
	if !ok {
		return "", false
	}
	return rel.Version.Text, pairs(f, main, component)
}

// situation is a box at some point of a path: its constant side is the
// device's, its components are those of the state.
type situation struct {
	*Box
	main     string // version of the main component
	family   string
	versions map[string]string
}

// Version implements rulebook.Situation.
func (s situation) Version(component string) (string, bool) {
	if component == s.Rules.Main(s.family) {
		return s.main, s.main != ""
	}
	v, ok := s.versions[component]
	return v, ok
}

// Companion implements rulebook.Situation.
func (s situation) Companion(name string) (string, bool) {
	e, ok := s.Device.Companions.Get(name)
	if _, guessed := s.Device.Guessed("companions." + name); !ok || guessed {
		return "", false
	}
	return e.Value.Text, true
}

// StorageFree implements rulebook.Situation.
func (s situation) StorageFree() (int64, bool) {
	_, guessed := s.Device.Guessed("storage_free")
	return s.Device.StorageFree.Bytes, s.Device.StorageFree.Set() && !guessed
}

// Memory implements rulebook.Situation.
func (s situation) Memory() (int64, bool) {
	if _, guessed := s.Device.Guessed("memory"); s.Device.Memory.Set() && !guessed {
		return s.Device.Memory.Bytes, true
	}
	if m, ok := s.Rules.FindModel(s.Box.Model); ok {
		if size, ok := s.Rules.MemorySize(&m.Value, s.Revision); ok {
			return size.Bytes, true
		}
	}
	return 0, false
}

// Feature implements rulebook.Situation.
func (s situation) Feature(name string) rulebook.Truth {
	return listed(s.Device, "features", s.Device.Features, func(t string) bool { return strings.EqualFold(t, name) })
}

// Attached implements rulebook.Situation.
func (s situation) Attached(model string) rulebook.Truth {
	return listed(s.Device, "attached", s.Device.Attached, func(t string) bool { return s.Rules.CanonicalModel(t) == s.Rules.CanonicalModel(model) })
}

func listed(d *device.Device, key string, list []y.Text, is func(string) bool) rulebook.Truth {
	if _, guessed := d.Guessed(key); guessed || len(list) == 0 {
		return rulebook.Unknown
	}
	if slices.ContainsFunc(list, func(t y.Text) bool { return is(t.Text) }) {
		return rulebook.Holds
	}
	return rulebook.Fails
}

// hardware names a box in words.
func (b *Box) hardware() string {
	t := strings.TrimSpace(b.Model + " " + b.Revision)
	if t == "" {
		return b.Device.Name.Text
	}
	return t
}

// installed lists the versions of the components but main that are known.
func (b *Box) installed() map[string]string {
	out := map[string]string{}
	main := b.Rules.Main(b.Family)
	for _, c := range b.Device.Installed.Entries {
		if c.Key == main {
			continue
		}
		f, ok := b.Device.Version(c.Key)
		if !ok {
			continue
		}
		if _, err := b.Rules.Scheme(c.Key).Parse(f.Value); err == nil {
			out[c.Key] = f.Value
		}
	}
	return out
}

// mainVersion is what the box runs; the error says why that is not known.
func (b *Box) mainVersion() (string, error) {
	main := b.Rules.Main(b.Family)
	f, ok := b.Device.Version(main)
	if !ok {
		if from, guessed := b.Device.Guessed("installed." + main); guessed {
			return "", fmt.Errorf("the installed %s of %s is only guessed (%s); confirm it with fitcheck device -set installed.%s=…", main, b.Device.Name.Text, from, main)
		}
		return "", fmt.Errorf("the installed %s of %s is not known; read it off the device and add installed: {%s: …} to %s", main, b.Device.Name.Text, main, b.Device.File)
	}
	if _, err := b.Rules.Scheme(main).Parse(f.Value); err != nil {
		return "", fmt.Errorf("%s: %w; correct it, or the pattern under versions in %s", b.Device.File, err, b.Rules.File)
	}
	return f.Value, nil
}
