// Package device reads device files: what is known of one device, each value
// with the place it was read from.
package device

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"fitcheck/core/fact"
	"fitcheck/core/spelling"
	y "fitcheck/core/yamlfile"
)

// Device is one device file: a box of its own, or a group of them. What is not
// known is left out.
type Device struct {
	File string

	Kind y.String `yaml:"kind" enum:"device"`
	Unit
	Group   y.String `yaml:"group" enum:"stack,cluster,chassis"`
	Uniform bool     `yaml:"uniform" doc:"all members must run one version"`
	Members []Unit   `yaml:"members" doc:"each inherits what it does not say"`

	// Managers are the devices that managed_by names, by that name, as far as they
	// were found; whoever opens the file looks for them.
	Managers map[string]*Device
}

// Manager is the device that fetches, stores and installs for this one; nil where it has
// none, or none of that name was found.
func (d *Device) Manager() *Device { return d.Managers[d.ManagedBy.Text] }

// ManagerNames lists the names that the file and its members give as managers.
func (d *Device) ManagerNames() []string {
	var out []string
	for _, box := range d.All() {
		if t := box.ManagedBy; t.Set() && !slices.Contains(out, t.Text) {
			out = append(out, t.Text)
		}
	}
	return out
}

// Unit is what is known of one box. Of a group, it is what holds for every
// member that does not say otherwise.
type Unit struct {
	y.Spot
	Name          y.String        `yaml:"name" doc:"what your inventory calls it"`
	Model         y.String        `yaml:"model"`
	Revision      y.String        `yaml:"revision" doc:"hardware revision, as on the label"`
	Serial        y.String        `yaml:"serial"`
	Arch          y.String        `yaml:"arch" doc:"processor architecture: arm, arm64, mips, x86_64 …"`
	Boards        []y.String      `yaml:"boards" doc:"board identifiers that the device reports"`
	Region        y.String        `yaml:"region"`
	Platform      y.String        `yaml:"platform" enum:"physical,virtual"`
	Hypervisor    y.String        `yaml:"hypervisor" doc:"what a virtual device runs on"`
	Family        y.String        `yaml:"family" doc:"image family that it runs"`
	Features      []y.String      `yaml:"features" doc:"licences or feature sets it is entitled to or runs"`
	Installed     y.Map[y.String] `yaml:"installed" doc:"component to version"`
	Slots         []Slot          `yaml:"slots"`
	StorageFree   y.Size          `yaml:"storage_free"`
	Memory        y.Size          `yaml:"memory"`
	Companions    y.Map[y.String] `yaml:"companions" doc:"systems whose version is tied to this one's"`
	Attached      []Attached      `yaml:"attached" doc:"models that take their firmware from it, or must keep working with it"`
	EntitledUntil y.Date          `yaml:"entitled_until"`
	Entitled      *Entitled       `yaml:"entitled" doc:"to which releases the device is entitled, by their dates"`
	Config        *Config         `yaml:"config"`
	State         y.String        `yaml:"state" enum:"running,boot-loader,silent"`
	Address       y.String        `yaml:"address" doc:"on its network, with the length of the prefix: 192.0.2.7/24; of a group, the one that moves with its master"`
	ManagedBy     y.String        `yaml:"managed_by" doc:"the device that fetches, stores and installs for this one"`
	Joining       bool            `yaml:"joining" doc:"a member that is to be let in: it is brought to the group's version first, alone"`
	NotTogether   []y.String      `yaml:"not_together" doc:"devices that must not be without service at the same time"`
	Start         *Start          `yaml:"start"`
	Files         []StoredFile    `yaml:"files" doc:"images that are stored on the device"`
	Job           *Job            `yaml:"job" doc:"what the device is working on, and how the last work ended"`
	Faults        []y.String      `yaml:"faults" doc:"what the device reports to be wrong with it"`
	ReadFrom      y.Map[y.String] `yaml:"read_from" doc:"key of this file to where its value was read"`
}

