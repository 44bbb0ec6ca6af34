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
	"fitcheck/core/image/format"
	"fitcheck/core/layout"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/demo"
)

// surveyed surveys packages of the demo kit as draft does, without rulebooks.
func surveyed(t *testing.T, rules *rulebook.Rulebook, names ...string) []*survey.Survey {
	t.Helper()
	formats := format.Builtin()
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
			`  QM-8T:  # GUESS: is this a model of the line? (qm-tram-8.4.2.zip::qm-tram-8.4.2/qm_manifest.txt:3)`,
			"arch: arm64  # GUESS", `boards: ["quillmere,qm8t-b"]`, `(?:\s+revs[=:](?P<revisions>[^\s|;]+))?`,
			`heading: '^\[(?P<models>[^\]]+)\]$'`, `checksums: '**/*.sha256'`, "# signature: {item: '**/*.sig'", `notes: ['**/release-notes.txt']`,
			"boot: {title: boot loader, optional: true}", `version: "8.4.2"`, `version: "8.4.1"`, `file: '^qm-tram-(?P<version>v?\d+\.\d+\.\d+[a-z]?)\.zip$'`,
			`- {from: "<8.2.1", to: ">=8.4.2", allow: false, via: "8.2.1", source: release-notes}`, `- {component: boot, within: ">=3.2.0", source: release-notes}`}},
		"a bundle with a manifest in JSON": {[]string{"vg20-5.1.0.zip"}, []string{"VG-20:", "form: json", "groups: 'targets.*'", "group_fields: {models: models, platform: platform}", "records: 'images.*'", "fields: {file: path, component: role, version: version, revisions: boards, arch: cpu, sha256: sha256}", "r2:"}},
		"a FIT image":                      {[]string{"vr310-4.2.0.itb"}, []string{"VR-310:", "also: [vr310]", `title: '^Velloway\s+(?P<model>\S+)\s+(?P<version>\S+)$'`, "match: '*.itb'"}},
		"halves of a pair":                 {[]string{"vc40-loader-2.4.1.bin", "vc40-system-2.4.1.bin"}, []string{"VC-40:", `title: '^(?P<model>\S+)\s+loader\s+(?P<version>\S+)$'`, "components: [boot]  # GUESS"}},
		"releases with notes inside":       {[]string{"qm-core-6.3.0.zip", "qm-core-6.4.1.zip"}, []string{"do these 2 differ in their version only?", `- {companion: controller, within: ">=5.1"`, `- {from: "<6.3.0", to: ">=6.4", allow: false, via: "6.3.0"`, `- {from: ">=6.3.0", to: "<6.3.0", allow: true, resets_config: true`}},
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
				assert.NotEqual(t, fit.Fits, fit.Match(dev, fit.Only(rb), s, fit.Options{}).Outcome)
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
