package rulebook

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const soundRules = `kind: rulebook
title: Quillmere
sources: {RN: Release notes}
models:
  QM-8T: {families: [tram]}
families:
  tram: {components: {boot: {title: boot, optional: true}, main: {title: system}}}
versions:
  default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$', order: [a, b, c]}
packages:
  - {title: p, file: '^qm-(?P<version>[\d.]+)\.zip$', items: [{match: '**/*', component: main}]}
releases:
  - {version: 8.4.2, families: [tram], needs: [{component: main, within: ">=8.2.0", source: RN}]}
hops:
  upward: open
  rules:
    - {from: "<8.0.0", to: ">=8.2.0", allow: false, source: RN}
`

func TestWarnings(t *testing.T) {
	sound, err := Read("qm.yaml", []byte(soundRules))
	require.NoError(t, err)
	assert.Empty(t, sound.Warnings())
	rule := func(text string) []string {
		return []string{"allow: false, source: RN}\n", "allow: false, source: RN}\n    - {" + text + ", source: RN}\n"}
	}
	for name, c := range map[string]struct {
		change []string
		want   string // line and message
		idle   bool
	}{
		"a model that is not known":     {rule("models: [QM-8], allow: true"), "18: the rulebook knows no model QM-8, so that this never applies; did you mean QM-8T?", true},
		"a release for such a one":      {[]string{"8.4.2, families", "8.4.2, models: [QM8T], families"}, "13: the rulebook knows no model QM8T", true},
		"a family that is not known":    {rule("from_family: tramm, to_family: tram, allow: true"), "18: the rulebook knows no family tramm, so that this never applies; did you mean tram?", true},
		"a family that no model runs":   {[]string{"families:\n  tram:", "families:\n  bus: {components: {main: {title: x}}}\n  tram:"}, "7: no model runs the family bus", false},
		"a model's family":              {[]string{"{families: [tram]}\nfamilies", "{families: [tram, bus]}\nfamilies"}, "5: the family bus of QM-8T is not described", false},
		"a release without a family":    {[]string{"8.4.2, families: [tram]", "8.4.2", "families:\n  tram:", "families:\n  bus: {components: {main: {title: x}}}\n  tram:"}, "14: the release 8.4.2 does not say which family", false},
		"the same rule twice":           {rule(`from: "<7.0.0", to: ">=8.4.0", allow: false`), "18: this rule never decides: the rule in line 17 comes first", false},
		"a rule the other way round":    {rule(`from: "<8.0.0", to: ">=8.2.0", allow: true`), "18: this rule contradicts the one in line 17", false},
		"an exception that comes late":  {rule(`from: "7.9.1", to: "8.4.2", allow: true`), "18: this rule never decides, and says otherwise than the rule in line 17", false},
		"a rule against a need":         {rule(`from: "8.1.0", to: "8.4.2", allow: true`), "18: this rule allows moves from 8.1.0 to 8.4.2, and that release needs main >=8.2.0", false},
		"via nowhere":                   {rule(`from: "8.3.9", to: "9.0.0", allow: false, via: 8.2.2`), "18: via names 8.2.2, which is no release", false},
		"a pattern that reads none":     {[]string{`qm-(?P<version>[\d.]+)`, `qm-(?P<version>\d+)`}, "11: the pattern reads none of the versions", false},
		"items for no component":        {[]string{"component: main}]", "component: mian}]"}, "11: the items are for mian, which is no component of a family; did you mean main?", false},
		"a package of no component":     {[]string{"{title: p,", "{title: p, components: [poe],"}, "11: these packages bring poe", false},
		"brings no component":           {[]string{"needs:", "brings: {poe: 1.0.0}, needs:"}, "13: the release 8.4.2 brings poe", false},
		"a need of no component":        {[]string{"component: main, within", "component: radio, within"}, "13: FAULT it names the component radio, which the rulebook does not know: until that is mended, nothing that it may forbid is settled; known are boot, main", false},
		"a rule that forbids to nobody": {rule("models: [QM-8], allow: false"), "18: FAULT it names the model QM-8", true},
		"one between no families":       {rule("from_family: tramm, to_family: tram, allow: false"), "18: FAULT it names the family tramm", true},
		"a drop of no model":            {[]string{"needs:", "drops: [VR-1], needs:"}, "13: FAULT it names the model VR-1", false},
		"a need of no model":            {[]string{"needs: [", "needs: [{attached: VR-1}, "}, "13: FAULT it names the model VR-1", false},
		"a revision that is none":       {[]string{"{families: [tram]}\nfamilies", "{families: [tram], revisions: {A1: {}}}\nfamilies", "8.4.2, families", "8.4.2, revisions: [not-A1], families"}, "13: FAULT it names the hardware revision not-A1", false},
		"a pair of no component":        {[]string{"tram: {components", "tram: {paired: [[boot, poe]], components"}, "7: paired names poe", false},
		"versions of no component":      {[]string{"versions:\n", "versions:\n  poe: natural\n"}, "9: versions speaks of poe", false},
		"a signature of no manifest":    {[]string{"{title: p,", "{title: p, signature: {item: '**/*.sig', of: manifest, key: k},"}, "11: the signature is of the manifest, and no manifest is described: it could cover no image", false},
		"one of a manifest by MD5": {[]string{"{title: p,", "{title: p, manifest: {item: '**/m.txt', form: lines, record: '^(?P<file>\\S+) (?P<md5>\\w+)$'}, signature: {item: '**/*.sig', of: manifest, key: k},"},
			"11: the signature is of the manifest, and nothing of it is read as a SHA-256 or better", false},
		"one of a document without digests": {[]string{"{title: p,", "{title: p, manifest: {item: '**/m.json', form: json, records: images.*, fields: {file: file}}, signature: {item: '**/*.sig', of: manifest, key: k},"},
			"11: the signature is of the manifest, and nothing of it is read as a SHA-256 or better", false},
		"one of no list":                     {[]string{"{title: p,", "{title: p, signature: {item: '**/*.sig', of: checksums, key: k},"}, "11: the signature is of the checksum lists, and no list is named", false},
		"a source that is not listed":        {[]string{"allow: false, source: RN", "allow: false, source: RM"}, "17: the source RM is not listed under sources; did you mean RN?", false},
		"no source":                          {[]string{"allow: false, source: RN", "allow: false"}, "17: rules and needs without a source: lines 17", false},
		"a pattern of names without an end":  {[]string{`\.zip$'`, `\.zip'`}, "11: the pattern of names is not anchored: it reads names that hold such a name, too", false},
		"a pattern of versions without one":  {[]string{`(?P<c>\d+)$'`, `(?P<c>\d+)'`}, "9: the pattern of versions is not anchored: it would read only a part of a version", false},
		"a pattern that repeats beyond all":  {[]string{`[\d.]+)`, `[\d.]{1,900}[\d.]{0,900}[\d.]{0,900}[\d.]{0,900})`}, "11: the pattern has", false},
		"an entry that another hides":        {[]string{"packages:\n", "packages:\n  - {title: all, file: '^qm-.*\\.zip$'}\n"}, "12: the entry in line 11 comes first and takes such names: qm-8.4.2.zip", false},
		"items that others hide":             {[]string{"component: main}]", "component: main}, {match: '**/boot/*.bin', component: boot}]"}, "11: the glob **/boot/*.bin never decides: **/* in line 11 comes first", false},
		"a glob without folders":             {[]string{"match: '**/*'", "match: '*.bin'"}, "11: the glob *.bin matches nothing inside an archive: it sees whole addresses, such as qm-8.4.2.zip/folder/x; write **/*.bin", false},
		"a glob that begins with a folder":   {[]string{"match: '**/*'", "match: 'boot/*.bin'"}, "11: the glob boot/*.bin matches nothing inside an archive: an address begins with the package's own name, as in qm-8.4.2.zip/*.bin", false},
		"a need that no release meets":       {[]string{"needs: [", "brings: {main: 8.4.2, boot: 1.0.0}, needs: [{component: boot, within: '>=2.0.0', source: RN}, "}, "13: no release that is listed brings boot >=2.0.0, which 8.4.2 needs; list the release that brings it", false},
		"a release to which nothing leads":   {[]string{"releases:\n", "releases:\n  - {version: 8.1.0, families: [tram]}\n"}, "14: nothing leads to the release 8.4.2", false},
		"a release from which nothing leads": {[]string{"releases:\n", "releases:\n  - {version: 8.2.0, families: [tram]}\n  - {version: 8.1.0, families: [tram]}\n", "  rules:\n", "  rules:\n    - {from: 8.1.0, allow: false, source: RN}\n"}, "14: the release 8.1.0 is a dead end", false},
		"a release listed twice":             {[]string{"releases:\n", "releases:\n  - {version: 8.4.2, models: [QM-8T]}\n"}, "14: the release 8.4.2 is listed in line 13 already", false},
	} {
		t.Run(name, func(t *testing.T) {
			text := soundRules
			for i := 0; i < len(c.change); i += 2 {
				require.Contains(t, text, c.change[i])
				text = strings.Replace(text, c.change[i], c.change[i+1], 1)
			}
			rb, err := Read("qm.yaml", []byte(text))
			require.NoError(t, err)
			var got []string
			for _, w := range rb.Warnings() {
				got = append(got, fmt.Sprintf("%d: %s; %s", w.Spot.Line, w.Message, w.Advice))
			}
			for _, w := range rb.Faults() {
				got = append(got, fmt.Sprintf("%d: FAULT %s; %s", w.Spot.Line, w.Message, w.Advice))
			}
			assert.Contains(t, strings.Join(got, "\n"), c.want)
			assert.Equal(t, c.idle, len(rb.Idle()) > 0)
		})
	}
	apart := strings.Replace(soundRules, "allow: false, source: RN}\n", "allow: false, source: RN}\n    - {from: \"<8.0.0\", to: \">=8.2.0\", from_family: tram, to_family: tram, allow: false, source: RN}\n    - {models: [QM-8T], from: \"8.3.0\", allow: true, source: RN}\n", 1)
	rb, err := Read("qm.yaml", []byte(apart))
	require.NoError(t, err)
	assert.Empty(t, rb.Warnings(), "rules that speak of other moves are no matter")
}

