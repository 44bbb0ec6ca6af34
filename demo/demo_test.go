package demo

import (
	"bytes"
	"path"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/layout"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
)

func TestSameBytesAtEveryRun(t *testing.T) {
	one, two := Kit(), Kit()
	require.Equal(t, len(one), len(two))
	for i := range one {
		assert.Equal(t, one[i].Path, two[i].Path)
		assert.True(t, bytes.Equal(one[i].Data, two[i].Data), one[i].Path)
	}
	assert.True(t, slices.IsSortedFunc(one, func(a, b File) int { return strings.Compare(a.Path, b.Path) }))
}

// What people are to learn from is itself without fault.
func TestTexts(t *testing.T) {
	kinds := map[string]int{}
	for _, f := range Kit() {
		var err error
		switch dir := path.Dir(f.Path); dir {
		case "rulebooks":
			_, err = rulebook.Read(f.Path, f.Data)
		case "layouts":
			_, err = layout.Read(f.Path, f.Data)
		case "devices":
			_, err = device.Read(f.Path, f.Data)
		case "keys":
			_, err = sign.ReadKey(f.Path, f.Data)
		}
		assert.NoError(t, err, f.Path)
		kinds[path.Dir(f.Path)]++
	}
	for _, dir := range []string{"rulebooks", "layouts", "devices", "keys", "packages"} {
		assert.NotZero(t, kinds[dir], dir)
	}
}

// Every case names files that are in the kit, and says how it comes out.
func TestStory(t *testing.T) {
	have := map[string]bool{}
	for _, f := range Kit() {
		have[f.Path] = true
	}
	names := map[string]bool{}
	for _, c := range Story() {
		assert.False(t, names[c.Name], "%s is told twice", c.Name)
		names[c.Name] = true
		assert.NotEmpty(t, c.Tale, c.Name)
		switch c.Args[0] {
		case "path":
			assert.NotEmpty(t, c.Hops, c.Name)
			continue
		case "stage", "runbook", "confirm", "recover":
			i := slices.Index(c.Args, "-device")
			require.GreaterOrEqual(t, i, 0, c.Name)
			assert.True(t, have["devices/"+c.Args[i+1]+".yaml"], c.Name)
			continue
		}
		last, _, _ := strings.Cut(c.Args[len(c.Args)-1], "::")
		if last == "packages" { // all of them: the best fits
			assert.Equal(t, "fits", c.Verdict, c.Name)
			continue
		}
		assert.True(t, have[last], "%s: %s", c.Name, last)
		if i := slices.Index(c.Args, "-device"); i >= 0 {
			assert.True(t, have["devices/"+c.Args[i+1]+".yaml"], c.Name)
			assert.Contains(t, []string{"fits", "misfit", "unsettled"}, c.Verdict, c.Name)
			assert.Equal(t, map[string]int{"fits": 0, "misfit": 1, "unsettled": 3}[c.Verdict], c.Exit, c.Name)
			assert.NotEmpty(t, c.Deciding, c.Name)
		}
	}
}
