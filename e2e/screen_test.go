package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// Nothing scrolls a verdict away: whatever device of the demo is held against whatever
// package, the answer is one screen, and begins with the verdict.
func TestAVerdictIsOneScreen(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	devices, err := filepath.Glob(filepath.Join(kit, "devices/*.yaml"))
	require.NoError(t, err)
	packages, err := os.ReadDir(filepath.Join(kit, "packages"))
	require.NoError(t, err)
	require.NotEmpty(t, devices)
	longest := 0
	for _, d := range devices {
		for i, p := range packages {
			if i%5 != len(filepath.Base(d))%5 { // a fifth of them is enough
				continue
			}
			r := program.Call(t, kit, "match", "-device", strings.TrimSuffix(filepath.Base(d), ".yaml"), "packages/"+p.Name())
			lines := strings.Split(strings.TrimRight(r.Out, "\n"), "\n")
			if r.Status > 3 || r.Out == "" || strings.Contains(r.Out, "The best of them in full") {
				continue
			}
			most := 40
			if r.Status == 0 && !strings.Contains(r.Out, " of 2") {
				most = 30
			}
			longest = max(longest, len(lines))
			assert.LessOrEqual(t, len(lines), most, "%s %s:\n%s", filepath.Base(d), p.Name(), r.Out)
			verdict, _, _ := strings.Cut(lines[0], " ")
			assert.Contains(t, []string{"FITS", "MISFIT", "UNSETTLED"}, verdict)
		}
	}
	assert.Greater(t, longest, 10)

	// A single device that fits takes a glance.
	r := program.Call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, 0, r.Status)
	assert.LessOrEqual(t, strings.Count(r.Out, "\n"), 25, r.Out)
	full := program.Call(t, kit, "match", "-why", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Contains(t, full.Out, "What else was checked")
	assert.Greater(t, strings.Count(full.Out, "\n"), 60, "-why shows all of it")
}
