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
	"fitcheck/core/fit/check"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

func edited(t *testing.T, text string, pairs ...string) string {
	t.Helper()
	for i := 0; i < len(pairs); i += 2 {
		require.Contains(t, text, pairs[i])
		text = strings.Replace(text, pairs[i], pairs[i+1], 1)
	}
	return text
}

// Of three sources one leaves the build open; the two others are held against each
// other, whichever of them it is.
func TestEverySourceIsHeldAgainstEveryOther(t *testing.T) {
	for _, c := range [][3]string{{"8.4.2", "8.4.2a", "8.4.2b"}, {"8.4.2a", "8.4.2", "8.4.2b"}, {"8.4.2a", "8.4.2b", "8.4.2"}, {"8.4.2a", "8.4.2a", "8.4.2b"}, {"8.4.2a", "8.4.2b", "8.4.2a"}, {"8.4.2b", "8.4.2a", "8.4.2a"}} {
		scene{
			want: Unsettled, check: "agreement/main", because: "on the version",
			rules:    []string{"order: [a, b, c, d]", "order: [a, b, c, build]", "(?P<d>[a-z])", "(?P<build>[a-z])", `^qm-(?P<version>[\d.]+)\.zip$`, `^qm-(?P<version>[\d.a-z]+)\.zip$`},
			files:    map[string]string{"a.img": string(uimage(arm, kernel, "QM-8T "+c[0], 900))},
			manifest: "[QM-8T]\nmain a.img " + c[1] + " revs=A1,A2\n", pkg: "qm-" + c[2] + ".zip",
		}.judge(t)
	}
}

// Of two images that suit the newer is taken only where both versions can be read.
func TestNewerOfTwoThatSuit(t *testing.T) {
	for second, want := range map[string]string{"8.4.1": "agreement.newer_chosen", "fresh": "agreement.rivals"} {
		v := scene{
			rules: []string{`^qm-(?P<version>[\d.]+)\.zip$`, `^bundle\.zip$`}, pkg: "bundle.zip",
			files:    map[string]string{"b.img": string(uimage(arm, kernel, "QM-8T "+second, 900))},
			manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nmain b.img " + second + " revs=A1,A2\n",
		}.run(t)
		var codes []string
		for _, c := range find(v, "agreement/main") {
			codes = append(codes, c.Code)
		}
		assert.Contains(t, codes, want, "%s\n%s", second, dump(v))
	}
}

// The sides of a misfit are those of the checksum that does not hold.
func TestTheBrokenChecksumIsShown(t *testing.T) {
	good := uimage(arm, kernel, "QM-8T 8.4.2", 900)
	for at, what := range map[int]string{100: "payload crc32", 40: "header crc32"} {
		v := scene{files: map[string]string{"a.img": flip(good, at)}}.run(t)
		c := find(v, "intact/main")[0]
		assert.True(t, strings.HasPrefix(c.Device, what+" "), c.Device)
		assert.True(t, strings.HasPrefix(c.Package, what+" "), c.Package)
		assert.NotEqual(t, c.Device, c.Package)
	}
	both := []byte(flip([]byte(flip(good, 100)), 40))
	c := find(scene{files: map[string]string{"a.img": string(both)}}.run(t), "intact/main")[0]
	assert.True(t, strings.HasPrefix(c.Device, "header crc32 "), "of two the first: %s", c.Device)
}

// Firmware that nothing assigns to a component is not taken for the main image
// because it lies in the package; a bare image is.
func TestStrayFirmware(t *testing.T) {
	other := string(uimage(arm, firmware, "QM-8T 8.4.2", 900))
	v := scene{manifest: "-", files: map[string]string{"a.img": "", "x.fw": other, "y.dat": "\x01\x02\x03"}}.run(t)
	assert.Equal(t, Misfit, v.Outcome, dump(v))
	assert.Empty(t, v.Members[0].Chosen)
	assert.Contains(t, find(v, "complete/main")[0].Because, "no main image")

	v = scene{pkg: "x.fw", bare: []byte(other)}.run(t)
	require.NotEmpty(t, v.Members[0].Chosen, dump(v))
	assert.Equal(t, "x.fw", v.Members[0].Chosen[0].Item)
	v = scene{pkg: "x.fw", bare: []byte("\x01\x02\x03")}.run(t)
	assert.NotEqual(t, Fits, v.Outcome)
	assert.NotEmpty(t, find(v, "intact/main"), "what it is asked about is looked at")
	v = scene{pkg: "x.txt", bare: []byte("notes\n")}.run(t)
	assert.Empty(t, v.Members[0].Chosen, "a text is no image")
}

