// Package manifest reads the lists that come with a package: manifests, in
// the form that the rulebook describes, and checksum lists.
//
// A manifest becomes records: one listed file each, with what is said of it
// as facts whose source is the line. What no pattern reads is a problem with
// its line number; nothing is skipped in silence.
package manifest

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/yamlfile"
)

// Manifest is what one manifest lists.
type Manifest struct {
	Address  string
	Records  []Record
	Problems []Problem
	// Refused is the bound that it passes; nil when it keeps to all.
	Refused *archive.BoundError

	limits archive.Limits
	facts  int
	seen   map[string]bool // records that stand there already, word for word
}

func begin(address string, l archive.Limits) *Manifest {
	return &Manifest{Address: address, limits: l, seen: map[string]bool{}}
}

// refuse notes the first bound that is passed.
func (m *Manifest) refuse(bound string, limit int) {
	if m.Refused == nil {
		m.Refused = &archive.BoundError{Item: m.Address, Bound: bound, Limit: int64(limit)}
	}
}

// keep adds a record. One that says the same as one before it is that one.
func (m *Manifest) keep(r Record) {
	var key strings.Builder
	fmt.Fprintf(&key, "%q %d %v", r.File, r.Size, r.Digests)
	for _, f := range r.Claim {
		key.WriteByte(0)
		key.WriteString(string(f.About))
		key.WriteByte(1)
		key.WriteString(f.Value)
	}
	if m.seen[key.String()] {
		return
	}
	if m.facts += len(r.Claim); m.facts > m.limits.Facts {
		m.refuse(archive.BoundFacts, m.limits.Facts)
	}
	if len(m.Records) >= m.limits.Records {
		m.refuse(archive.BoundRecords, m.limits.Records)
	}
	if m.Refused == nil {
		m.seen[key.String()] = true
		m.Records = append(m.Records, r)
	}
}

// MaxTold is how many problems of one text are told one by one; the others are counted.
const MaxTold = 100

// tell adds a problem to those of a text, or counts it.
func tell(all []Problem, p Problem) []Problem {
	switch n := len(all); {
	case n < MaxTold:
		return append(all, p)
	case n == MaxTold:
		return append(all, Problem{Line: p.Line, What: "it goes on like this: 1 more line", Advice: p.Advice, more: 1})
	}
	last := &all[MaxTold]
	last.more++
	last.What = fmt.Sprintf("it goes on like this: %d more lines", last.more)
	return all
}

// Record is one file that a manifest lists.
type Record struct {
	Line    int
	File    string // as written; relative to the manifest's folder, else to the package's root
	Size    int64  // -1 when the manifest does not say
	Digests []digest.Sum
	Claim   fact.Claim
}

// Problem is a line that cannot be used.
type Problem struct {
	Line         int
	What, Advice string

	more int // how many it stands for, where they are counted
}

// groups that are not facts.
const (
	groupFile = "file"
	groupSize = "size"
)

// CheckGroups tells whether all named groups of a pattern mean something; also are further
// names that do.
func CheckGroups(re *regexp.Regexp, also ...string) error {
	for _, g := range re.SubexpNames() {
		if g == "" || slices.Contains(also, g) || g == groupFile || g == groupSize || isDigest(g) {
			continue
		}
		if _, _, ok := fact.Lookup(g); !ok {
			known := append(fact.Names(), groupFile, groupSize, "md5", "sha1", "sha256", "sha512")
			slices.Sort(known)
			return fmt.Errorf("the group %q means nothing; groups are %s", g, strings.Join(known, ", "))
		}
	}
	return nil
}

// Digests lists the digests that a pattern reads.
func Digests(re *regexp.Regexp) []digest.Algorithm {
	var out []digest.Algorithm
	if re != nil {
		for _, g := range re.SubexpNames() {
			if isDigest(g) {
				out = append(out, digest.Algorithm(g))
			}
		}
	}
	return out
}

func isDigest(group string) bool {
	return group != "" && digest.Known(digest.Algorithm(group)) && group != string(digest.CRC32)
}

// add takes one named value into the record.
func (m *Manifest) add(r *Record, name, value string, src fact.Source) error {
	value = strings.TrimSpace(value)
	if value == "" {
		return nil
	}
	switch {
	case name == groupFile:
		r.File = value
	case name == groupSize:
		n, err := yamlfile.ParseSize(value)
		if err != nil {
			return err
		}
		r.Size = n
	case isDigest(name):
		sum, err := digest.Check(digest.Algorithm(name), value)
		if err != nil {
			return err
		}
		r.Digests = append(r.Digests, sum)
	default:
		about, list, ok := fact.Lookup(name)
		if !ok {
			return fmt.Errorf("%q is not the name of a fact", name)
		}
		values := []string{value}
		if list {
			values = distinct(fact.Split(about, value))
		}
		if len(values) > m.limits.Values {
			m.refuse(archive.BoundValues, m.limits.Values)
			return nil
		}
		for _, v := range values {
			r.Claim = append(r.Claim, fact.Fact{About: about, Value: v, Source: src})
		}
	}
	return nil
}

// distinct drops values that stand there already.
func distinct(values []string) []string {
	if len(values) < 2 {
		return values
	}
	seen := make(map[string]bool, len(values))
	return slices.DeleteFunc(values, func(v string) bool {
		had := seen[v]
		seen[v] = true
		return had
	})
}

// eachLine calls do for the lines that say something.
func eachLine(data []byte, do func(number int, line string)) {
	number := 0
	for line := range strings.SplitSeq(strings.TrimPrefix(string(data), "\ufeff"), "\n") {
		number++
		line = strings.TrimRight(line, " \t\r")
		if strings.TrimSpace(line) == "" || strings.HasPrefix(strings.TrimSpace(line), "#") {
			continue
		}
		do(number, line)
	}
}
