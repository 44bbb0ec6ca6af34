package manifest

import (
	"fmt"
	"regexp"
	"slices"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

// Lines is the form "lines": what a heading says holds for the records under
// it, until the next heading.
type Lines struct {
	Heading *regexp.Regexp // may be nil
	Record  *regexp.Regexp
	// Means turns a group and what it read into the fact that it stands for; nil takes groups
	// as they are.
	Means func(group, text string) (fact, value string)
}

// Read reads a manifest of this form.
func (l Lines) Read(address string, data []byte, limits archive.Limits) *Manifest {
	m := begin(address, limits)
	var group Record
	eachLine(data, func(number int, line string) {
		if m.Refused != nil {
			return
		}
		src := fact.Source{Kind: fact.Manifest, File: address, Line: number}
		if l.Heading != nil {
			if match := l.Heading.FindStringSubmatch(line); match != nil {
				group = Record{Size: -1}
				if err := m.addGroups(&group, l, l.Heading, match, src); err != nil {
					m.problem(number, fmt.Sprintf("heading: %v", err))
				}
				return
			}
		}
		match := l.Record.FindStringSubmatch(line)
		if match == nil {
			m.problem(number, fmt.Sprintf("no pattern of the rulebook reads %q", line))
			return
		}
		r := Record{Line: number, Size: -1, Claim: slices.Clone(group.Claim), File: group.File}
		if err := m.addGroups(&r, l, l.Record, match, src); err != nil {
			m.problem(number, err.Error())
			return
		}
		if r.File == "" {
			m.problem(number, "the record names no file")
			return
		}
		m.keep(r)
	})
	return m
}

func (m *Manifest) problem(line int, what string) {
	m.Problems = tell(m.Problems, Problem{Line: line, What: what, Advice: "correct the manifest's pattern in the rulebook, or ask the maker what the line means"})
}

// addGroups takes the named groups of a match. What a record says replaces
// what the heading above it said of the same thing.
func (m *Manifest) addGroups(r *Record, l Lines, re *regexp.Regexp, match []string, src fact.Source) error {
	for i, name := range re.SubexpNames() {
		if name == "" || match[i] == "" {
			continue
		}
		value := match[i]
		if l.Means != nil {
			name, value = l.Means(name, value)
		}
		if about, _, ok := fact.Lookup(name); ok {
			r.Claim = slices.DeleteFunc(r.Claim, func(f fact.Fact) bool { return f.About == about && f.Source.Line != src.Line })
		}
		if err := m.add(r, name, value, src); err != nil {
			return err
		}
	}
	return nil
}
