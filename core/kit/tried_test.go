package kit

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
)

// On the demo's rulebooks, which are good, check says nothing; of each that is spoiled it names
// the line, and what is like it.
func TestPatternsAreTriedOnTheKit(t *testing.T) {
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		at := filepath.Join(dir, filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, f.Data, 0o644))
	}
	book := filepath.Join(dir, "rulebooks", "quillmere.yaml")
	for _, f := range []string{"platform.yaml", "quillmere-core.yaml", "quillmere.yaml", "velloway.yaml"} {
		_, warnings, err := Read(filepath.Join(dir, "rulebooks", f))
		require.NoError(t, err)
		assert.Empty(t, warnings, f)
	}
	sound, err := os.ReadFile(book)
	require.NoError(t, err)
	for _, c := range []struct{ from, to, want string }{
		{"^Board rev", "^Board revision", "the pattern for revision reads no line of the kit's captures, and captures/cab07-after.txt"},
		{"'^Tramline OS'", "'^Tramlin OS'", "recognise finds none of the kit's captures, and captures/"},
		{"'^qm-tram(?:-a)?-", "'^qm-tramm(?:-a)?-", "the pattern reads no package of the kit, and nothing reads qm-tram-8.4"},
		{"'^qm-tram(?:-a)?-(?P<version>", "'^(?:qm-tram|qm-core)(?:-a)?-(?P<version>", "is a name that"},
	} {
		require.Contains(t, string(sound), c.from)
		require.NoError(t, os.WriteFile(book, []byte(strings.Replace(string(sound), c.from, c.to, 1)), 0o644))
		_, warnings, err := Read(book)
		require.NoError(t, err)
		assert.Contains(t, warnings.Error(), c.want)
	}
	// A rule that recognises none of the kit's captures is told only where nobody else recognises them.
	more := strings.Replace(string(sound), "  - recognise: '^Tramline OS'\n", "  - recognise: '^Tramlin OS'\n    read: {model: '^Mod (\\S+)'}\n  - recognise: '^Tramline OS'\n", 1)
	require.NotEqual(t, string(sound), more)
	require.NoError(t, os.WriteFile(book, []byte(more), 0o644))
	_, warnings, err := Read(book)
	require.NoError(t, err)
	assert.NotContains(t, warnings.Error(), "recognise finds none")
	require.NoError(t, os.WriteFile(book, sound, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "rulebooks", "twin.yaml"), sound, 0o644))
	_, warnings, err = Read(book)
	require.NoError(t, err)
	assert.Contains(t, warnings.Error(), "which of the two rulebooks serves it is an accident")
}
