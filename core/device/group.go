package device

import (
	"fmt"
	"strings"

	y "fitcheck/core/yamlfile"
)

// All lists the boxes that the file speaks of: the members of a group, each
// with what it inherits, or the device itself.
func (d *Device) All() []*Device {
	if len(d.Members) == 0 {
		return []*Device{d}
	}
	out := make([]*Device, len(d.Members))
	for i := range d.Members {
		m := &Device{File: d.File, Kind: d.Kind, Unit: d.Members[i], Managers: d.Managers}
		if !m.Name.Set() {
			m.Name = y.String{Text: fmt.Sprintf("%s member %d", d.Name.Text, i+1), Spot: m.Spot}
		}
		m.inherit(&d.Unit)
		out[i] = m
	}
	return out
}

// inherit fills what a member does not say with what holds for its group, and
// with it where that was read. Name and serial number are each box's own.
//
// In one piece: the keys that members take over, one after the other.
func (u *Unit) inherit(from *Unit) {
	own := *u
	text := func(to *y.String, t y.String) {
		if !to.Set() {
			*to = t
		}
	}
	text(&u.Model, from.Model)
	text(&u.Revision, from.Revision)
	text(&u.Arch, from.Arch)
	text(&u.Region, from.Region)
	text(&u.Platform, from.Platform)
	text(&u.Hypervisor, from.Hypervisor)
	text(&u.Family, from.Family)
	text(&u.State, from.State)
	text(&u.ManagedBy, from.ManagedBy)
	list := func(to *[]y.String, l []y.String) {
		if *to == nil {
			*to = l
		}
	}
	list(&u.Boards, from.Boards)
	list(&u.Features, from.Features)
	if u.Attached == nil {
		u.Attached = from.Attached
	}
	if u.Slots == nil {
		u.Slots = from.Slots
	}
	if !u.StorageFree.Set() {
		u.StorageFree = from.StorageFree
	}
	if !u.Memory.Set() {
		u.Memory = from.Memory
	}
	if !u.EntitledUntil.Set() {
		u.EntitledUntil = from.EntitledUntil
	}
	if u.Config == nil {
		u.Config = from.Config
	}
	if u.Entitled == nil {
		u.Entitled = from.Entitled
	}
	if u.Start == nil {
		u.Start = from.Start
	}
	if u.Job == nil {
		u.Job = from.Job
	}
	u.Installed = merged(u.Installed, from.Installed)
	u.Companions = merged(u.Companions, from.Companions)
	var inherited y.Map[y.String]
	for _, e := range from.ReadFrom.Entries {
		head, _, _ := strings.Cut(e.Key, ".")
		whole := head != "installed" && head != "companions" // mappings are inherited key by key
		if e.Key != "name" && e.Key != "serial" && !own.has(e.Key) && !(whole && own.has(head)) {
			inherited.Entries = append(inherited.Entries, e)
		}
	}
	u.ReadFrom = merged(u.ReadFrom, inherited)
}

// merged joins two mappings; the keys of the first come first and hold.
func merged(a, b y.Map[y.String]) y.Map[y.String] {
	out := y.Map[y.String]{Entries: append([]*y.Entry[y.String](nil), a.Entries...)}
	for _, e := range b.Entries {
		if _, ok := a.Get(e.Key); !ok {
			out.Entries = append(out.Entries, e)
		}
	}
	return out
}
