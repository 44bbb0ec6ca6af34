package example

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/member"
)

// Line writes an example of a verdict: what decides of the device, the package, and what came.
func Line(d *device.Device, rules func(*device.Device) *member.Member, v *fit.Verdict, pkg string) string {
	var devices []string
	for _, b := range d.All() {
		devices = append(devices, keys(b, rules(b), len(d.Members) > 0))
	}
	dev := devices[0]
	if len(d.Members) > 0 {
		dev = fmt.Sprintf("{group: %s, uniform: %v, members: [%s]}", d.Group.Text, d.Uniform, strings.Join(devices, ", "))
	}
	return fmt.Sprintf("- {device: %s, package: %s, want: %s}", dev, quote(pkg), v.Outcome)
}

// keys are those of a box that decide, as a flow mapping. A value that is only guessed is left
// out, so that the example asks what the verdict was asked.
//
// In one piece: one pass over the lines of the text; its states share the place.
func keys(b *device.Device, m *member.Member, named bool) string {
	var out []string
	add := func(key, value string) {
		if value != "" {
			out = append(out, key+": "+quote(value))
		}
	}
	if named {
		add("name", b.Name.Text)
	}
	for _, n := range []fact.Name{fact.Model, fact.Revision, fact.Arch, fact.Region, fact.Platform, fact.Hypervisor, fact.Family} {
		if v := m.Value(n); v.Known() && v.Facts[0].Source.Kind != fact.Rulebook {
			add(string(n), v.First())
		}
	}
	list := func(key string, of map[string]string) {
		var names []string
		for k := range of {
			names = append(names, k)
		}
		slices.Sort(names)
		for i, k := range names {
			names[i] = k + ": " + quote(of[k])
		}
		if len(names) > 0 {
			out = append(out, key+": {"+strings.Join(names, ", ")+"}")
		}
	}
	installed, companions := map[string]string{}, map[string]string{}
	for _, c := range m.InstalledComponents() {
		if v := m.Installed(c); v.Known() {
			installed[c] = v.First()
		}
	}
	for _, e := range b.Companions.Entries {
		if v := m.Companion(e.Key); v.Known() {
			companions[e.Key] = v.First()
		}
	}
	list("installed", installed)
	list("companions", companions)
	var slots []string
	for _, s := range b.Slots {
		t := "name: " + quote(s.Name.Text)
		if s.Main.Set() {
			t += ", main: " + quote(s.Main.Text)
		}
		for _, o := range s.Others.Entries {
			t += ", " + o.Key + ": " + quote(o.Value.Text)
		}
		if s.Active {
			t += ", active: true"
		}
		slots = append(slots, "{"+t+"}")
	}
	if len(slots) > 0 {
		out = append(out, "slots: ["+strings.Join(slots, ", ")+"]")
	}
	var attached []string
	for _, t := range b.AttachedModels() {
		attached = append(attached, quote(t.Text))
	}
	if len(attached) > 0 {
		out = append(out, "attached: ["+strings.Join(attached, ", ")+"]")
	}
	if b.StorageFree.Set() {
		out = append(out, fmt.Sprintf("storage_free: %d", b.StorageFree.Bytes))
	}
	return "{" + strings.Join(out, ", ") + "}"
}

// quote writes a value so that YAML takes it as the text that it is.
func quote(t string) string { return "'" + strings.ReplaceAll(t, "'", "''") + "'" }

// Add puts an example into the text of a rulebook: below those that are there, else at the
// end. Nothing else changes. ok is false where its examples are written in a way that cannot
// be added to.
func Add(text, line string) (out string, ok bool) {
	return Insert(text, []string{"examples"}, []string{line})
}
