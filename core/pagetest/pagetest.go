// Package pagetest holds what a program says, as a whole, against a page that stands in testdata or docs, so that a change
// of it is seen in a diff, and read. A page is written again by the flag -update of the test.
package pagetest

import (
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the pages that the test holds")

// Update tells whether pages are to be written.
func Update() bool { return *update }

// Hold compares a text with a page, or writes it there.
func Hold(t *testing.T, page, text string) {
	t.Helper()
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(page), 0o755))
		require.NoError(t, os.WriteFile(page, []byte(text), 0o644))
		return
	}
	want, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Equal(t, string(want), text, fmt.Sprintf("if it is meant so, add -update: go test -run '^%s$' -update", t.Name()))
}
