package plan

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatNightsCome holds how many devices, few and very many, are laid into nights, against testdata/nights.txt.
func TestWhatNightsCome(t *testing.T) {
	var b strings.Builder
	for seed, count := range []int{1, 3, 5, 8, 12, 25, 60, 90, 40, 12, 9, 200} {
		r := rand.New(rand.NewPCG(uint64(seed), 7))
		window := []string{"240", "22:00-04:00", "21:30-05:15", ""}[seed%4]
		n, err := ReadWindow(window)
		require.NoError(t, err)
		n.Parallel = seed % 5 * 2
		if n.Start >= 0 {
			require.NoError(t, n.Exclude("02:00-03:00 nightly backup"))
			require.NoError(t, n.Exclude("20:00-22:10 people at work"))
		}
		var jobs []Job
		for i := range count {
			j := Job{Name: fmt.Sprintf("d%d", i), Minutes: r.IntN(40)}
			j.Outage = j.Minutes / 2
			for range r.IntN(3) {
				j.Apart = append(j.Apart, fmt.Sprintf("ring-%d", r.IntN(max(3, count/3))))
			}
			if i > 0 && r.IntN(4) == 0 {
				j.Apart = append(j.Apart, fmt.Sprintf("D%d", r.IntN(i)))
			}
			jobs = append(jobs, j)
		}
		waves, left := n.Waves(jobs)
		fmt.Fprintf(&b, "## %d devices, window %q, %d at one time, without %v\n", count, window, n.Parallel, n.Excluded)
		for _, w := range waves {
			var names []string
			for _, j := range w.Jobs {
				names = append(names, j.Name)
			}
			fmt.Fprintf(&b, "%s, %d minutes, %d without service: %s\n", n.Clock(w.At), w.Minutes, w.Outage, strings.Join(names, " "))
		}
		for _, l := range left {
			fmt.Fprintf(&b, "left: %s, %d minutes: %s\n", l.Name, l.Minutes, l.Why)
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "nights.txt"), b.String())
}
