package device

import (
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	y "fitcheck/core/yamlfile"
)

// shared are the keys that a member takes over from its group, each as the group and as the member may give it.
var shared = map[string][2]string{
	"model":          {"TR-1", "TR-2"},
	"revision":       {"A1", "A2"},
	"arch":           {"arm", "mips"},
	"region":         {"eu", "us"},
	"platform":       {"virtual", "physical"},
	"hypervisor":     {"kvm", "xen"},
	"family":         {"f", "g"},
	"state":          {"silent", "running"},
	"managed_by":     {"keeper", "other"},
	"boards":         {"[a, b]", "[c]"},
	"features":       {"[stacking]", "[routing]"},
	"attached":       {"[TR-9]", "[TR-8]"},
	"slots":          {"[{name: A, main: '1.0', active: true}]", "[{name: B, main: '2.0'}]"},
	"storage_free":   {"20MiB", "5MiB"},
	"memory":         {"64MiB", "32MiB"},
	"entitled_until": {"2026-12-01", "2026-11-01"},
	"entitled":       {"{from: 2026-01-01}", "{until: 2026-11-01}"},
	"config":         {"{backed_up: 2026-09-01}", "{backed_up: 2026-08-01}"},
	"start":          {"{saved: true}", "{saved: false}"},
	"job":            {"{state: running, percent: 5}", "{state: idle}"},
	"installed":      {"{main: '1.0'}", "{main: '2.0'}"},
	"companions":     {"{mesh: '3'}", "{mesh: '4'}"},
}

// A member has what its group says, unless it says otherwise itself; who it is it says itself.
func TestMembersTakeOverTheirGroup(t *testing.T) {
	for key, values := range shared {
		head := "kind: device\nname: stack\ngroup: stack\n" + key + ": " + values[0] + "\n"
		read := "read_from: {" + key + ": capture.txt:3, name: capture.txt:1}\n"
		d, err := Read("d.yaml", []byte(head+read+"members:\n  - {name: one, serial: S1}\n  - {name: two, serial: S2, "+key+": "+values[1]+"}\n"))
		require.NoError(t, err, key)
		alone := func(value string) string {
			u, err := Read("d.yaml", []byte("kind: device\nname: alone\n"+key+": "+value+"\n"))
			require.NoError(t, err, key)
			return shown(&u.Unit, key)
		}
		all := d.All()
		require.Len(t, all, 2, key)
		one, two := &all[0].Unit, &all[1].Unit
		assert.Equal(t, alone(values[0]), shown(one, key), "%s of the group", key)
		assert.Equal(t, alone(values[1]), shown(two, key), "%s of its own", key)
		assert.NotEqual(t, shown(one, key), shown(two, key), key)
		from, ok := one.ReadFrom.Get(key)
		if assert.True(t, ok, "%s was read from where the group says", key) {
			assert.Equal(t, "capture.txt:3", from.Value.Text)
		}
		if _, ok := two.ReadFrom.Get(key); key != "installed" && key != "companions" {
			assert.False(t, ok, "%s of its own was not read there", key)
		}
		_, ok = one.ReadFrom.Get("name")
		assert.False(t, ok, "a member's name is its own")
		assert.Equal(t, "S1", one.Serial.Text)
	}
}

// Mappings are taken over key by key, and so is where they were read.
func TestMembersTakeOverKeys(t *testing.T) {
	d, err := Read("d.yaml", []byte("kind: device\nname: stack\ngroup: stack\ninstalled: {main: '1.0', boot: '3.1'}\nread_from: {installed.main: c.txt:3, installed.boot: c.txt:4}\n"+
		"members:\n  - {name: one, installed: {boot: '3.2'}, read_from: {installed.boot: c.txt:9}}\n  - {name: two}\n"))
	require.NoError(t, err)
	for i, want := range []map[string]string{{"installed.main": "c.txt:3", "installed.boot": "c.txt:9"}, {"installed.main": "c.txt:3", "installed.boot": "c.txt:4"}} {
		m := d.All()[i]
		got := map[string]string{}
		for _, e := range m.ReadFrom.Entries {
			got[e.Key] = e.Value.Text
		}
		assert.Equal(t, want, got, m.Name.Text)
		main, ok := m.Installed.Get("main")
		require.True(t, ok)
		assert.Equal(t, "1.0", main.Value.Text)
	}
}

// shown tells what a unit has for a key, without the places in its file.
func shown(u *Unit, key string) string {
	v := reflect.ValueOf(*u)
	for i := range v.NumField() {
		if name, _, _ := strings.Cut(v.Type().Field(i).Tag.Get("yaml"), ","); name == key {
			return leaves(v.Field(i))
		}
	}
	return "no such key"
}

// leaves lists what a value holds, but for the places in its file.
func leaves(v reflect.Value) string {
	var out []string
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			out = append(out, leaves(v.Elem()))
		}
	case reflect.Slice:
		for i := range v.Len() {
			out = append(out, leaves(v.Index(i)))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).Type() != reflect.TypeFor[y.Spot]() {
				out = append(out, v.Type().Field(i).Name+" "+leaves(v.Field(i)))
			}
		}
	default:
		out = append(out, fmt.Sprint(v))
	}
	return strings.Join(out, "; ")
}

// States of entities are told by their numbers and by their names.
func TestStatesOfEntities(t *testing.T) {
	for text, want := range map[string]string{"disabled(2)": "disabled", "2": "disabled", "disabled": "disabled", "testing(4)": "testing", "4": "testing", "testing": "testing",
		"enabled(3)": "", "3": "", "enabled": "", "unknown(1)": "", "": "", "12": "", "24": ""} {
		assert.Equal(t, want, walkOper(text), text)
	}
	for text, want := range map[string]string{"chassis(3)": "chassis", "3": "chassis", "chassis": "chassis", "fan(7)": "fan", "7": "fan", "6": "power-supply", "99": "99"} {
		assert.Equal(t, want, walkClass(text), text)
	}
}
