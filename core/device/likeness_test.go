package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Devices are alike when they differ in what tells one from another only; any other key makes
// them unlike, and so does a guess.
func TestLikeness(t *testing.T) {
	const base = "kind: device\nname: a\nmodel: VR-310\nrevision: v2\nserial: \"1\"\ninstalled: {main: 4.1.0, boot: 1.0.0}\nslots: [{name: A, main: 4.1.0, active: true}]\nattached: [VR-1]\n"
	of := func(text string) string {
		d, err := Read("d.yaml", []byte(text))
		require.NoError(t, err, text)
		return d.Likeness()
	}
	replaced := func(from, to string) string {
		require.Contains(t, base, from)
		return of(replace(base, from, to))
	}
	for _, same := range []string{
		replaced("name: a", "name: b"), replaced("serial: \"1\"", "serial: \"2\""), of(base + "address: 192.0.2.1/24\n"), of("\n\n" + base),
		of(base + "read_from: {model: \"x.txt:3\"}\n"), of(base + "not_together: [x]\n"),
	} {
		assert.Equal(t, of(base), same)
	}
	seen := map[string]bool{of(base): true} // no two of those that follow are alike either
	for _, other := range []string{
		replaced("VR-310", "VR-320"), replaced("v2", "v1"), replaced("4.1.0, boot", "4.1.1, boot"), replaced("boot: 1.0.0", "boot: 1.0.1"), replaced("active: true", "active: false"), replaced("[VR-1]", "[VR-1, VR-1]"),
		of(base + "storage_free: 1MiB\n"), of(base + "config: {saved: true}\n"), of(base + "entitled: {active: false}\n"), of(base + "state: silent\n"), of(base + "job: {state: running}\n"), of(base + "faults: [fan]\n"), of(base + "entitled_until: 2026-01-01\n"), of(base + "entitled_until: 2026-01-02\n"),
		of(base + "files: [{file: x, version: 4.1.0}]\n"), of(base + "companions: {c: 1.0}\n"), of(base + "read_from: {model: \"x.txt:3 (guess)\"}\n"), of(base + "start: {saved: false}\n"), of(base + "memory: 1MiB\n"),
	} {
		assert.False(t, seen[other], other)
		seen[other] = true
	}
	group := "kind: device\nname: g\ngroup: stack\nmodel: VR-310\nmembers:\n  - {name: \"1\", revision: v1, serial: \"5\"}\n  - {name: \"2\", revision: v2}\n"
	assert.Equal(t, of(group), of(replace(group, "serial: \"5\"", "serial: \"6\"")))
	assert.NotEqual(t, of(group), of(replace(group, "revision: v2", "revision: v1")))
	assert.NotEqual(t, of(group), of(replace(group, "group: stack", "group: cluster")))
}

func replace(text, from, to string) string { return strings.Replace(text, from, to, 1) }

// What a managed device's manager has is part of what a judgement may rest on.
func TestLikenessOfManagers(t *testing.T) {
	of := func(manager string) string {
		d, err := Read("d.yaml", []byte("kind: device\nname: ap\nmodel: VA-1\nmanaged_by: ctl\n"))
		require.NoError(t, err)
		if manager != "" {
			m, err := Read("m.yaml", []byte("kind: device\nname: ctl\nmodel: VC-1\n"+manager))
			require.NoError(t, err)
			d.Managers = map[string]*Device{"ctl": m}
		}
		return d.Likeness()
	}
	assert.Equal(t, of("storage_free: 1MiB\n"), of("storage_free: 1MiB\n"))
	assert.NotEqual(t, of("storage_free: 1MiB\n"), of("storage_free: 2MiB\n"))
	assert.NotEqual(t, of("storage_free: 1MiB\n"), of(""))
}
