package plan

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/path"
	"fitcheck/core/rulebook"
)

const confirmRules = `kind: rulebook
title: t
models: {QM-8T: {also: [QM8T], families: [f]}, VR-9: {families: [f]}}
families: {f: {components: {boot: {optional: true}, main: {slotted: true}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?:-(?P<build>\d+))?$', order: [a, b]}}
releases: [{version: '8.2-4', families: [f]}, {version: '8.4-7', families: [f]}]
hops: {upward: open, rules: [{from: '*', to: '8.4-7', allow: true, resets_config: RESETS}]}
`

const confirmDevice = `kind: device
name: cab
model: QM-8T
revision: A2
serial: '0417'
installed: {main: '8.2-4', boot: '1.1'}
attached: [VR-1, VR-1, VR-2]
slots: [{name: A, main: '8.2-4', active: true}, {name: B, main: '8.1-1'}]
`

// confirmed holds what was seen, in lines of KEY VALUE, against the plan for 8.4-7. A
// value that ends in ? is a guess.
func confirmed(t *testing.T, device_, resets string, seen ...string) *Confirmation {
	t.Helper()
	rb, err := rulebook.Read("r.yaml", []byte(strings.Replace(confirmRules, "RESETS", resets, 1)))
	require.NoError(t, err)
	rules := func(string) *rulebook.Rulebook { return rb }
	d, err := device.Read("d.yaml", []byte(device_))
	require.NoError(t, err)
	res, err := path.Find(path.Request{Device: d, Rules: rules, Goal: path.Goal{Version: "8.4-7"}})
	require.NoError(t, err)
	require.True(t, res.Found(), res.Unsettled())
	x := &Target{Name: d.File, Device: d, Rules: rules, Result: res}
	x.Steps = (&Shelf{Rules: rules}).Steps(d, x.Hops())
	after := &device.Draft{}
	lists := map[string]int{}
	for i, s := range seen {
		key, value, _ := strings.Cut(s, " ")
		value, guess := strings.CutSuffix(value, "?")
		v := device.Value{Key: key, Text: value, At: fact.Source{Kind: fact.Capture, File: "c.txt", Line: i + 1}, Guess: guess}
		if at, ok := lists[key]; ok {
			after.Findings[at].Values = append(after.Findings[at].Values, v)
			continue
		}
		if key == "attached" {
			lists[key] = len(after.Findings)
		}
		after.Findings = append(after.Findings, device.Finding{Key: key, Values: []device.Value{v}})
	}
	return Confirm(x, after)
}

// said is the outcome of the reasons of a check.
func said(c *Confirmation, check string) (out []string) {
	for _, l := range append(append([]fit.Check(nil), c.Checks...), c.Members[0].Checks...) {
		if strings.HasPrefix(l.Code, check+".") {
			out = append(out, fmt.Sprintf("%s %s: %s", l.Outcome, strings.TrimPrefix(l.Code, check+"."), l.Because))
		}
	}
	return out
}

