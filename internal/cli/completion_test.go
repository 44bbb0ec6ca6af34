package cli

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCompletion(t *testing.T) {
	kit := t.TempDir()
	for _, name := range []string{"devices/cabinet-07.yaml", "devices/my core.yaml", "packages/qm-1.zip", "packages/vr-2.itb", "rulebooks/r.yaml"} {
		p := filepath.Join(kit, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, nil, 0o600))
	}
	complete := func(words ...string) []string {
		status, out, errout := run(append([]string{"completion", "-kit", kit, "-words", "--"}, words...)...)
		require.Equal(t, exitFits, status, errout)
		return strings.Fields(out)
	}
	assert.Equal(t, []string{"compare", "confirm", "completion"}, complete("co"))
	assert.Contains(t, complete(""), "survey")
	assert.Equal(t, []string{"-device"}, complete("match", "-de"))
	assert.Contains(t, complete("survey", "-max-"), "-max-files", "the bounds, too")
	assert.Equal(t, []string{"cabinet-07"}, complete("match", "-device", "cab"))
	assert.Equal(t, []string{"'my", "core'"}, complete("match", "-device", "my"), "as a shell takes it")
	assert.Equal(t, []string{"qm-1.zip"}, complete("match", "-device", "cabinet-07", "q"))
	assert.Equal(t, []string{"zsh"}, complete("completion", "z"))
	assert.Empty(t, complete("there-is-no-such", "x"))
	assert.Empty(t, complete("match", "-kit", filepath.Join(kit, "none"), "-device", ""), "of a kit that is named")

	for _, sh := range []string{"bash", "zsh", "fish"} {
		status, script, _ := run("completion", sh)
		assert.Equal(t, exitFits, status)
		assert.Contains(t, script, "completion -words", sh)
		if path, err := exec.LookPath(sh); err == nil { // the shell itself reads it
			c := exec.Command(path, "-n")
			c.Stdin = strings.NewReader(script)
			out, err := c.CombinedOutput()
			assert.NoError(t, err, "%s: %s", sh, out)
		}
	}
	status, _, errout := run("completion", "none")
	assert.Equal(t, exitUsage, status)
	assert.Contains(t, errout, "bash, zsh or fish")
}
