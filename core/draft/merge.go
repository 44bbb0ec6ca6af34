package draft

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/example"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/core/version"
)

// Merged is a rulebook to which the releases of some packages were added.
type Merged struct {
	Text    string
	Added   []string // releases
	Known   []string // releases that it listed already
	Lines   []string // that were added
	Guesses []string
	Notes   []string
}

// Merge adds what is new in packages and notes to a rulebook's text: releases, each line of them
// a guess, and entries for downloads that it does not describe. What is there stays as it is, to
// the byte. The packages were surveyed by the rulebook, with their texts kept. It is an error
// when a block to which something belongs is written in braces, and when the result would not be
// a rulebook.
func Merge(rb *rulebook.Rulebook, text string, in Input) (*Merged, error) {
	m := &Merged{Text: text}
	d := known(rb)
	var strangers []*survey.Survey
	for _, s := range in.Packages {
		if s.Entry == nil || s.Rulebook != rb {
			strangers = append(strangers, s)
			continue
		}
		m.strange(rb, s)
		d.offer(m, rb, s)
	}
	var entries []*Package
	if len(strangers) > 0 {
		other := New(Input{Packages: strangers})
		entries = other.Packages
		for _, rel := range other.Releases {
			if d.listed(m, rel.Version) {
				continue
			}
			rel.parsed, rel.known = version.Version{}, false
			if v, err := d.schemes["main"].Parse(rel.Version); err == nil {
				rel.parsed, rel.known = v, true
			}
			d.Releases = append(d.Releases, rel)
		}
		for _, model := range other.Models {
			if _, ok := rb.FindModel(model.Name); !ok {
				m.Notes = append(m.Notes, fmt.Sprintf("%s names the model %s, which the rulebook does not know", model.Guess.From, model.Name))
			}
		}
	}
	d.Releases = slices.DeleteFunc(d.Releases, func(r *Release) bool {
		if !r.known {
			m.Notes = append(m.Notes, fmt.Sprintf("the version pattern does not read %s, which is left out; correct versions: and go on", r.Version))
		}
		return !r.known
	})
	notes := d.tell(rb, in.Notes)
	for _, rel := range d.Releases {
		for _, l := range rel.Lines {
			if rel.there && l.Guess.From != "" {
				m.Notes = append(m.Notes, fmt.Sprintf("%s says something of %s, which stays as it is: %s", l.Guess.From, rel.Version, l.Text))
			}
		}
	}
	d.Releases = slices.DeleteFunc(d.Releases, func(r *Release) bool { return r.there })
	m.Notes = append(m.Notes, d.Notes...)
	if err := m.write(rb, d, entries, notes); err != nil {
		return nil, err
	}
	m.Guesses = guessesIn(strings.Join(m.Lines, ""))
	return m, nil
}

// known is what a rulebook knows, as a draft.
func known(rb *rulebook.Rulebook) *Draft {
	d := &Draft{schemes: map[string]*version.Scheme{}, words: map[string]string{}}
	for _, e := range rb.Models.Entries {
		model := &Model{Name: e.Key}
		for _, r := range e.Value.Revs.Entries {
			model.Revisions = append(model.Revisions, &Revision{Name: r.Key})
		}
		d.Models = append(d.Models, model)
	}
	for _, f := range rb.Families.Entries {
		for _, c := range f.Value.Components.Entries {
			if d.place(c.Key) < 0 {
				d.Components = append(d.Components, &Component{Name: c.Key})
				d.schemes[c.Key] = rb.Scheme(c.Key)
			}
		}
	}
	if d.schemes["main"] == nil {
		d.schemes["main"] = rb.Scheme(mainOf(rb))
	}
	for i := range rb.Releases {
		rel := &rb.Releases[i]
		there := &Release{Version: rel.Version.Text, parsed: rel.Parsed(), known: true, there: true}
		if rel.Withdrawn.Set() {
			there.Lines = []Line{{Text: "withdrawn: " + quote(rel.Withdrawn.Text)}}
		}
		d.Releases = append(d.Releases, there)
	}
	return d
}

