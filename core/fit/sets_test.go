package fit

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/pagetest"
)

// TestWhatEverySetIs holds which packages are judged together, and in which order they come, of every set that several
// halves, older ones, copies and strangers make, against testdata/sets.txt.
func TestWhatEverySetIs(t *testing.T) {
	rb, err := rulebook.Read("vc.yaml", []byte(pairRules))
	require.NoError(t, err)
	files := map[string][]byte{
		"loader-2.3.bin": half("VC-40 loader 2.3"), "loader-2.4.bin": half("VC-40 loader 2.4"), "system-2.3.bin": half("VC-40 system 2.3"), "system-2.4.bin": half("VC-40 system 2.4"),
		"system-9.9.bin": half("VR-9 system 9.9"), "other.bin": half("VR-9 1.0"), "copy-loader-2.4.bin": half("VC-40 loader 2.4"),
	}
	names := slices.Sorted(maps.Keys(files))
	by := map[string]*survey.Survey{}
	for _, s := range surveys(t, rb, files) {
		by[s.Name] = s
	}
	var b strings.Builder
	for _, installed := range []string{"2.2", "2.4"} {
		d, err := device.Read("c.yaml", []byte("kind: device\nname: ctl\nmodel: VC-40\ninstalled: {loader: '"+installed+"', system: '"+installed+"'}\n"))
		require.NoError(t, err)
		fmt.Fprintf(&b, "## %s is installed\n", installed)
		for set := 1; set < 1<<len(names); set++ {
			var all []*survey.Survey
			for i, n := range names {
				if set>>i&1 == 1 {
					all = append(all, by[n])
				}
			}
			var line []string
			for _, v := range MatchAll(d, Only(rb), all, Options{}) {
				line = append(line, fmt.Sprintf("%s %s%s", v.Outcome, v.Package, map[bool]string{true: " together"}[strings.Contains(strings.Join(v.Notes, " "), "judged together")]))
			}
			fmt.Fprintf(&b, "%s\n", strings.Join(line, ", "))
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "sets.txt"), b.String())
}