// One image alone: what tells whether it is whole and for the hardware, and whether
// what is installed can start it; nothing of slots and of the way there.
func TestImageAlone(t *testing.T) {
	text := edited(t, testRules, "  - {version: 8.4.2, date: 2026-09-30, families: [tram-l2]}", "  - {version: 8.4.2, families: [tram-l2], withdrawn: \"it burns\"}")
	rb, err := rulebook.Read("rules.yaml", []byte(edited(t, text, "boards: [\"quillmere,qm8t-a\"], slot: 4KiB, memory: 256MiB}\n      B1", "boards: [\"quillmere,qm8t-a\"], slot: 100, memory: 256MiB}\n      B1")))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte(testDevice))
	require.NoError(t, err)
	file := filepath.Join(t.TempDir(), "qm-8.4.2.zip")
	require.NoError(t, os.WriteFile(file, scene{}.zip(t), 0o644))
	s, err := survey.Run(context.Background(), file, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
	require.NoError(t, err)
	checks, version, ok := Image(d, Only(rb), s, "qm-8.4.2.zip::a.img", "main", Options{})
	require.True(t, ok)
	assert.Equal(t, "8.4.2", version)
	got := map[string]Outcome{}
	for _, c := range checks {
		got[c.Check] = c.Outcome
		assert.NotEqual(t, NotApplicable, c.Outcome, c.Check)
	}
	assert.Equal(t, Fits, got["intact"])
	assert.Equal(t, Fits, got["model"])
	assert.Equal(t, Misfit, got["withdrawn"], "a withdrawn release is not pushed either")
	for _, name := range []string{"slot", "path", "complete", "room"} {
		assert.NotContains(t, got, name)
	}
	_, _, ok = Image(d, Only(rb), s, "qm-8.4.2.zip::nothing.img", "main", Options{})
	assert.False(t, ok)
}

// An image that is put on alone is of a release for this hardware, and where that is
// not known it is not settled.
func TestImageAloneOfAReleaseForSomeRevisions(t *testing.T) {
	rules := edited(t, testRules, "{version: 8.4.2, date: 2026-09-30, families: [tram-l2]}", "{version: 8.4.2, families: [tram-l2], revisions: [B1]}")
	for revision, want := range map[string]string{"revision: A2\n": "path.not_for_it", "revision: B1\n": "", "": "path.revisions_open"} {
		rb, err := rulebook.Read("rules.yaml", []byte(rules))
		require.NoError(t, err)
		d, err := device.Read("d.yaml", []byte(edited(t, testDevice, "revision: A2\n", revision)))
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "qm-8.4.2.zip")
		require.NoError(t, os.WriteFile(file, scene{}.zip(t), 0o644))
		s, err := survey.Run(context.Background(), file, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
		require.NoError(t, err)
		checks, _, ok := Image(d, Only(rb), s, "qm-8.4.2.zip::a.img", "main", Options{})
		require.True(t, ok)
		code := ""
		for _, c := range checks {
			if c.Check == "path" {
				code = c.Code
				assert.GreaterOrEqual(t, len(c.Sources), 2)
			}
		}
		assert.Equal(t, want, code, "%q", revision)
	}
}

// Of three that must be alike, each is held against each: one without its build may be
// like either of two that differ.
func TestThreeOfWhichOneLeavesItsBuildOpen(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(`kind: rulebook
title: t
models: {Q1: {families: [f]}}
families: {f: {components: {a: {}, b: {}, c: {}, main: {}}, paired: [[a, b, c]]}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?:-(?P<build>\d+))?$', order: [a, b, build]}}
packages: [{file: '^p\.zip$', manifest: {item: '**/m.txt', form: lines, record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+)$'}, items: [{match: '**/*.x', component: main}]}]
hops: {upward: open}
`))
	require.NoError(t, err)
	for installed, want := range map[string]string{"b: '2.4-5', c: '2.4-6'": "paired.half_missing", "b: '2.4-5', c: '2.4-5'": "paired.build_unknown", "b: '2.4', c: '2.4'": "paired.one_version"} {
		d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: Q1\ninstalled: {a: '2.3', main: '2.3', "+installed+"}\n"))
		require.NoError(t, err)
		file := filepath.Join(t.TempDir(), "p.zip")
		require.NoError(t, os.WriteFile(file, scene{manifest: "a a.bin 2.4\n", files: map[string]string{"a.img": "", "a.bin": string(uimage(arm, kernel, "x", 300))}}.zip(t), 0o644))
		s, err := survey.Run(context.Background(), file, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
		require.NoError(t, err)
		v := Match(d, Only(rb), s, Options{})
		var codes []string
		for _, c := range find(v, "paired") {
			codes = append(codes, c.Code)
		}
		assert.Contains(t, codes, want, "%s\n%s", installed, dump(v))
	}
}

// A rulebook that lists no releases gives no dates: whether the entitlement covers one is
// not settled, and never passed over.
func TestEntitlementWithoutReleases(t *testing.T) {
	i, j := strings.Index(testRules, "releases:"), strings.Index(testRules, "hops:")
	rules := []string{testRules[i:j], ""}
	v := scene{rules: rules}.run(t)
	assert.Equal(t, Fits, v.Outcome, dump(v))
	v = scene{rules: rules, device: []string{"revision: A2\n", "revision: A2\nentitled_until: 2020-01-01\n"}}.run(t)
	assert.Equal(t, Unsettled, v.Outcome, dump(v))
	require.NotEmpty(t, find(v, "entitled"))
	assert.Equal(t, "entitled.no_date", find(v, "entitled")[0].Code)
}

