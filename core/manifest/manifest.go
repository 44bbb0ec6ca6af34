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

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/yamlfile"
)

// Manifest is what one manifest lists.
type Manifest struct {
	Address  string
	Records  []Record
	Problems []Problem
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
}

// groups that are not facts.
const (
	groupFile = "file"
	groupSize = "size"
)

// CheckGroups tells whether all named groups of a pattern mean something.
func CheckGroups(re *regexp.Regexp) error {
	for _, g := range re.SubexpNames() {
		if g == "" || g == groupFile || g == groupSize || isDigest(g) {
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
func (r *Record) add(name, value string, src fact.Source) error {
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
			values = fact.Split(about, value)
		}
		for _, v := range values {
			r.Claim = append(r.Claim, fact.Fact{About: about, Value: v, Source: src})
		}
	}
	return nil
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
