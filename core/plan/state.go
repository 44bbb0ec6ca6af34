// Package plan turns a path into work: which packages carry its hops, which
// files a server must offer, which steps are taken in which order, what must be
// seen at each, and how a device that does not start is brought back.
package plan

import (
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// Rules finds the rulebook that knows a model; nil when none does.
type Rules func(model string) *rulebook.Rulebook

// After is the device file as it would read once some hops are made: versions,
// slots and family, each said to come from the plan.
func After(d *device.Device, rules Rules, hops []path.Hop) *device.Device {
	out := *d
	boxes := d.All()
	slots := make([]path.Slots, len(boxes))
	for i, b := range boxes {
		own := *b // a device of its own is its only box: it stays as it is
		b, boxes[i] = &own, &own
		b.Installed.Entries = slices.Clone(b.Installed.Entries)
		b.ReadFrom.Entries = slices.Clone(b.ReadFrom.Entries)
		b.Slots = slices.Clone(b.Slots)
		if rb := rules(b.Model.Text); rb != nil {
			slots[i] = path.NewSlots(path.NewBox(b, rb))
		}
	}
	for _, h := range hops {
		from := device.Planned + " release " + h.Release
		for i, b := range boxes {
			if len(h.Members) > 0 && !slices.Contains(h.Members, b.Name.Text) {
				continue
			}
			for _, c := range h.Components {
				if c.Member == "" || c.Member == b.Name.Text {
					install(&b.Unit, c.Component, c.To, from)
				}
			}
			if h.BootOnly {
				continue
			}
			if h.FromFamily != h.Family && len(h.Families) == 0 {
				b.Family = y.String{Text: h.Family, Spot: b.Name.Spot}
				set(&b.ReadFrom, "family", from, b.Name.Spot)
			}
			slots[i].Install(h.To)
			for k := range b.Slots {
				if slots[i].Active < 0 || k >= len(slots[i].Main) {
					continue
				}
				b.Slots[k].Active = k == slots[i].Active
				if slots[i].Main[k] != "" && b.Slots[k].Main.Text != slots[i].Main[k] {
					b.Slots[k].Main = y.String{Text: slots[i].Main[k], Spot: b.Slots[k].Spot}
					set(&b.ReadFrom, "slots."+b.Slots[k].Name.Text, from, b.Slots[k].Spot)
				}
			}
		}
	}
	if len(d.Members) == 0 {
		out.Unit = boxes[0].Unit
		return &out
	}
	out.Members = nil
	for _, b := range boxes {
		out.Members = append(out.Members, b.Unit)
	}
	return &out
}

func install(u *device.Unit, component, version, from string) {
	at := u.Name.Spot
	for i, e := range u.Installed.Entries {
		if e.Key == component {
			changed := *e
			changed.Value = y.String{Text: version, Spot: e.Value.Spot}
			u.Installed.Entries[i] = &changed
			set(&u.ReadFrom, "installed."+component, from, at)
			return
		}
	}
	u.Installed.Entries = append(u.Installed.Entries, &y.Entry[y.String]{Key: component, Spot: at, Value: y.String{Text: version, Spot: at}})
	set(&u.ReadFrom, "installed."+component, from, at)
}

func set(m *y.Map[y.String], key, text string, at y.Spot) {
	value := &y.Entry[y.String]{Key: key, Spot: at, Value: y.String{Text: text, Spot: at}}
	for i, e := range m.Entries {
		if e.Key == key {
			m.Entries[i] = value
			return
		}
	}
	m.Entries = append(m.Entries, value)
}

// familyOf is the image family of a box: as its file says, else the only one
// that its model may run.
func familyOf(b *device.Device, rules Rules) string {
	return path.NewBox(b, rules(b.Model.Text)).Family
}
