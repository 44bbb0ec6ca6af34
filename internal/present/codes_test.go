package present

import (
	"flag"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	_ "fitcheck/core/plan" // registers the reasons of confirm and recover
)

var update = flag.Bool("update", false, "write docs/codes.md")

func TestCodesPage(t *testing.T) {
	const page = "../../docs/codes.md"
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(CodesDoc()), 0o644))
		return
	}
	have, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Equal(t, CodesDoc(), string(have), "out of date: go test ./internal/present -run TestCodesPage -update")
}
