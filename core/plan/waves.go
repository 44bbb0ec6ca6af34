package plan

import (
	"fmt"
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
	if v[0] > 24 || v[2] > 24 || v[1] > 59 || v[3] > 59 {
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
	// other devices.
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

// apart tells whether two devices must not be without service at one time.
func (a Job) apart(b Job) bool {
	for _, t := range a.Apart {
		if strings.EqualFold(t, b.Name) || slices.ContainsFunc(b.Apart, func(o string) bool { return strings.EqualFold(o, t) }) {
			return true
		}
	}
	return slices.ContainsFunc(b.Apart, func(o string) bool { return strings.EqualFold(o, a.Name) })
}

// Waves places devices in a night: no two that are to be apart in one wave, none in what is
// excluded or beyond the end. The longest are placed first, each in the first wave that takes
// it, so that waves are of like length.
func (n Night) Waves(jobs []Job) (waves []Wave, left []Unplaced) {
	jobs = slices.Clone(jobs)
	slices.SortStableFunc(jobs, func(a, b Job) int { return b.Minutes - a.Minutes })
	for _, j := range jobs {
		switch {
		case j.Minutes <= 0:
			left = append(left, Unplaced{j, "the rulebook does not say how long it takes"})
			continue
		case !n.fits(j.Minutes):
			left = append(left, Unplaced{j, fmt.Sprintf("it takes %d min, and the night has no stretch as long", j.Minutes)})
			continue
		}
		i := slices.IndexFunc(waves, func(w Wave) bool {
			return (n.Parallel == 0 || len(w.Jobs) < n.Parallel) && !slices.ContainsFunc(w.Jobs, j.apart)
		})
		if i < 0 {
			waves = append(waves, Wave{})
			i = len(waves) - 1
		}
		waves[i].Jobs = append(waves[i].Jobs, j)
		waves[i].Minutes, waves[i].Outage = max(waves[i].Minutes, j.Minutes), max(waves[i].Outage, j.Outage)
	}
	var placed []Wave
	at := 0
	for _, w := range waves { // the longest first: shorter ones find room behind them
		begin, ok := n.place(at, w.Minutes)
		if !ok {
			for _, j := range w.Jobs {
				left = append(left, Unplaced{j, fmt.Sprintf("the night is over: it takes %d min", j.Minutes)})
			}
			continue
		}
		w.At = begin
		at = begin + w.Minutes
		placed = append(placed, w)
	}
	return placed, left
}

// place finds the first minute from which on a stretch is free.
func (n Night) place(from, minutes int) (int, bool) {
	for _, x := range n.Excluded {
		if from < x.To && from+minutes > x.From {
			from = x.To
		}
	}
	return from, n.Minutes == 0 || from+minutes <= n.Minutes
}

func (n Night) fits(minutes int) bool {
	_, ok := n.place(0, minutes)
	return ok
}
