package kit

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	deviceText = "kind: device\nname: cab-07\nmodel: QM-8T\nrevision: A2\ninstalled: {main: 8.2.1}\n"
	rulesText  = "kind: rulebook\ntitle: Quillmere\nmodels: {QM-8T: {families: [tram]}}\nfamilies: {tram: {components: {main: {title: system image}}}}\nversions: {default: {pattern: '^(?P<a>\\d+)$', order: [a]}}\n"
	layoutText = "kind: layout\nname: qmi\ntitle: Quillmere image\nmagic: {at: 0, hex: 51 4D 49 31}\nfields:\n  - {at: 0, name: magic, type: text, size: 4}\n"
	publicKey  = "-----BEGIN PUBLIC KEY-----\nMCowBQYDK2VwAyEAGb9ECWmEzf6FQbrBZ9w7lshQhqowtrbLDFw4rXAxZuE=\n-----END PUBLIC KEY-----\n"
)

func lay(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := t.TempDir()
	for name, data := range files {
		p := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(data), 0o644))
	}
	return dir
}

func TestOpen(t *testing.T) {
	dir := lay(t, map[string]string{"rulebooks/b.yaml": rulesText, "rulebooks/a.yml": rulesText, "rulebooks/notes.txt": "x", "layouts/qmi.yaml": layoutText, "devices/cab.yaml": deviceText, "packages/p.zip": "PK"})
	k, err := Open(dir)
	require.NoError(t, err)
	require.Len(t, k.Rulebooks, 2)
	assert.Equal(t, "rulebooks/a.yml", k.Rulebooks[0].File, "in order of their names, cited relative to the kit")
	require.Len(t, k.Layouts, 1)
	assert.NotNil(t, k.Formats.ByName("layout:qmi"), "a layout is a format like any other")

	for _, name := range []string{"cab", "cab.yaml", filepath.Join(dir, "devices/cab.yaml")} {
		d, err := k.Device(name)
		require.NoError(t, err, name)
		assert.Equal(t, "devices/cab.yaml", d.File)
	}
	_, err = k.Device("cab-08")
	assert.ErrorContains(t, err, "the kit has cab", "what there is instead")

	assert.Equal(t, filepath.Join(dir, "packages", "p.zip"), k.Package("p.zip"))
	assert.Equal(t, filepath.Join(dir, "elsewhere.zip"), k.Package(filepath.Join(dir, "elsewhere.zip")))

	empty, err := Open(t.TempDir())
	require.NoError(t, err, "any of the folders may be missing")
	assert.Empty(t, empty.Rulebooks)
}

// A rulebook with a fault stops only what may need it.
func TestBrokenRulebook(t *testing.T) {
	k, err := Open(lay(t, map[string]string{"rulebooks/a.yaml": rulesText, "rulebooks/b.yaml": "kind: rulebook\nmodells: {VX-9: {}}\n"}))
	require.NoError(t, err)
	require.Len(t, k.Broken, 1)
	assert.Contains(t, k.Broken[0].Note(), "rulebooks/b.yaml has a fault")
	rb, err := k.RulebookFor("QM-8T")
	require.NoError(t, err, "another rulebook knows it")
	assert.Equal(t, "rulebooks/a.yaml", rb.File)
	for _, model := range []string{"VX-9", "VX-10"} {
		_, err = k.RulebookFor(model)
		assert.ErrorContains(t, err, "modells", "the one with the fault may know it")
	}
	k, err = Open(lay(t, map[string]string{"rulebooks/a.yaml": rulesText, "rulebooks/b.yaml": "kind: rulebook\nmodells: {qm-8t: {}}\n"}))
	require.NoError(t, err)
	_, err = k.RulebookFor("QM-8T")
	assert.ErrorContains(t, err, "modells", "both name it")
}

// A kit with a fault is not gone on with where what the faulty file says would be
// missing without anybody knowing.
func TestOpenRefuses(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		says  []string
	}{
		"rulebook":      {map[string]string{"rulebooks/a.yaml": "kind: rulebook\nmodells: {}\n"}, []string{"rulebooks/a.yaml:2", "modells", "models"}},
		"all of them":   {map[string]string{"rulebooks/a.yaml": "kind: rulebook\nx: 1\n", "rulebooks/b.yaml": "kind: rulebook\ny: 1\n"}, []string{"a.yaml", "b.yaml"}},
		"layout":        {map[string]string{"layouts/a.yaml": "kind: layout\nname: a\n"}, []string{"layouts/a.yaml"}},
		"two of a name": {map[string]string{"layouts/a.yaml": layoutText, "layouts/b.yaml": layoutText}, []string{"two layouts have the name qmi", "rename"}},
		"no layout":     {map[string]string{"rulebooks/a.yaml": rulesText + "layouts: [gone.yaml]\n"}, []string{"rulebooks/a.yaml:6", "gone.yaml", "cannot be opened"}},
	} {
		k, err := Open(lay(t, c.files))
		if err == nil { // a rulebook, which is set aside
			_, err = k.RulebookFor("QM-8T")
			for _, b := range k.Broken[1:] {
				err = fmt.Errorf("%w %w", err, b.Err)
			}
		}
		for _, want := range c.says {
			assert.ErrorContains(t, err, want, name)
		}
	}
	_, err := Open(filepath.Join(t.TempDir(), "gone"))
	assert.ErrorContains(t, err, "-kit")
	_, err = Open(filepath.Join(lay(t, map[string]string{"file": "x"}), "file"))
	assert.ErrorContains(t, err, "not a folder")
}

func TestRead(t *testing.T) {
	dir := lay(t, map[string]string{"d.yaml": deviceText, "r.yaml": rulesText, "l.yaml": layoutText, "bad.yaml": "kind: device\nmodell: x\n", "none.yaml": "a: 1\n"})
	for name, kind := range map[string]string{"d.yaml": "device", "r.yaml": "rulebook", "l.yaml": "layout"} {
		got, _, err := Read(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, kind, got)
	}
	for _, name := range []string{"bad.yaml", "none.yaml", "gone.yaml"} {
		_, _, err := Read(filepath.Join(dir, name))
		assert.Error(t, err, name)
	}
}

func TestKey(t *testing.T) {
	k, err := Open(lay(t, map[string]string{"keys/maker.pem": publicKey, "keys/broken.pem": "words", "secret.pem": publicKey}))
	require.NoError(t, err)
	for name, found := range map[string]bool{"maker": true, "maker.pem": true, "other": false, "": false, "../secret": false, "/etc/passwd": false} {
		key, err := k.Key(name)
		require.NoError(t, err, name)
		assert.Equal(t, found, key != nil, name)
	}
	_, err = k.Key("broken")
	assert.ErrorContains(t, err, "keys/broken.pem", "a key that cannot be read is not the same as none")
}
