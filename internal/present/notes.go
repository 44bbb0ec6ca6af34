package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/notes"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Notes is what was found in one document.
type Notes struct {
	File, Form, Fault string
	Lines             int
	Rulebook, Release string // that it was held against
	Statements        []notes.Statement
}

// NotesPage tells statements by kind, what matters first; then what the notes say that the
// rulebook does not.
func NotesPage(docs []Notes, about string) *page.Page {
	p := &page.Page{Name: "Notes", Roomy: page.All}
	for i, d := range docs {
		if i > 0 {
			p.Add(page.Rule{})
		}
		p.Add(d.blocks(about)...)
	}
	p.Add(page.Gap{}, page.Line{Text: "These are the notes' own words, picked by how they are worded: read the notes themselves before you install.", Tone: page.Faint})
	return p
}

// statementsShown is how many statements of a kind are told at a glance.
const (
	statementsShown = 5
	fewShown        = 2 // of each kind, where there are many
)

func (d Notes) blocks(about string) []page.Block {
	if d.Fault != "" {
		return []page.Block{page.Title{Word: "NOT READ", Tone: page.Bad, Text: d.Fault}}
	}
	unsaid := 0
	for _, st := range d.Statements {
		if st.Unsaid {
			unsaid++
		}
	}
	t := page.Title{Word: "NOTES", Tone: page.Info, Text: fmt.Sprintf("%s: %s that bear on the install", d.File, wording.Count(len(d.Statements), "statement"))}
	if len(d.Statements) == 1 {
		t.Text = d.File + ": 1 statement that bears on the install"
	}
	say := func(tone page.Tone, text string) { t.About = append(t.About, page.Item{Text: text, Tone: tone}) }
	switch {
	case d.Rulebook == "":
		say(page.Plain, "no rulebook of the kit knows the models or versions that it names")
	case d.Release == "":
		say(page.Plain, "it names no release that "+d.Rulebook+" lists, so it is held against none; give one with -release")
	default:
		say(page.Plain, fmt.Sprintf("held against what %s says of release %s", d.Rulebook, d.Release))
	}
	if unsaid > 0 {
		say(page.Doubt, fmt.Sprintf("%s said here and not in the rulebook", was(unsaid, "thing")))
	}
	out := []page.Block{t, page.Fold{Flag: page.All, Wide: true, Closed: d.atAGlance(about), Inside: func() []page.Block { return d.byKind(about) }}}
	if unsaid > 0 {
		l := page.List{Most: statementsShown, Flag: page.All}
		for _, st := range d.Statements {
			if !st.Unsaid {
				continue
			}
			it := page.Item{Marks: []page.Span{{Text: "-"}}, Text: fmt.Sprintf("%s: %s", place(st), st.Text)}
			if st.Add != "" {
				it.Under = []page.Item{{Text: "if it is so, add under " + st.Place(d.Release) + ":  " + st.Add, Tone: page.Info}}
			}
			l.Items = append(l.Items, it)
		}
		out = append(out, page.Head{Text: "Said here, and not in the rulebook"}, l)
	}
	return out
}

// atAGlance is a line a statement, some of each kind.
func (d Notes) atAGlance(about string) []page.Block {
	var l page.List
	left := 0
	for _, kind := range d.kinds() {
		n := 0
		for _, st := range d.Statements {
			if st.Kind != kind {
				continue
			}
			if n++; n > fewShown && len(d.Statements) > 2*statementsShown {
				left++
				continue
			}
			it := statement(st)
			name := ""
			if n == 1 {
				name = kindTitle(kind, about)
			}
			it.Marks = append([]page.Span{{Text: name, Tone: page.Strong}}, it.Marks...)
			if st.Rule == nil || st.Rule.Same { // only where they differ it is told at once
				it.Under = nil
			}
			l.Items = append(l.Items, it)
		}
	}
	l.Most, l.Flag = len(notes.Kinds)*fewShown, page.All
	out := []page.Block{page.Gap{}, l}
	more := "-all shows what the rulebook says of each"
	if left > 0 {
		more = fmt.Sprintf("and %d more; %s", left, more)
	}
	out = append(out, page.Line{Text: more, Tone: page.Faint})
	return out
}

// byKind is all statements, each with what the rulebook says of it.
func (d Notes) byKind(about string) []page.Block {
	var out []page.Block
	for _, kind := range d.kinds() {
		var l page.List
		for _, st := range d.Statements {
			if st.Kind == kind {
				l.Items = append(l.Items, statement(st))
			}
		}
		out = append(out, page.Head{Text: kindTitle(kind, about)}, l)
	}
	return out
}

