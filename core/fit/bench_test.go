package fit

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// BenchmarkMatchFleet holds 1000 devices against 50 surveyed packages, devices
// side by side, as match does.
func BenchmarkMatchFleet(b *testing.B) {
	rb, err := rulebook.Read("qm.yaml", []byte(testRules))
	require.NoError(b, err)
	var packages []*survey.Survey
	for i := range 50 {
		s := scene{manifest: fmt.Sprintf("[QM-8T]\nmain a.img 8.4.2 revs=A1,A2\nmain b.img 8.4.2 revs=B1\nboot l.boot 3.2.%d revs=A1,A2\n", i),
			files: map[string]string{"b.img": string(uimage(arm64, kernel, "QM-8T 8.4.2", 900)), "l.boot": string(uimage(arm, firmware, "loader", 300))}}
		path := filepath.Join(b.TempDir(), "qm-8.4.2.zip")
		require.NoError(b, os.WriteFile(path, s.zip(nil), 0o644))
		sv, err := survey.Run(context.Background(), path, survey.Options{Limits: archive.DefaultLimits(), Rulebooks: []*rulebook.Rulebook{rb}})
		require.NoError(b, err)
		packages = append(packages, sv)
	}
	var devices []*device.Device
	for i := range 1000 {
		text := testDevice
		if i%3 == 1 {
			text = replaced(nil, text, []string{"A2", "B1"})
		}
		d, err := device.Read(fmt.Sprintf("cab%d.yaml", i), []byte(text))
		require.NoError(b, err)
		devices = append(devices, d)
	}
	b.ReportAllocs()
	defer debug.SetGCPercent(debug.SetGCPercent(400)) // as match does for so many
	for b.Loop() {
		o := Options{Cache: NewCache()}
		work := make(chan *device.Device)
		var wg sync.WaitGroup
		for range 2 {
			wg.Go(func() {
				for d := range work {
					if len(MatchAll(d, Only(rb), packages, o)) == 0 {
						b.Error("no verdict")
					}
				}
			})
		}
		for _, d := range devices {
			work <- d
		}
		close(work)
		wg.Wait()
	}
}
