// Package device reads device files: what is known of one device, each value
// with the place it was read from.
package device

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// Device is one device file: a box of its own, or a group of them. What is not
// known is left out.
type Device struct {
	File string

	Kind y.Text `yaml:"kind" enum:"device"`
	Unit
	Group   y.Text `yaml:"group" enum:"stack,cluster,chassis"`
	Uniform bool   `yaml:"uniform" doc:"all members must run one version"`
	Members []Unit `yaml:"members" doc:"each inherits what it does not say"`
}

// Unit is what is known of one box. Of a group, it is what holds for every
// member that does not say otherwise.
type Unit struct {
	y.Spot
	Name          y.Text        `yaml:"name" doc:"what your inventory calls it"`
	Model         y.Text        `yaml:"model"`
	Revision      y.Text        `yaml:"revision" doc:"hardware revision, as on the label"`
	Serial        y.Text        `yaml:"serial"`
	Arch          y.Text        `yaml:"arch" doc:"processor architecture: arm, arm64, mips, x86_64 …"`
	Boards        []y.Text      `yaml:"boards" doc:"board identifiers that the device reports"`
	Region        y.Text        `yaml:"region"`
	Platform      y.Text        `yaml:"platform" enum:"physical,virtual"`
	Family        y.Text        `yaml:"family" doc:"image family that it runs"`
	Features      []y.Text      `yaml:"features" doc:"licences or feature sets it is entitled to or runs"`
	Installed     y.Map[y.Text] `yaml:"installed" doc:"component to version"`
	Slots         []Slot        `yaml:"slots"`
	StorageFree   y.Size        `yaml:"storage_free"`
	Memory        y.Size        `yaml:"memory"`
	Companions    y.Map[y.Text] `yaml:"companions" doc:"systems whose version is tied to this one's"`
	Attached      []y.Text      `yaml:"attached" doc:"models that take their firmware from it, or must keep working with it"`
	EntitledUntil y.Date        `yaml:"entitled_until"`
	Config        *Config       `yaml:"config"`
	State         y.Text        `yaml:"state" enum:"running,boot-loader,silent"`
	ReadFrom      y.Map[y.Text] `yaml:"read_from" doc:"key of this file to where its value was read"`
}

// Slot is a place for a main image.
type Slot struct {
	y.Spot
	Name   y.Text `yaml:"name"`
	Main   y.Text `yaml:"main"`
	Active bool   `yaml:"active"`
	Next   bool   `yaml:"next" doc:"what starts after a restart, where that is not the active one"`
}

// Config is how the device's settings stand.
type Config struct {
	y.Spot
	Saved    *bool  `yaml:"saved" doc:"the running settings are saved on the device"`
	BackedUp y.Date `yaml:"backed_up" doc:"day of the last backup off the device"`
}

// GuessMark ends a text of read_from whose value was only guessed.
const GuessMark = " (guess)"