// kinds are those of which something is said: what was asked for, then what matters most.
func (d Notes) kinds() []notes.Kind {
	var out []notes.Kind
	for _, kind := range append([]notes.Kind{notes.About}, notes.Kinds...) {
		if !slices.Contains(out, kind) && slices.ContainsFunc(d.Statements, func(st notes.Statement) bool { return st.Kind == kind }) {
			out = append(out, kind)
		}
	}
	return out
}

func kindTitle(kind notes.Kind, about string) string {
	if kind == notes.About {
		return "Asked for: " + about
	}
	return upper(string(kind))
}

func was(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return fmt.Sprintf("%d %ss are", n, noun)
}

func place(st notes.Statement) string {
	if st.Page > 0 {
		return fmt.Sprintf("page %d, line %d", st.Page, st.Line)
	}
	return fmt.Sprintf("line %d", st.Line)
}

func statement(st notes.Statement) page.Item {
	it := page.Item{Marks: []page.Span{{Text: place(st), Tone: page.Faint}}, Text: st.Text}
	under := func(tone page.Tone, text string) { it.Under = append(it.Under, page.Item{Text: text, Tone: tone}) }
	var marks []string
	for _, v := range st.Versions {
		t := v.Text
		if v.Known {
			t += " (a release of the rulebook)"
		}
		marks = append(marks, t)
	}
	marks = append(marks, st.Models...)
	if len(marks) > 0 {
		under(page.Faint, "names "+strings.Join(marks, ", "))
	}
	switch {
	case st.Rule != nil && st.Rule.Same:
		under(page.Good, fmt.Sprintf("the rulebook says so, too: %s (%s)", st.Rule.Text, st.Rule.Source.Where()))
	case st.Rule != nil:
		under(page.Doubt, fmt.Sprintf("the rulebook says otherwise: %s (%s)", st.Rule.Text, st.Rule.Source.Where()))
	case st.Unsaid:
		under(page.Doubt, "the rulebook does not say it")
	}
	return it
}

type jsonNotes struct {
	Fitcheck  about          `json:"fitcheck"`
	Documents []jsonDocument `json:"documents"`
}

type jsonDocument struct {
	File       string          `json:"file"`
	Form       string          `json:"form,omitempty"`
	Problem    string          `json:"problem,omitempty"`
	Rulebook   string          `json:"rulebook,omitempty"`
	Release    string          `json:"release,omitempty"`
	Statements []jsonStatement `json:"statements"`
}

type jsonStatement struct {
	Kind     string        `json:"kind"`
	Line     int           `json:"line"`
	Page     int           `json:"page,omitempty"`
	Section  string        `json:"section,omitempty"`
	Text     string        `json:"text"`
	Versions []jsonNamed   `json:"versions,omitempty"`
	Models   []string      `json:"models,omitempty"`
	Rulebook *jsonSameRule `json:"rulebook,omitempty"`
	Unsaid   bool          `json:"not_in_rulebook,omitempty"`
	Add      string        `json:"add,omitempty"`
}

type jsonNamed struct {
	Version string `json:"version"`
	Known   bool   `json:"known"`
}

type jsonSameRule struct {
	Says  string `json:"says"`
	Where string `json:"where"`
	Same  bool   `json:"same"`
}

func init() {
	form(func() any { return NotesJSON(nil) })
}

// NotesJSON is the document of notes.
func NotesJSON(docs []Notes) any {
	out := jsonNotes{Fitcheck: about{"notes", Edition}, Documents: []jsonDocument{}}
	for _, d := range docs {
		one := jsonDocument{File: d.File, Form: d.Form, Problem: d.Fault, Rulebook: d.Rulebook, Release: d.Release, Statements: []jsonStatement{}}
		for _, st := range d.Statements {
			j := jsonStatement{Kind: string(st.Kind), Line: st.Line, Page: st.Page, Section: st.Section, Text: st.Text, Models: st.Models, Unsaid: st.Unsaid, Add: st.Add}
			for _, v := range st.Versions {
				j.Versions = append(j.Versions, jsonNamed{v.Text, v.Known})
			}
			if st.Rule != nil {
				j.Rulebook = &jsonSameRule{st.Rule.Text, st.Rule.Source.Where(), st.Rule.Same}
			}
			one.Statements = append(one.Statements, j)
		}
		out.Documents = append(out.Documents, one)
	}
	return out
}