// A signature of a manifest whose digests are strong covers images, and there is nothing
// to warn of; nor is there of one that is over an image itself.
func TestSignaturesThatCover(t *testing.T) {
	for _, add := range []string{
		`manifest: {item: '**/m.txt', form: lines, record: '^(?P<file>\S+) (?P<sha256>\w+)$'}, signature: {item: '**/*.sig', of: manifest, key: k},`,
		`checksums: '**/*.sums', signature: {item: '**/*.sig', of: checksums, key: k},`,
		`signature: {item: '**/*.sig', of: '**/*.img', key: k},`,
	} {
		rb, err := Read("qm.yaml", []byte(strings.Replace(soundRules, "{title: p,", "{title: p, "+add, 1)))
		require.NoError(t, err)
		assert.Empty(t, rb.Warnings(), add)
	}
}

// What one text asks of memory is bounded: needs of a release, and warnings.
func TestBoundsOfARulebook(t *testing.T) {
	needs := strings.Repeat(`{component: main, within: ">=8.2.0", source: RN}, `, maxNeeds+1)
	_, err := Read("qm.yaml", []byte(strings.Replace(soundRules, "needs: [", "needs: ["+needs, 1)))
	assert.ErrorContains(t, err, "the release has 1002 needs, and at most 1000 are read")

	rb, err := Read("qm.yaml", []byte(soundRules+strings.Repeat("    - {models: [QM-9], allow: true, source: RN}\n", maxWarnings+50)))
	require.NoError(t, err)
	assert.LessOrEqual(t, len(rb.Warnings()), maxWarnings+1)
	assert.GreaterOrEqual(t, len(rb.Warnings()), maxWarnings)
}

