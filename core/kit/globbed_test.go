package kit

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Patterns stand for files, else for devices of the kit by name; numbers are ordered as numbers.
func TestGlobbed(t *testing.T) {
	kit := lay(t, map[string]string{"devices/cab-10.yaml": "x", "devices/cab-9.yaml": "x", "devices/cab-2.yml": "x", "devices/mast.yaml": "x"})
	here := lay(t, map[string]string{"b-11.yaml": "x", "b-2.yaml": "x", "cab[1].yaml": "x"})
	t.Chdir(here)
	in := func(names ...string) []string {
		for i, n := range names {
			names[i] = filepath.Join(kit, "devices", n)
		}
		return names
	}
	for name, want := range map[string][]string{
		"cab-*":       in("cab-9.yaml", "cab-10.yaml"),
		"cab-?":       in("cab-9.yaml"),
		"cab-*.y*ml":  in("cab-2.yml", "cab-9.yaml", "cab-10.yaml"),
		"b-*":         {"b-2.yaml", "b-11.yaml"},
		"none-*":      {"none-*"},
		"mast":        {"mast"},
		"cab[1].yaml": {"cab[1].yaml"},
		"m[a]st":      in("mast.yaml"),
	} {
		assert.Equal(t, want, globbed(kit, []string{name}), name)
	}
	assert.Equal(t, []string{"z", "b-2.yaml", "b-11.yaml", "a"}, globbed(kit, []string{"z", "b-*", "a"}), "in the order in which they were given")
}

// The rulebooks know a model, and a revision of it.
func TestWhatRulebooksKnow(t *testing.T) {
	k, err := Open(lay(t, map[string]string{"rulebooks/a.yaml": "kind: rulebook\ntitle: Q\nmodels:\n  QM-8T: {also: [QM8T], families: [t], revisions: {A1: {arch: arm, boards: [\"q,a\"]}, A2: {arch: arm}}}\nfamilies: {t: {components: {main: {title: s}}}}\nversions: {default: natural}\n",
		"rulebooks/b.yaml": "kind: rulebook\ntitle: V\nmodels:\n  VR-3: {families: [t], revisions: {v1: {arch: mips}}}\nfamilies: {t: {components: {main: {title: s}}}}\nversions: {default: natural}\n"}))
	if !assert.NoError(t, err) {
		return
	}
	for text, want := range map[string]string{"Quillmere QM-8T": "QM-8T", "qm8t": "QM-8T", "VR-3": "VR-3", "the VR-3, indoor": "VR-3", "ZZ-1": "", "": ""} {
		model, ok := k.Model(text)
		assert.Equal(t, want, model, text)
		assert.Equal(t, want != "", ok, text)
	}
	for _, c := range []struct {
		model, revision string
		want            bool
	}{{"QM-8T", "A1", true}, {"QM-8T", "a2", true}, {"QM8T", "A1", true}, {"QM-8T", "v1", false}, {"VR-3", "v1", true}, {"VR-3", "A1", false}, {"ZZ", "A1", false}, {"QM-8T", "", false}} {
		assert.Equal(t, c.want, k.Revision(c.model, c.revision), "%s %s", c.model, c.revision)
	}
}
