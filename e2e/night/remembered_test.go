package night

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// TestAdviceIsRemembered: the second time, what fits is told from what was found the first time, with
// when that was and the command that checks it; a change of the package or the rules, or -no-cache,
// makes it look again; and the verdict is the same whatever is remembered.
func TestAdviceIsRemembered(t *testing.T) {
	dir := program.WriteKit(t)
	misfit := []string{"match", "-device", "cabinet-07", "packages/qm-core-6.4.1.zip"}
	type answer struct {
		Results []struct {
			Verdict, Instead string
			InsteadLooked    string `json:"instead_looked"`
			Next             []string
		}
	}
	ask := func(flags ...string) answer {
		var a answer
		require.NoError(t, json.Unmarshal([]byte(program.Call(t, dir, append(append(misfit[:len(misfit):len(misfit)], "-json"), flags...)...).Out), &a))
		require.NotEmpty(t, a.Results)
		require.Equal(t, "misfit", a.Results[0].Verdict)
		return a
	}
	first := ask().Results[0]
	require.NotEmpty(t, first.Instead)
	assert.Empty(t, first.InsteadLooked, "it was looked at just now")
	second := ask().Results[0]
	assert.Equal(t, first.Instead, second.Instead)
	assert.NotEmpty(t, second.InsteadLooked)
	r := program.Call(t, dir, misfit...)
	assert.Contains(t, r.Text(), "when it was last looked at (")
	assert.Contains(t, r.Text(), "fitcheck match -device devices/cabinet-07.yaml "+first.Instead)
	check := program.Call(t, dir, "match", "-device", "devices/cabinet-07.yaml", first.Instead)
	assert.Equal(t, 0, check.Status, check.Out)
	assert.Empty(t, ask("-no-cache").Results[0].InsteadLooked)

	// A package that is not what it was is looked at again, and is no advice any more.
	path := filepath.Join(dir, first.Instead)
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(path, data, 0o644))
	assert.NotEqual(t, first.Instead, ask().Results[0].Instead)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(path, data, 0o644))
	again := ask().Results[0]
	assert.Equal(t, first.Instead, again.Instead)
	assert.Empty(t, again.InsteadLooked)

	// So is all of it once a rule has changed.
	rules, err := filepath.Glob(filepath.Join(dir, "rulebooks", "*.yaml"))
	require.NoError(t, err)
	require.NotEmpty(t, rules)
	text, err := os.ReadFile(rules[0])
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(rules[0], append(text, "\n# one more line\n"...), 0o644))
	assert.Empty(t, ask().Results[0].InsteadLooked)
}
