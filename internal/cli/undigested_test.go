package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/kit"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

// The page of a survey shows no digests of items unless it is asked to, and so none are computed that nothing
// is held against. What it says is the same as if all had been.
func TestPageWithoutDigestsIsTheSame(t *testing.T) {
	dir := kitDir(t)
	k, err := kit.Open(dir)
	require.NoError(t, err)
	packages, err := os.ReadDir(filepath.Join(dir, "packages"))
	require.NoError(t, err)
	looked := 0
	for _, p := range packages {
		var pages [2]string
		for i, undigested := range []bool{false, true} {
			o := survey.Options{Limits: archive.DefaultLimits(), Formats: k.Formats, Keys: k.Key, Rulebooks: k.Rulebooks, Undigested: undigested}
			s, err := survey.Run(context.Background(), filepath.Join(dir, "packages", p.Name()), o)
			if err != nil {
				continue
			}
			var b bytes.Buffer
			(&page.Screen{Out: &b, Width: 100}).Show(present.SurveyPage(s))
			pages[i] = b.String()
			looked++
		}
		assert.Equal(t, pages[0], pages[1], p.Name())
	}
	assert.Greater(t, looked, 20)
}