// Whose capture it is comes before what it says.
func TestWhoseCaptureItIs(t *testing.T) {
	const other = "misfit another_device: this is another device: the capture shows the "
	for name, c := range map[string]struct {
		resets string
		seen   []string
		want   string
		also   string
	}{
		"its serial number":                         {"false", []string{"serial 0417"}, "fits by_serial: the capture shows its serial number 0417", ""},
		"another serial number and its name":        {"false", []string{"serial 0418", "name cab"}, other + "serial number 0418, and the device file says 0417", ""},
		"its serial number under another name":      {"false", []string{"serial 0417", "name new"}, "fits by_serial: the capture shows its serial number 0417", "note renamed: the serial number is the device's, and it calls itself new"},
		"its serial number on another model":        {"false", []string{"serial 0417", "model VR-9"}, "fits by_serial: the capture shows its serial number 0417", "note described_otherwise: the serial number is the device's, and the capture shows the model VR-9, where the device file says QM-8T: one of the two is wrong"},
		"its serial number on another revision":     {"false", []string{"serial 0417", "model qm8t", "revision B1"}, "fits by_serial: the capture shows its serial number 0417", "note described_otherwise: the serial number is the device's, and the capture shows the revision B1, where the device file says A2: one of the two is wrong"},
		"a guessed serial number says nothing":      {"false", []string{"serial 0418?", "name cab"}, "fits by_name: the capture shows its name", ""},
		"its name":                                  {"false", []string{"name CAB", "model qm8t", "revision a2"}, "fits by_name: the capture shows its name, model, revision", ""},
		"its name on another model":                 {"false", []string{"name cab", "model VR-9"}, other + "model VR-9, and the device file says QM-8T", ""},
		"its name on another revision":              {"false", []string{"name cab", "revision B1"}, other + "revision B1, and the device file says A2", ""},
		"another name":                              {"false", []string{"name new", "model QM-8T"}, other + "name new, and the device file says cab", ""},
		"another name where the settings are gone":  {"true", []string{"name new", "model QM-8T"}, "unsettled name_reset: the capture shows the name new and not cab; the install resets the configuration, perhaps the name with it", ""},
		"another model where the settings are gone": {"true", []string{"name new", "model VR-9"}, other + "model VR-9, and the device file says QM-8T", ""},
		"neither": {"false", []string{"model QM-8T"}, "unsettled not_told: nothing in the captures tells which device it is: no serial number and no name; a QM-8T is not the only one of its model", ""},
	} {
		t.Run(name, func(t *testing.T) {
			got := said(confirmed(t, confirmDevice, c.resets, c.seen...), "identity")
			require.NotEmpty(t, got)
			assert.Equal(t, c.want, got[0])
			if c.also != "" {
				require.Len(t, got, 2)
				assert.Equal(t, c.also, got[1])
			} else {
				assert.Len(t, got, 1)
			}
		})
	}
	without := strings.Replace(confirmDevice, "serial: '0417'\n", "", 1)
	assert.Equal(t, []string{"fits by_name: the capture shows its name"}, said(confirmed(t, without, "false", "serial 0418", "name cab"), "identity"), "there is no serial number to compare")
}

// Versions, slots and what is attached are as planned only where the captures say so.
func TestAsPlanned(t *testing.T) {
	all := []string{"serial 0417", "installed.main 8.4-7", "installed.boot 1.1", "slots.B.active true", "slots.B.main 8.4-7", "slots.A.main 8.2-4", "attached VR-1", "attached VR-1", "attached VR-2", "config.saved true"}
	c := confirmed(t, confirmDevice, "false", all...)
	assert.Equal(t, fit.Fits, c.Verdict, "%+v", c.Members[0].Checks)
	for _, l := range c.Members[0].Checks {
		assert.NotEmpty(t, l.Sources, l.Code)
		assert.NotEmpty(t, l.Device, l.Code)
		assert.NotEmpty(t, l.Package, l.Code)
	}
	assert.Equal(t, []string{"fits back: 2 × VR-1 is back", "fits back: VR-2 is back"}, said(c, "attached"))
	for name, x := range map[string]struct {
		old, new string // of what was seen; "" takes it out
		verdict  fit.Outcome
		check    string
		want     string
	}{
		"another version":           {"installed.main 8.4-7", "installed.main 8.2-4", fit.Unsettled, "version", "unsettled contradicted"},
		"another build":             {"installed.boot 1.1", "installed.boot 1.0", fit.Misfit, "version", "misfit not_as_planned"},
		"no build":                  {"8.4-7", "8.4", fit.Unsettled, "version", "unsettled build_not_told"},
		"a version nobody can read": {"installed.boot 1.1", "installed.boot none", fit.Misfit, "version", "misfit not_as_planned"},
		"a guessed version":         {"installed.boot 1.1", "installed.boot 1.1?", fit.Unsettled, "version", "unsettled not_told"},
		"the main one by the slot":  {"installed.main 8.4-7", "", fit.Fits, "version", "fits as_planned"},
		"another slot":              {"slots.B.active true", "slots.A.active true", fit.Misfit, "slot", "misfit other_active"},
		"no slot":                   {"slots.B.active true", "", fit.Unsettled, "slot", "unsettled active_not_told"},
		"the way back is kept":      {"slots.A.main 8.2-4", "slots.A.main 8.2-4", fit.Fits, "slot", "fits holds_way_back"},
		"the way back, no build":    {"slots.A.main 8.2-4", "slots.A.main 8.2", fit.Unsettled, "slot", "unsettled build_not_told"},
		"the way back is another":   {"slots.A.main 8.2-4", "slots.A.main 8.2-5", fit.Misfit, "slot", "misfit not_as_planned"},
		"the way back is broken":    {"slots.A.main 8.2-4", "slots.A.main corrupt", fit.Misfit, "slot", "misfit not_as_planned"},
		"one of two is gone":        {"attached VR-1", "", fit.Misfit, "attached", "misfit not_back: of 2 VR-1 only 1 came back"},
		"the only one is gone":      {"attached VR-2", "", fit.Misfit, "attached", "misfit not_back: VR-2 is not among what is attached"},
		"unsaved settings":          {"config.saved true", "config.saved false", fit.Misfit, "settings", "misfit not_saved"},
		"nothing of the settings":   {"config.saved true", "", fit.Fits, "settings", "note not_told"},
	} {
		t.Run(name, func(t *testing.T) {
			var seen []string
			done := false
			for _, s := range all {
				if strings.Contains(s, x.old) && (!done || x.old == "8.4-7") {
					done = true
					if x.new == "" {
						continue
					}
					s = strings.Replace(s, x.old, x.new, 1)
				}
				seen = append(seen, s)
			}
			c := confirmed(t, confirmDevice, "false", seen...)
			got := said(c, x.check)
			assert.Equal(t, x.verdict, c.Verdict, got)
			found := false
			for _, l := range got {
				found = found || strings.HasPrefix(l, x.want)
			}
			assert.True(t, found, "%q not in %q", x.want, got)
		})
	}
}