// Read reads a device file. All that is wrong with it is in the error, of
// type yamlfile.Errors.
func Read(file string, data []byte) (*Device, error) {
	d := &Device{File: file}
	if err := y.Read(file, data, d); err != nil {
		return nil, err
	}
	var errs y.Errors
	fail := func(at y.Spot, message, advice string) {
		errs = append(errs, &y.Error{File: file, Spot: y.Spot{Line: max(1, at.Line), Column: max(1, at.Column)}, Message: message, Advice: advice})
	}
	if d.Kind.Text != "device" {
		fail(d.Kind.Spot, "this is not a device file", "a device file begins with the line kind: device")
		return nil, errs
	}
	if !d.Name.Set() {
		fail(d.Kind.Spot, "the device has no name", "add name: with what your inventory calls it")
	}
	check(&d.Unit, fail)
	switch g := d.Group; {
	case g.Set() && !slices.Contains([]string{"stack", "cluster", "chassis"}, g.Text):
		fail(g.Spot, fmt.Sprintf("group is stack, cluster or chassis, not %q", g.Text), "")
	case g.Set() && len(d.Members) == 0:
		fail(g.Spot, "a "+g.Text+" needs members", "add members: with one entry for each, or take group out")
	case !g.Set() && len(d.Members) > 0:
		fail(d.Members[0].Spot, "members stand here, and no group", "add group: stack, or group: cluster")
	case !g.Set() && d.Uniform:
		fail(d.Kind.Spot, "uniform goes with a group", "add group: and members:, or take uniform out")
	}
	if n := len(d.Members); n > maxMembers {
		fail(d.Members[maxMembers].Spot, fmt.Sprintf("a %s has at most %d members, and these are %d", d.Group.Text, maxMembers, n), "write a device file for each group that is one")
		return nil, errs
	}
	seen := map[string]bool{}
	for i := range d.Members {
		m := &d.Members[i]
		check(m, fail)
		if m.Name.Set() && seen[m.Name.Text] {
			fail(m.Name.Spot, fmt.Sprintf("there are two members of the name %q", m.Name.Text), "")
		}
		seen[m.Name.Text] = true
	}
	if len(errs) > 0 {
		slices.SortStableFunc(errs, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
		return nil, errs
	}
	return d, nil
}

// Bounds of what one device file says: members of a group, and the entries of one list or
// mapping.
const (
	maxMembers = 1000
	maxEntries = 1000
)

// check finds what is wrong with one box.
func check(u *Unit, fail func(at y.Spot, message, advice string)) {
	for _, list := range []struct {
		name string
		n    int
	}{
		{"boards", len(u.Boards)}, {"features", len(u.Features)}, {"attached", len(u.Attached)}, {"slots", len(u.Slots)},
		{"installed", len(u.Installed.Entries)}, {"companions", len(u.Companions.Entries)},
	} {
		if list.n > maxEntries {
			fail(u.Name.Spot, fmt.Sprintf("%s has %d entries, and at most %d are read", list.name, list.n, maxEntries), "leave out what is not of this device")
		}
	}
	if p := u.Platform; p.Set() && p.Text != "physical" && p.Text != "virtual" {
		fail(p.Spot, fmt.Sprintf("platform is physical or virtual, not %q", p.Text), "")
	}
	if s := u.State; s.Set() && s.Text != "running" && s.Text != "boot-loader" && s.Text != "silent" {
		fail(s.Spot, fmt.Sprintf("state is running, boot-loader or silent, not %q", s.Text), "")
	}
	names, active := map[string]bool{}, 0
	for _, s := range u.Slots {
		if !s.Name.Set() {
			fail(s.Spot, "a slot needs a name", "")
		}
		if names[s.Name.Text] {
			fail(s.Spot, fmt.Sprintf("there are two slots of the name %q", s.Name.Text), "")
		}
		names[s.Name.Text] = true
		if s.Active {
			active++
		}
	}
	if active > 1 {
		fail(u.Slots[0].Spot, fmt.Sprintf("%d slots are marked active, and only one can be", active), "leave active: true at the one the device runs from")
	}
	for _, e := range u.ReadFrom.Entries {
		if !u.has(e.Key) {
			fail(e.Spot, fmt.Sprintf("read_from speaks of %q, which this file does not give", e.Key), "write the key as in installed.main, or take the line out")
		}
	}
}

// has tells whether the file gives a value under a key as read_from names it.
func (u *Unit) has(key string) bool {
	head, rest, nested := strings.Cut(key, ".")
	if nested {
		switch head {
		case "installed":
			_, ok := u.Installed.Get(rest)
			return ok
		case "companions":
			_, ok := u.Companions.Get(rest)
			return ok
		case "slots":
			return slices.ContainsFunc(u.Slots, func(s Slot) bool { return s.Name.Text == rest })
		case "config":
			return u.Config != nil && (rest == "saved" && u.Config.Saved != nil || rest == "backed_up" && u.Config.BackedUp.Set())
		}
		return false
	}
	switch key {
	case "storage_free":
		return u.StorageFree.Set()
	case "memory":
		return u.Memory.Set()
	case "entitled_until":
		return u.EntitledUntil.Set()
	case "boards":
		return len(u.Boards) > 0
	case "features":
		return len(u.Features) > 0
	case "attached":
		return len(u.Attached) > 0
	case "slots":
		return len(u.Slots) > 0
	case "installed":
		return len(u.Installed.Entries) > 0
	case "companions":
		return len(u.Companions.Entries) > 0
	case "config":
		return u.Config != nil
	}
	for name, t := range u.texts() {
		if name == key {
			return t.Set()
		}
	}
	return false
}

func (u *Unit) texts() map[string]y.Text {
	return map[string]y.Text{"model": u.Model, "revision": u.Revision, "serial": u.Serial, "arch": u.Arch, "state": u.State,
		"region": u.Region, "platform": u.Platform, "family": u.Family, "name": u.Name}
}

// readFrom is what read_from says of a key, or of the mapping or list that
// the key is in.
func (u *Unit) readFrom(key string) string {
	if e, ok := u.ReadFrom.Get(key); ok {
		return e.Value.Text
	}
	if head, _, nested := strings.Cut(key, "."); nested {
		if e, ok := u.ReadFrom.Get(head); ok {
			return e.Value.Text
		}
	}
	return ""
}

// Guessed tells whether a value was only guessed, and from what. A guess is
// shown, and never counts as known.
func (u *Unit) Guessed(key string) (from string, ok bool) {
	return strings.CutSuffix(u.readFrom(key), GuessMark)
}

// Source is where the value under a key (as read_from names it) stands. When
// the file says that it was read from elsewhere, that comes first.
func (d *Device) Source(key string, at y.Spot) fact.Source {
	s := fact.Source{Kind: fact.DeviceFile, File: d.File, Line: at.Line, Column: at.Column}
	if via := d.readFrom(key); via != "" {
		s.Via, s.Kind = via, fact.Capture
		switch {
		case strings.HasPrefix(via, ByHand):
			s.Kind = fact.Command
		case strings.HasPrefix(via, Planned):
			s.Kind = fact.DeviceFile
		}
	}
	return s
}

// ByHand begins a text of read_from whose value a person gave.
const ByHand = "-set"

// Planned begins a text of read_from whose value a plan promises.
const Planned = "planned:"

// Fact is a value of the file as a fact; ok is false when it is not given or
// only guessed.
func (d *Device) Fact(about fact.Name, key string, t y.Text) (f fact.Fact, ok bool) {
	if _, guessed := d.Guessed(key); guessed || !t.Set() {
		return fact.Fact{}, false
	}
	return fact.Fact{About: about, Value: t.Text, Source: d.Source(key, t.Spot)}, true
}

// Facts are the values of a list as facts.
func (d *Device) Facts(about fact.Name, key string, list []y.Text) []fact.Fact {
	var out []fact.Fact
	for _, t := range list {
		if f, ok := d.Fact(about, key, t); ok {
			out = append(out, f)
		}
	}
	return out
}

// Version is the installed version of a component. For main, the active slot
// says it where installed does not.
func (d *Device) Version(component string) (fact.Fact, bool) {
	if e, ok := d.Installed.Get(component); ok {
		return d.Fact(fact.Version, "installed."+component, e.Value)
	}
	if component == "main" {
		for _, s := range d.Slots {
			if s.Active && s.Main.Set() {
				return d.Fact(fact.Version, "slots."+s.Name.Text, s.Main)
			}
		}
	}
	return fact.Fact{}, false
}
