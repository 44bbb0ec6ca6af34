package present

import (
	"fmt"
	"strings"

	"fitcheck/core/notes"
)

// Notes is what was found in one document.
type Notes struct {
	File, Form, Fault string
	Lines             int
	Rulebook, Release string // that it was held against
	Statements        []notes.Statement
}

// Notes shows statements by kind, what matters first; then what the notes say
// that the rulebook does not.
func (s *Screen) Notes(docs []Notes, about string) {
	for i, d := range docs {
		if i > 0 {
			s.blank()
			s.rule()
		}
		s.notesOf(d, about)
	}
	s.blank()
	s.line(0, faint, "These are the notes' own words, picked by how they are worded: read the notes themselves before you install.")
}

func (s *Screen) notesOf(d Notes, about string) {
	if d.Fault != "" {
		s.line(0, bad, d.Fault)
		return
	}
	unsaid := 0
	for _, st := range d.Statements {
		if st.Unsaid {
			unsaid++
		}
	}
	head := fmt.Sprintf("%s: %s that bear on the install", d.File, count2(len(d.Statements), "statement"))
	if len(d.Statements) == 1 {
		head = d.File + ": 1 statement that bears on the install"
	}
	s.hanging(s.paint(info, "NOTES")+"  ", 7, strong, head)
	switch {
	case d.Rulebook == "":
		s.line(7, plain, "no rulebook of the kit knows the models or versions that it names")
	case d.Release == "":
		s.line(7, plain, "it names no release that "+d.Rulebook+" lists, so it is held against none; give one with -release")
	default:
		s.line(7, plain, fmt.Sprintf("held against what %s says of release %s", d.Rulebook, d.Release))
	}
	if unsaid > 0 {
		s.line(7, doubt, fmt.Sprintf("%s said here and not in the rulebook", was(unsaid, "thing")))
	}
	for _, kind := range notes.Kinds {
		first := true
		for _, st := range d.Statements {
			if st.Kind != kind {
				continue
			}
			if first {
				title := strings.ToUpper(string(kind[:1])) + string(kind[1:])
				if kind == notes.About {
					title = "Asked for: " + about
				}
				s.head(title)
				first = false
			}
			s.statement(st)
		}
	}
	if unsaid > 0 {
		s.head("Said here, and not in the rulebook")
		for _, st := range d.Statements {
			if !st.Unsaid {
				continue
			}
			s.hanging("  - ", 4, plain, fmt.Sprintf("%s: %s", place(st), st.Text))
			if st.Add != "" {
				s.hanging("    ", 4, info, "if it is so, add under needs: of "+d.Release+":  "+st.Add)
			}
		}
	}
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

func (s *Screen) statement(st notes.Statement) {
	lead := pad(place(st), 9)
	indent := 2 + max(9, len(place(st))) + 2
	s.hanging("  "+s.paint(faint, lead)+"  ", indent, plain, st.Text)
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
		s.line(indent, faint, "names "+strings.Join(marks, ", "))
	}
	switch {
	case st.Rule != nil && st.Rule.Same:
		s.line(indent, good, fmt.Sprintf("the rulebook says so, too: %s (%s)", st.Rule.Text, st.Rule.Source.Where()))
	case st.Rule != nil:
		s.line(indent, doubt, fmt.Sprintf("the rulebook says otherwise: %s (%s)", st.Rule.Text, st.Rule.Source.Where()))
	case st.Unsaid:
		s.line(indent, doubt, "the rulebook does not say it")
	}
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
