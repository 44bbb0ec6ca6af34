package rulebook

import (
	"fmt"
	"path"
	"slices"
	"strings"

	y "fitcheck/core/yamlfile"
)

// Install says how images of a line get onto a device: who fetches what from where, and how it
// comes to run them. A family may say otherwise than its rulebook.
type Install struct {
	y.Spot
	FetchedBy OneOf    `yaml:"fetched_by" doc:"device, manager, person (browser or stick) or maker; a list gives alternatives"`
	Fetches   y.String `yaml:"fetches" enum:"images,manifest,package,tree" doc:"what is asked of the server"`
	Root      y.String `yaml:"root" doc:"where on the server, as the device asks for it"`
	Strip     int      `yaml:"strip" doc:"leading folders of the archive that are left out of names on the server"`
	WrittenTo y.String `yaml:"written_to" enum:"slot,storage" doc:"where the image lands"`
	Members   y.String `yaml:"members" enum:"each,rolling,together" doc:"how the members of a group restart"`
	Restart   y.String `yaml:"restart" enum:"command,automatic" doc:"whether the device restarts by itself once it has installed"`
}

// OneOf is a text, or a list of alternatives, the usual one first.
type OneOf struct {
	y.Spot
	All []y.String
}

// FromScalar reads a single text.
func (o *OneOf) FromScalar(text string, at y.Spot) error {
	o.Spot, o.All = at, []y.String{{Text: text, Spot: at}}
	return nil
}

// List reads alternatives.
func (o *OneOf) List(at y.Spot) any {
	o.Spot = at
	return &o.All
}

// First is the usual one; "" where nothing is said.
func (o OneOf) First() string {
	if len(o.All) == 0 {
		return ""
	}
	return o.All[0].Text
}

// Has tells whether a text is one of them, in whatever case.
func (o OneOf) Has(text string) bool {
	return slices.ContainsFunc(o.All, func(t y.String) bool { return strings.EqualFold(t.Text, text) })
}

// What an install can be.
const (
	ByDevice  = "device"
	ByManager = "manager"
	ByPerson  = "person"
	ByMaker   = "maker"

	FetchesImages   = "images"
	FetchesManifest = "manifest"
	FetchesPackage  = "package"
	FetchesTree     = "tree"

	ToSlot    = "slot"
	ToStorage = "storage"

	MembersEach     = "each"
	MembersRolling  = "rolling"
	MembersTogether = "together"

	RestartsItself = "automatic"
)

// installs are what the keys of install may say.
var installs = map[string][]string{
	"fetched_by": {ByDevice, ByManager, ByPerson, ByMaker},
	"fetches":    {FetchesImages, FetchesManifest, FetchesPackage, FetchesTree},
	"written_to": {ToSlot, ToStorage},
	"members":    {MembersEach, MembersRolling, MembersTogether},
	"restart":    {"command", RestartsItself},
}

// Installing is what holds for a family: what it says itself, then what the rulebook says, then
// what is usual.
func (r *Rulebook) Installing(family string) Install {
	out := Install{}
	fill := func(from *Install) {
		if from == nil {
			return
		}
		if len(out.FetchedBy.All) == 0 {
			out.FetchedBy = from.FetchedBy
		}
		for _, k := range []struct{ to, from *y.String }{{&out.Fetches, &from.Fetches}, {&out.Root, &from.Root}, {&out.WrittenTo, &from.WrittenTo}, {&out.Members, &from.Members}, {&out.Restart, &from.Restart}} {
			if !k.to.Set() {
				*k.to = *k.from
			}
		}
		if out.Strip == 0 {
			out.Strip = from.Strip
		}
		if out.Line == 0 {
			out.Spot = from.Spot
		}
	}
	if f, ok := r.Family(family); ok {
		fill(f.Install)
	}
	if r != nil {
		fill(r.Install)
	}
	for _, k := range []struct {
		to    *y.String
		usual string
	}{{&out.Members, MembersEach}, {&out.Restart, "command"}} {
		if !k.to.Set() {
			k.to.Text = k.usual
		}
	}
	if len(out.FetchedBy.All) == 0 {
		out.FetchedBy.All = []y.String{{Text: ByDevice}}
	}
	return out
}

// Stores tells whether an image lies on the storage before it is installed. Where nothing is
// said of where images are written to, one that has a slot goes straight into it; a manager
// stores whatever it hands on.
func (i Install) Stores(intoSlot, managed bool) bool {
	switch {
	case managed || i.WrittenTo.Text == ToStorage:
		return true
	case i.WrittenTo.Text == ToSlot:
		return false
	}
	return !intoSlot
}

// Rolling says that the members of a group go through all steps one after the other.
func (i Install) Rolling() bool { return i.Members.Text == MembersRolling }

// Automatic says that the device restarts by itself.
func (i Install) Automatic() bool { return i.Restart.Text == RestartsItself }

func (c *checker) installs() {
	one := func(i *Install) {
		if i == nil {
			return
		}
		check := func(key string, t y.String) {
			if t.Set() && !slices.Contains(installs[key], t.Text) {
				c.fail(t.Spot, fmt.Sprintf("install.%s is one of %s, not %q", key, strings.Join(installs[key], ", "), t.Text), "")
			}
		}
		for _, t := range i.FetchedBy.All {
			check("fetched_by", t)
		}
		check("fetches", i.Fetches)
		check("written_to", i.WrittenTo)
		check("members", i.Members)
		check("restart", i.Restart)
		if i.Strip < 0 {
			c.fail(i.Spot, "install.strip cannot be negative", "")
		}
		if i.Root.Set() && slices.Contains(strings.Split(i.Root.Text, "/"), "..") {
			c.fail(i.Root.Spot, "install.root leads out of the server's folder", "write the path as the device asks for it, as in /images")
		}
		if i.Fetches.Text == FetchesImages || i.Fetches.Text == FetchesManifest || i.Fetches.Text == FetchesTree {
			for _, p := range c.r.Packages {
				if p.Handling.Text == "whole" {
					c.fail(i.Fetches.Spot, fmt.Sprintf("the package in line %d must be served whole, and fetches: %s takes it apart", p.Handling.Line, i.Fetches.Text), "write fetches: package, or correct handling:")
				}
			}
		}
	}
	one(c.r.Install)
	for _, e := range c.r.Families.Entries {
		one(e.Value.Install)
	}
}

// Under is the name under which a file of an archive lies on the server: without the folders
// that are stripped, below the root.
func (i Install) Under(name string) string {
	parts := strings.Split(strings.TrimPrefix(name, "/"), "/")
	parts = parts[min(i.Strip, len(parts)-1):]
	return strings.TrimPrefix(path.Join("/", i.Root.Text, strings.Join(parts, "/")), "/")
}
