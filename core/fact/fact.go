// Package fact holds the currency of Fit Check: a value together with the
// place it was read from.
//
// Readers (image headers, manifests, device files, rulebooks) produce facts;
// everything that judges consumes facts and hands them on, so that each line
// of a verdict can say where both of its sides came from. Nothing downstream
// of reading handles a bare string.
package fact

import (
	"fmt"
	"strings"
)

// Kind tells what sort of source a fact was read from.
type Kind string

// The kinds of source, as they appear in JSON and on screen.
const (
	Header     Kind = "header"
	Manifest   Kind = "manifest"
	Checksums  Kind = "checksums"
	FileName   Kind = "name"
	Capture    Kind = "capture"
	DeviceFile Kind = "device file"
	Rulebook   Kind = "rulebook"
	Command    Kind = "command line"
	Content    Kind = "content" // computed from the bytes themselves
)

// Name says what a fact is about. Plural spellings (models, boards,
// revisions) never appear here: a list becomes several facts.
type Name string

// What facts can be about.
const (
	Model     Name = "model"
	Board     Name = "board"
	Revision  Name = "revision"
	Arch      Name = "arch"
	Family    Name = "family"
	Version   Name = "version"
	Build     Name = "build"
	Component Name = "component"
	Region    Name = "region"
	Platform  Name = "platform"
	Feature   Name = "feature"
	// Hypervisor is what a virtual device runs on.
	Hypervisor Name = "hypervisor"
	Built      Name = "built"
	Title      Name = "title"
	OS         Name = "os"
	Type       Name = "type"
)

// names maps every spelling that files may use to its fact name; true marks a
// plural, whose text is a list.
var names = map[string]struct {
	name Name
	list bool
}{
	"model": {Model, false}, "models": {Model, true},
	"board": {Board, false}, "boards": {Board, true},
	"revision": {Revision, false}, "revisions": {Revision, true},
	"arch": {Arch, false}, "family": {Family, false}, "version": {Version, false},
	"build": {Build, false}, "component": {Component, false}, "region": {Region, false},
	"platform": {Platform, false}, "feature": {Feature, false}, "hypervisor": {Hypervisor, false}, "built": {Built, false},
}

// Names lists the spellings that rulebooks may use for named groups.
func Names() []string {
	out := make([]string, 0, len(names))
	for n := range names {
		out = append(out, n)
	}
	return out
}

// Lookup resolves a spelling as used in rulebooks ("models") to the fact name
// and whether its text is a list.
func Lookup(spelling string) (name Name, list, ok bool) {
	n, ok := names[spelling]
	return n.name, n.list, ok
}

// Split cuts the text of a list: at commas, semicolons, bars and blanks, for boards not at
// commas, because board identifiers contain them.
func Split(name Name, text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool {
		return r == ' ' || r == '\t' || r == ';' || r == '|' || r == ',' && name != Board
	})
}

// Source is the place a value was read from.
type Source struct {
	Kind Kind
	// File is a path or the address of an item (levels joined by "::").
	File string
	// Line and Column count from 1; 0 means unknown.
	Line, Column int
	// Offset and Size give a stretch of bytes; Size 0 means none.
	Offset, Size int64
	// Via is the earlier source that a file repeats, for example the capture line that a
	// device file says a value was read from; zero where there is none.
	Via Origin
}

// String is the place, for messages.
func (s Source) String() string { return s.Where() }

// Given tells whether there is one.
func (s Source) Given() bool { return s != Source{} }

// Origin is a source without what it repeats in its turn.
type Origin struct {
	Kind         Kind
	File         string
	Line, Column int
	Offset, Size int64
}

// Origin is the source as one that another repeats.
func (s Source) Origin() Origin {
	return Origin{s.Kind, s.File, s.Line, s.Column, s.Offset, s.Size}
}

// Given tells whether there is one.
func (o Origin) Given() bool { return o != Origin{} }

// Where is the place in one line.
func (o Origin) Where() string {
	return Source{o.Kind, o.File, o.Line, o.Column, o.Offset, o.Size, Origin{}}.Where()
}

// Where is the place in one line: "cab.yaml:5", "x.img at 0x20, 32 bytes".
func (s Source) Where() string {
	where := s.File
	switch {
	case s.Size > 0:
		where += fmt.Sprintf(" at 0x%x, %d %s", s.Offset, s.Size, map[bool]string{true: "byte", false: "bytes"}[s.Size == 1])
	case s.Line > 0:
		where += fmt.Sprintf(":%d", s.Line)
	}
	if s.Via.Given() {
		where = s.Via.Where() + " by way of " + where
	}
	return where
}

// Strength orders sources by how far they can be trusted.
type Strength int

// From weakest to strongest. Only what is above ByName can make a "fits".
const (
	ByName    Strength = iota + 1 // file and folder names, checksum lists
	Stated                        // manifest, header without a checksum that holds
	Protected                     // header whose checksum holds, signed manifest
)

// Fact is one value and where it was read.
type Fact struct {
	About  Name
	Value  string
	Source Source
	// Protected: a checksum that holds, or a signature, covers the value.
	Protected bool
	// Open: the value is one of several, joined by "|", and the source does
	// not say which. Such a fact can exclude a device but never name it.
	Open bool
	// Payload: a part that the image starts says so, and not the header around it.
	Payload bool
}

// Strength tells how far the fact can be trusted.
func (f Fact) Strength() Strength {
	switch f.Source.Kind {
	case FileName, Checksums:
		return ByName
	case Header, Manifest:
		if f.Protected {
			return Protected
		}
		return Stated
	default: // what the user, the device or the rulebook says is taken as said
		return Protected
	}
}

// Text is the value as shown to people.
func (f Fact) Text() string {
	if f.Open {
		return strings.ReplaceAll(f.Value, "|", " or ")
	}
	return f.Value
}

// Known reports whether the fact holds a value at all.
func (f Fact) Known() bool { return f.Value != "" }

// Claim is what one place says, taken together: a header, or one record of a
// manifest. Several facts about one thing are alternatives.
type Claim []Fact

// About returns the facts of the claim about one thing.
func (c Claim) About(n Name) []Fact {
	from, to := -1, 0
	for i := range c {
		if c[i].About != n {
			continue
		}
		if from >= 0 && to != i { // they do not stand together
			return c.gather(n)
		}
		if from < 0 {
			from = i
		}
		to = i + 1
	}
	if from < 0 {
		return nil
	}
	return c[from:to:to]
}

func (c Claim) gather(n Name) []Fact {
	var out []Fact
	for i := range c {
		if c[i].About == n {
			out = append(out, c[i])
		}
	}
	return out
}

// Witness is one source that speaks of an item. A header makes one claim; a
// manifest makes one per record that lists the item, and any one of them may
// be the one for a given device.
type Witness struct {
	Kind   Kind
	Name   string // the header's format, the manifest's address
	Claims []Claim
}

// About returns the facts of all claims about one thing.
func (w Witness) About(n Name) []Fact {
	var out []Fact
	for _, c := range w.Claims {
		out = append(out, c.About(n)...)
	}
	return out
}

// Values joins the distinct texts of facts for display.
func Values(facts []Fact) string {
	var out []string
	seen := map[string]bool{}
	for _, f := range facts {
		if t := f.Text(); !seen[t] {
			seen[t] = true
			out = append(out, t)
		}
	}
	return strings.Join(out, ", ")
}