// mainOf is the component whose version stands for the releases of a rulebook.
func mainOf(rb *rulebook.Rulebook) string {
	for _, f := range rb.Families.Entries {
		return rb.Main(f.Key)
	}
	return "main"
}

// strange tells of what a package names and the rulebook does not know.
func (m *Merged) strange(rb *rulebook.Rulebook, s *survey.Survey) {
	for _, it := range s.Items {
		for _, w := range it.Witnesses {
			for _, f := range w.About(fact.Model) {
				if _, ok := rb.FindModel(f.Value); !ok && w.Kind != fact.FileName {
					note := fmt.Sprintf("%s names the model %s, which the rulebook does not know", f.Source.Where(), f.Value)
					add(&m.Notes, note)
				}
			}
		}
	}
}

// listed tells whether a rulebook lists a release already, or it was added before.
func (d *Draft) listed(m *Merged, text string) bool {
	rel := d.release(text)
	if rel != nil && rel.there {
		add(&m.Known, text)
	}
	return rel != nil
}

// offer adds the release that a package brings, as the rulebook reads it.
func (d *Draft) offer(m *Merged, rb *rulebook.Rulebook, s *survey.Survey) {
	rel := &Release{}
	var families []string
	main := mainOf(rb)
	for _, it := range s.Items {
		component := it.Component()
		if component == "" {
			continue
		}
		var text, from string
		for _, f := range it.Facts() {
			switch {
			case f.About == fact.Version && text == "":
				text, from = f.Value, f.Source.Where()
			case f.About == fact.Family:
				add(&families, f.Value)
			case f.About == fact.Model:
				if e, ok := rb.FindModel(f.Value); ok {
					for _, t := range e.Value.Families {
						add(&families, t.Text)
					}
				}
			}
		}
		if text == "" || slices.ContainsFunc(rel.Brings, func(b [2]string) bool { return b[0] == component }) {
			continue
		}
		rel.Brings = append(rel.Brings, [2]string{component, text})
		if component == main {
			rel.Version, rel.Guess = text, Guess{"is this a release of the line?", from}
		}
	}
	if f := s.NameClaim.About(fact.Version); rel.Version == "" && len(f) > 0 && len(s.Entry.Components) == 0 {
		rel.Version, rel.Guess = f[0].Value, Guess{"is this a release of the line?", "the name " + s.Name}
	}
	if rel.Version == "" {
		m.Notes = append(m.Notes, fmt.Sprintf("%s does not say which release it brings", s.Name))
		return
	}
	if d.listed(m, rel.Version) {
		return
	}
	slices.SortStableFunc(rel.Brings, func(a, b [2]string) int { return d.place(a[0]) - d.place(b[0]) })
	rel.Families = families
	v, err := d.schemes["main"].Parse(rel.Version)
	rel.parsed, rel.known = v, err == nil
	d.Releases = append(d.Releases, rel)
}

// tell reads notes for what they say of the releases that are new. A stop on the way becomes a
// need of the release: rules stay in the order in which somebody put them.
func (d *Draft) tell(rb *rulebook.Rulebook, all []Note) []*told {
	var out []*told
	for _, n := range all {
		t := &told{d: d, rb: rb, note: n, release: d.about(rb, n)}
		if t.release == nil || t.release.there {
			d.Notes = append(d.Notes, fmt.Sprintf("%s is about no release that is new, and is left out", n.Name))
			continue
		}
		t.key = d.sourceIn(rb, n)
		for _, s := range n.Document.Sentences() {
			if !s.Heading || t.heading(s) {
				t.sentence(s)
			}
		}
		out = append(out, t)
	}
	return out
}

// sourceIn is a key for a document that a rulebook does not have.
func (d *Draft) sourceIn(rb *rulebook.Rulebook, n Note) string {
	key := d.source(n.Name, n.title())
	for k := 2; ; k++ {
		if _, taken := rb.Sources.Get(key); !taken {
			d.Sources[len(d.Sources)-1][0] = key
			return key
		}
		key = fmt.Sprintf("%s-%d", strings.TrimRight(key, "-0123456789"), k)
	}
}

