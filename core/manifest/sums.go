package manifest

import (
	"path"
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

// A plain line has the digest in hexadecimal, a blank, a blank or "*" (for
// binary), and the name; a backslash in front says that the name has escapes.
// A tagged one has the algorithm, the name in brackets, "=" and the digest.
var (
	sumLine    = regexp.MustCompile(`^(\\?)([0-9a-fA-F]{8}|[0-9a-fA-F]{32}|[0-9a-fA-F]{40}|[0-9a-fA-F]{64}|[0-9a-fA-F]{96}|[0-9a-fA-F]{128}) [ *](.+)$`)
	taggedLine = regexp.MustCompile(`^(\\?)(MD5|SHA1|SHA256|SHA384|SHA512|SHA2-256|SHA2-384|SHA2-512|SHA-1|SHA-256|SHA-384|SHA-512|CRC32) ?\((.+)\) ?= ?([0-9a-fA-F]+)$`)
	loneDigest = regexp.MustCompile(`^(?:[0-9a-fA-F]{8}|[0-9a-fA-F]{32}|[0-9a-fA-F]{40}|[0-9a-fA-F]{64}|[0-9a-fA-F]{96}|[0-9a-fA-F]{128})$`)
)

var byLength = map[int]digest.Algorithm{8: digest.CRC32, 32: digest.MD5, 40: digest.SHA1, 64: digest.SHA256, 96: digest.SHA384, 128: digest.SHA512}

var sumEscapes = strings.NewReplacer(`\\`, `\`, `\n`, "\n", `\r`, "\r")

// IsSums tells a checksum list by its first line that says something.
func IsSums(head []byte) bool {
	is, first := false, true
	eachLine(head, func(_ int, line string) {
		if first {
			m := sumLine.FindStringSubmatch(line)
			is = m != nil && len(m[2]) > 8 || taggedLine.MatchString(line)
		}
		first = false
	})
	return is
}

// ReadSums reads a checksum list.
func ReadSums(address string, data []byte) *Sums {
	s := &Sums{Address: address}
	eachLine(data, func(number int, line string) {
		e, ok := sumEntry(line)
		if !ok {
			s.Problems = tell(s.Problems, Problem{Line: number, What: "not a line of a checksum list: a digest in hexadecimal, two blanks and a file name, or ALGORITHM (NAME) = DIGEST", Advice: "get the list from the maker again"})
			return
		}
		e.Line = number
		s.Entries = append(s.Entries, e)
	})
	return s
}

func sumEntry(line string) (SumEntry, bool) {
	var escaped, name, hex string
	var a digest.Algorithm
	if m := sumLine.FindStringSubmatch(line); m != nil {
		escaped, name, hex, a = m[1], m[3], m[2], byLength[len(m[2])]
	} else if m := taggedLine.FindStringSubmatch(line); m != nil {
		escaped, name, hex = m[1], m[3], m[4]
		a = digest.Algorithm(strings.ToLower(strings.ReplaceAll(strings.Replace(m[2], "SHA2-", "SHA", 1), "-", "")))
	} else {
		return SumEntry{}, false
	}
	sum, err := digest.Check(a, hex)
	if err != nil {
		return SumEntry{}, false
	}
	if escaped != "" {
		name = sumEscapes.Replace(name)
	}
	return SumEntry{Sum: sum, File: name}, true
}

// ReadBeside reads a checksum file that lies beside a download: a list, or one
// digest alone. It returns what is said of the file of that name.
func ReadBeside(address string, data []byte, name string) []SumEntry {
	var out []SumEntry
	eachLine(data, func(number int, line string) {
		if line = strings.TrimSpace(line); loneDigest.MatchString(line) {
			sum := digest.Sum{Algorithm: byLength[len(line)], Hex: strings.ToLower(line)}
			out = append(out, SumEntry{number, sum, name})
		} else if e, ok := sumEntry(line); ok && path.Base(strings.ReplaceAll(e.File, `\`, "/")) == name {
			e.Line = number
			out = append(out, e)
		}
	})
	return out
}
