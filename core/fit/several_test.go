package fit

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// surveys are single images, each a package of its own.
func surveys(t *testing.T, rb *rulebook.Rulebook, files map[string][]byte) []*survey.Survey {
	t.Helper()
	var out []*survey.Survey
	dir := t.TempDir()
	for name, data := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o644))
		s, err := survey.Run(context.Background(), filepath.Join(dir, name), survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
		require.NoError(t, err)
		out = append(out, s)
	}
	return out
}

const pairRules = `kind: rulebook
title: Velloway
models: {VC-40: {families: [baton], arch: mips}, VR-9: {families: [wave], arch: mips}}
families:
  baton: {components: {loader: {title: x}, system: {title: y}}, paired: [[loader, system]]}
  wave: {components: {main: {title: x}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
packages:
  - {file: '^loader-(?P<version>[\d.]+)\.bin$', components: [loader], items: [{match: '*.bin', component: loader, title: '^(?P<model>V\S+) loader (?P<version>\S+)$'}]}
  - {file: '^system-(?P<version>[\d.]+)\.bin$', components: [system], items: [{match: '*.bin', component: system, title: '^(?P<model>V\S+) system (?P<version>\S+)$'}]}
releases:
  - {version: '2.4', families: [baton], brings: {loader: '2.4', system: '2.4'}}
  - {version: '2.3', families: [baton], brings: {loader: '2.3', system: '2.3'}}
hops: {upward: open, downward: closed}
`

func half(title string) []byte { return uimage(mips, kernel, title, 300) }

func TestPackagesThatCompleteEachOther(t *testing.T) {
	rb, err := rulebook.Read("vc.yaml", []byte(pairRules))
	require.NoError(t, err)
	d, err := device.Read("c.yaml", []byte("kind: device\nname: ctl\nmodel: VC-40\ninstalled: {loader: '2.2', system: '2.2'}\n"))
	require.NoError(t, err)
	match := func(files map[string][]byte) []*Verdict {
		all := MatchAll(d, Only(rb), surveys(t, rb, files), Options{Cache: NewCache()})
		for _, v := range all {
			record("packages that complete each other", v)
		}
		return all
	}
	names := func(all []*Verdict) (out []string) {
		for _, v := range all {
			out = append(out, string(v.Outcome)+" "+v.Package)
		}
		return out
	}
	oldLoader, loader, system := half("VC-40 loader 2.3"), half("VC-40 loader 2.4"), half("VC-40 system 2.4")

	got := match(map[string][]byte{"loader-2.4.bin": loader, "system-2.4.bin": system})
	require.Len(t, got, 1, "%v", names(got))
	assert.Equal(t, Fits, got[0].Outcome, dump(got[0]))
	assert.Contains(t, strings.Join(got[0].Notes, " "), "2 packages were judged together as one set")
	assert.Len(t, got[0].Members[0].Chosen, 2)

	got = match(map[string][]byte{"loader-2.3.bin": oldLoader, "system-2.4.bin": system})
	require.Len(t, got, 1, "%v", names(got))
	assert.Equal(t, Misfit, got[0].Outcome)
	assert.Contains(t, find(got[0], "paired")[0].Because, "would differ")

	got = match(map[string][]byte{"loader-2.3.bin": oldLoader, "loader-2.4.bin": loader, "system-2.4.bin": system})
	require.Len(t, got, 2, "%v", names(got))
	assert.Equal(t, Fits, got[0].Outcome, "the right half is found among two")
	assert.NotContains(t, got[0].Package, "2.3")
	assert.Equal(t, "misfit loader-2.3.bin", names(got)[1])

	got = match(map[string][]byte{"loader-2.4.bin": loader})
	assert.Equal(t, Misfit, got[0].Outcome)
	assert.NotContains(t, strings.Join(got[0].Notes, " "), "judged together", "one is no set")
	got = match(map[string][]byte{"loader-2.4.bin": loader, "system-2.4.bin": half("VR-9 system 2.4")})
	assert.Len(t, got, 2, "what is for another model completes nothing: %v", names(got))
	for _, v := range got {
		assert.Equal(t, Misfit, v.Outcome)
	}

	other, err := device.Read("r.yaml", []byte("kind: device\nname: radio\nmodel: VR-9\ninstalled: {main: '1.0'}\n"))
	require.NoError(t, err)
	v := MatchAll(other, Only(rb), surveys(t, rb, map[string][]byte{"loader-2.4.bin": loader}), Options{})[0]
	record("a package for other components", v)
	assert.Equal(t, Misfit, v.Outcome, "a package that brings nothing for the device never fits it")
	assert.Contains(t, find(v, "complete")[0].Because, "has no such component")
}