// Slot is a place for a main image.
type Slot struct {
	y.Spot
	Name   y.String `yaml:"name"`
	Main   y.String `yaml:"main"`
	Active bool     `yaml:"active"`
	Next   bool     `yaml:"next" doc:"what starts after a restart, where that is not the active one"`
	// Others are the versions of further components that it holds.
	Others y.Map[y.String] `yaml:",rest"`
}

// Version is what it holds of a component.
func (s *Slot) Version(component string) (y.String, bool) {
	if component == "main" {
		return s.Main, s.Main.Set()
	}
	if e, ok := s.Others.Get(component); ok {
		return e.Value, true
	}
	return y.String{}, false
}

// Entitled is what a device is entitled to: releases of some days.
type Entitled struct {
	y.Spot
	From   y.Date `yaml:"from"`
	Until  y.Date `yaml:"until"`
	Active *bool  `yaml:"active" doc:"false: it is bought, and not put to use"`
}

// Attached is something that takes its firmware from the device, or must keep working with
// it: a bare model, or what more is known of it.
type Attached struct {
	y.Spot
	Name   y.String `yaml:"name"`
	Model  y.String `yaml:"model"`
	Serial y.String `yaml:"serial"`
	Main   y.String `yaml:"main" doc:"the version that it runs"`
}

// FromScalar reads a bare model.
func (a *Attached) FromScalar(text string, at y.Spot) error {
	a.Spot = at
	return a.Model.ReadScalar(text, at)
}

// Label names it for people: "mast-3 (VR-310)".
func (a *Attached) Label() string {
	if a.Name.Set() {
		return fmt.Sprintf("%s (%s)", a.Name.Text, a.Model.Text)
	}
	return a.Model.Text
}

// AttachedModels are the models of what is attached, one for each.
func (u *Unit) AttachedModels() []y.String {
	if u.Attached == nil {
		return nil
	}
	out := []y.String{}
	for _, a := range u.Attached {
		out = append(out, a.Model)
	}
	return out
}

// Start says whether the choice of what starts next outlives a restart.
type Start struct {
	y.Spot
	Saved *bool `yaml:"saved" doc:"the choice of what starts next is stored"`
}

// StoredFile is an image in the device's storage.
type StoredFile struct {
	y.Spot
	File      y.String `yaml:"file"`
	Component y.String `yaml:"component"`
	Version   y.String `yaml:"version"`
	Size      y.Size   `yaml:"size"`
	MD5       y.String `yaml:"md5"`
	Next      bool     `yaml:"next" doc:"it starts after a restart"`
}

// Job is a piece of work of the device.
type Job struct {
	y.Spot
	State   y.String `yaml:"state" enum:"idle,scheduled,running,done,failed"`
	Percent y.String `yaml:"percent"`
	Reason  y.String `yaml:"reason" doc:"in the device's words"`
}

// JobStates are those that a job can have.
var JobStates = []string{"idle", "scheduled", "running", "done", "failed"}

