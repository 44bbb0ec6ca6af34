package check

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	"fitcheck/core/survey"
	y "fitcheck/core/yamlfile"
)

// Options steer what the checks accept, and how they word advice.
type Options struct {
	// TrustNames accepts what only file and folder names say.
	TrustNames bool
	// NoRulebook says why there is none for a device, for the advice.
	NoRulebook func(m *member.Member) string
	// Way says in words by which hops a device gets to a release, or what stands
	// in the way; nil where nobody looks.
	Way func(c *Case, release, family string) string
	// Keep keeps what is worked out of a package alone; nil works it out anew.
	Keep Keeper
}

// Keeper remembers lines and items by what they depend on, so that they are worked
// out once for many devices.
type Keeper interface {
	Lines(key Key, make func() []Line) []Line
	Items(key Key, make func() []*survey.Item) []*survey.Item
}

// Key is everything that what is kept depends on.
type Key struct {
	What      string
	Survey    *survey.Survey
	Item      *survey.Item
	Component string
	Rules     *rulebook.Rulebook
	Model     *y.Entry[rulebook.Model]
	Family    string
	Release   *rulebook.Release
	Text      string
}

// Case is one device held against one package.
type Case struct {
	*member.Member
	Survey  *survey.Survey
	Options Options

	// Release is what the package stands for: by its main image, else by its name.
	Release Release
	// Results are what came out for each component, and Chosen the images that would be
	// installed.
	Results map[string]Result
	Chosen  map[string]*Candidate
	// Kept are images that are left out, because the device has newer ones.
	Kept map[string]*Candidate

	components []Component
}

// New makes a case.
func New(m *member.Member, s *survey.Survey, o Options) *Case {
	return &Case{Member: m, Survey: s, Options: o, Results: map[string]Result{}, Chosen: map[string]*Candidate{}, Kept: map[string]*Candidate{}}
}

// Component is one component of the device's family.
type Component struct {
	Name              string
	Optional, Slotted bool
	Formats           []y.String // that it takes; none: any that starts
	at                y.Spot
}

// Boot is the component that starts the others.
const Boot = "boot"

// Components lists the components of the family in the order in which they are
// installed; without a rulebook, the main image alone. A package that by the
// rulebook brings only some is judged for those.
func (c *Case) Components() []Component {
	if c.components == nil {
		c.components = c.findComponents()
	}
	return c.components
}

// all lists the family's components, whatever the package brings.
func (c *Case) all() []Component {
	var out []Component
	if f, ok := c.Rules.Family(c.LikelyFamily()); ok {
		for _, e := range f.Components.Entries {
			out = append(out, Component{e.Key, e.Value.Optional, e.Value.Slotted, e.Value.Formats, e.Spot})
		}
	}
	if len(out) == 0 {
		out = []Component{{Name: "main"}}
	}
	return out
}

func (c *Case) findComponents() []Component {
	out := c.all()
	var brings []y.String
	for _, part := range c.Survey.Each() {
		if part.Entry == nil || len(part.Entry.Components) == 0 {
			return out
		}
		brings = append(brings, part.Entry.Components...)
	}
	only := []Component{}
	for _, k := range out {
		if slices.ContainsFunc(brings, func(t y.String) bool { return t.Text == k.Name }) {
			k.Optional = false
			only = append(only, k)
		}
	}
	return only
}

// Named finds a component by name.
func (c *Case) Named(name string) Component {
	for _, k := range c.Components() {
		if strings.EqualFold(k.Name, name) {
			return k
		}
	}
	return Component{Name: name}
}

func (c *Case) hasComponent(name string) bool {
	return slices.ContainsFunc(c.Components(), func(k Component) bool { return strings.EqualFold(k.Name, name) })
}

// BringsMain tells whether packages of this kind carry the main image.
func (c *Case) BringsMain() bool {
	main := c.Main()
	return slices.ContainsFunc(c.Components(), func(k Component) bool { return k.Name == main })
}