// Members of which one leaves its build open are not known to run one version; two
// whose builds differ do not, whoever comes first.
func TestMembersAtOneVersion(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(strings.Replace(confirmRules, "RESETS", "false", 1)))
	require.NoError(t, err)
	rules := func(string) *rulebook.Rulebook { return rb }
	d, err := device.Read("d.yaml", []byte("kind: device\nname: st\ngroup: stack\nuniform: true\nmodel: QM-8T\nmembers: [{name: a, installed: {main: '8.2-4', boot: '1.1'}}, {name: b, installed: {main: '8.2-4', boot: '1.1'}}, {name: c, installed: {main: '8.2-4', boot: '1.1'}}]\n"))
	require.NoError(t, err)
	res, err := path.Find(path.Request{Device: d, Rules: rules, Goal: path.Goal{Version: "8.4-7"}})
	require.NoError(t, err)
	x := &Target{Name: d.File, Device: d, Rules: rules, Result: res}
	x.Steps = (&Shelf{Rules: rules}).Steps(d, x.Hops())
	for seen, want := range map[[3]string]string{{"8.4-7", "8.4-7", "8.4-7"}: "uniform.runs_one_version", {"8.4", "8.4-7", "8.4-7"}: "uniform.not_told", {"8.4", "8.4-7", "8.4-6"}: "uniform.runs_several", {"8.4-7", "8.4-7", ""}: "uniform.not_told"} {
		after := &device.Draft{}
		for i, name := range []string{"a", "b", "c"} {
			after.Members = append(after.Members, name)
			if seen[i] != "" {
				after.Findings = append(after.Findings, device.Finding{Member: name, Key: "installed.main", Values: []device.Value{{Member: name, Key: "installed.main", Text: seen[i], At: fact.Source{Kind: fact.Capture, File: "c.txt", Line: 1}}}})
			}
		}
		var codes []string
		for _, l := range Confirm(x, after).Checks {
			codes = append(codes, l.Code)
			for _, s := range l.Sources {
				assert.NotContains(t, []string{"a", "b", "c"}, s.Source.File, "a member is no place")
			}
		}
		assert.Equal(t, []string{want}, codes, "%v", seen)
	}
}
