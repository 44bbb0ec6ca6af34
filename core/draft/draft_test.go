package draft

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
	"fitcheck/core/fit"
	"fitcheck/core/image"
	"fitcheck/core/layout"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/demo"
)

// surveyed surveys packages of the demo kit as draft does, without rulebooks.
func surveyed(t *testing.T, rules *rulebook.Rulebook, names ...string) []*survey.Survey {
	t.Helper()
	formats := image.Builtin()
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		if f.Path == "layouts/qmi.yaml" {
			l, err := layout.Read(f.Path, f.Data)
			require.NoError(t, err)
			formats = formats.With(l.Format())
		}
		if path, ok := strings.CutPrefix(f.Path, "packages/"); ok && !strings.Contains(path, "/") {
			require.NoError(t, os.WriteFile(filepath.Join(dir, path), f.Data, 0o644))
		}
	}
	var out []*survey.Survey
	for _, n := range names {
		o := survey.Options{Limits: archive.DefaultLimits(), Formats: formats, Texts: true}
		if rules != nil {
			o.Rulebooks = []*rulebook.Rulebook{rules}
		}
		s, err := survey.Run(context.Background(), filepath.Join(dir, n), o)
		require.NoError(t, err)
		out = append(out, s)
	}
	return out
}

// A draft is a sound rulebook that reads the very packages it was made from,
// and that lets nothing be installed before somebody has gone through it.
func TestDraft(t *testing.T) {
	for name, c := range map[string]struct {
		packages []string
		has      []string
	}{
		"a bundle with a manifest in lines": {[]string{"qm-tram-8.4.2.zip", "qm-tram-8.4.1.zip"}, []string{
			`  QM-8T:  # GUESS: the header of qm-tram-8.4.2.zip::qm-tram-8.4.2/boot/qm8t-boot-a.bin`,
			"arch: arm64  # GUESS", `boards: ["quillmere,qm8t-b"]`, `record: '^(?P<component>\S+)\s+(?P<file>\S+)\s+(?P<version>\S+)(?:\s+revs=(?P<revisions>\S+))?(?:\s+sha256=(?P<sha256>\S+))?(?:\s+\S+)*$'`,
			`heading: '^\[(?P<models>[^\]]+)\]$'`, `checksums: '**/*.sha256'`, "# signature: {item: '**/*.sig'", `notes: ['**/release-notes.txt']`,
			"boot: {title: \"boot image\", optional: true}", `version: "8.4.2"`, `version: "8.4.1"`, `file: '^qm-tram-v?(?P<version>\d[\w.]*?)\.zip$'`}},
		"a bundle with a manifest in JSON": {[]string{"vg20-5.1.0.zip"}, []string{"VG-20:", "form: json", "groups: 'targets.*'", "group_fields: {models: models, platform: platform}", "records: 'images.*'", "fields: {file: path, component: role, version: version, revisions: boards, arch: cpu, sha256: sha256}", "r2:"}},
		"a FIT image":                      {[]string{"vr310-4.2.0.itb"}, []string{"VR-310:", `title: '^Velloway (?P<model>\S+) (?P<version>\S+)$'`, "match: '*.itb'"}},
		"halves of a pair":                 {[]string{"vc40-loader-2.4.1.bin", "vc40-system-2.4.1.bin"}, []string{"VC-40:", `title: '^(?P<model>\S+) loader (?P<version>\S+)$'`}},
		"nothing to draft from":            {[]string{"gift.zip"}, []string{"kind: rulebook"}},
	} {
		t.Run(name, func(t *testing.T) {
			d := New(Input{Packages: surveyed(t, nil, c.packages...)})
			text := d.YAML()
			rb, err := rulebook.Read("draft.yaml", []byte(text))
			require.NoError(t, err, text)
			for _, want := range c.has {
				assert.Contains(t, text, want)
			}
			for _, g := range d.Guesses() {
				assert.Contains(t, g, "GUESS: ")
			}
			if name == "nothing to draft from" {
				return
			}
			assert.NotEmpty(t, d.Guesses())
			for _, s := range surveyed(t, rb, c.packages...) {
				require.NotNil(t, s.Entry, "the draft knows the download again")
				assert.Empty(t, s.Missing)
				model := rb.Models.Keys()[len(rb.Models.Keys())-1]
				dev, err := device.Read("d.yaml", []byte("kind: device\nname: x\nmodel: "+model+"\nrevision: A1\ninstalled: {main: 0.0.1}\n"))
				require.NoError(t, err)
				assert.NotEqual(t, fit.Fits, fit.Match(dev, fit.Only(rb), s, fit.Options{}).Verdict)
			}
		})
	}
}

func TestQuote(t *testing.T) {
	for text, want := range map[string]string{"QM-8T": "QM-8T", "8.4.2": `"8.4.2"`, "no": `"no"`, "": `""`, "a b": `"a b"`, "a\nb": `"a b"`, "x: y": `"x: y"`} {
		assert.Equal(t, want, quote(text))
	}
	assert.Equal(t, `'it''s'`, single("it's"))
}
