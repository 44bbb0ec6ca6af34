package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// Devices of two lines against one set, from where they stand to where they are on it.
func TestCertifiedSet(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	r := program.Call(t, kit, "match", "-json", "-certified", "depot-2026", "-device", "depot-core", "-device", "tunnel-3")
	assert.Equal(t, 1, r.Status)
	doc := program.Document(t, r)
	assert.Equal(t, "misfit", doc["verdict"])
	require.Len(t, doc["results"], 2)
	assert.Equal(t, "below", at(t, doc, "results", 1, "state"))
	assert.Equal(t, "4.2.0", at(t, doc, "results", 1, "takes", 0, "hops", 0, "release"))
	assert.Equal(t, "rulebooks/quillmere-core.yaml:71", at(t, doc, "results", 1, "members", 0, "components", 0, "where"))

	program.Write(t, kit, "devices/tunnel-3.yaml", []byte(strings.Replace(readFile(t, kit, "devices/tunnel-3.yaml"), "{main: 4.1.0}", "{main: 4.2.0}", 1)))
	program.Write(t, kit, "devices/tunnel-3.yaml", []byte(strings.Replace(readFile(t, kit, "devices/tunnel-3.yaml"), "main: 4.1.0, active", "main: 4.2.0, active", 1)))
	r = program.Call(t, kit, "match", "-certified", "DEPOT-2026", "-device", "tunnel-3")
	assert.Equal(t, 0, r.Status, r.Out+r.Errout)
	assert.True(t, strings.HasPrefix(r.Out, "ON IT  "), r.Out)
	r = program.Call(t, kit, "match", "-certified", "depot-2026", "-device", "cabinet-07")
	assert.Equal(t, 3, r.Status)
	assert.Contains(t, r.Text(), "says nothing of QM-8T")
	r = program.Call(t, kit, "match", "-certified", "depot-2025", "-device", "cabinet-07")
	assert.Equal(t, 2, r.Status)
	assert.Contains(t, r.Errout, "did you mean depot-2026?")
	r = program.Call(t, kit, "runbook", "-device", "depot-core", "-to", "certified:depot-2026")
	assert.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "6.4.1")

	rules := readFile(t, kit, "rulebooks/quillmere-core.yaml")
	program.Write(t, kit, "rulebooks/quillmere-core.yaml", []byte(strings.Replace(rules, "{model: VR-310, main: 4.2.0}", "{model: VR-311, main: 4.2.0}", 1)))
	r = program.Call(t, kit, "rulebook", "check", "rulebooks/quillmere-core.yaml")
	assert.Contains(t, r.Text(), "no rulebook of the kit knows the model VR-311")
}