// before tells whether the family's order puts one component before another.
func (c *Case) before(first, second string) bool {
	for _, k := range c.all() {
		switch k.Name {
		case second:
			return false
		case first:
			return true
		}
	}
	return false
}

// ofMember is the device's side in a respect, with its sources; for an unknown
// value, the file that lacks it.
func ofMember(v member.Value) []Cited {
	said := v.Said()
	out := make([]Cited, 0, len(said)+3) // a line cites the package and a rule besides
	for _, f := range said {
		out = append(out, Cited{OfDevice, f.Text(), f.Source})
	}
	if len(out) == 0 {
		out = append(out, Cited{OfDevice, v.Text(), v.At})
	}
	return out
}

// ofDevice is the device as a whole.
func (c *Case) ofDevice() Cited {
	src := c.Value(fact.Model).At
	if src.File == "" {
		src = fact.Source{Kind: fact.DeviceFile, File: c.Device.File}
	}
	return Cited{OfDevice, c.Hardware(), src}
}

// ofRule is something in the rulebook.
func (c *Case) ofRule(text string, at y.Spot) Cited {
	return Cited{OfRule, text, c.Rules.Source(at)}
}

// ofName is something that stands in the package by its name.
func ofName(text, address string) Cited {
	return Cited{OfPackage, text, fact.Source{Kind: fact.FileName, File: address}}
}

// ofContent is the content of an item.
func ofContent(text string, it *survey.Item) Cited {
	return Cited{OfPackage, text, fact.Source{Kind: fact.Content, File: it.Address, Size: it.Size}}
}

// key is what everything that is kept of a component's items depends on.
func (c *Case) key(what string, k Component, it *survey.Item) Key {
	return Key{What: what, Survey: c.Survey, Item: it, Component: k.Name, Rules: c.Rules, Model: c.Model, Family: c.LikelyFamily()}
}

func (c *Case) keptLines(key Key, make func() []Line) []Line {
	if c.Options.Keep == nil {
		return make()
	}
	return c.Options.Keep.Lines(key, make)
}

func (c *Case) keptItems(key Key, make func() []*survey.Item) []*survey.Item {
	if c.Options.Keep == nil {
		return make()
	}
	return c.Options.Keep.Items(key, make)
}

// About says in words which device this is.
func (c *Case) About() string {
	t := c.Device.Name.Text + " is of a model that is not known"
	if m := c.First(fact.Model); m != "" {
		t = fmt.Sprintf("%s is a %s", c.Device.Name.Text, m)
		if r := c.First(fact.Revision); r != "" {
			t += " of revision " + r
		}
	}
	if v := c.Installed(c.Main()); v.Known() {
		t += fmt.Sprintf(" and runs %s %s", c.Main(), v.First())
	}
	return t
}

// howToKnow says what to do about a value that is not known.
func (c *Case) howToKnow(key string, v member.Value) string {
	switch v.State {
	case member.Guessed:
		return fmt.Sprintf("it is only guessed to be %s (%s): look at the label or the console, and confirm it with fitcheck device -out %s -replace -set %s", v.Guess, v.GuessedFrom, shell.Quote(c.Device.File), shell.Quote(key+"="+v.Guess))
	case member.Contradicted:
		return fmt.Sprintf("read %s off the device again, then correct %s or the rulebook", key, c.Device.File)
	}
	if key == "revision" {
		return "read the hardware revision off the label or the console and add revision: to " + c.Device.File
	}
	return fmt.Sprintf("find it out and add %s: to %s", key, c.Device.File)
}

// why says why a value of the device is not known.
func why(what string, v member.Value) string {
	switch v.State {
	case member.Guessed:
		return fmt.Sprintf("the device's %s is only guessed to be %s (%s)", what, v.Guess, v.GuessedFrom)
	case member.Contradicted:
		return fmt.Sprintf("the device's %s is contradicted: %s", what, v.Why)
	}
	return fmt.Sprintf("the device's %s is not known", what)
}

func texts(list []y.String) string {
	var out []string
	for _, t := range list {
		out = append(out, t.Text)
	}
	return strings.Join(out, ", ")
}
