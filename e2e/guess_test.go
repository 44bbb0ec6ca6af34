package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// A draft decides nothing: nothing fits and nothing is a misfit by it, and it opens no way.
// With its guesses confirmed it decides as any rulebook does.
func TestAGuessDecidesNothing(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	dir := filepath.Join(t.TempDir(), "new")
	require.NoError(t, os.MkdirAll(dir, 0o755))
	for _, p := range []string{"qm-tram-8.4.2.zip", "qm-tram-a-8.4.2.zip"} {
		program.Write(t, dir, "packages/"+p, []byte(readFile(t, kit, "packages/"+p)))
	}
	r := program.Call(t, dir, "rulebook", "draft", "-out", "rulebooks/draft.yaml", "packages/qm-tram-8.4.2.zip")
	require.Equal(t, 0, r.Status, r.Errout)
	device := func(name, revision string) {
		program.Write(t, dir, "devices/"+name+".yaml", []byte("kind: device\nname: "+name+"\nmodel: QM-8T\nrevision: "+revision+"\nfamily: line\narch: "+map[string]string{"A2": "arm", "B1": "arm64"}[revision]+"\ninstalled: {main: 8.2.1, boot: 3.1.4, poe: '2.1'}\n"))
	}
	device("a", "A2")
	device("b", "B1")
	r = program.Call(t, dir, "match", "-json", "-device", "a", "qm-tram-8.4.2.zip")
	assert.Equal(t, 3, r.Status, "nothing fits by a guess: "+r.Out)
	assert.Contains(t, r.Out, "rulebook.guess")
	r = program.Call(t, dir, "path", "-device", "a", "-to", "8.4.2")
	assert.Equal(t, 3, r.Status, r.Out)

	draft := readFile(t, dir, "rulebooks/draft.yaml")
	confirmed := regexp.MustCompile(`(?m)\s+# GUESS.*$`).ReplaceAllString(draft, "")
	confirmed = strings.ReplaceAll(confirmed, "upward: listed", "upward: open")
	program.Write(t, dir, "rulebooks/draft.yaml", []byte(confirmed))
	r = program.Call(t, dir, "path", "-device", "a", "-to", "8.4.2")
	assert.NotContains(t, r.Out, "is a guess")
	r = program.Call(t, dir, "match", "-json", "-device", "b", "qm-tram-a-8.4.2.zip")
	assert.Equal(t, 1, r.Status, "confirmed, the other board is a misfit")
	// One guess that decides is enough to leave it open again.
	program.Write(t, dir, "rulebooks/draft.yaml", []byte(strings.Replace(confirmed, "      B1:", "      B1:  # GUESS: is it a board of its own?", 1)))
	r = program.Call(t, dir, "match", "-json", "-others=false", "-device", "b", "qm-tram-a-8.4.2.zip")
	assert.NotContains(t, r.Out, `"code": "revision.excluded"`)
	// A guess that does not decide stands before it; the line cites the one that does.
	other := "  # GUESS: of another\n"
	program.Write(t, dir, "rulebooks/draft.yaml", []byte(strings.Replace(strings.Replace(confirmed, "\n", other, 1), "      B1:", "      B1:  # GUESS: is it a board of its own?", 1)))
	line := 1 + strings.Count(confirmed[:strings.Index(confirmed, "      B1:")], "\n")
	r = program.Call(t, dir, "match", "-json", "-others=false", "-device", "b", "qm-tram-a-8.4.2.zip")
	assert.Contains(t, r.Out, fmt.Sprintf("draft.yaml:%d is a guess", line))
	assert.Contains(t, r.Out, fmt.Sprintf(`"where": "rulebooks/draft.yaml:%d"`, line))
	assert.NotContains(t, r.Out, `"where": "rulebooks/draft.yaml:1"`)
}

// Nor does a recovery rest on a guess.
func TestARecoveryByAGuess(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	rules := readFile(t, kit, "rulebooks/platform.yaml")
	before := program.Call(t, kit, "recover", "-device", "platform-2", "packages/vr510-recovery-3.4.0.zip")
	assert.Equal(t, 0, before.Status, before.Errout)
	program.Write(t, kit, "rulebooks/platform.yaml", []byte(strings.Replace(rules, "recovery:\n", "recovery:  # GUESS: as the one before it\n", 1)))
	for _, p := range []string{"vr510-recovery-3.4.0.zip", "vr510-3.4.0.bin"} {
		r := program.Call(t, kit, "recover", "-device", "platform-2", "packages/"+p)
		assert.Equal(t, 3, r.Status, "%s: %s%s", p, r.Out, r.Errout)
	}
}
