package path

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
)

// Box is one device as the search sees it: as package member resolves it.
type Box struct {
	*member.Member
	Model    string // "" when it is not known
	Revision string
	Family   string
	families []string // image families that the model may run
	boot     string   // the component that may be installed by itself
}

// NewBox resolves a device; a guess and a contradiction are not known.
func NewBox(d *device.Device, r *rulebook.Rulebook) *Box {
	m := member.Resolve(d, r)
	return &Box{Member: m, Model: m.First(fact.Model), Revision: m.First(fact.Revision), Family: m.Family(), families: m.Families(), boot: "boot"}
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

// optional tells whether a component of a family may be left out.
func (b *Box) optional(family, component string) bool {
	f, ok := b.Rules.Family(family)
	if !ok {
		return true
	}
	e, ok := f.Components.Get(component)
	return !ok || e.Value.Optional
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

// situation is a box at some point of a path: all but its components is as it is
// now. versions are those of the components that are known then.
func (b *Box) situation(family, main string, versions map[string]string) rulebook.Situation {
	all := map[string]string{b.Rules.Main(family): main}
	for _, c := range b.Device.Installed.Entries {
		all[c.Key] = ""
	}
	for c, v := range versions {
		all[c] = v
	}
	all[b.Rules.Main(family)] = main
	return member.Situation{Member: b.Member, Versions: all}
}

// hardware names a box in words.
func (b *Box) hardware() string { return b.Hardware() }

// installed lists the versions of the components but main that are known.
func (b *Box) installed() map[string]string {
	out := map[string]string{}
	main := b.Rules.Main(b.Family)
	for _, c := range b.Device.Installed.Entries {
		if c.Key == main {
			continue
		}
		v := b.Installed(c.Key)
		if !v.Known() {
			continue
		}
		if _, err := b.Rules.Scheme(c.Key).Parse(v.First()); err == nil {
			out[c.Key] = v.First()
		}
	}
	return out
}

// mainVersion is what the box runs; the error says why that is not known.
func (b *Box) mainVersion() (string, error) {
	main := b.Rules.Main(b.Family)
	v := b.Installed(main)
	switch v.State {
	case member.Guessed:
		return "", fmt.Errorf("the installed %s of %s is only guessed (%s); confirm it with fitcheck device -out %s -replace -set installed.%s=%s", main, b.Device.Name.Text, v.GuessedFrom, shell.Quote(b.Device.File), main, shell.Quote(v.Guess))
	case member.Contradicted:
		return "", fmt.Errorf("what %s runs is contradicted: %s; read it off the device again and correct %s", b.Device.Name.Text, v.Why, b.Device.File)
	case member.Missing:
		return "", fmt.Errorf("the installed %s of %s is not known; read it off the device and add installed: {%s: …} to %s", main, b.Device.Name.Text, main, b.Device.File)
	}
	if _, err := b.Rules.Scheme(main).Parse(v.First()); err != nil {
		return "", fmt.Errorf("%s: %w; correct it, or the pattern under versions in %s", b.Device.File, err, b.Rules.File)
	}
	return v.First(), nil
}

// problems says what of a box must be known before any path can be sought.
func (b *Box) problems(noRulebook func(*device.Device) string) []string {
	d := b.Device
	model := b.Value(fact.Model)
	switch {
	case model.State == member.Missing:
		return []string{fmt.Sprintf("the model of %s is not known; add model: to %s", d.Name.Text, d.File)}
	case model.State == member.Guessed:
		return []string{fmt.Sprintf("the model of %s is only guessed (%s); confirm it with fitcheck device -out %s -replace -set %s", d.Name.Text, model.GuessedFrom, shell.Quote(d.File), shell.Quote("model="+model.Guess))}
	case model.State == member.Contradicted:
		return []string{fmt.Sprintf("the model of %s is contradicted: %s; correct %s or the rulebook", d.Name.Text, model.Why, d.File)}
	case b.Rules == nil && noRulebook != nil && noRulebook(d) != "":
		return []string{noRulebook(d)}
	case b.Rules == nil:
		return []string{fmt.Sprintf("no rulebook knows the model %s of %s; correct it in %s, or add it to a rulebook", b.Model, d.Name.Text, d.File)}
	}
	if state, yes := b.DoesNotStart(); yes {
		return []string{fmt.Sprintf("%s does not start (state: %s): fitcheck recover -device %s tells what its boot loader takes", d.Name.Text, state, shell.Quote(d.File))}
	}
	switch family := b.Value(fact.Family); {
	case family.State == member.Contradicted:
		return []string{fmt.Sprintf("the image family of %s is contradicted: %s; correct %s or the rulebook", d.Name.Text, family.Why, d.File)}
	case b.Family == "" && len(b.families) > 1:
		return []string{fmt.Sprintf("the image family of %s is not known, and %s may run %s; add family: to %s", d.Name.Text, b.Model, strings.Join(b.families, " or "), d.File)}
	}
	for _, n := range []fact.Name{fact.Revision, fact.Arch, fact.Board} {
		if v := b.Value(n); v.State == member.Contradicted {
			return []string{fmt.Sprintf("the %s of %s is contradicted: %s; correct %s or the rulebook", n, d.Name.Text, v.Why, d.File)}
		}
	}
	if _, err := b.mainVersion(); err != nil {
		return []string{err.Error()}
	}
	return nil
}
