package fit

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/fit/check"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

const testRules = `kind: rulebook
title: Quillmere
models:
  QM-8T:
    also: [QM8T]
    families: [tram-l2]
    revisions:
      A1: {arch: arm,   boards: ["quillmere,qm8t-a"], slot: 4KiB, memory: 256MiB}
      A2: {arch: arm,   boards: ["quillmere,qm8t-a"], slot: 4KiB, memory: 256MiB}
      B1: {arch: arm64, boards: ["quillmere,qm8t-b"], slot: 4KiB, memory: 256MiB}
  QM-24T:
    families: [tram-l2]
    revisions: {A1: {arch: arm, boards: ["quillmere,qm24t-a"], slot: 4KiB}}
  QM-2T: {families: [tram-l2], arch: mipsel, slot: 4KiB}
  VR-210: {}
  VR-310: {}
families:
  tram-l2:
    components:
      boot: {title: boot loader, optional: true}
      main: {title: system image, slotted: true}
versions:
  default: {pattern: '^v?(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)(?P<d>[a-z])?$', order: [a, b, c, d]}
packages:
  - title: bundle
    file: '^qm-(?P<version>[\d.]+)\.zip$'
    manifest: {item: '**/m.txt', form: lines, heading: '^\[(?P<models>[^\]]+)\]$',
               record: '^(?P<component>\w+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs=(?P<revisions>\S+))?(?:\s+boards=(?P<boards>\S+))?(?:\s+arch=(?P<arch>\S+))?(?:\s+fam=(?P<family>\S+))?(?:\s+region=(?P<region>\S+))?(?:\s+plat=(?P<platform>\S+))?(?:\s+feat=(?P<feature>\S+))?(?:\s+hyp=(?P<hypervisor>\S+))?(?:\s+sha256=(?P<sha256>\S+))?$'}
    items:
      - {match: '**/*.boot', component: boot}
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
  - title: single
    file: '^(?P<model>QM\w+)_(?P<version>[\d.]+)\.img$'
    items:
      - {match: '**/*.img', component: main, title: '^(?P<model>QM-\w+) (?P<version>\S+)$'}
releases:
  - {version: 8.4.2, date: 2026-09-30, families: [tram-l2]}
  - {version: 8.2.1, families: [tram-l2]}
  - {version: 9.0.0, families: [lantern]}
hops:
  upward: open
  downward: closed
  rules:
    - {from: "<8.0.0", to: ">=8.2.0", allow: false, why: "the settings store changes"}
`

const testDevice = `kind: device
name: cab
model: QM-8T
revision: A2
installed: {boot: 3.1.4, main: 8.2.1}
slots: [{name: A, main: 8.2.1, active: true}, {name: B}]
`

