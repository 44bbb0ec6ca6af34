package plan

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
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
					require.True(t, together(a, b, jobs), "%v and %v", a, b)
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

// together tells whether two devices may be without service at one time, by what they say alone;
// devices are all that there are.
func together(a, b Job, devices []Job) bool {
	named := func(t string) bool {
		return slices.ContainsFunc(devices, func(j Job) bool { return strings.EqualFold(j.Name, t) })
	}
	for _, t := range a.Apart {
		if strings.EqualFold(t, b.Name) || !named(t) && slices.ContainsFunc(b.Apart, func(o string) bool { return strings.EqualFold(o, t) }) {
			return false
		}
	}
	return !slices.ContainsFunc(b.Apart, func(o string) bool { return strings.EqualFold(o, a.Name) })
}

// exhaustive is the best that can be done: the most devices placed, then the earliest end, over
// all divisions into waves and all orders of them.
func exhaustive(n Night, jobs []Job) (placed, end int) {
	if n.Parallel == 0 {
		n.Parallel = len(jobs)
	}
	var waves [][]Job
	long := func(w []Job) int {
		m := 0
		for _, j := range w {
			m = max(m, j.Minutes)
		}
		return m
	}
	// Each wave goes to some stretch, or to none.
	var lay func(i int, s []Span, p, e int)
	lay = func(i int, s []Span, p, e int) {
		if i == len(waves) {
			if p > placed || p == placed && e < end {
				placed, end = p, e
			}
			return
		}
		for k := range s {
			if m := long(waves[i]); s[k].To < 0 || s[k].From+m <= s[k].To {
				s[k].From += m
				lay(i+1, s, p+len(waves[i]), max(e, s[k].From))
				s[k].From -= m
			}
		}
		lay(i+1, s, p, e)
	}
	var divide func(i int)
	divide = func(i int) {
		if i == len(jobs) {
			lay(0, n.stretches(), 0, 0)
			return
		}
		for k := range waves {
			if len(waves[k]) < n.Parallel && !slices.ContainsFunc(waves[k], func(o Job) bool { return !together(o, jobs[i], jobs) }) {
				waves[k] = append(waves[k], jobs[i])
				divide(i + 1)
				waves[k] = waves[k][:len(waves[k])-1]
			}
		}
		waves = append(waves, []Job{jobs[i]})
		divide(i + 1)
		waves = waves[:len(waves)-1]
	}
	divide(0)
	return placed, end
}

// On small sets nothing is worse than twice the best that can be done, and without excluded times
// and an end it is the best.
func TestWavesAgainstAllDivisions(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 81))
		n, err := ReadWindow([]string{"", "90", "22:00-00:30"}[r.IntN(3)])
		require.NoError(t, err)
		n.Parallel = r.IntN(4)
		if n.Start >= 0 {
			require.NoError(t, n.Exclude([]string{"22:40-23:00 backup", "23:30-23:40"}[r.IntN(2)]))
		}
		var jobs []Job
		for i := range 1 + r.IntN(6) {
			j := Job{Name: fmt.Sprintf("d%d", i), Minutes: 5 + r.IntN(40)}
			for range r.IntN(3) {
				j.Apart = append(j.Apart, []string{"ring-1", "ring-2", "ring-3", "d0", "D1"}[r.IntN(5)])
			}
			jobs = append(jobs, j)
		}
		placed, end := exhaustive(n, jobs)
		waves, left := n.Waves(jobs)
		got := len(jobs) - len(left)
		assert.GreaterOrEqual(t, 2*got, placed, "%v", jobs)
		if got == placed {
			assert.LessOrEqual(t, endOf(waves), 2*end, "%v", jobs)
		}
		if n.Minutes == 0 {
			assert.Equal(t, end, endOf(waves), "%v", jobs)
		}
	}
}

// Conflicts that mislead whoever goes by the order of a list: two waves do, of any number of pairs.
func TestWavesOfACrown(t *testing.T) {
	for _, pairs := range []int{3, 6, 20, 60} {
		var jobs []Job
		for i := range pairs {
			var all []string
			for k := range pairs {
				if k != i {
					all = append(all, fmt.Sprintf("b%d", k))
				}
			}
			jobs = append(jobs, Job{Name: fmt.Sprintf("a%d", i), Minutes: 10, Apart: all}, Job{Name: fmt.Sprintf("b%d", i), Minutes: 10})
		}
		waves, left := Night{Start: -1}.Waves(jobs)
		assert.Empty(t, left)
		assert.Equal(t, 2, len(waves), "%d pairs", pairs)
	}
}

// A window is minutes up to a week, or times of day, over midnight, too, and the whole day where both are the same.
func TestReadWindow(t *testing.T) {
	for text, want := range map[string]string{
		"90": "-1 90", "1": "-1 1", "10080": "-1 10080", "22:00-04:00": "1320 360", "01:15-05:45": "75 270", "06:00-06:00": "360 1440", "00:00-23:59": "0 1439",
		"0": "0 minutes are no window", "10081": "10081 minutes are no window", "-5": "no window", "night": "no window", "25:00-04:00": "no window", "22:00-04:60": "no window", "22:00-04:00 backup": "no window",
	} {
		n, err := ReadWindow(text)
		got := fmt.Sprint(n.Start, " ", n.Minutes)
		if err != nil {
			got = err.Error()
		}
		assert.Contains(t, got, want, text)
	}
	n, err := ReadWindow("22:00-04:00")
	require.NoError(t, err)
	for _, text := range []string{"02:00-03:00 nightly backup", "23:30-00:15 counting", "21:00-23:00 late trams"} {
		require.NoError(t, n.Exclude(text))
	}
	assert.Equal(t, []Span{{0, 60, "late trams"}, {90, 135, "counting"}, {240, 300, "nightly backup"}, {1380, 1500, "late trams"}}, n.Excluded)
	assert.ErrorContains(t, n.Exclude("at noon"), "no time of the night")
	n, err = ReadWindow("90")
	require.NoError(t, err)
	assert.ErrorContains(t, n.Exclude("02:00-03:00"), "the window gives none")
}
