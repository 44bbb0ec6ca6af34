package device

import (
	"regexp"
	"strconv"
	"strings"

	"fitcheck/core/fact"
)

// How read_from of a device file says where a value was read. In memory it is a fact.Source, as
// everywhere; only here is it made of a text, and Source.Where makes a text of it again.

// ByHand begins a text of read_from whose value a person gave.
const ByHand = "-set"

// Planned begins a text of read_from whose value a plan promises.
const Planned = "planned:"

// GuessMark ends a text of read_from whose value was only guessed.
const GuessMark = " (guess)"

// linePlace is "FILE:LINE", as of a capture; bytePlace "FILE at 0xOFFSET, N bytes", as of an EEPROM.
var (
	linePlace = regexp.MustCompile(`^(.+):(\d+)$`)
	bytePlace = regexp.MustCompile(`^(.+) at 0x([0-9a-f]+), (\d+) bytes?$`)
)

// ReadFrom is the source that a text of read_from names, and whether the value was only guessed.
// What is neither a line nor bytes of a file stands for itself, such as "label on the box".
func ReadFrom(text string) (s fact.Source, guess bool) {
	text, guess = strings.CutSuffix(text, GuessMark)
	s = fact.Source{Kind: fact.Capture, File: text}
	switch {
	case strings.HasPrefix(text, ByHand):
		s.Kind = fact.Command
		return s, guess
	case strings.HasPrefix(text, Planned):
		s.Kind = fact.DeviceFile
		return s, guess
	}
	if m := linePlace.FindStringSubmatch(text); m != nil {
		if n, err := strconv.Atoi(m[2]); err == nil && n > 0 {
			s.File, s.Line = m[1], n
		}
	} else if m := bytePlace.FindStringSubmatch(text); m != nil {
		at, err1 := strconv.ParseInt(m[2], 16, 64)
		n, err2 := strconv.ParseInt(m[3], 10, 64)
		if err1 == nil && err2 == nil && n > 0 {
			s.File, s.Offset, s.Size = m[1], at, n
		}
	}
	return s, guess
}

// byHand is the source of a value that a person gives.
func byHand(text string) fact.Source {
	return fact.Source{Kind: fact.Command, File: ByHand + " " + text}
}

// lineOf is a line of a source.
func lineOf(file string, number int) fact.Source {
	return fact.Source{Kind: fact.Capture, File: file, Line: number}
}