// What is damaged completes nothing, and what nobody can order comes last.
func TestDamagedCompletesNothing(t *testing.T) {
	rb, err := rulebook.Read("vc.yaml", []byte(pairRules))
	require.NoError(t, err)
	d, err := device.Read("c.yaml", []byte("kind: device\nname: ctl\nmodel: VC-40\ninstalled: {loader: '2.2', system: '2.2'}\n"))
	require.NoError(t, err)
	broken := []byte(flip(half("VC-40 system 2.4"), 100))
	got := MatchAll(d, Only(rb), surveys(t, rb, map[string][]byte{"loader-2.4.bin": half("VC-40 loader 2.4"), "system-2.4.bin": broken}), Options{})
	assert.Len(t, got, 2, "each is judged for itself")
	for _, v := range got {
		assert.Equal(t, Misfit, v.Outcome)
	}

	a, b, c := &Verdict{scheme: rb.Scheme("loader"), Release: "2.4"}, &Verdict{scheme: rb.Scheme("loader"), Release: "2.3"}, &Verdict{scheme: rb.Scheme("loader"), Release: "new"}
	for _, o := range []struct {
		x, y *Verdict
		sign int
	}{{a, b, -1}, {b, a, 1}, {a, c, -1}, {c, a, 1}, {c, c, 0}, {a, a, 0}} {
		assert.Equal(t, o.sign, newer(o.x, o.y), "%s %s", o.x.Release, o.y.Release)
	}
}

// What the rulebook wants checked afterwards is told of what fits, once.
func TestChecksAfter(t *testing.T) {
	rules := []string{"{version: 8.4.2, date: 2026-09-30, families: [tram-l2]}", "{version: 8.4.2, families: [tram-l2], checks_after: [\"ping the depot\", \"ping the depot\", \"look at the lamp\"]}"}
	v := scene{rules: rules}.run(t)
	require.Equal(t, Fits, v.Outcome, dump(v))
	assert.Equal(t, []string{"ping the depot", "look at the lamp"}, v.Next)
	v = scene{rules: rules, device: []string{"revision: A2", "revision: B1"}}.run(t)
	require.Equal(t, Misfit, v.Outcome)
	assert.Empty(t, v.Next)
}

// A package serves a hop by what its images say, and by nothing else.
func TestServes(t *testing.T) {
	v := scene{}.run(t)
	for _, c := range []struct {
		member, release, family, component, version string
		want                                        bool
	}{
		{"cab", "8.4.2", "tram-l2", "main", "8.4.2", true},
		{"cab", "8.4.2", "", "main", "", true},
		{"cab", "9.0.0", "", "main", "8.4.2", true}, // the version of the image is what counts
		{"cab", "8.4.2", "", "main", "8.2.1", false},
		{"cab", "8.2.1", "", "main", "", false},
		{"cab", "8.4.2", "lantern", "main", "8.4.2", false},
		{"cab", "8.4.2", "", "boot", "8.4.2", false},
		{"other", "8.4.2", "", "main", "8.4.2", false},
	} {
		assert.Equal(t, c.want, v.Serves(c.member, c.release, c.family, c.component, c.version), "%v", c)
	}
	assert.True(t, v.StandsFor("cab", "8.4.2", "tram-l2"))
	assert.False(t, v.StandsFor("cab", "8.2.1", ""))
	assert.False(t, v.StandsFor("cab", "8.4.2", "lantern"))
	assert.False(t, v.StandsFor("other", "8.4.2", ""))
	v = scene{device: []string{"revision: A2", "revision: B1"}}.run(t)
	assert.False(t, v.Serves("cab", "8.4.2", "", "main", "8.4.2"), "it is for other hardware")
}

// A check that is not registered cannot be lost, and none is there twice.
func TestRegistry(t *testing.T) {
	assert.Panics(t, func() { check.Register(&check.Check{Name: "model", Order: 9999}) })
	assert.Panics(t, func() { check.Register(&check.Check{Name: "another", Order: check.Find("model").Order}) })
	assert.Panics(t, func() { check.Find("model").Code("excluded", Misfit, "", "", "") }, "two reasons of one name")
	assert.Panics(t, func() { check.Sort([]Check{{Check: "gone"}}) })
	all := []Check{{Check: "path"}, {Check: "intact"}, {Check: "model"}}
	assert.Len(t, check.Sort(all), 3)
	assert.Equal(t, "intact", all[0].Check)
	for i, c := range check.All() {
		assert.NotEmpty(t, c.Doc, c.Name)
		assert.NotEmpty(t, c.Codes, "%s gives no reason", c.Name)
		if i > 0 {
			assert.Less(t, check.All()[i-1].Order, c.Order)
		}
		for _, k := range c.Codes {
			assert.Same(t, k, check.Explain(k.Name))
			assert.NotEmpty(t, k.Doc, k.Name)
		}
	}
}
