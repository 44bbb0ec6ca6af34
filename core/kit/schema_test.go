package kit

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"go.yaml.in/yaml/v3"

	"fitcheck/demo"
)

// The schemas in docs/schemas are those of the program, and what the demo's
// people wrote keeps to them.
func TestSchemas(t *testing.T) {
	for _, kind := range Kinds() {
		want, err := json.MarshalIndent(Schema(kind), "", "  ")
		require.NoError(t, err)
		var a, b any
		have, err := os.ReadFile("../../docs/schemas/" + kind + ".json")
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(want, &a))
		require.NoError(t, json.Unmarshal(have, &b))
		assert.Equal(t, a, b, "out of date: fitcheck rulebook schema %s > docs/schemas/%s.json", kind, kind)
	}
	folders := map[string]string{"rulebooks": "rulebook", "devices": "device", "layouts": "layout"}
	for _, f := range demo.Kit() {
		kind := folders[filepath.Dir(f.Path)]
		if kind == "" {
			continue
		}
		var doc any
		require.NoError(t, yaml.Unmarshal(f.Data, &doc))
		keeps(t, Schema(kind), Schema(kind), doc, f.Path)
	}
	assert.Nil(t, Schema("picture"))
}

// keeps checks the part of JSON Schema that the schemas use.
func keeps(t *testing.T, root, schema map[string]any, value any, at string) {
	if ref, ok := schema["$ref"].(string); ok {
		keeps(t, root, root["$defs"].(map[string]any)[filepath.Base(ref)].(map[string]any), value, at)
		return
	}
	if all, ok := schema["allOf"].([]any); ok {
		keeps(t, root, all[0].(map[string]any), value, at)
		return
	}
	if _, ok := schema["anyOf"]; ok { // a struct with a shorthand
		return
	}
	if words, ok := schema["enum"].([]string); ok {
		assert.Contains(t, words, value, at)
		return
	}
	switch v := value.(type) {
	case map[string]any:
		require.Equal(t, "object", schema["type"], at)
		properties, _ := schema["properties"].(map[string]any)
		for k, x := range v {
			if p, ok := properties[k].(map[string]any); ok {
				keeps(t, root, p, x, at+"."+k)
				continue
			}
			more, ok := schema["additionalProperties"].(map[string]any)
			if assert.True(t, ok, "%s: the key %s is not in the schema", at, k) {
				keeps(t, root, more, x, at+"."+k)
			}
		}
	case []any:
		require.Equal(t, "array", schema["type"], at)
		for _, x := range v {
			keeps(t, root, schema["items"].(map[string]any), x, at+"[]")
		}
	case bool:
		assert.Contains(t, []any{"boolean", "x"}, firstType(schema), at)
	}
}

func firstType(schema map[string]any) any {
	if s, ok := schema["type"].([]string); ok {
		for _, x := range s {
			if x == "boolean" {
				return x
			}
		}
		return s[0]
	}
	return schema["type"]
}

func TestCheckLooksAroundInTheKit(t *testing.T) {
	dir := lay(t, map[string]string{"rulebooks/r.yaml": "kind: rulebook\ntitle: x\nlayouts: [qmi.yaml, gone.yaml]\npackages: [{file: '^x$', manifest: {item: 'm.json', form: json}, signature: {item: '*.sig', of: manifest, key: gone.pem}}]\n", "layouts/qmi.yaml": layoutText})
	_, warnings, err := Read(filepath.Join(dir, "rulebooks", "r.yaml"))
	require.NoError(t, err)
	require.Len(t, warnings, 2)
	assert.Contains(t, warnings[0].Message, "layouts/gone.yaml is not in the kit")
	assert.Contains(t, warnings[1].Message, "keys/gone.pem is not in the kit")
}

func TestPackages(t *testing.T) {
	rules := rulesText + "packages: [{file: '^qm-[\\d.]+\\.zip$', manifest: {item: '**/m.txt', form: lines, record: '(?P<file>.+)'}}]\n"
	dir := lay(t, map[string]string{"rulebooks/r.yaml": rules, "packages/qm-1.zip": "x", "packages/qm-1.zip.sha256": "x", "packages/notes.txt": "x", "packages/.hidden": "x", "packages/older/qm-0.zip": "x",
		"packages/unpacked/m.txt": "a.img", "packages/unpacked/qm-2.zip": "x", "elsewhere/a.img": "x", "devices/a.yaml": deviceText, "devices/b.yaml": deviceText})
	k, err := Open(dir)
	require.NoError(t, err)
	names := func(paths []string, err error) []string {
		require.NoError(t, err)
		for i, p := range paths {
			paths[i], _ = filepath.Rel(dir, p)
		}
		return paths
	}
	all := []string{"packages/older/qm-0.zip", "packages/qm-1.zip", "packages/unpacked"}
	assert.Equal(t, all, names(k.Packages(filepath.Join(dir, "packages"), false)), "what accompanies a download is none, and an unpacked one is one")
	assert.Equal(t, []string{"elsewhere"}, names(k.Packages(filepath.Join(dir, "elsewhere"), false)))
	assert.Equal(t, []string{"elsewhere/a.img"}, names(k.Packages(filepath.Join(dir, "elsewhere"), true)))
	assert.Equal(t, []string{"packages/unpacked"}, names(k.Packages(filepath.Join(dir, "packages", "unpacked"), false)))

	devices, err := k.Devices([]string{filepath.Join(dir, "devices"), "a"})
	require.NoError(t, err)
	assert.Len(t, devices, 3)
	_, err = k.Devices([]string{filepath.Join(dir, "keys")})
	assert.Error(t, err)
	_, err = k.Devices([]string{filepath.Join(dir, "packages")})
	assert.ErrorContains(t, err, "holds no device files")
}
