package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

var (
	block      = regexp.MustCompile("(?ms)^```(\\w+)\n(.*?)^```")
	exitStatus = regexp.MustCompile(`#\s*exit status (\d+)\s*$`)
)

// The commands of the tutorial are run as they stand there, one after the other, and print what
// the page says that they print.
func TestTheTutorialOfRulebooksIsTrue(t *testing.T) {
	text, err := os.ReadFile("../docs/rulebooks.md")
	require.NoError(t, err)
	_, page, ok := strings.Cut(string(text), "## A rulebook in ten minutes")
	require.True(t, ok)
	page, _, ok = strings.Cut(page, "\n## ")
	require.True(t, ok)
	if _, err := exec.LookPath("bash"); err != nil {
		t.Skip("the page is written for a shell")
	}
	bin := t.TempDir()
	require.NoError(t, os.Symlink(program.Path, filepath.Join(bin, "fitcheck")))
	dir := t.TempDir()
	commands, last := 0, ""
	for _, b := range block.FindAllStringSubmatch(page, -1) {
		switch b[1] {
		case "sh":
			last = ""
			for line := range strings.Lines(b[2]) {
				line = strings.TrimSpace(line)
				want := 0
				if m := exitStatus.FindStringSubmatch(line); m != nil {
					want = int(m[1][0] - '0')
				}
				if to, ok := strings.CutPrefix(line, "cd "); ok {
					dir = filepath.Join(dir, to)
					continue
				}
				c := exec.Command("bash", "-c", line)
				c.Dir = dir
				c.Env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "FITCHECK_KIT=")
				out, err := c.CombinedOutput()
				if _, failed := err.(*exec.ExitError); !failed {
					require.NoError(t, err)
				}
				assert.Equal(t, want, c.ProcessState.ExitCode(), "%s\n%s", line, out)
				last += string(out)
				commands++
			}
		case "text":
			flat := strings.Join(strings.Fields(last), " ")
			for line := range strings.Lines(b[2]) {
				assert.Contains(t, flat, strings.Join(strings.Fields(line), " "))
			}
		}
	}
	assert.Greater(t, commands, 8)
}