func TestTheBestComesFirst(t *testing.T) {
	rb, err := rulebook.Read("qm.yaml", []byte(strings.Replace(testRules, "  QM-24T:\n", "  QM-24T:\n    also: [QM24T]\n", 1)))
	require.NoError(t, err)
	d, err := device.Read("cab.yaml", []byte(strings.NewReplacer("QM-8T", "QM-24T", "A2", "A1", "main: 8.2.1", "main: 8.1.0").Replace(testDevice)))
	require.NoError(t, err)
	got := MatchAll(d, Only(rb), surveys(t, rb, map[string][]byte{
		"QM24T_8.2.1.img": uimage(arm, kernel, "QM-24T 8.2.1", 400), "QM24T_8.4.2.img": uimage(arm, kernel, "QM-24T 8.4.2", 400), "QM8T_8.4.2.img": uimage(arm, kernel, "QM-8T 8.4.2", 400),
		"QM24T_8.4.7.img": uimage(arm, kernel, "QM-24T 8.4.7", 400), "QM8T_8.2.1.img": uimage(arm64, kernel, "QM-8T 8.2.1", 400),
	}), Options{})
	var order []string
	for _, v := range got {
		order = append(order, string(v.Outcome)+" "+v.Package)
	}
	assert.Equal(t, []string{"fits QM24T_8.4.2.img", "fits QM24T_8.2.1.img", "unsettled QM24T_8.4.7.img", "misfit QM8T_8.4.2.img", "misfit QM8T_8.2.1.img"}, order,
		"what fits, the newer first; then what is not settled; then the one that comes nearest")
	got[3].Brief()
	for c := range got[3].All() {
		assert.Equal(t, Misfit, c.Outcome)
	}
	assert.NotEmpty(t, got[3].Deciding())
}

// A cache changes nothing about a verdict.
func TestCacheChangesNothing(t *testing.T) {
	rb, err := rulebook.Read("qm.yaml", []byte(testRules))
	require.NoError(t, err)
	all := surveys(t, rb, map[string][]byte{"QM8T_8.4.2.img": uimage(arm, kernel, "QM-8T 8.4.2", 400), "x.img": uimage(arm64, kernel, "QM-24T 8.4.2", 400), "bad.img": []byte(flip(uimage(arm, kernel, "QM-8T 8.4.2", 400), 90))})
	cache := NewCache()
	for range 2 {
		for _, rev := range []string{"A1", "A2", "B1", ""} {
			for _, model := range []string{"QM-8T", "QM-24T", "QM-9"} {
				d, err := device.Read("cab.yaml", []byte(strings.NewReplacer("QM-8T", model, "revision: A2\n", "revision: \""+rev+"x\"\n").Replace(testDevice)))
				require.NoError(t, err)
				for _, s := range all {
					assert.Equal(t, dump(Match(d, Only(rb), s, Options{})), dump(Match(d, Only(rb), s, Options{Cache: cache})))
				}
			}
		}
	}
}

