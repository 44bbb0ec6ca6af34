package plan

import (
	"cmp"
	"fmt"
	"math/bits"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Night is when installs may be done: minutes from its beginning.
type Night struct {
	Minutes  int // there are; 0 for no bound
	Start    int // minute of the day at which it begins, -1 where only a length was given
	Excluded []Span
	Parallel int // devices at one time; 0 for any number
}

// Span is a stretch of a night, in minutes from its beginning.
type Span struct {
	From, To int
	Why      string
}

var clockSpan = regexp.MustCompile(`^(\d{1,2}):(\d{2})\s*[-–]\s*(\d{1,2}):(\d{2})\s*(.*)$`)

// ReadWindow reads "90" (minutes), or "22:00-04:00".
func ReadWindow(text string) (Night, error) {
	n := Night{Start: -1}
	if text == "" {
		return n, nil
	}
	if m, err := strconv.Atoi(strings.TrimSpace(text)); err == nil {
		if m < 1 || m > 7*24*60 {
			return n, fmt.Errorf("%d minutes are no window", m)
		}
		n.Minutes = m
		return n, nil
	}
	from, to, why, err := clock(text)
	if err != nil || why != "" {
		return n, fmt.Errorf("%q is no window; write minutes, or 22:00-04:00", text)
	}
	n.Start = from
	n.Minutes = (to - from + 24*60) % (24 * 60)
	if n.Minutes == 0 {
		n.Minutes = 24 * 60
	}
	return n, nil
}

// Exclude reads "02:00-03:00 nightly backup".
func (n *Night) Exclude(text string) error {
	from, to, why, err := clock(text)
	if err != nil {
		return fmt.Errorf("%q is no time of the night; write 02:00-03:00 and what goes on then", text)
	}
	if n.Start < 0 {
		return fmt.Errorf("%q is a time of day, and the window gives none; write -window 22:00-04:00", text)
	}
	length := (to - from + 24*60) % (24 * 60)
	if length == 0 {
		return fmt.Errorf("%q begins and ends at one time; write 02:00-03:00 and what goes on then", text)
	}
	begin := (from - n.Start + 24*60) % (24 * 60)
	n.Excluded = append(n.Excluded, Span{begin, begin + length, why})
	if begin+length > 24*60 { // it goes on from before the night begins
		n.Excluded = append(n.Excluded, Span{0, begin + length - 24*60, why})
	}
	slices.SortFunc(n.Excluded, func(a, b Span) int { return a.From - b.From })
	return nil
}

func clock(text string) (from, to int, rest string, err error) {
	m := clockSpan.FindStringSubmatch(strings.TrimSpace(text))
	if m == nil {
		return 0, 0, "", fmt.Errorf("%q is no time", text)
	}
	var v [4]int
	for i := range v {
		v[i], _ = strconv.Atoi(m[i+1])
	}
	if max(v[1], v[3]) > 59 || v[0]*60+v[1] > 24*60 || v[2]*60+v[3] > 24*60 {
		return 0, 0, "", fmt.Errorf("%q is no time", text)
	}
	return (v[0]*60 + v[1]) % (24 * 60), (v[2]*60 + v[3]) % (24 * 60), strings.TrimSpace(m[5]), nil
}

// Clock writes a minute of the night as a time of day, or as hours and minutes from its
// beginning.
func (n Night) Clock(minute int) string {
	if n.Start >= 0 {
		minute = (minute + n.Start) % (24 * 60)
		return fmt.Sprintf("%02d:%02d", minute/60, minute%60)
	}
	return fmt.Sprintf("%d:%02d", minute/60, minute%60)
}

// Job is a device that is to be installed.
type Job struct {
	Name    string
	Minutes int // of the whole install; 0 where they are not known
	Outage  int
	// Apart are the groups of which no two may be without service at one time, and names of
	// other devices that must not be together with this one.
	Apart []string
}

// Wave is devices that are installed side by side.
type Wave struct {
	At, Minutes, Outage int
	Jobs                []Job
}

// Unplaced is a device for which the night has no room, and why.
type Unplaced struct {
	Job
	Why string
}

// Waves places devices in a night: no two that are to be apart in one wave, none in what is
// excluded or beyond the end. Of a few devices the division is found that takes the least time;
// of many the best of some orders, in each of which a device goes into the first wave that takes
// it. Waves are of devices that take as long as each other, where that can be.
func (n Night) Waves(jobs []Job) (waves []Wave, left []Unplaced) {
	var able []Job
	for _, j := range jobs {
		switch {
		case j.Minutes <= 0:
			left = append(left, Unplaced{j, "the rulebook does not say how long it takes"})
		case !n.fits(j.Minutes):
			left = append(left, Unplaced{j, fmt.Sprintf("it takes %d min, and the night has no stretch as long", j.Minutes)})
		default:
			able = append(able, j)
		}
	}
	c := n.conflicts(able)
	divisions := [][][]int{}
	if len(able) <= maxExact {
		divisions = append(divisions, c.exact())
	}
	for _, order := range c.orders() {
		divisions = append(divisions, c.firstFit(order))
	}
	var over []int
	for i, d := range divisions {
		w, o := n.lay(c, d)
		if i == 0 || len(o) < len(over) || len(o) == len(over) && endOf(w) < endOf(waves) {
			waves, over = w, o
		}
	}
	slices.Sort(over)
	for _, j := range over {
		left = append(left, Unplaced{able[j], fmt.Sprintf("the night is over: it takes %d min", able[j].Minutes)})
	}
	return waves, left
}

func endOf(waves []Wave) int {
	end := 0
	for _, w := range waves {
		end = max(end, w.At+w.Minutes)
	}
	return end
}

// conflicts are devices, and which of them must be apart.
type conflicts struct {
	jobs     []Job
	apart    [][]int // by device, the others
	parallel int
}

func (n Night) conflicts(jobs []Job) *conflicts {
	c := &conflicts{jobs: jobs, apart: make([][]int, len(jobs)), parallel: n.Parallel}
	if c.parallel == 0 {
		c.parallel = len(jobs)
	}
	names := map[string]int{} // of devices
	members := map[string][]int{}
	for i, j := range jobs {
		names[strings.ToLower(j.Name)] = i
		for _, t := range j.Apart {
			members[strings.ToLower(t)] = append(members[strings.ToLower(t)], i)
		}
	}
	add := func(a, b int) {
		if a != b && !slices.Contains(c.apart[a], b) {
			c.apart[a], c.apart[b] = append(c.apart[a], b), append(c.apart[b], a)
		}
	}
	for name, list := range members {
		if i, ok := names[name]; ok { // a device: each is to be apart from it, and not from each other
			for _, k := range list {
				add(i, k)
			}
			continue
		}
		for x, a := range list {
			for _, b := range list[x+1:] {
				add(a, b)
			}
		}
	}
	return c
}

// orders are those in which devices are given to waves: the longest first; those with the most
// conflicts first; and the longest first, those with more conflicts before others.
func (c *conflicts) orders() [][]int {
	var out [][]int
	for _, before := range []func(a, b int) int{
		func(a, b int) int { return c.jobs[b].Minutes - c.jobs[a].Minutes },
		func(a, b int) int {
			return cmp.Or(len(c.apart[b])-len(c.apart[a]), c.jobs[b].Minutes-c.jobs[a].Minutes)
		},
		func(a, b int) int {
			return cmp.Or(c.jobs[b].Minutes-c.jobs[a].Minutes, len(c.apart[b])-len(c.apart[a]))
		},
	} {
		order := make([]int, len(c.jobs))
		for i := range order {
			order[i] = i
		}
		slices.SortStableFunc(order, before)
		out = append(out, order)
	}
	if len(c.jobs) <= maxSaturated {
		out = append(out, c.saturated())
	}
	return out
}

// maxSaturated bounds the devices whose order is found by how constrained each is.
const maxSaturated = 2000

// saturated is the order of Brélaz: next comes the device that most waves are closed to.
func (c *conflicts) saturated() []int {
	n := len(c.jobs)
	wave := make([]int, n) // 0: none yet
	closed := make([]map[int]bool, n)
	for i := range closed {
		closed[i] = map[int]bool{}
	}
	var out []int
	for range n {
		best := -1
		for i := range n {
			if wave[i] > 0 {
				continue
			}
			if best < 0 || cmp.Or(len(closed[i])-len(closed[best]), len(c.apart[i])-len(c.apart[best]), c.jobs[i].Minutes-c.jobs[best].Minutes) > 0 {
				best = i
			}
		}
		w := 1
		for closed[best][w] {
			w++
		}
		wave[best] = w
		for _, o := range c.apart[best] {
			closed[o][w] = true
		}
		out = append(out, best)
	}
	return out
}

// firstFit gives each device, in an order, to the first wave that takes it.
func (c *conflicts) firstFit(order []int) [][]int {
	var waves [][]int
	of := make([]int, len(c.jobs)) // 0: none yet
	for _, j := range order {
		shut := map[int]bool{}
		for _, o := range c.apart[j] {
			shut[of[o]] = true
		}
		w := 1
		for w <= len(waves) && (shut[w] || len(waves[w-1]) >= c.parallel) {
			w++
		}
		if w > len(waves) {
			waves = append(waves, nil)
		}
		waves[w-1] = append(waves[w-1], j)
		of[j] = w
	}
	return waves
}

// maxExact is up to how many devices the best division is searched for.
const maxExact = 12

// exact is the division into waves that takes the least time in all: the best for a set of
// devices is a wave with its first one, and the best for the rest.
func (c *conflicts) exact() [][]int {
	n := len(c.jobs)
	free := make([]bool, 1<<n) // sets that may be one wave
	long := make([]int, 1<<n)
	for set := range free {
		free[set] = true
		if set == 0 {
			continue
		}
		low := bits.TrailingZeros(uint(set))
		rest := set &^ (1 << low)
		long[set] = max(long[rest], c.jobs[low].Minutes)
		free[set] = free[rest] && bits.OnesCount(uint(set)) <= c.parallel
		for _, o := range c.apart[low] {
			free[set] = free[set] && set&(1<<o) == 0
		}
	}
	cost, first := make([]int, 1<<n), make([]int, 1<<n)
	for set := 1; set < 1<<n; set++ {
		low := set & -set
		cost[set] = 1 << 30
		for sub := set; sub > 0; sub = (sub - 1) & set {
			if sub&low != 0 && free[sub] && long[sub]+cost[set&^sub] < cost[set] {
				cost[set], first[set] = long[sub]+cost[set&^sub], sub
			}
		}
	}
	var waves [][]int
	for set := 1<<n - 1; set > 0; set &^= first[set] {
		var wave []int
		for i := range n {
			if first[set]&(1<<i) != 0 {
				wave = append(wave, i)
			}
		}
		waves = append(waves, wave)
	}
	return waves
}

// lay gives waves their times: the longest first, each in the first stretch of the night that
// holds it. over are the devices of those that found none.
func (n Night) lay(c *conflicts, division [][]int) (waves []Wave, over []int) {
	type laid struct {
		Wave
		jobs []int
	}
	var all []laid
	for _, d := range division {
		w := laid{jobs: d}
		slices.Sort(d)
		for _, j := range d {
			w.Jobs = append(w.Jobs, c.jobs[j])
			w.Minutes, w.Outage = max(w.Minutes, c.jobs[j].Minutes), max(w.Outage, c.jobs[j].Outage)
		}
		all = append(all, w)
	}
	slices.SortStableFunc(all, func(a, b laid) int { return b.Minutes - a.Minutes })
	stretches := n.stretches()
	for _, w := range all {
		i := slices.IndexFunc(stretches, func(s Span) bool { return s.To < 0 || s.From+w.Minutes <= s.To })
		if i < 0 {
			over = append(over, w.jobs...)
			continue
		}
		w.At = stretches[i].From
		stretches[i].From += w.Minutes
		waves = append(waves, w.Wave)
	}
	slices.SortStableFunc(waves, func(a, b Wave) int { return a.At - b.At })
	return waves, over
}

// stretches are what of the night is not excluded; the last has no end (-1) where the night has
// none.
func (n Night) stretches() []Span {
	var out []Span
	from := 0
	for _, x := range n.Excluded {
		if to := x.From; to > from {
			if n.Minutes > 0 {
				to = min(to, n.Minutes)
			}
			out = append(out, Span{From: from, To: to})
		}
		from = max(from, x.To)
	}
	switch {
	case n.Minutes == 0:
		out = append(out, Span{From: from, To: -1})
	case from < n.Minutes:
		out = append(out, Span{From: from, To: n.Minutes})
	}
	return out
}

func (n Night) fits(minutes int) bool {
	return slices.ContainsFunc(n.stretches(), func(s Span) bool { return s.To < 0 || s.From+minutes <= s.To })
}
