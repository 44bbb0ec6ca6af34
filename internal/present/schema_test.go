package present

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSchemas holds docs/schemas/output against the types. That the documents keep to them is seen
// where the program is run.
func TestSchemas(t *testing.T) {
	dir := filepath.Join("..", "..", "docs", "schemas", "output")
	wanted := map[string]bool{}
	for name, s := range Schemas() {
		text, err := json.MarshalIndent(s, "", " ")
		require.NoError(t, err)
		file := filepath.Join(dir, strings.ReplaceAll(name, " ", "-")+".json")
		wanted[filepath.Base(file)] = true
		if *update {
			require.NoError(t, os.MkdirAll(dir, 0o755))
			require.NoError(t, os.WriteFile(file, append(text, '\n'), 0o644))
		}
		have, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, string(text)+"\n", string(have), "out of date: go test ./internal/present -run TestSchemas -update")
	}
	files, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, f := range files {
		assert.True(t, wanted[f.Name()], "%s is the schema of no document", f.Name())
	}
	page, err := os.ReadFile(filepath.Join("..", "..", "docs", "json.md"))
	require.NoError(t, err)
	for name := range Schemas() {
		assert.Contains(t, string(page), strings.Fields(name)[0], "docs/json.md tells of every document")
	}
}
