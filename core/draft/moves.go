package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"fitcheck/core/notes"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// What release notes say of the way from release to release is read sentence by sentence. Each
// becomes at most a few lines of the rulebook, which ask whether that is what it says.

// moves reads tables and notes.
func (d *Draft) moves(in Input) {
	d.Moves = Moves{Upward: "open", Downward: "closed",
		UpGuess:   Guess{"may every older release go straight to a newer one, where no rule and no need says otherwise?", ""},
		DownGuess: Guess{"is going back to an older release forbidden, where no rule allows it?", ""}}
	if len(in.Tables) > 0 {
		d.tables(in.Tables)
	}
	rb := d.rules()
	if rb == nil {
		return
	}
	for _, n := range d.documents(in) {
		key := d.source(n.Name, n.title())
		t := &told{d: d, rb: rb, note: n, key: key, release: d.about(rb, n)}
		for _, s := range n.Document.Sentences() {
			if s.Heading && !t.heading(s) {
				continue
			}
			t.sentence(s)
		}
	}
	// What forbids comes first, then what resets the settings, then the rest.
	rank := func(l Line) int {
		switch {
		case strings.Contains(l.Text, "allow: false"):
			return 0
		case strings.Contains(l.Text, "resets_config: true"):
			return 1
		}
		return 2
	}
	slices.SortStableFunc(d.Moves.Rules, func(a, b Line) int { return rank(a) - rank(b) })
}

// tables takes the rules of makers' tables.
func (d *Draft) tables(all []Text) {
	for _, t := range all {
		tables, err := ReadTables(t.Name, t.Data)
		if err != nil {
			d.Notes = append(d.Notes, fmt.Sprintf("%s does not read as a table", t.Name))
			continue
		}
		key := d.source(t.Name, path.Base(t.Name))
		im, err := Import(t.Name, key, tables, d.fitVersion)
		if err != nil {
			d.Notes = append(d.Notes, fmt.Sprintf("%s: %v", t.Name, err))
			continue
		}
		for _, r := range im.Rules {
			text, from, _ := strings.Cut(r, "   # ")
			if m := ranges.FindStringSubmatch(text); m != nil && !d.reads("main", unquote(m[1]), unquote(m[2])) {
				add(&d.Notes, fmt.Sprintf("%s names versions that the pattern does not read, and is left out", from))
				continue
			}
			d.Moves.Rules = append(d.Moves.Rules, Line{text, Guess{"is this what the table says?", from}})
		}
		d.Notes = append(d.Notes, im.Notes...)
		d.Moves.Upward, d.Moves.UpGuess = "listed", Guess{"does the table name every move that is allowed?", t.Name}
	}
}

var ranges = pattern.New(`^- \{from: '((?:[^']|'')*)', to: '((?:[^']|'')*)'`)

func unquote(t string) string { return strings.ReplaceAll(t, "''", "'") }

// reads tells whether ranges read by the versions of a component.
func (d *Draft) reads(component string, ranges ...string) bool {
	scheme := d.scheme(component)
	return !slices.ContainsFunc(ranges, func(r string) bool {
		_, err := version.ParseRange(scheme, r)
		return r != "" && err != nil
	})
}

// fitVersion writes a version of a document as the line's own pattern reads it.
func (d *Draft) fitVersion(t string) string {
	s := d.schemes["main"]
	if _, err := s.Parse(t); err == nil {
		return t
	}
	for _, rel := range d.Releases {
		if squeezed(rel.Version) == squeezed(t) {
			return rel.Version
		}
	}
	return t
}

// documents are the notes that were given, and those in the packages, each text once.
func (d *Draft) documents(in Input) []Note {
	out := slices.Clone(in.Notes)
	seen := map[string]bool{}
	for _, p := range d.Packages {
		for _, r := range p.all {
			for _, it := range r.s.Items {
				if it.Text() == nil || it == r.list || it.Kind != "text" && it.Kind != "html" || !notes.Named(it.Name) || seen[string(it.Text())] {
					continue
				}
				seen[string(it.Text())] = true
				doc, err := notes.Read(it.Address, it.Text(), nil)
				if err == nil {
					out = append(out, Note{it.Address, doc})
				}
			}
		}
	}
	return out
}

// title is the first line of a document.
func (n Note) title() string {
	for _, l := range n.Document.Lines {
		if t := strings.TrimSpace(strings.Map(seen, l.Text)); t != "" {
			return clip(t, 80)
		}
	}
	return path.Base(n.Name)
}

// seen puts a blank in the place of what nobody sees.
func seen(r rune) rune {
	if unicode.IsGraphic(r) {
		return r
	}
	return ' '
}

func clip(t string, n int) string {
	if r := []rune(t); len(r) > n {
		return strings.TrimSpace(string(r[:n])) + "…"
	}
	return t
}

// source gives a document a key.
func (d *Draft) source(name, title string) string {
	base, _ := split(path.Base(name))
	key := strings.Trim(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(base, "-"), "-")
	if key == "" || isDigit(key[0]) {
		key = "N" + key
	}
	for n := 2; slices.ContainsFunc(d.Sources, func(s [2]string) bool { return s[0] == key }); n++ {
		key = fmt.Sprintf("%s-%d", strings.TrimRight(key, "-0123456789"), n)
	}
	d.Sources = append(d.Sources, [2]string{key, title})
	return key
}

// about is the release that notes are about: the one that they name first, or the one of the
// package in which they lie.
func (d *Draft) about(rb *rulebook.Rulebook, n Note) *Release {
	find := func(text string) *Release {
		for _, v := range notes.Versions(rb, text) {
			if rel := d.release(v.Text); rel != nil {
				return rel
			}
		}
		return nil
	}
	for _, l := range n.Document.Lines[:min(8, len(n.Document.Lines))] {
		if rel := find(l.Text); rel != nil {
			return rel
		}
	}
	for _, p := range d.Packages {
		for _, r := range p.all {
			if strings.HasPrefix(n.Name, r.s.Name) {
				return d.release(or(r.main, r.inName))
			}
		}
	}
	for _, rel := range d.Releases {
		if findVersion(strings.TrimSuffix(path.Base(n.Name), path.Ext(n.Name)), rel.Version) != nil {
			return rel
		}
	}
	return nil
}

// release finds a release by its version: the very one, or the only one that differs in its
// build at most.
func (d *Draft) release(text string) *Release {
	s := d.schemes["main"]
	v, err := s.Parse(text)
	if err != nil {
		return nil
	}
	var alike []*Release
	for _, rel := range d.Releases {
		switch {
		case !rel.known:
		case s.Compare(rel.parsed, v) == 0:
			return rel
		case v.LeavesOpen() && s.Alike(rel.parsed, v):
			alike = append(alike, rel)
		}
	}
	if len(alike) == 1 {
		return alike[0]
	}
	return nil
}
