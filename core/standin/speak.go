package standin

import (
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
)

// A stand-in speaks as the devices of its line do: its lines are made from the patterns by
// which the rulebook reads their captures, so that they are read back.

// speak makes a line that a pattern reads, with values in its groups: by name, or, where there
// is no named group, in the first. ok is false for a pattern that cannot be spoken by.
func speak(re *regexp.Regexp, values map[string]string, first string) (line string, ok bool) {
	tree, err := syntax.Parse(re.String(), syntax.Perl)
	if err != nil {
		return "", false
	}
	names := re.SubexpNames()
	given := func(n int) (string, bool) {
		if n < len(names) && names[n] != "" {
			v, ok := values[names[n]]
			return v, ok
		}
		return first, n == 1 && first != ""
	}
	for _, blanks := range []bool{true, false} { // between words they read better
		s := &speaker{given: given, blanks: blanks}
		s.say(tree)
		if s.failed || !reads(re, s.b.String(), given) {
			continue
		}
		return s.b.String(), true
	}
	return "", false
}

// reads tells whether a pattern reads a line as it was meant.
func reads(re *regexp.Regexp, line string, given func(int) (string, bool)) bool {
	m := re.FindStringSubmatch(line)
	if m == nil {
		return false
	}
	for n := 1; n < len(m); n++ {
		v, ok := given(n)
		switch {
		case !ok:
		case v == mark && m[n] == "", v != mark && strings.TrimSpace(m[n]) != strings.TrimSpace(v):
			return false
		}
	}
	return true
}

type speaker struct {
	b      strings.Builder
	given  func(n int) (string, bool)
	blanks bool
	failed bool
}

// say writes the shortest text of a part of a pattern.
//
// In one piece: the operators of a regular expression, one after the other.
func (s *speaker) say(re *syntax.Regexp) {
	switch re.Op {
	case syntax.OpLiteral:
		s.b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		s.b.WriteRune(pick(re.Rune))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		s.b.WriteByte('-')
	case syntax.OpCapture:
		v, ok := s.given(re.Cap)
		switch {
		case ok && v == mark: // it matters only that it is there
			s.say(re.Sub[0])
		case ok:
			s.b.WriteString(v)
		default:
			s.say(re.Sub[0])
		}
	case syntax.OpStar:
		if s.wanted(re) {
			s.say(re.Sub[0])
		} else if s.blanks && blank(re.Sub[0]) {
			s.b.WriteByte(' ')
		}
	case syntax.OpPlus:
		s.say(re.Sub[0])
	case syntax.OpQuest:
		if s.wanted(re) {
			s.say(re.Sub[0])
		}
	case syntax.OpRepeat:
		n := re.Min
		if n == 0 && s.wanted(re) {
			n = 1
		}
		for range min(n, 64) {
			s.say(re.Sub[0])
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			s.say(sub)
		}
	case syntax.OpAlternate:
		i := max(0, slices.IndexFunc(re.Sub, s.wanted))
		s.say(re.Sub[i])
	case syntax.OpEmptyMatch, syntax.OpBeginLine, syntax.OpEndLine, syntax.OpBeginText, syntax.OpEndText, syntax.OpWordBoundary, syntax.OpNoWordBoundary:
	default:
		s.failed = true
	}
}

// mark is the value of a group that only marks something, as (\s+\*)? does.
const mark = "\x00"

// wanted tells a part in which a group has a value.
func (s *speaker) wanted(re *syntax.Regexp) bool {
	if re.Op == syntax.OpCapture {
		if v, ok := s.given(re.Cap); ok && v != "" {
			return true
		}
	}
	return slices.ContainsFunc(re.Sub, s.wanted)
}

func blank(re *syntax.Regexp) bool {
	return re.Op == syntax.OpCharClass && pick(re.Rune) == ' ' || re.Op == syntax.OpLiteral && string(re.Rune) == " "
}

// pick takes a character of a class that is easy to read: a blank where it has one, else a
// letter or a digit, else the first.
func pick(ranges []rune) rune {
	has := func(r rune) bool {
		for i := 0; i+1 < len(ranges); i += 2 {
			if ranges[i] <= r && r <= ranges[i+1] {
				return true
			}
		}
		return false
	}
	for _, r := range " x0A-" {
		if has(r) {
			return r
		}
	}
	for i := 0; i+1 < len(ranges); i += 2 {
		if ranges[i] >= ' ' {
			return ranges[i]
		}
	}
	return 'x'
}
