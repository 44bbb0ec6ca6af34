package draft

import (
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fitcheck/core/notes"
	"fitcheck/core/survey"
	"fitcheck/internal/pagetest"
)

// TestWhatEachWordBrings drafts again from notes, a capture, a table and manifests of which a line or a word is
// missing, or a number is another, and holds what that changes in the draft against testdata/turned.txt.
func TestWhatEachWordBrings(t *testing.T) {
	var b strings.Builder
	packages := surveyed(t, nil, "qm-core-6.3.0.zip", "qm-core-6.4.1.zip")
	texts := map[string]string{"notes.txt": sentences, "more.txt": moreSentences, "other.txt": otherSentences, "one.txt": capture, "two.txt": otherCapture, "three.txt": tabled, "four.txt": mixed, "moves.csv": moves}
	of := func(name, text string) Input {
		switch {
		case slices.Contains([]string{"one.txt", "two.txt", "three.txt", "four.txt"}, name):
			return Input{Packages: packages, Captures: []Text{{name, []byte(text)}}}
		case name == "moves.csv":
			return Input{Packages: packages, Tables: []Text{{name, []byte(text)}}}
		default:
			doc, err := notes.Read(name, []byte(text), nil)
			if err != nil {
				return Input{Packages: packages}
			}
			return Input{Packages: packages, Notes: []Note{{name, doc}}}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		turn(&b, name, texts[name], func(text string) Input { return of(name, text) })
	}
	for _, name := range slices.Sorted(maps.Keys(outerFields)) {
		m := outerFields[name]
		turn(&b, name, m.text, func(text string) Input {
			return Input{Packages: []*survey.Survey{zipped(t, "kx-8.4.2.zip", m.name, text)}}
		})
	}
	pagetest.Hold(t, filepath.Join("testdata", "turned.txt"), b.String())
}

// turn tells how the draft differs when a line or a word of a text is missing, or a number another; what was told of
// another place is not told again.
func turn(b *strings.Builder, name, text string, input func(text string) Input) {
	fmt.Fprintf(b, "## %s\n", name)
	changes := pagetest.Changes{Sound: drafted(input(text)), Alike: places}
	look := func(what, other string) {
		changes.Tell(b, what, drafted(input(other)))
	}
	for _, w := range anyWord.FindAllStringIndex(text, -1) {
		line := 1 + strings.Count(text[:w[0]], "\n")
		was := strings.TrimSpace(text[w[0]:w[1]])
		look(fmt.Sprintf("line %d without %q", line, was), text[:w[0]]+text[w[1]:])
		if strings.ContainsAny(was, "0123456789") {
			look(fmt.Sprintf("line %d, 6.2.0 for %q", line, was), text[:w[0]]+"6.2.0 "+text[w[1]:])
		} else {
			look(fmt.Sprintf("line %d, not for %q", line, was), text[:w[0]]+"not "+text[w[1]:])
		}
		changes.End(b, fmt.Sprintf("line %d, about %q", line, was))
	}
	at := 0
	for i, l := range strings.SplitAfter(text, "\n") {
		look(fmt.Sprintf("line %d away", i+1), text[:at]+text[at+len(l):])
		at += len(l)
	}
	changes.End(b, "a line away")
}

func drafted(in Input) []string {
	d := New(in)
	text := d.YAML()
	for _, n := range d.Notes {
		text += "# note: " + n + "\n"
	}
	return strings.Split(text, "\n")
}

var (
	anyWord = regexp.MustCompile(`[^\s,;{}\[\]<>/="]+ ?`)
	places  = regexp.MustCompile(`[\w.-]+:\d+(:\d+)?|line \d+`)
)

const moreSentences = `Kennelway core 6.4.1 (14 September 2026)

Before you begin
Do not install this release on a QM-48F of revision B1. Revision A1 boards need boot 1.9.3 or newer.
Versions earlier than 6.1 cannot be upgraded directly; install 6.1.2 and then 6.3.0.
From 6.0.4 upgrade to 6.1.2 first, then to 6.4.1.
At least 64 MB of memory and 20 MB of free storage are required.
Upgrades from 6.1.2 through 6.2 go by way of 6.3.0.
Once 6.4.1 is installed it is no longer possible to return to 6.3.0 without a factory reset.
The configuration is lost when you go below 6.3.
All members of a stack must run the same version.

Known problems
Release 6.3.1 was recalled.
The QM-48C is no longer supported from 6.5.
`

const otherSentences = `# Release 6.4.1

This release was withdrawn: uplinks flap.
It is for the models QM-48C and QM-48F, revisions A1-A2 and B1.
Installing takes 12 minutes.
The outage lasts about 4 minutes.
Before you install it, unpack the archive.
The memory must be at least 512 MB.
It no longer supports revision A1 of the QM-48C.
Upgrades from 6.1 are not supported.
Roll back to 6.3.0 if ports stay down.
The boot loader 1.9.3 comes with this release, and is installed first.

| From | To | Via |
|---|---|---|
| 6.0.x | 6.4.1 | 6.1.2, 6.3.0 |
| 6.1.2 | 6.4.1 | 6.3.0 |
`

const otherCapture = `stack-1> show units
Unit 1
  Model number    : QM-48C
  Board revision  : A1
  Serial no       : 0601-117
  Total memory    : 512 MB
  Flash free      : 96 MB of 256 MB
  Bootloader      : 1.9.3
  Running image   : 6.3.0 (built 2026-05-01)
Unit 2
  Model number    : QM-48F
  Board revision  : B1
  Serial no       : 0601-118
  Total memory    : 512 MB
  Flash free      : 96 MB of 256 MB
  Bootloader      : 1.9.3
  Running image   : 6.3.0 (built 2026-05-01)
  PoE firmware    : 2.1
Image A: 6.3.0 active
Image B: 6.1.2 standby, next
stack-1>
`

const tabled = `Kennelway core switch

core-9> show all
Hostname
    core-9
Model
    QM-48C
Hardware revision
    A1
Software
    6.3.0
Boot loader version is 1.9.3, built in May
Uptime: 3 days
System image file is "qm-core-6.3.0.img"
Bank  Version  State
1     6.3.0    running
2     6.1.2    next
core-9> show inventory
Slot A: empty
`

const mixed = `Product: QM-48C rev A1
System serial: 0601-119, board QM-48C (rev. B1)
core-3 uses: QM-48F
Part: see the label
Boot ROM ........ 1.9.3
Total memory: 1,5 GB of DDR
Free flash: 12.3M, in 2 banks
Software: Tram core
  Version: 6.3.0
Model:
`
