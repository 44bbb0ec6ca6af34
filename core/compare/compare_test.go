package compare

import (
	"archive/zip"
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

const book = `
kind: rulebook
title: made up
models: {QM-8T: {families: [tram]}, QM-9T: {families: [tram]}}
families: {tram: {components: {boot: {title: boot, optional: true}, main: {title: main}}}}
packages:
  - title: bundle
    file: '^p-(?P<version>[\d.]+)\.zip$'
    manifest: {item: '**/manifest.txt', form: lines, record: '^(?P<component>\w+) (?P<file>\S+) (?P<version>\S+) (?P<models>\S+)$'}
`

func bundle(t *testing.T, name string, files map[string]string) *survey.Survey {
	t.Helper()
	rb, err := rulebook.Read("r.yaml", []byte(book))
	require.NoError(t, err)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for n, text := range files {
		w, _ := z.Create(n)
		w.Write([]byte(text))
	}
	require.NoError(t, z.Close())
	p := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.WriteFile(p, b.Bytes(), 0o600))
	s, err := survey.Run(context.Background(), p, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
	require.NoError(t, err)
	return s
}

func changes(r *Result) map[string]Change {
	out := map[string]Change{}
	for _, it := range r.Items {
		out[it.Path] = it.Change
	}
	return out
}

func TestPackages(t *testing.T) {
	a := bundle(t, "p-8.4.1.zip", map[string]string{"p-8.4.1/manifest.txt": "boot boot.bin 3.1 QM-8T\nmain main.img 8.4.1 QM-8T\n", "p-8.4.1/boot.bin": "boot", "p-8.4.1/main.img": "old", "p-8.4.1/gone.txt": "gone", "p-8.4.1/a.bin": "moves"})
	b := bundle(t, "p-8.4.2.zip", map[string]string{"p-8.4.2/manifest.txt": "boot boot.bin 3.1 QM-8T\nmain main.img 8.4.2 QM-8T,QM-9T\n", "p-8.4.2/boot.bin": "boot", "p-8.4.2/main.img": "new", "p-8.4.2/new.txt": "new one", "p-8.4.2/b/a.bin": "moves"})
	r := Packages(a, b)
	assert.Equal(t, Pair{"8.4.1", "8.4.2"}, r.Release)
	assert.ElementsMatch(t, []Component{{"boot", "3.1", "3.1", true, true}, {"main", "8.4.1", "8.4.2", false, true}}, r.Components)
	assert.Equal(t, Sets{OnlyB: []string{"QM-9T"}, Both: []string{"QM-8T"}}, r.Models)
	assert.Equal(t, map[string]Change{"boot.bin": Same, "main.img": Changed, "manifest.txt": Changed, "gone.txt": Removed, "new.txt": Added, "b/a.bin": Moved}, changes(r), "a folder named after the version makes no difference")
	for _, c := range changes(Packages(a, a)) {
		assert.Equal(t, Same, c)
	}
}

// Turned round, what was added is removed, and the same is the same.
func TestPackagesTurnedRound(t *testing.T) {
	a := bundle(t, "p-1.zip", map[string]string{"one": "1", "two": "2", "three": "3"})
	b := bundle(t, "p-2.zip", map[string]string{"one": "1", "two": "22", "four": "4"})
	turned := map[Change]Change{Same: Same, Changed: Changed, Added: Removed, Removed: Added}
	there, back := changes(Packages(a, b)), changes(Packages(b, a))
	require.Len(t, there, 4)
	for path, c := range there {
		assert.Equal(t, turned[c], back[path], path)
	}
}

func TestDevice(t *testing.T) {
	d, err := device.Read("d.yaml", []byte("kind: device\nname: cabinet\nmodel: qm-8t\nrevision: A2\ninstalled: {boot: \"3.0\", main: 8.4.0}\n"))
	require.NoError(t, err)
	p := bundle(t, "p-8.4.2.zip", map[string]string{"manifest.txt": "boot boot.bin 3.1 QM-8T\n", "boot.bin": "boot"})
	r := Device(d.Name.Text, &d.Unit, p)
	assert.ElementsMatch(t, []Component{{Name: "boot", A: "3.0", B: "3.1"}, {Name: "main", A: "8.4.0"}}, r.Components, "no image of a device can be compared")
	assert.Equal(t, []string{"qm-8t"}, r.Models.Both, "names compare without regard to case")
	assert.Equal(t, Sets{OnlyA: []string{"A2"}}, r.Revisions)
	assert.Empty(t, r.Items)
}
