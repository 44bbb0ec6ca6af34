package fit

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// subject is the device's side of every comparison: what the device file
// says, else what the rulebook says of its model and revision.
type subject struct {
	d     *device.Device
	rb    *rulebook.Rulebook
	model *y.Entry[rulebook.Model] // nil when the rulebook does not know it
	sides map[fact.Name]side
}

// side is what is known of the device in one respect.
type side struct {
	facts []fact.Fact
	// clash holds what the rulebook says where it contradicts the device file.
	clash []fact.Fact
	// whyNot says why nothing is known.
	whyNot string
	// guess is what was only guessed, and from what.
	guess, guessedFrom string
}

func (s side) known() bool { return len(s.facts) > 0 }

func (s side) text() string {
	if !s.known() {
		if s.guess != "" {
			return fmt.Sprintf("not known, guessed to be %s", s.guess)
		}
		return "not known"
	}
	t := fact.Values(s.facts)
	if len(s.clash) > 0 {
		t += ", but by the rulebook " + fact.Values(s.clash)
	}
	return t
}

// cite lists the sources of the side; for an unknown value, the file that
// lacks it. There is room for more.
func (sub *subject) cite(n fact.Name, more int) []Cited {
	s := sub.sides[n]
	out := make([]Cited, 0, len(s.facts)+len(s.clash)+more)
	for _, f := range s.facts {
		out = append(out, Cited{OfDevice, f.Text(), f.Source})
	}
	for _, f := range s.clash {
		out = append(out, Cited{OfDevice, f.Text(), f.Source})
	}
	if len(out) == 0 {
		out = append(out, Cited{OfDevice, "not known", fact.Source{Kind: fact.DeviceFile, File: sub.d.File}})
	}
	return out
}

func newSubject(d *device.Device, rb *rulebook.Rulebook) *subject {
	sub := &subject{d: d, rb: rb, sides: map[fact.Name]side{}}
	sub.model, _ = rb.FindModel(d.Model.Text)
	one := func(n fact.Name, key string, t y.Text) {
		if f, ok := d.Fact(n, key, t); ok {
			sub.sides[n] = side{facts: []fact.Fact{f}}
		} else if from, guessed := d.Guessed(key); guessed {
			sub.sides[n] = side{guess: t.Text, guessedFrom: from}
		}
	}
	one(fact.Model, "model", d.Model)
	one(fact.Revision, "revision", d.Revision)
	one(fact.Arch, "arch", d.Arch)
	one(fact.Region, "region", d.Region)
	one(fact.Platform, "platform", d.Platform)
	one(fact.Family, "family", d.Family)
	sub.sides[fact.Board] = side{facts: d.Facts(fact.Board, "boards", d.Boards)}
	sub.sides[fact.Feature] = side{facts: d.Facts(fact.Feature, "features", d.Features)}
	if sub.model != nil {
		sub.fromRulebook(&sub.model.Value)
	}
	return sub
}

// fromRulebook adds what the rulebook says of the model and revision, and
// notices where that contradicts the device file.
func (sub *subject) fromRulebook(m *rulebook.Model) {
	if !sub.sides[fact.Model].known() { // a guess: what follows from it is one, too
		return
	}
	rev := sub.first(fact.Revision)
	if s := sub.sides[fact.Revision]; s.known() && len(m.Revs.Entries) > 0 {
		if _, ok := m.Revision(rev); !ok {
			s.whyNot = fmt.Sprintf("the rulebook does not know the revision %s of %s; it knows %s", rev, sub.model.Key, strings.Join(m.Revs.Keys(), ", "))
			sub.sides[fact.Revision] = s
		}
	}
	if f, ok := sub.rb.Arch(m, rev); ok {
		sub.merge(fact.Arch, []fact.Fact{f}, func(a, b string) bool { return fact.CanonicalArch(a) == fact.CanonicalArch(b) })
	}
	if fs := sub.rb.Boards(m, rev); len(fs) > 0 {
		sub.merge(fact.Board, fs, strings.EqualFold)
	}
	var families []fact.Fact
	for _, t := range m.Families {
		families = append(families, fact.Fact{About: fact.Family, Value: t.Text, Source: sub.rb.Source(t.Spot)})
	}
	if len(families) == 1 || sub.sides[fact.Family].known() && len(families) > 0 {
		sub.merge(fact.Family, families, strings.EqualFold)
	}
}

// merge joins what the rulebook says to what the device file says: it fills a
// gap, and it clashes when no value of it equals one of the file's.
func (sub *subject) merge(n fact.Name, by []fact.Fact, same func(a, b string) bool) {
	s := sub.sides[n]
	if !s.known() {
		s.facts = by
		sub.sides[n] = s
		return
	}
	for _, a := range s.facts {
		for _, b := range by {
			if same(a.Value, b.Value) {
				return
			}
		}
	}
	s.clash = by
	sub.sides[n] = s
}

func (sub *subject) first(n fact.Name) string {
	if s := sub.sides[n]; s.known() {
		return s.facts[0].Value
	}
	return ""
}

// family is the image family that the device runs, "" when not known.
func (sub *subject) family() string { return sub.first(fact.Family) }

// component is one component of the device's family.
type component struct {
	name              string
	optional, slotted bool
	at                y.Spot
}

// components lists the components of the family in the order in which they
// are installed; without a rulebook, the main image alone. A package that by
// the rulebook brings only some is judged for those.
func (j *judge) components() []component {
	var out []component
	if f, ok := j.rb.Family(j.family()); ok {
		for _, e := range f.Components.Entries {
			out = append(out, component{e.Key, e.Value.Optional, e.Value.Slotted, e.Spot})
		}
	}
	if len(out) == 0 {
		out = []component{{name: "main"}}
	}
	var brings []y.Text
	for _, part := range j.s.Each() {
		if part.Entry == nil || len(part.Entry.Components) == 0 {
			return out
		}
		brings = append(brings, part.Entry.Components...)
	}
	var only []component
	for _, c := range out {
		if slices.ContainsFunc(brings, func(t y.Text) bool { return t.Text == c.name }) {
			c.optional = false
			only = append(only, c)
		}
	}
	return only
}

func (j *judge) mainComponent() string {
	if j.rb == nil {
		return "main"
	}
	return j.rb.Main(j.family())
}

// bringsMain tells whether packages of this kind carry the main image.
func (j *judge) bringsMain() bool {
	for _, c := range j.components() {
		if c.name == j.mainComponent() {
			return true
		}
	}
	return false
}

var noModel *rulebook.Model