func TestMoreOfTheDevice(t *testing.T) {
	add := func(line string) []string { return []string{"revision: A2", "revision: A2\n" + line} }
	scenes := []scene{
		{name: "something must be attached, and is", rules: need(`{attached: VR-310}`), device: add("attached: [VR-320, vr-310]"), want: Fits, check: "needs", because: "the device has VR-310 attached"},
		{name: "something must be attached, and is not", rules: need(`{attached: VR-310}`), device: add("attached: [VR-320]"), want: Misfit, check: "needs", because: "the device has VR-320"},
		{name: "what is attached is not known", rules: need(`{attached: VR-310}`), want: Unsettled, check: "needs", because: "is not known"},
		{name: "more to store than is free", device: append(add("storage_free: 100"), "slots: [{name: A, main: 8.2.1, active: true}, {name: B}]\n", ""), rules: []string{"main: {title: system image, slotted: true}", "main: {title: system image}"}, want: Misfit, check: "room", because: "it needs 964 bytes of free storage; 100 bytes is free"},
		{name: "what goes into a slot needs no room", device: add("storage_free: 100"), want: Fits},
		{name: "whole, it needs room as it is", device: add("storage_free: 100"), rules: []string{"    manifest:", "    handling: whole\n    manifest:"}, want: Misfit, check: "room", because: "100 bytes is free"},
		{name: "TFTP without block sizes", rules: []string{"hops:\n", "transfer: {protocol: tftp, blocksize: false}\nhops:\n"}, want: Fits, check: "transfer"},
		{name: "a name too long", rules: []string{"hops:\n", "transfer: {longest_name: 4}\nhops:\n"}, want: Misfit, check: "transfer", because: "has 5 characters, and the device takes at most 4"},
		{name: "a name with a blank", manifest: "-", bare: uimage(arm, kernel, "QM-8T 8.4.2", 900), pkg: "a b.img", rules: []string{"hops:\n", "transfer: {protocol: tftp}\nhops:\n"}, want: Misfit, check: "transfer", because: "cannot be transferred"},
		{name: "a guessed model", device: add(`read_from: {model: "cab.txt:3 (guess)"}`), want: Unsettled, check: "model/main", because: "is only guessed", afterward: func(t *testing.T, v *Verdict) {
			assert.Contains(t, find(v, "model/main")[0].Advice, "confirm it with fitcheck device -out cab.yaml -replace -set model=QM-8T")
			assert.Equal(t, "not known, guessed to be QM-8T", find(v, "model/main")[0].Device)
		}},
		{name: "a rulebook with a name it does not know", rules: []string{"    - {from: \"<8.0.0\"", "    - {models: [QM-8], from: \"8.2.1\", allow: false}\n    - {from: \"<8.0.0\""}, want: Unsettled, check: "path", because: "names the model QM-8, which the rulebook does not know", afterward: func(t *testing.T, v *Verdict) {
			assert.Contains(t, strings.Join(v.Notes, " "), "rulebook check")
		}},
		{name: "a compact version that two releases could be", pkg: "qm-842.zip", rules: []string{`(?P<version>[\d.]+)\.zip`, `(?P<version>\d+)\.zip`, "order: [a, b, c, d]}", "order: [a, b, c, d], compact: true}", "  - {version: 8.2.1,", "  - {version: 84.2.0, families: [tram-l2]}\n  - {version: 8.42.0, families: [tram-l2]}\n  - {version: 8.2.1,"}, want: Fits},
		{name: "a platform in a part of the name", pkg: "qm-8.4.2-virtual.zip", rules: []string{`[\d.]+)\.zip`, `[\d.]+)(?:-(?P<platform>virtual))?\.zip`}, device: add("platform: physical"), want: Unsettled, check: "platform/main", because: "a name proves nothing"},
	}
	for _, s := range scenes {
		t.Run(s.name, s.judge)
	}
}

func TestGroup(t *testing.T) {
	stack := func(members string) []string {
		return []string{"name: cab\nmodel: QM-8T\nrevision: A2\ninstalled: {boot: 3.1.4, main: 8.2.1}", "name: depot\nmodel: QM-8T\ninstalled: {boot: 3.1.4, main: 8.2.1}\ngroup: stack\nuniform: true\nmembers:\n" + members}
	}
	both := scene{device: stack("  - {name: one, revision: A1}\n  - {name: two, revision: B1}\n"), manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nmain b.img 8.4.2 revs=B1\n",
		files: map[string]string{"b.img": string(uimage(arm64, kernel, "QM-8T 8.4.2", 900))}}
	v := both.run(t)
	require.Equal(t, Fits, v.Outcome, dump(v))
	assert.Equal(t, "stack", v.Group)
	assert.Equal(t, []string{"qm-8.4.2.zip::a.img", "qm-8.4.2.zip::b.img"}, []string{v.Members[0].Chosen[0].Item, v.Members[1].Chosen[0].Item}, "to each its own")

	one := both
	one.manifest = "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n"
	v = one.run(t)
	assert.Equal(t, Misfit, v.Outcome, "the verdict of a group is the worst of its members'")
	assert.Equal(t, []Outcome{Fits, Misfit}, []Outcome{v.Members[0].Verdict, v.Members[1].Verdict})

	apart := both
	apart.manifest = "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nmain b.img 8.2.1 revs=B1\n"
	apart.files = map[string]string{"b.img": string(uimage(arm64, kernel, "QM-8T 8.2.1", 900))}
	apart.pkg = "qm.zip"
	v = apart.run(t)
	found := find(v, "uniform")
	require.Len(t, found, 1, dump(v))
	assert.Equal(t, Misfit, found[0].Outcome)
	assert.Contains(t, found[0].Because, "two would end at 8.2.1, and others at 8.4.2")
}