func TestCaptures(t *testing.T) {
	for text, want := range map[string]string{
		"captures: [{read: {model: '(x)'}}]":                             "needs recognise",
		"captures: [{recognise: x}]":                                     "reads nothing",
		"captures: [{recognise: x, read: {modle: '(x)'}}]":               `:3:34: "modle" is not a key of a device file`,
		"captures: [{recognise: x, each: {slots: '(?P<nam>x)'}}]":        "the pattern needs the group name",
		"transfer: {longest_name: -1}":                                   "cannot be negative",
		"releases: [{version: '1', needs: [{attached: x, feature: y}]}]": "exactly one of",
	} {
		_, err := Read("qm.yaml", []byte("kind: rulebook\ntitle: x\n"+text+"\n"))
		assert.ErrorContains(t, err, want, text)
	}
	rb, err := Read("qm.yaml", []byte("kind: rulebook\ntitle: x\ncaptures: [{recognise: OS, read: {model: '(x)'}, each: {slots: '(?P<name>x)'}}]\n"))
	require.NoError(t, err)
	rules := rb.CaptureRules()
	require.Len(t, rules, 1)
	assert.Equal(t, "qm.yaml:3", rules[0].Name)
}

func TestModelIn(t *testing.T) {
	rb, err := Read("qm.yaml", []byte("kind: rulebook\ntitle: x\nmodels: {QM-8T: {also: [QM8T]}, QM-24T: {}}\n"))
	require.NoError(t, err)
	for text, want := range map[string]string{"qm8t": "QM-8T", "Quillmere QM-8T": "QM-8T", "quillmere,qm-24t": "QM-24T", "QM-8T and QM-24T": "", "QM-8": ""} {
		got, ok := rb.ModelIn(text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, want != "", ok, text)
	}
}
