package path

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
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

// situation is a box at some point of a path: all but its components is as the
// device file says.
type situation struct {
	rulebook.OfDevice
	main      string // version of the main component
	component string // name of the main component
	versions  map[string]string
}

func (b *Box) situation(family, main string, versions map[string]string) situation {
	return situation{rulebook.OfDevice{Device: b.Device, Rules: b.Rules, Model: b.Model, Revision: b.Revision}, main, b.Rules.Main(family), versions}
}

// Version implements rulebook.Situation.
func (s situation) Version(component string) (string, bool) {
	if component == s.component {
		return s.main, s.main != ""
	}
	v, ok := s.versions[component]
	return v, ok
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