// write puts what is new into the text.
//
// In one piece: the sections of a rulebook in their order.
func (m *Merged) write(rb *rulebook.Rulebook, d *Draft, entries []*Package, all []*told) error {
	insert := func(keys []string, lines []string) error {
		if len(lines) == 0 {
			return nil
		}
		text, ok := example.Insert(m.Text, keys, lines)
		if !ok {
			return fmt.Errorf("%s: %s is written in braces there, and nothing can be put into it; write it over several lines", rb.File, strings.Join(keys, ": "))
		}
		m.Text = text
		for _, l := range lines {
			m.Lines = append(m.Lines, l+"\n")
		}
		return nil
	}
	var rules []string
	for _, r := range d.Moves.Rules {
		rules = append(rules, r.Text+r.Guess.comment())
	}
	d.order()
	// From the end of the file on, so that the lines of what is further up stay where they are.
	for _, rel := range d.Releases {
		w := &writer{}
		rel.write(w, "", or(strings.Join(quoted(rel.Families), ", "), familyOf(rb)))
		lines := strings.Split(strings.TrimSuffix(w.String(), "\n"), "\n")
		if err := m.place(rb, d, rel, lines, insert); err != nil {
			return err
		}
		m.Added = append(m.Added, rel.Version)
	}
	if err := insert([]string{"hops", "rules"}, rules); err != nil {
		return err
	}
	for _, p := range entries {
		w := &writer{}
		p.write(w)
		var lines []string
		for _, l := range strings.Split(strings.TrimSuffix(w.String(), "\n"), "\n") {
			lines = append(lines, strings.TrimPrefix(l, "  "))
		}
		if err := insert([]string{"packages"}, lines); err != nil {
			return err
		}
	}
	var sources []string
	for _, t := range all {
		if strings.Contains(strings.Join(m.Lines, ""), "source: "+t.key+"}") {
			for _, s := range d.Sources {
				if s[0] == t.key {
					sources = append(sources, s[0]+": "+quote(s[1]))
				}
			}
		}
	}
	if err := insert([]string{"sources"}, sources); err != nil {
		return err
	}
	if _, err := rulebook.Read(rb.File, []byte(m.Text)); err != nil {
		return errors.Join(fmt.Errorf("%s: with what would be added it would no longer be sound, and is left as it was", rb.File), err)
	}
	return nil
}

func familyOf(rb *rulebook.Rulebook) string {
	if len(rb.Families.Entries) == 1 {
		return quote(rb.Families.Entries[0].Key)
	}
	return ""
}

// place puts a release where the order of the list has it: before the first that is older, where
// the newest stands first, else at the end.
func (m *Merged) place(rb *rulebook.Rulebook, d *Draft, rel *Release, lines []string, insert func(keys, lines []string) error) error {
	s := d.schemes["main"]
	now, err := rulebook.Read(rb.File, []byte(m.Text))
	if err != nil {
		return err
	}
	n := len(now.Releases)
	descending := n == 1 || n > 1 && s.Compare(now.Releases[0].Parsed(), now.Releases[n-1].Parsed()) > 0
	at := -1
	for i := range now.Releases {
		if descending && s.Compare(now.Releases[i].Parsed(), rel.parsed) < 0 {
			at = now.Releases[i].Line
			break
		}
	}
	if at < 0 {
		return insert([]string{"releases"}, lines)
	}
	text := strings.SplitAfter(m.Text, "\n")
	i := at - 1
	bare := strings.TrimLeft(text[i], " ")
	if !strings.HasPrefix(bare, "- ") {
		return insert([]string{"releases"}, lines)
	}
	indent := text[i][:len(text[i])-len(bare)]
	for i > 0 && strings.HasPrefix(strings.TrimSpace(text[i-1]), "#") { // a remark above it is its own
		i--
	}
	var made []string
	for _, l := range lines {
		made = append(made, indent+l+"\n")
		m.Lines = append(m.Lines, l+"\n")
	}
	m.Text = strings.Join(slices.Insert(text, i, made...), "")
	return nil
}
