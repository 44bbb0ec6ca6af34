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

// Device is one device file. What is not known is left out.
type Device struct {
	File string

	Kind          y.Text        `yaml:"kind"`
	Name          y.Text        `yaml:"name"`
	Model         y.Text        `yaml:"model"`
	Revision      y.Text        `yaml:"revision"`
	Serial        y.Text        `yaml:"serial"`
	Arch          y.Text        `yaml:"arch"`
	Boards        []y.Text      `yaml:"boards"`
	Region        y.Text        `yaml:"region"`
	Platform      y.Text        `yaml:"platform"`
	Family        y.Text        `yaml:"family"`
	Features      []y.Text      `yaml:"features"`
	Installed     y.Map[y.Text] `yaml:"installed"`
	Slots         []Slot        `yaml:"slots"`
	StorageFree   y.Size        `yaml:"storage_free"`
	Memory        y.Size        `yaml:"memory"`
	Companions    y.Map[y.Text] `yaml:"companions"`
	Attached      []y.Text      `yaml:"attached"`
	EntitledUntil y.Date        `yaml:"entitled_until"`
	ReadFrom      y.Map[y.Text] `yaml:"read_from"`

	Group   y.Text `yaml:"group,unserved"`
	Uniform y.Text `yaml:"uniform,unserved"`
	Members y.Text `yaml:"members,unserved"`
	Config  y.Text `yaml:"config,unserved"`
	State   y.Text `yaml:"state,unserved"`
}

// Slot is a place for a main image.
type Slot struct {
	y.Spot
	Name   y.Text `yaml:"name"`
	Main   y.Text `yaml:"main"`
	Active bool   `yaml:"active"`
}

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
	if p := d.Platform; p.Set() && p.Text != "physical" && p.Text != "virtual" {
		fail(p.Spot, fmt.Sprintf("platform is physical or virtual, not %q", p.Text), "")
	}
	names, active := map[string]bool{}, 0
	for _, s := range d.Slots {
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
		fail(d.Slots[0].Spot, fmt.Sprintf("%d slots are marked active, and only one can be", active), "leave active: true at the one the device runs from")
	}
	for _, e := range d.ReadFrom.Entries {
		if !d.has(e.Key) {
			fail(e.Spot, fmt.Sprintf("read_from speaks of %q, which this file does not give", e.Key), "write the key as in installed.main, or take the line out")
		}
	}
	if len(errs) > 0 {
		slices.SortStableFunc(errs, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
		return nil, errs
	}
	return d, nil
}

// has tells whether the file gives a value under a key as read_from names it.
func (d *Device) has(key string) bool {
	head, rest, nested := strings.Cut(key, ".")
	if nested {
		switch head {
		case "installed":
			_, ok := d.Installed.Get(rest)
			return ok
		case "companions":
			_, ok := d.Companions.Get(rest)
			return ok
		case "slots":
			return len(d.Slots) > 0
		}
		return false
	}
	switch key {
	case "storage_free":
		return d.StorageFree.Set()
	case "memory":
		return d.Memory.Set()
	case "entitled_until":
		return d.EntitledUntil.Set()
	case "boards":
		return len(d.Boards) > 0
	case "features":
		return len(d.Features) > 0
	case "attached":
		return len(d.Attached) > 0
	case "slots":
		return len(d.Slots) > 0
	case "installed":
		return len(d.Installed.Entries) > 0
	}
	for name, t := range d.texts() {
		if name == key {
			return t.Set()
		}
	}
	return false
}

func (d *Device) texts() map[string]y.Text {
	return map[string]y.Text{"model": d.Model, "revision": d.Revision, "serial": d.Serial, "arch": d.Arch,
		"region": d.Region, "platform": d.Platform, "family": d.Family, "name": d.Name}
}

// Source is where the value under a key (as read_from names it) stands. When
// the file says that it was read from elsewhere, that comes first.
func (d *Device) Source(key string, at y.Spot) fact.Source {
	s := fact.Source{Kind: fact.DeviceFile, File: d.File, Line: at.Line, Column: at.Column}
	keys := []string{key}
	if head, _, nested := strings.Cut(key, "."); nested {
		keys = append(keys, head)
	}
	for _, k := range keys {
		if e, ok := d.ReadFrom.Get(k); ok {
			s.Via = e.Value.Text
			s.Kind = fact.Capture
			break
		}
	}
	return s
}

// Fact is a value of the file as a fact; ok is false when it is not given.
func (d *Device) Fact(about fact.Name, key string, t y.Text) (fact.Fact, bool) {
	if !t.Set() {
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
				return d.Fact(fact.Version, "slots", s.Main)
			}
		}
	}
	return fact.Fact{}, false
}