// Config is how the device's settings stand.
type Config struct {
	y.Spot
	Saved    *bool  `yaml:"saved" doc:"the running settings are saved on the device"`
	BackedUp y.Date `yaml:"backed_up" doc:"day of the last backup off the device"`
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
	d.Check(fail)
	if len(errs) > 0 {
		slices.SortStableFunc(errs, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
		return nil, errs
	}
	return d, nil
}

// Check finds what is wrong with a device beyond its keys and types.
func (d *Device) Check(fail func(at y.Spot, message, advice string)) {
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
		return
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
		{"boards", len(u.Boards)}, {"features", len(u.Features)}, {"attached", len(u.Attached)}, {"slots", len(u.Slots)}, {"files", len(u.Files)}, {"faults", len(u.Faults)}, {"not_together", len(u.NotTogether)},
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
	checkEntitled(u, fail)
	checkJob(u, fail)
	if a := u.Address; a.Set() {
		if _, err := netip.ParsePrefix(a.Text); err != nil {
			if _, err := netip.ParseAddr(a.Text); err != nil {
				fail(a.Spot, fmt.Sprintf("%q is not an address", a.Text), "write it with the length of its prefix, as in 192.0.2.7/24")
			}
		}
	}
	for _, a := range u.Attached {
		if !a.Model.Set() {
			fail(a.Spot, "what is attached needs its model", "add model:")
		}
	}
	for _, f := range u.Files {
		if !f.File.Set() {
			fail(f.Spot, "a stored file needs its name", "add file:")
		}
	}
	checkSlots(u, fail)
	for _, e := range u.ReadFrom.Entries {
		if !u.has(e.Key) {
			fail(e.Spot, fmt.Sprintf("read_from speaks of %q, which this file does not give", e.Key), "write the key as in installed.main, or take the line out")
		}
	}
}

// checkEntitled tells of an entitlement that contradicts itself, and takes over its end.
func checkEntitled(u *Unit, fail func(at y.Spot, message, advice string)) {
	e := u.Entitled
	if e == nil {
		return
	}
	switch {
	case e.Until.Set() && u.EntitledUntil.Set() && !e.Until.Day.Equal(u.EntitledUntil.Day):
		fail(e.Until.Spot, fmt.Sprintf("entitled.until is %s, and entitled_until is %s", e.Until.Day.Format(time.DateOnly), u.EntitledUntil.Day.Format(time.DateOnly)), "write it once")
	case e.Until.Set():
		u.EntitledUntil = e.Until
	}
	if e.From.Set() && u.EntitledUntil.Set() && e.From.Day.After(u.EntitledUntil.Day) {
		fail(e.From.Spot, "the entitlement begins after it ends", "")
	}
}

func checkJob(u *Unit, fail func(at y.Spot, message, advice string)) {
	j := u.Job
	if j == nil {
		return
	}
	if j.State.Set() && !slices.Contains(JobStates, j.State.Text) {
		fail(j.State.Spot, fmt.Sprintf("the state of a job is one of %s, not %q", strings.Join(JobStates, ", "), j.State.Text), "")
	}
	if n, err := strconv.Atoi(j.Percent.Text); j.Percent.Set() && (err != nil || n < 0 || n > 100) {
		fail(j.Percent.Spot, fmt.Sprintf("percent is a number from 0 to 100, not %q", j.Percent.Text), "")
	}
}

func checkSlots(u *Unit, fail func(at y.Spot, message, advice string)) {
	names, active := map[string]bool{}, 0
	for _, s := range u.Slots {
		for _, e := range s.Others.Entries {
			if near := spelling.Nearest(e.Key, []string{"name", "active", "next"}); e.Value.Text == "true" || e.Value.Text == "false" {
				fail(e.Spot, fmt.Sprintf("there is no key %q here", e.Key), "a slot has name, active, next, and the versions of components; did you mean "+near+"?")
			}
		}
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
}

// has tells whether the file gives a value under a key as read_from names it.
func (u *Unit) has(key string) bool {
	if head, rest, nested := strings.Cut(key, "."); nested {
		of := hasNested[head]
		return of != nil && of(u, rest)
	}
	if of := hasWhole[key]; of != nil {
		return of(u)
	}
	return u.texts()[key].Set()
}

// hasWhole tells, for keys that are no texts, whether the file gives them.
var hasWhole = map[string]func(u *Unit) bool{
	"storage_free":   func(u *Unit) bool { return u.StorageFree.Set() },
	"memory":         func(u *Unit) bool { return u.Memory.Set() },
	"entitled_until": func(u *Unit) bool { return u.EntitledUntil.Set() },
	"boards":         func(u *Unit) bool { return len(u.Boards) > 0 },
	"features":       func(u *Unit) bool { return len(u.Features) > 0 },
	"attached":       func(u *Unit) bool { return len(u.Attached) > 0 },
	"slots":          func(u *Unit) bool { return len(u.Slots) > 0 },
	"installed":      func(u *Unit) bool { return len(u.Installed.Entries) > 0 },
	"companions":     func(u *Unit) bool { return len(u.Companions.Entries) > 0 },
	"config":         func(u *Unit) bool { return u.Config != nil },
	"start":          func(u *Unit) bool { return u.Start != nil },
	"entitled":       func(u *Unit) bool { return u.Entitled != nil },
	"job":            func(u *Unit) bool { return u.Job != nil },
	"files":          func(u *Unit) bool { return len(u.Files) > 0 },
	"faults":         func(u *Unit) bool { return len(u.Faults) > 0 },
	"not_together":   func(u *Unit) bool { return len(u.NotTogether) > 0 },
}

// hasNested tells the same of what is in a mapping or a list, by the key in front of the dot.
var hasNested = map[string]func(u *Unit, rest string) bool{
	"installed":  func(u *Unit, rest string) bool { _, ok := u.Installed.Get(rest); return ok },
	"companions": func(u *Unit, rest string) bool { _, ok := u.Companions.Get(rest); return ok },
	"slots": func(u *Unit, rest string) bool {
		return slices.ContainsFunc(u.Slots, func(s Slot) bool { return s.Name.Text == rest })
	},
	"files": func(u *Unit, rest string) bool {
		return slices.ContainsFunc(u.Files, func(f StoredFile) bool { return f.File.Text == rest })
	},
	"entitled": func(u *Unit, rest string) bool {
		return u.Entitled != nil && map[string]bool{"from": u.Entitled.From.Set(), "until": u.Entitled.Until.Set(), "active": u.Entitled.Active != nil}[rest]
	},
	"start": func(u *Unit, rest string) bool { return u.Start != nil && rest == "saved" && u.Start.Saved != nil },
	"job": func(u *Unit, rest string) bool {
		return u.Job != nil && map[string]bool{"state": u.Job.State.Set(), "percent": u.Job.Percent.Set(), "reason": u.Job.Reason.Set()}[rest]
	},
	"config": func(u *Unit, rest string) bool {
		return u.Config != nil && map[string]bool{"saved": u.Config.Saved != nil, "backed_up": u.Config.BackedUp.Set()}[rest]
	},
}

func (u *Unit) texts() map[string]y.String {
	return map[string]y.String{"model": u.Model, "revision": u.Revision, "serial": u.Serial, "arch": u.Arch, "state": u.State,
		"region": u.Region, "platform": u.Platform, "family": u.Family, "name": u.Name, "address": u.Address, "managed_by": u.ManagedBy, "hypervisor": u.Hypervisor}
}

// readFrom is what read_from says of a key, or of the mapping or list that
// the key is in.
func (u *Unit) readFrom(key string) string {
	if e, ok := u.ReadFrom.Get(key); ok {
		return e.Value.Text
	}
	if key == "entitled_until" { // the same by another name
		key = "entitled.until"
		if e, ok := u.ReadFrom.Get(key); ok {
			return e.Value.Text
		}
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
	if text := d.readFrom(key); text != "" {
		from, _ := ReadFrom(text)
		s.Via, s.Kind = from.Origin(), from.Kind
	}
	return s
}

// Fact is a value of the file as a fact; ok is false when it is not given or
// only guessed.
func (d *Device) Fact(about fact.Name, key string, t y.String) (f fact.Fact, ok bool) {
	if _, guessed := d.Guessed(key); guessed || !t.Set() {
		return fact.Fact{}, false
	}
	return fact.Fact{About: about, Value: t.Text, Source: d.Source(key, t.Spot)}, true
}

// Facts are the values of a list as facts.
func (d *Device) Facts(about fact.Name, key string, list []y.String) []fact.Fact {
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
