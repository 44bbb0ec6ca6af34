package version

import "strings"

// class orders the kinds of run against each other and against nothing:
// a pre-release word < nothing < other letters < digits.
type class int

const (
	preRelease class = iota
	nothing
	letters
	digits
)

type run struct {
	class class
	text  string // digits without leading zeros, letters in lower case
}

// natural compares two texts run by run: digits as numbers of any length,
// letters as letters without regard to case; everything else separates.
func natural(a, b string) int {
	return compareRuns(canonical(runs(a)), canonical(runs(b)))
}

func compareRuns(ra, rb []run) int {
	for i := 0; i < len(ra) || i < len(rb); i++ {
		x, y := run{class: nothing}, run{class: nothing}
		if i < len(ra) {
			x = ra[i]
		}
		if i < len(rb) {
			y = rb[i]
		}
		if c := x.compare(y); c != 0 {
			return c
		}
	}
	return 0
}

func (x run) compare(y run) int {
	switch {
	case x.class != y.class:
		return sign(int(x.class) - int(y.class))
	case x.class == digits && len(x.text) != len(y.text):
		return sign(len(x.text) - len(y.text))
	}
	return strings.Compare(x.text, y.text)
}

// canonical takes out the numbers that are 0 at the end of a row of numbers: 5.1
// and 5.1.0 are one version, and so are 5.1-rc2 and 5.1.0-rc2.
func canonical(all []run) []run {
	out := all[:0]
	for i, r := range all {
		if r.class == digits && r.text == "" {
			k := i
			for k < len(all) && all[k].class == digits && all[k].text == "" {
				k++
			}
			if k == len(all) || all[k].class != digits {
				continue
			}
		}
		out = append(out, r)
	}
	return out
}

func sign(n int) int {
	switch {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

// runs cuts a text into runs of digits and of letters. A leading "v" before a
// digit is decoration.
func runs(s string) []run {
	s = strings.ToLower(strings.TrimSpace(s))
	if len(s) > 1 && s[0] == 'v' && isDigit(s[1]) {
		s = s[1:]
	}
	var out []run
	for i := 0; i < len(s); {
		j := i
		switch {
		case isDigit(s[i]):
			for j < len(s) && isDigit(s[j]) {
				j++
			}
			out = append(out, run{digits, strings.TrimLeft(s[i:j], "0")})
		case isLetter(s[i]):
			for j < len(s) && isLetter(s[j]) {
				j++
			}
			r := run{letters, s[i:j]}
			switch r.text {
			case "alpha", "beta", "pre", "rc", "dev":
				r.class = preRelease
			}
			out = append(out, r)
		default:
			j++
		}
		i = j
	}
	return out
}

func isDigit(c byte) bool  { return c >= '0' && c <= '9' }
func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 0x80 }
