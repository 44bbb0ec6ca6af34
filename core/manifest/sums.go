package manifest

import (
	"regexp"
	"strings"

	"fitcheck/core/digest"
)

// Sums is a checksum list: one digest and one file name a line, as the
// common sum programs write it.
type Sums struct {
	Address  string
	Entries  []SumEntry
	Problems []Problem
}

// SumEntry is one line of a checksum list.
type SumEntry struct {
	Line int
	Sum  digest.Sum
	File string
}

// A line has the digest in hexadecimal, a blank, a blank or "*" (for binary),
// and the name. A backslash in front says that the name has escapes.
var sumLine = regexp.MustCompile(`^(\\?)([0-9a-fA-F]{32}|[0-9a-fA-F]{40}|[0-9a-fA-F]{64}|[0-9a-fA-F]{96}|[0-9a-fA-F]{128}) [ *](.+)$`)

var byLength = map[int]digest.Algorithm{32: digest.MD5, 40: digest.SHA1, 64: digest.SHA256, 96: digest.SHA384, 128: digest.SHA512}

var sumEscapes = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r")

// IsSums tells a checksum list by its first line that says something.
func IsSums(head []byte) bool {
	is, first := false, true
	eachLine(head, func(_ int, line string) {
		if first {
			is = sumLine.MatchString(line)
		}
		first = false
	})
	return is
}

// ReadSums reads a checksum list.
func ReadSums(address string, data []byte) *Sums {
	s := &Sums{Address: address}
	eachLine(data, func(number int, line string) {
		m := sumLine.FindStringSubmatch(line)
		if m == nil {
			s.Problems = append(s.Problems, Problem{number, "not a line of a checksum list: a digest in hexadecimal, two blanks and a file name", "get the list from the maker again"})
			return
		}
		name := m[3]
		if m[1] != "" {
			name = sumEscapes.Replace(name)
		}
		s.Entries = append(s.Entries, SumEntry{number, digest.Sum{Algorithm: byLength[len(m[2])], Hex: strings.ToLower(m[2])}, name})
	})
	return s
}
