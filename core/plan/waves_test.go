package plan

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever devices there are: no two that are to be apart are in one wave, no wave lies outside
// the night or in what is excluded, waves do not overlap, and each device is in one wave or told
// to be left.
func TestWaves(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 18))
		n, err := ReadWindow([]string{"240", "22:00-04:00", "21:30-05:15", ""}[r.IntN(4)])
		require.NoError(t, err)
		n.Parallel = r.IntN(5)
		if n.Start >= 0 && r.IntN(2) == 0 {
			require.NoError(t, n.Exclude([]string{"02:00-03:00 nightly backup", "23:00-23:20", "21:00-22:30 people at work"}[r.IntN(3)]))
		}
		var jobs []Job
		for i := range r.IntN(30) {
			j := Job{Name: fmt.Sprintf("d%d", i), Minutes: r.IntN(60)}
			j.Outage = j.Minutes / 2
			for range r.IntN(3) {
				j.Apart = append(j.Apart, fmt.Sprintf("ring-%d", r.IntN(6)))
			}
			jobs = append(jobs, j)
		}
		waves, left := n.Waves(jobs)
		seen := map[string]int{}
		end := 0
		for _, w := range waves {
			require.GreaterOrEqual(t, w.At, end, "waves follow each other")
			end = w.At + w.Minutes
			require.True(t, n.Minutes == 0 || end <= n.Minutes)
			require.True(t, n.Parallel == 0 || len(w.Jobs) <= n.Parallel)
			outage := 0
			for i, a := range w.Jobs {
				seen[a.Name]++
				outage = max(outage, a.Outage)
				require.LessOrEqual(t, a.Minutes, w.Minutes)
				for _, b := range w.Jobs[i+1:] {
					require.False(t, a.apart(b), "%v and %v", a, b)
				}
			}
			require.Equal(t, outage, w.Outage)
			for _, x := range n.Excluded {
				require.False(t, w.At < x.To && end > x.From, "wave %v in %v", w, x)
			}
		}
		for _, u := range left {
			seen[u.Name]++
			require.NotEmpty(t, u.Why)
		}
		require.Len(t, seen, len(jobs))
		for name, times := range seen {
			require.Equal(t, 1, times, name)
		}
	}
}

func TestWindows(t *testing.T) {
	n, err := ReadWindow("22:00-04:00")
	require.NoError(t, err)
	assert.Equal(t, 360, n.Minutes)
	require.NoError(t, n.Exclude("02:00-03:00 nightly backup"))
	assert.Equal(t, []Span{{240, 300, "nightly backup"}}, n.Excluded)
	assert.Equal(t, "03:05", n.Clock(305))
	for _, bad := range []string{"x", "0", "25:00-26:00", "22:00-04:00 and more", "22:00"} {
		_, err := ReadWindow(bad)
		assert.Error(t, err, bad)
	}
	minutes, err := ReadWindow("90")
	require.NoError(t, err)
	assert.Error(t, minutes.Exclude("02:00-03:00"), "a time of day, and the window has none")
}