// uimage builds a U-Boot legacy image with right checksums.
func uimage(arch, kind byte, title string, size int) []byte {
	payload := bytes.Repeat([]byte(title+"."), size/(len(title)+1)+1)[:size]
	h := make([]byte, 64)
	binary.BigEndian.PutUint32(h[0:], 0x27051956)
	binary.BigEndian.PutUint32(h[12:], uint32(size))
	binary.BigEndian.PutUint32(h[24:], crc32.ChecksumIEEE(payload))
	h[28], h[29], h[30] = 5, arch, kind
	copy(h[32:], title)
	binary.BigEndian.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

const (
	arm, mips, arm64 = 2, 5, 22
	kernel, firmware = 2, 5
)

// scene is one match; what is left out is a clean fit.
type scene struct {
	name     string
	rules    []string          // pairs old, new applied to testRules
	device   []string          // the same for testDevice
	manifest string            // of the package; "-" for none
	files    map[string]string // of the package, added or replaced; "" takes one out
	pkg      string            // its file name
	bare     []byte            // the package is this file instead of a zip
	options  Options
	expect   string // -digest
	keys     survey.Keys
	unpacked bool // the package is a folder

	want      Outcome
	check     string // "revision" or "revision/boot"
	because   string // in the Because of that check
	mustNot   string // a check that must not be among misfit and unsettled
	noRules   bool
	afterward func(t *testing.T, v *Verdict)
}

func replaced(t testing.TB, text string, pairs []string) string {
	for i := 0; i+1 < len(pairs); i += 2 {
		if t != nil {
			require.Contains(t, text, pairs[i])
		}
		text = strings.ReplaceAll(text, pairs[i], pairs[i+1])
	}
	return text
}

func (s scene) run(t *testing.T) *Verdict {
	t.Helper()
	d, err := device.Read("cab.yaml", []byte(replaced(t, testDevice, s.device)))
	require.NoError(t, err)
	var rb *rulebook.Rulebook
	o := survey.Options{Limits: archive.DefaultLimits(), Keys: s.keys}
	if !s.noRules {
		rb, err = rulebook.Read("qm.yaml", []byte(replaced(t, testRules, s.rules)))
		require.NoError(t, err)
		o.Rulebooks = []*rulebook.Rulebook{rb}
	}
	if s.expect != "" {
		sum, err := digest.Parse(s.expect)
		require.NoError(t, err)
		o.Expect = []survey.Expected{{Sum: sum, Source: fact.Source{Kind: fact.Command, File: "-digest"}}}
	}
	if s.pkg == "" {
		s.pkg = "qm-8.4.2.zip"
	}
	path := filepath.Join(t.TempDir(), s.pkg)
	data := s.bare
	if data == nil {
		data = s.zip(t)
	}
	require.NoError(t, os.WriteFile(path, data, 0o644))
	if s.unpacked {
		path = unzipped(t, data)
	}
	sv, err := survey.Run(context.Background(), path, o)
	require.NoError(t, err)
	v := Match(d, Only(rb), sv, s.options)
	record(s.name, v)
	return v
}

func (s scene) zip(t testing.TB) []byte {
	files := map[string]string{
		"m.txt":  "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n",
		"a.img":  string(uimage(arm, kernel, "QM-8T 8.4.2", 900)),
		"l.boot": string(uimage(arm, firmware, "loader", 300)),
	}
	delete(files, "l.boot")
	switch s.manifest {
	case "":
	case "-":
		delete(files, "m.txt")
	default:
		files["m.txt"] = s.manifest
	}
	for name, data := range s.files {
		if data == "" {
			delete(files, name)
		} else {
			files[name] = data
		}
	}
	return zipped(t, files)
}

func zipped(t testing.TB, files map[string]string) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range slices.Sorted(maps.Keys(files)) {
		e, err := w.Create(n)
		require.NoError(t, err)
		_, err = e.Write([]byte(files[n]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// unzipped writes a package out as a folder.
func unzipped(t testing.TB, data []byte) string {
	dir := t.TempDir()
	r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	require.NoError(t, os.CopyFS(dir, r))
	return dir
}

func find(v *Verdict, check string) []Check {
	name, component, _ := strings.Cut(check, "/")
	var out []Check
	for _, c := range v.checks() {
		if c.Check == name && (component == "" || c.Component == component) {
			out = append(out, c)
		}
	}
	return out
}

func (s scene) judge(t *testing.T) {
	t.Helper()
	v := s.run(t)
	assert.Equal(t, s.want, v.Outcome, "%s", dump(v))
	if s.check != "" {
		found := false
		for _, c := range find(v, s.check) {
			found = found || strings.Contains(c.Because, s.because) && (s.want == Fits || c.Outcome == s.want)
		}
		assert.True(t, found, "no %s check with outcome %s because %q in\n%s", s.check, s.want, s.because, dump(v))
	}
	if s.mustNot != "" {
		for _, c := range find(v, s.mustNot) {
			assert.NotContains(t, []Outcome{Misfit, Unsettled}, c.Outcome, "%s", dump(v))
		}
	}
	if v.Outcome == Fits {
		assert.True(t, restsOn(v), "it rests on nothing: %s", dump(v))
	}
	// Whatever comes out: a reason, a source, and advice where it is needed.
	for _, c := range v.checks() {
		if c.Outcome == NotApplicable {
			continue
		}
		assert.NotEmpty(t, c.Because, c.Check)
		assert.NotEmpty(t, c.Sources, c.Check)
		if c.Outcome == Misfit || c.Outcome == Unsettled {
			assert.NotEmpty(t, c.Advice, "%s: %s", c.Check, c.Because)
		}
		for _, x := range c.Sources {
			assert.NotEmpty(t, x.Source.Where(), "%s %s", c.Check, x.Side)
		}
	}
	if s.afterward != nil {
		s.afterward(t, v)
	}
}

// restsOn tells whether something that was looked at fits each member.
func restsOn(v *Verdict) bool {
	for _, m := range v.Members {
		if !slices.ContainsFunc(m.Checks, func(c Check) bool { return c.Outcome == Fits && check.Find(c.Check).Hardware }) {
			return false
		}
	}
	return len(v.Members) > 0
}

// Whatever a file is, and whatever is known of the device: nothing fits of which nothing was
// looked at.
func TestNothingFitsForNothing(t *testing.T) {
	contents := map[string]string{
		"a boot loader": string(uimage(arm, firmware, "QM-8T 3.1.4", 300)), "a kernel": string(uimage(arm, kernel, "QM-8T 8.4.2", 300)), "a script": string(uimage(arm, 6, "QM-8T 8.4.2", 300)), "a RAM disk": string(uimage(arm, 3, "QM-8T 8.4.2", 300)),
		"a text": "words\n", "nothing": "", "zeros": strings.Repeat("\x00", 4096), "noise": strings.Repeat("\x8f\x13q", 900), "a page": "<html>sign in</html>", "an empty archive": string(zipped(t, nil)),
	}
	boot := []byte(contents["a boot loader"])
	boot[28], boot[4], boot[5], boot[6], boot[7] = 17, 0, 0, 0, 0 // of the boot loader itself
	binary.BigEndian.PutUint32(boot[4:], crc32.ChecksumIEEE(boot[:64]))
	contents["U-Boot"] = string(boot)
	fits := 0
	for name, content := range contents {
		for _, s := range []scene{{noRules: true}, {}} {
			for _, model := range []string{"model: QM-8T", "model: VX-1", "serial: x"} {
				for _, packed := range []bool{false, true} {
					s.device, s.bare, s.pkg = []string{"model: QM-8T", model}, []byte(content), "x.img"
					if packed {
						s.bare, s.pkg = zipped(t, map[string]string{"x.img": content}), "qm-8.4.2.zip"
					}
					s.name = ""
					if s.noRules && model == "model: QM-8T" && !packed {
						s.name = name + ", without a rulebook"
					}
					v := s.run(t)
					if v.Outcome == Fits {
						fits++
						assert.True(t, restsOn(v), "%s, %s: %s", name, model, dump(v))
					}
				}
			}
		}
	}
	assert.Zero(t, fits, "none of these says which revision it is for")
}

func (v *Verdict) checks() []Check {
	var out []Check
	for c := range v.All() {
		out = append(out, *c)
	}
	return out
}

func dump(v *Verdict) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s\n", v.Outcome)
	for _, c := range v.checks() {
		fmt.Fprintf(&b, "  %-10s %-10s %-5s %s\n", c.Outcome, c.Check, c.Component, c.Because)
	}
	return b.String()
}

const sum = "%x  %s\n"

func sums(name, data string) string { return fmt.Sprintf(sum, sha256.Sum256([]byte(data)), name) }

// flip returns an image with one bit of it changed.
func flip(img []byte, at int) string {
	out := bytes.Clone(img)
	out[at] ^= 0x10
	return string(out)
}

func TestMatch(t *testing.T) {
	good := uimage(arm, kernel, "QM-8T 8.4.2", 900)
	untitled := uimage(arm, kernel, "system", 900)
	scenes := []scene{
		{name: "clean fit", want: Fits, check: "revision/main", because: "the image is for A1, A2 (manifest)", afterward: func(t *testing.T, v *Verdict) {
			got := v.Members[0].Chosen[0]
			require.Len(t, got.Coverage, 2, "header and payload")
			assert.Equal(t, "checksum", v.Weakest.By.String())
			got.Coverage = nil
			assert.Equal(t, Chosen{"main", "qm-8.4.2.zip::a.img", "", "8.4.2", "B", nil, got.From}, got)
			assert.Equal(t, "8.4.2", v.Release)
		}},

		// intact
		{name: "flipped payload", files: map[string]string{"a.img": flip(good, 100)}, want: Misfit, check: "intact/main", because: "payload crc32"},
		{name: "flipped header", files: map[string]string{"a.img": flip(good, 40)}, want: Misfit, check: "intact/main", because: "header crc32"},
		{name: "flipped magic", files: map[string]string{"a.img": flip(good, 0)}, want: Misfit, check: "intact/main", because: "header crc32"},
		{name: "cut image", files: map[string]string{"a.img": string(good[:500])}, want: Misfit, check: "intact/main", because: "truncated"},
		{name: "page in place of the image", files: map[string]string{"a.img": "<html><body>sign in</body></html>"}, want: Misfit, check: "intact/main", because: "not firmware"},
		{name: "empty image", files: map[string]string{"a.img": "\x00"}, want: Misfit, check: "intact/main", because: "not firmware"},
		{name: "unknown format", files: map[string]string{"a.img": "\x01\x02\x03\x04"}, want: Unsettled, check: "intact/main", because: "no checksum"},
		{name: "unknown format with a digest", files: map[string]string{"a.img": "\x01\x02\x03\x04", "SUMS": sums("a.img", "\x01\x02\x03\x04")},
			manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 arch=arm\n", rules: []string{`(?:\s+boards=`, `(?:\s+b=`}, want: Fits, check: "intact/main", because: "nobody looked inside; sha256 in"},
		{name: "damage of another device's image", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n[QM-24T]\nmain b.img 8.4.2\n",
			files: map[string]string{"b.img": flip(uimage(arm, kernel, "QM-24T 8.4.2", 900), 200)}, want: Unsettled, check: "intact", because: "not the image chosen here"},

		// digest
		{name: "digest holds", files: map[string]string{"SUMS": sums("a.img", string(good))}, want: Fits, check: "digest/main", because: "is the published one"},
		{name: "digest differs", files: map[string]string{"SUMS": sums("a.img", "other")}, want: Misfit, check: "digest/main", because: "is not the one"},
		{name: "list leaves the image out", files: map[string]string{"SUMS": sums("m.txt", "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n")}, want: Unsettled, check: "digest/main", because: "does not list"},
		{name: "list expected and absent", rules: []string{"  - title: single", "    checksums: '**/*.sha256'\n  - title: single"}, want: Unsettled, check: "digest/main", because: "there is none"},
		{name: "published digest of the package differs", expect: "sha256:" + strings.Repeat("0", 64), want: Misfit, check: "digest/main", because: "not the one published in -digest"},

		// complete
		{name: "listed and missing", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nboot x.boot 3.2.0 revs=A2\n", want: Misfit, check: "complete/boot", because: "not in the package"},
		{name: "missing for others", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nboot x.boot 3.2.0 revs=B1\n", want: Fits, check: "complete/boot", because: "for other devices"},
		{name: "missing, revision not known", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nboot x.boot 3.2.0 revs=B1\n", device: []string{"revision: A2\n", ""}, want: Unsettled, check: "complete/boot", because: "may be for this device"},
		{name: "line that nothing reads", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n??\n", want: Unsettled, check: "complete", because: "line 3"},
		{name: "no main image", manifest: "[QM-8T]\nboot l.boot 3.2.0\n", files: map[string]string{"a.img": "", "l.boot": string(uimage(arm, firmware, "loader", 300))}, want: Misfit, check: "complete/main", because: "no main image"},
		{name: "manifest expected and absent", manifest: "-", want: Unsettled, check: "complete", because: "expects a manifest"},
		{name: "not listed", files: map[string]string{"z.img": string(uimage(arm, kernel, "QM-24T 8.4.2", 100))}, want: Fits, check: "complete", because: "does not list it"},
		{name: "optional component for other devices", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nboot l.boot 3.2.0 revs=B1\n", files: map[string]string{"l.boot": string(uimage(arm64, firmware, "loader", 300))}, want: Fits, check: "complete/boot", because: "for other devices only"},

		// agreement
		{name: "name against manifest on the version", pkg: "qm-8.2.1.zip", device: []string{"main: 8.2.1}", "main: 8.1.0}"}, want: Unsettled, check: "agreement/main", because: "on the version"},
		{name: "manifest against header on the model", manifest: "[QM-24T]\nmain a.img 8.4.2 revs=A1,A2\n", want: Unsettled, check: "agreement/main", because: "on the model"},
		{name: "one file with two versions", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1\nmain a.img 8.2.1 revs=A2\n", want: Unsettled, check: "agreement/main", because: "on the version"},
		{name: "board against manifest", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 boards=quillmere,qm24t-a\n", want: Misfit, check: "board/main", because: "qm24t-a"},
		{name: "rulebook says the release brings another version", rules: []string{"families: [tram-l2]}\n  - {version: 8.2.1", "families: [tram-l2], brings: {boot: 3.2.0}}\n  - {version: 8.2.1"},
			manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nboot l.boot 3.1.9 revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}, want: Unsettled, check: "agreement/boot", because: "release 8.4.2 says 3.2.0"},

		// model
		{name: "other spelling", device: []string{"model: QM-8T", "model: qm8t"}, want: Fits, check: "model/main", because: "the image is for QM-8T"},
		{name: "other model", manifest: "[QM-24T]\nmain a.img 8.4.2 revs=A1,A2\n", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-24T 8.4.2", 900))}, want: Misfit, check: "model/main", because: "QM-24T"},
		{name: "model by name only", pkg: "QM8T_8.4.2.img", bare: untitled, want: Unsettled, check: "model/main", because: "a name proves nothing"},
		{name: "model not known", device: []string{"model: QM-8T\n", ""}, noRules: true, want: Unsettled, check: "model", because: "nothing in the package"},
		{name: "unprotected header does not outdo the manifest", want: Misfit, files: map[string]string{"a.img": flip(uimage(arm, kernel, "QM-8T 8.4.2", 900), 36)}, check: "intact/main"},

		// revision
		{name: "other revision", device: []string{"revision: A2", "revision: B1"}, want: Misfit, check: "revision/main", because: "the image is for A1, A2 (manifest)"},
		{name: "range of revisions", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1-A2\n", want: Fits, check: "revision/main"},
		{name: "range that leaves it out", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2-B1\n", device: []string{"revision: A2", "revision: A1"}, want: Misfit, check: "revision/main"},
		{name: "revision not said, revisions differ", manifest: "[QM-8T]\nmain a.img 8.4.2\n", want: Unsettled, check: "revision/main", because: "those of QM-8T differ"},
		{name: "revision not said, revisions alike", manifest: "[QM-24T]\nmain a.img 8.4.2\n", device: []string{"model: QM-8T", "model: QM-24T", "A2", "A1"}, files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-24T 8.4.2", 900))}, want: Fits, check: "revision/main", because: "share architecture"},
		{name: "revision of the device not known", device: []string{"revision: A2\n", ""}, want: Unsettled, check: "revision/main", because: "not known"},
		{name: "revision by board", manifest: "[QM-8T]\nmain a.img 8.4.2 boards=quillmere,qm8t-a\n", want: Fits, check: "revision/main", because: "is for the board"},
		{name: "other revision by board", manifest: "[QM-8T]\nmain a.img 8.4.2 boards=quillmere,qm8t-b\n", want: Misfit, check: "revision/main", because: "QM-8T B1"},
		{name: "no two records are mixed into one", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1\n[QM-24T]\nmain a.img 8.4.2 revs=A2\n", files: map[string]string{"a.img": string(untitled)}, want: Misfit, check: "revision/main"},

		// arch
		{name: "other architecture", files: map[string]string{"a.img": string(uimage(arm64, kernel, "QM-8T 8.4.2", 900))}, want: Misfit, check: "arch/main", because: "arm64"},
		{name: "open byte order names nothing", manifest: "[QM-2T]\nmain a.img 8.4.2\n", device: []string{"model: QM-8T\nrevision: A2", "model: QM-2T"}, files: map[string]string{"a.img": string(uimage(mips, kernel, "QM-2T 8.4.2", 900))}, want: Fits, check: "arch/main", because: "a strong source names the hardware itself"},
		{name: "open byte order excludes others", files: map[string]string{"a.img": string(uimage(mips, kernel, "QM-8T 8.4.2", 900))}, want: Misfit, check: "arch/main"},
		{name: "device file against rulebook", device: []string{"revision: A2", "revision: A2\narch: arm64"}, want: Unsettled, check: "arch/main", because: "by the device file its arch is arm64; by the rulebook it is arm"},
		{name: "image against device file and rulebook", device: []string{"revision: A2", "revision: A2\narch: mips"}, files: map[string]string{"a.img": string(uimage(arm64, kernel, "QM-8T 8.4.2", 900))}, want: Misfit, check: "arch/main", because: "the device's architecture is mips against arm; the image is for arm64 (header)"},
		{name: "spelling of an architecture", device: []string{"revision: A2", "revision: A2\narch: armv7l"}, want: Fits, check: "arch/main"},

		// family, region, platform, feature
		{name: "other family", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2 fam=lantern\n", want: Misfit, check: "family/main", because: "lantern"},
		{name: "family by the release", manifest: "[QM-8T]\nmain a.img 9.0.0 revs=A2\n", pkg: "qm-9.0.0.zip", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-8T 9.0.0", 900))}, want: Misfit, check: "family/main", because: "lantern"},
		{name: "family crossing allowed", manifest: "[QM-8T]\nmain a.img 9.0.0 revs=A2\n", pkg: "qm-9.0.0.zip", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-8T 9.0.0", 900))},
			rules:  []string{"families: [tram-l2]\n    revisions:\n      A1: {arch: arm,   boards", "families: [tram-l2, lantern]\n    revisions:\n      A1: {arch: arm,   boards", "  rules:\n", "  rules:\n    - {from_family: tram-l2, to_family: lantern, allow: true}\n"},
			device: []string{"revision: A2", "revision: A2\nfamily: tram-l2"}, want: Fits, check: "family/main", because: "a rule allows"},
		{name: "family crossing not spoken of", manifest: "[QM-8T]\nmain a.img 9.0.0 revs=A2\n", pkg: "qm-9.0.0.zip", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-8T 9.0.0", 900))},
			rules:  []string{"families: [tram-l2]\n    revisions:\n      A1: {arch: arm,   boards", "families: [tram-l2, lantern]\n    revisions:\n      A1: {arch: arm,   boards"},
			device: []string{"revision: A2", "revision: A2\nfamily: tram-l2"}, want: Misfit, check: "path/main", because: "no rule allows the move from family"},
		{name: "region fits", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2 region=EU\n", device: []string{"revision: A2", "revision: A2\nregion: eu"}, want: Fits, check: "region/main", because: "the image is for"},
		{name: "region not known", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2 region=EU\n", want: Unsettled, check: "region/main"},
		{name: "virtual image", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2 plat=virtual\n", device: []string{"revision: A2", "revision: A2\nplatform: physical"}, want: Misfit, check: "platform/main"},
		{name: "feature", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2 feat=vpn\n", device: []string{"revision: A2", "revision: A2\nfeatures: [voice]"}, want: Misfit, check: "feature/main"},

		// withdrawn, path
		{name: "withdrawn", rules: []string{"{version: 8.4.2,", "{version: 8.4.2, withdrawn: uplinks flap,"}, want: Misfit, check: "withdrawn", because: "uplinks flap"},
		{name: "forbidden hop, with the stop between", device: []string{"main: 8.2.1", "main: 7.9.1"}, rules: []string{`to: ">=8.2.0"`, `to: ">=8.4.0"`}, want: Misfit, check: "path/main", because: "settings store", afterward: func(t *testing.T, v *Verdict) {
			assert.Contains(t, find(v, "path")[0].Advice, "by way of 8.2.1")
		}},
		{name: "downgrade", device: []string{"main: 8.2.1", "main: 8.5.0"}, want: Misfit, check: "path/main", because: "goes down"},
		{name: "listed moves only", rules: []string{"upward: open", "upward: listed"}, want: Misfit, check: "path/main", because: "only listed"},
		{name: "no policy", rules: []string{"  upward: open\n", ""}, want: Unsettled, check: "path/main", because: "does not say"},
		{name: "installed not known", device: []string{"installed: {boot: 3.1.4, main: 8.2.1}\n", "", "main: 8.2.1, ", ""}, want: Unsettled, check: "path/main", because: "not known"},
		{name: "release not listed", rules: []string{"{version: 8.4.2,", "{version: 8.4.3,"}, want: Unsettled, check: "path/main", because: "does not list"},
		{name: "release for another model", rules: []string{"{version: 8.4.2,", "{version: 8.4.2, models: [QM-24T],"}, want: Misfit, check: "path/main", because: "not for QM-8T"},
		{name: "release for other revisions", rules: []string{"{version: 8.4.2,", "{version: 8.4.2, revisions: [B1],"}, want: Misfit, check: "path/main", because: "not for QM-8T"},
		{name: "runs it already", device: []string{"main: 8.2.1", "main: 8.4.2"}, want: Fits, check: "version/main", because: "already runs", mustNot: "path"},
		{name: "version by the file name alone", pkg: "QM8T_8.4.2.img", bare: uimage(arm, kernel, "QM-8T board", 900), rules: []string{`title: '^(?P<model>QM-\w+) (?P<version>\S+)$'`, `title: '^(?P<model>QM-\w+) '`}, want: Unsettled, check: "path/main", because: "only the file name"},

		// needs
		{name: "need holds", rules: need(`{component: boot, within: ">=3.1.0"}`), want: Fits, check: "needs/boot", because: "is within"},
		{name: "need does not hold", rules: need(`{component: boot, within: ">=3.2.0"}`), want: Misfit, check: "needs/boot", because: "3.1.4 is installed"},
		{name: "need is brought first", rules: need(`{component: boot, within: ">=3.2.0"}`), manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nboot l.boot 3.2.0 revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}, want: Fits, check: "needs/boot", because: "installs it first"},
		{name: "need is brought damaged", rules: need(`{component: boot, within: ">=3.2.0"}`), manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nboot l.boot 3.2.0 revs=A2\n", files: map[string]string{"l.boot": flip(uimage(arm, firmware, "loader", 300), 70)}, want: Misfit, check: "needs/boot"},
		{name: "main does not bring itself", rules: need(`{component: main, within: ">=8.4.0"}`), want: Misfit, check: "needs/main"},
		{name: "need not known", rules: need(`{component: boot, within: ">=3.2.0"}`), device: []string{"boot: 3.1.4, ", ""}, want: Unsettled, check: "needs/boot"},
		{name: "companion holds", rules: need(`{companion: controller, within: ">=5.1"}`), device: []string{"revision: A2", "revision: A2\ncompanions: {controller: 5.1.0}"}, want: Fits, check: "needs", because: "controller 5.1.0"},
		{name: "companion too old", rules: need(`{companion: controller, within: ">=5.1"}`), device: []string{"revision: A2", "revision: A2\ncompanions: {controller: 5.0.9}"}, want: Misfit, check: "needs"},
		{name: "companion not known", rules: need(`{companion: controller, within: ">=5.1"}`), want: Unsettled, check: "needs"},
		{name: "storage", rules: need(`{storage_free: 120MiB}`), device: []string{"revision: A2", "revision: A2\nstorage_free: 100MiB"}, want: Misfit, check: "room"},
		{name: "storage not known", rules: need(`{storage_free: 120MiB}`), want: Unsettled, check: "room"},
		{name: "memory by the rulebook", rules: need(`{memory: 256MiB}`), want: Fits, check: "memory", because: "enough"},
		{name: "too little memory", rules: need(`{memory: 512MiB}`), want: Misfit, check: "memory"},
		{name: "feature needed", rules: need(`{feature: vpn}`), device: []string{"revision: A2", "revision: A2\nfeatures: [VPN]"}, want: Fits, check: "needs", because: "has the feature"},

		// slot
		{name: "too big for the slot", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-8T 8.4.2", 5000))}, want: Misfit, check: "slot/main", because: "a slot holds 4 KiB"},
		{name: "slot size not known", rules: []string{", slot: 4KiB, memory: 256MiB", ""}, want: Unsettled, check: "slot/main", because: "how large"},
		{name: "slots not known", device: []string{"slots: [{name: A, main: 8.2.1, active: true}, {name: B}]\n", ""}, want: Unsettled, check: "slot/main", because: "which slots"},
		{name: "active slot not known", device: []string{", active: true", ""}, want: Unsettled, check: "slot/main", because: "which slot is active"},
		{name: "one slot only", device: []string{", {name: B}", ""}, want: Fits, check: "version/main", because: "overwrites the running image"},

		// attached, entitled, paired, handling
		{name: "attached is dropped", rules: []string{"{version: 8.4.2,", "{version: 8.4.2, drops: [VR-210],"}, device: []string{"revision: A2", "revision: A2\nattached: [VR-310, vr-210]"}, want: Misfit, check: "attached", because: "vr-210 is attached"},
		{name: "entitlement ended", device: []string{"revision: A2", "revision: A2\nentitled_until: 2026-09-29"}, want: Misfit, check: "entitled"},
		{name: "entitled", device: []string{"revision: A2", "revision: A2\nentitled_until: 2026-09-30"}, want: Fits, check: "entitled"},
		{name: "entitled from and until", device: []string{"revision: A2", "revision: A2\nentitled: {from: 2026-09-30, until: 2026-09-30, active: true}"}, want: Fits, check: "entitled"},
		{name: "entitled later", device: []string{"revision: A2", "revision: A2\nentitled: {from: 2026-10-01, until: 2027-09-30}"}, want: Unsettled, check: "entitled", because: "began with 2026-10-01"},
		{name: "entitlement not put to use", device: []string{"revision: A2", "revision: A2\nentitled: {until: 2027-09-30, active: false}"}, want: Misfit, check: "entitled", because: "not active"},
		{name: "one half of a pair", rules: []string{"families:\n  tram-l2:\n", "families:\n  tram-l2:\n    paired: [[boot, main]]\n"}, want: Misfit, check: "paired", because: "brings no boot"},
		{name: "a pair at two versions", rules: []string{"families:\n  tram-l2:\n", "families:\n  tram-l2:\n    paired: [[boot, main]]\n"}, manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nboot l.boot 8.4.1 revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}, want: Misfit, check: "paired", because: "differ"},
		{name: "a pair", rules: []string{"families:\n  tram-l2:\n", "families:\n  tram-l2:\n    paired: [[boot, main]]\n"}, manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nboot l.boot 8.4.2 revs=A2\n", files: map[string]string{"l.boot": string(uimage(arm, firmware, "loader", 300))}, want: Fits, check: "paired", because: "at one version"},
		{name: "handled whole", rules: []string{"    manifest:", "    handling: whole\n    manifest:"}, want: Fits, check: "handling", because: "do not unpack"},

		// candidates
		{name: "the right one of two", manifest: "[QM-8T]\nmain b.img 8.4.2 revs=B1\nmain a.img 8.4.2 revs=A1,A2\n", files: map[string]string{"b.img": string(uimage(arm64, kernel, "QM-8T 8.4.2", 900))}, want: Fits, afterward: func(t *testing.T, v *Verdict) {
			assert.Equal(t, "qm-8.4.2.zip::a.img", v.Members[0].Chosen[0].Item)
			require.Len(t, v.Members[0].Others, 1)
			assert.Contains(t, v.Members[0].Others[0].Because, "revision")
		}},
		{name: "two that suit", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nmain b.img 8.4.2 revs=A2\n", files: map[string]string{"b.img": string(uimage(arm, kernel, "QM-8T 8.4.2", 901))}, want: Unsettled, check: "agreement/main", because: "two different images"},
		{name: "two that are the same", manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A2\nmain b.img 8.4.2 revs=A2\n", files: map[string]string{"b.img": string(good)}, want: Fits, check: "agreement/main", because: "same to the last byte"},
		{name: "an image that no manifest lists is no candidate", manifest: "[QM-24T]\nmain a.img 8.4.2\n", files: map[string]string{"a.img": string(uimage(arm, kernel, "QM-24T 8.4.2", 900)), "extra.img": string(good)}, want: Misfit, check: "model/main"},

		// what the rulebook says that a name stands for
		{name: "the rulebook's word for its name: its family", rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {family: tram-l2}\n"}, want: Unsettled, check: "family/main"},
		{name: "the rulebook's word for its name: another family", device: []string{"revision: A2", "revision: A2\nfamily: tram-l2"}, rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {family: lantern}\n", "    families: [tram-l2]\n    revisions:\n      A1", "    families: [tram-l2, lantern]\n    revisions:\n      A1", "[lantern]}\nhops", "[lantern]}\n  - {version: 8.4.2, families: [lantern]}\nhops"}, want: Misfit, check: "family/main"},
		{name: "the rulebook's word for its name: a family that it may go to", device: []string{"revision: A2", "revision: A2\nfamily: tram-l2"}, rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {family: lantern}\n", "    families: [tram-l2]\n    revisions:\n      A1", "    families: [tram-l2, lantern]\n    revisions:\n      A1", "[lantern]}\nhops", "[lantern]}\n  - {version: 8.4.2, families: [lantern]}\nhops", "  rules:\n", "  rules:\n    - {from_family: tram-l2, to_family: lantern, allow: true}\n"}, want: Unsettled, check: "family/main"},
		{name: "the rulebook's word for its name: for devices of its family", rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {from_family: tram-l2}\n"}, want: Fits, check: "family/main"},
		{name: "the rulebook's word for its name: for devices of another family", device: []string{"revision: A2", "revision: A2\nfamily: tram-l2"}, rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {from_family: lantern}\n", "    families: [tram-l2]\n    revisions:\n      A1", "    families: [tram-l2, lantern]\n    revisions:\n      A1", "[lantern]}\nhops", "[lantern]}\n  - {version: 8.4.2, families: [lantern]}\nhops"}, want: Misfit, check: "family/main"},
		{name: "the rulebook's word for its name: for devices of a family, and its own is not known", rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {from_family: lantern}\n", "    families: [tram-l2]\n    revisions:\n      A1", "    families: [tram-l2, lantern]\n    revisions:\n      A1", "[lantern]}\nhops", "[lantern]}\n  - {version: 8.4.2, families: [lantern]}\nhops"}, want: Unsettled, check: "family/main"},
		{name: "the rulebook's word for its name: an image of a family that it may go to, from another", device: []string{"revision: A2", "revision: A2\nfamily: tram-l2"}, manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2 fam=lantern\n",
			rules: []string{"  - title: bundle\n", "  - title: bundle\n    stands_for: {from_family: lantern}\n", "    families: [tram-l2]\n    revisions:\n      A1", "    families: [tram-l2, lantern]\n    revisions:\n      A1", "[lantern]}\nhops", "[lantern]}\n  - {version: 8.4.2, families: [lantern]}\nhops", "  rules:\n", "  rules:\n    - {from_family: tram-l2, to_family: lantern, allow: true}\n"}, want: Misfit, check: "family/main", because: "for devices that run lantern"},

		// packed
		{name: "packed", files: map[string]string{"a.img": gzipped(good)}, manifest: "[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\n", want: Unsettled, check: "intact/main", because: "no checksum of its format"},
		{name: "packed, with a digest", files: map[string]string{"a.img": gzipped(good), "SUMS": sums("a.img", gzipped(good))}, want: Fits, check: "model/main", because: "QM-8T"},
		{name: "packed, of another model", files: map[string]string{"a.img": gzipped(uimage(arm, kernel, "QM-24T 8.4.2", 900)), "SUMS": sums("a.img", gzipped(uimage(arm, kernel, "QM-24T 8.4.2", 900)))}, want: Misfit, check: "model/main"},
		{name: "packed, of another version", files: map[string]string{"a.img": gzipped(uimage(arm, kernel, "QM-8T 8.4.1", 900)), "SUMS": sums("a.img", gzipped(uimage(arm, kernel, "QM-8T 8.4.1", 900)))}, want: Unsettled, check: "agreement/main"},
		{name: "packed, for another architecture", files: map[string]string{"a.img": gzipped(uimage(arm64, kernel, "QM-8T 8.4.2", 900)), "SUMS": sums("a.img", gzipped(uimage(arm64, kernel, "QM-8T 8.4.2", 900)))}, want: Misfit, check: "arch/main"},

		{name: "packed in an archive and a stream, of another model", files: map[string]string{"a.img": gzipped([]byte(tarred("b.img", uimage(arm, kernel, "QM-24T 8.4.2", 900)))), "SUMS": sums("a.img", gzipped([]byte(tarred("b.img", uimage(arm, kernel, "QM-24T 8.4.2", 900)))))}, want: Misfit, check: "model/main"},

		{name: "several in an archive, all of another model", files: together(uimage(arm, kernel, "QM-24T 8.4.2", 900), uimage(arm, kernel, "QM-2T 8.4.2", 900)), want: Misfit, check: "model/main"},
		{name: "several in an archive, one for it", files: together(uimage(arm64, kernel, "QM-24T 8.4.2", 900), uimage(arm, kernel, "QM-8T 8.4.2", 900)), want: Fits, check: "model/main", because: "QM-8T"},
		{name: "several in an archive, all for another architecture", files: together(uimage(arm64, kernel, "QM-8T 8.4.2", 900), uimage(arm64, kernel, "QM-24T 8.4.2", 900)), want: Misfit, check: "arch/main"},
		{name: "several in an archive, without names, all of another model", files: together(uimage(arm, kernel, "QM-24T 8.4.2", 900), uimage(arm, kernel, "QM-2T 8.4.2", 900), "one", "two"), want: Misfit, check: "model/main"},
		{name: "another model's image in an archive beside what tells nothing", files: together(uimage(arm, kernel, "QM-24T 8.4.2", 900), []byte("\x01\x02\x80 something of its own")), want: Unsettled, check: "agreement/main", because: "QM-24T"},
		{name: "another processor's image in an archive beside what tells nothing", files: together(uimage(arm64, kernel, "helper", 900), []byte("\x01\x02\x80 something of its own")), want: Fits, check: "model/main"},
		{name: "several in an archive, of other versions", files: together(uimage(arm, kernel, "QM-8T 1.0.0", 900), uimage(arm, kernel, "QM-8T 2.0.0", 900)), want: Fits, check: "model/main"},

		// without a rulebook
		{name: "no rulebook", noRules: true, bare: good, pkg: "x.img", want: Unsettled, check: "path/main", because: "without a rulebook", afterward: func(t *testing.T, v *Verdict) {
			assert.Equal(t, Fits, find(v, "intact/main")[0].Outcome)
		}},
		{name: "no rulebook, damaged", noRules: true, bare: []byte(flip(good, 90)), pkg: "x.img", want: Misfit, check: "intact/main", because: "payload crc32"},
		{name: "no rulebook, other architecture", noRules: true, device: []string{"revision: A2", "revision: A2\narch: arm64"}, bare: good, pkg: "x.img", want: Misfit, check: "arch/main"},
	}
	for _, s := range scenes {
		t.Run(s.name, s.judge)
	}
}

// gzipped packs an image.
func gzipped(data []byte) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	_, _ = w.Write(data)
	_ = w.Close()
	return b.String()
}

// tarred is a tar of one file.
func tarred(name string, data []byte) string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	_ = w.WriteHeader(&tar.Header{Name: name, Size: int64(len(data)), Mode: 0o644})
	_, _ = w.Write(data)
	_ = w.Close()
	return b.String()
}

// together is a package whose one file is an archive of two images, with its digest.
func together(one, two []byte, names ...string) map[string]string {
	names = append(names, "one.img", "two.img")
	archive := string(zipped(nil, map[string]string{names[0]: string(one), names[1]: string(two)}))
	return map[string]string{"a.img": archive, "SUMS": sums("a.img", archive)}
}

// need gives the release 8.4.2 one need.
func need(n string) []string {
	return []string{"{version: 8.4.2, date: 2026-09-30, families: [tram-l2]}", "{version: 8.4.2, date: 2026-09-30, families: [tram-l2], needs: [" + n + "]}"}
}

// A bare image whose title names the device fits; no flipped bit of it does,
// and none is settled by anything but a checksum.
func TestNoFlippedBitFits(t *testing.T) {
	good := uimage(arm, kernel, "QM-24T 8.4.2", 40)
	s := scene{pkg: "QM24T_8.4.2.img", bare: good, device: []string{"model: QM-8T", "model: QM-24T", "A2", "A1"}, rules: []string{"QM-24T:\n", "QM-24T:\n    also: [QM24T]\n"}, want: Fits}
	s.judge(t)
	for bit := range len(good) * 8 {
		bad := bytes.Clone(good)
		bad[bit/8] ^= 1 << (bit % 8)
		s.bare = bad
		v := s.run(t)
		require.Equal(t, Misfit, v.Outcome, "bit %d: %s", bit, dump(v))
		named := false
		for _, c := range find(v, "intact") {
			named = named || c.Outcome == Misfit && strings.Contains(c.Because, "crc32 does not match")
		}
		require.True(t, named, "bit %d: %s", bit, dump(v))
	}
}

// Whatever name an image of unknown origin is given, it never fits.
func TestNoNameMakesAFit(t *testing.T) {
	for _, name := range []string{"QM8T_8.4.2.img", "QM24T_8.4.2.img", "qm-8.4.2.zip", "QM-8T.img"} {
		for model, rev := range map[string]string{"QM-8T": "A2", "QM-24T": "A1"} {
			s := scene{pkg: name, bare: uimage(arm, kernel, "", 100), device: []string{"model: QM-8T", "model: " + model, "A2", rev}}
			v := s.run(t)
			assert.NotEqual(t, Fits, v.Outcome, "%s on %s", name, model)
		}
	}
}

func TestTrustNames(t *testing.T) {
	s := scene{pkg: "QM24T_8.4.2.img", bare: uimage(arm, kernel, "", 100), device: []string{"model: QM-8T", "model: QM-24T", "A2", "A1"},
		rules: []string{"QM-24T:\n", "QM-24T:\n    also: [QM24T]\n"}, options: Options{TrustNames: true}, want: Fits, check: "model/main", because: "you trust names"}
	s.judge(t)
	assert.Contains(t, strings.Join(s.run(t).Notes, " "), "-trust-names", "the verdict says so")
	s.options = Options{}
	assert.Equal(t, Unsettled, s.run(t).Outcome)
}
