package page

import "strings"

// tightness is how much more than asked for is folded, to fit a screen. What it takes away is
// all in this file; what is read first goes last.
type tightness int

// tightest is as far as it goes.
const tightest tightness = 9

// most is what may be shown of as many; by is what a turn leaves out, and least what stays.
func (t tightness) most(n, by, least int) int {
	if n == 0 || t == 0 {
		return n
	}
	if t > 7 {
		least = (least + 1) / 2
	}
	return max(min(n, least), n-by*int(t))
}

// full is how many entries are told in full: they give way after those that are not.
func (t tightness) full(n int) int {
	if n > 0 && t > 0 {
		return max(1, n-(int(t)-1))
	}
	return n
}

// flat tells tables to give a row one line.
func (t tightness) flat() bool { return t > 2 }

// lines is how many lines an entry gets that need not be told in full, 0 for all it takes. A
// command is never cut.
func (t tightness) lines(it Item, short bool) int {
	switch {
	case it.Tone == Code || strings.Contains(it.Text, "fitcheck "):
		return 0
	case t > 6:
		return 1
	case short:
		return max(1, 2-int(t)/3)
	case t > 3 && len(it.Under) == 0:
		return 1
	}
	return 0
}

// bare says that nothing stands below an entry.
func (t tightness) bare() bool { return t > 6 }
