package rulebook

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strings"
)

// A line that ends in "# GUESS" and what it was guessed from is a guess: a draft writes such
// lines, and who confirms one takes the mark away. Until then it decides nothing, for any
// command.

var guessMark = regexp.MustCompile(`^\s*[^#\s].*\s#\s*GUESS\b`)

var topKey = regexp.MustCompile(`^([a-z_]+):`)

// guesses are the lines of a rulebook that are guesses, and where its sections are.
type guesses struct {
	lines    []int
	sections []section // by their first line
}

type section struct {
	key  string
	line int
}

func findGuesses(data []byte) guesses {
	var g guesses
	for i, line := range bytes.Split(data, []byte("\n")) {
		if bytes.Contains(line, []byte("GUESS")) && guessMark.Match(line) {
			g.lines = append(g.lines, i+1)
		}
		if len(line) == 0 || line[0] == ' ' {
			continue
		}
		if m := topKey.FindSubmatch(line); m != nil {
			g.sections = append(g.sections, section{string(m[1]), i + 1})
		}
	}
	return g
}

// within is the first guess in a stretch of lines, from one to before another; 0 for none.
func (g *guesses) within(from, to int) int {
	i := sort.SearchInts(g.lines, from)
	if i < len(g.lines) && g.lines[i] < to {
		return g.lines[i]
	}
	return 0
}

const lastLine = 1 << 30

// section is the stretch of lines of a section.
func (g *guesses) section(key string) (from, to int) {
	for i, s := range g.sections {
		if s.key != key {
			continue
		}
		if i+1 < len(g.sections) {
			return s.line, g.sections[i+1].line
		}
		return s.line, lastLine
	}
	return lastLine, lastLine
}

// entry is the stretch of an entry of a section: to the next of its kind.
func (g *guesses) entry(key string, at int, all []int) (from, to int) {
	_, to = g.section(key)
	for _, line := range all {
		if line > at {
			to = min(to, line)
		}
	}
	return at, to
}

// GuessLines lists the lines of a rulebook's text that are guesses.
func GuessLines(data []byte) []int {
	g := findGuesses(data)
	return g.lines
}

// Guess is a line of a rulebook that is a guess; the zero value is none.
type Guess struct {
	File string
	Line int // from 1
}

func (g Guess) String() string { return fmt.Sprintf("%s:%d is a guess", g.File, g.Line) }

// GuessIn finds the first guess in a section.
func (r *Rulebook) GuessIn(key string) Guess {
	if r == nil {
		return Guess{}
	}
	return r.guess(r.guesses.within(r.guesses.section(key)))
}

func (r *Rulebook) guess(line int) Guess {
	if line == 0 {
		return Guess{}
	}
	return Guess{r.File, line}
}

// Guess finds the first guess that a judgement on a device rests on: one of its model, of its family, of
// how versions are read, of the moves, of the entry that reads a package, and of releases.
func (r *Rulebook) Guess(model, family string, entry *Package, releases ...*Release) Guess {
	if r == nil || len(r.guesses.lines) == 0 {
		return Guess{}
	}
	g := &r.guesses
	found := 0
	look := func(from, to int) {
		if line := g.within(from, to); line > 0 && (found == 0 || line < found) {
			found = line
		}
	}
	if e, ok := r.FindModel(model); ok {
		var all []int
		for _, m := range r.Models.Entries {
			all = append(all, m.Spot.Line)
		}
		look(g.entry("models", e.Spot.Line, all))
	}
	var families []int
	for _, f := range r.Families.Entries {
		families = append(families, f.Spot.Line)
	}
	for _, f := range r.Families.Entries {
		if strings.EqualFold(f.Key, family) {
			look(g.entry("families", f.Spot.Line, families))
		}
	}
	look(g.section("versions"))
	look(g.section("hops"))
	look(g.section("install"))
	look(g.section("transfer"))
	if entry != nil {
		var all []int
		for i := range r.Packages {
			all = append(all, r.Packages[i].Line)
		}
		if slices.ContainsFunc(r.Packages, func(p Package) bool { return p.Line == entry.Line }) {
			look(g.entry("packages", entry.Line, all))
		}
	}
	var lines []int
	for i := range r.Releases {
		lines = append(lines, r.Releases[i].Line)
	}
	for _, rel := range releases {
		if rel != nil {
			look(g.entry("releases", rel.Line, lines))
		}
	}
	return r.guess(found)
}
