package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatGuessesDecide holds what the commands say where a line of a rulebook is marked as a guess, every second one in turn, against
// testdata/guesses.txt.
func TestWhatGuessesDecide(t *testing.T) {
	page, err := filepath.Abs("testdata/guesses.txt")
	require.NoError(t, err)
	kit := kitDir(t)
	t.Chdir(kit)
	var b strings.Builder
	for _, c := range []struct {
		book     string
		commands [][]string
	}{
		{"quillmere", [][]string{{"match", "-device", "cabinet-12", "packages/qm-tram-a-8.4.2.zip"}}},
		{"quillmere-core", [][]string{{"path", "-device", "depot-core", "-to", "6.4.1"}}},
		{"platform", [][]string{{"recover", "-device", "platform-2", "packages/vr510-recovery-3.4.0.zip"}, {"match", "-device", "platform-2", "packages/vr510-3.4.0.bin"}}},
	} {
		name := "rulebooks/" + c.book + ".yaml"
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		lines := strings.Split(string(text), "\n")
		for _, command := range c.commands {
			fmt.Fprintf(&b, "## %s: %s\n", c.book, strings.Join(command, " "))
			said := func(text string) []string {
				require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
				status, out, errout := run(command...)
				return append(strings.Split(steadily(out+errout, kit), "\n"), fmt.Sprintf("exit %d", status))
			}
			changes := pagetest.Changes{Sound: said(string(text)), Alike: anyDigest, Most: 140}
			for i, l := range lines {
				if bare := strings.TrimSpace(l); i%2 == 1 || bare == "" || strings.HasPrefix(bare, "#") {
					continue
				}
				now := append([]string{}, lines...)
				now[i] += "   # GUESS from the name"
				changes.Tell(&b, fmt.Sprintf("line %d", i+1), said(strings.Join(now, "\n")))
				if i%10 == 8 {
					changes.End(&b, fmt.Sprintf("to line %d", i+1))
				}
			}
			changes.End(&b, "to the end")
		}
		require.NoError(t, os.WriteFile(name, text, 0o644))
	}
	pagetest.Hold(t, page, b.String())
}
