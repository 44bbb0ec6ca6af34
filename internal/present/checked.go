package present

import (
	"fmt"
	"strings"

	"fitcheck/core/draft"
	"fitcheck/core/yamlfile"
)

// CheckedFile is a file that people write, and what is wrong with it.
type CheckedFile struct {
	Path, Kind string
	Errors     yamlfile.Errors
	// Warnings are about what can be read and is hardly meant.
	Warnings yamlfile.Errors
}

// Checked shows how the files came out.
func (s *Screen) Checked(files []CheckedFile) {
	for i, f := range files {
		if i > 0 {
			s.blank()
		}
		if len(f.Errors) == 0 {
			said := fmt.Sprintf("%s, a %s", f.Path, f.Kind)
			if len(f.Warnings) > 0 {
				said += ", with " + count(len(f.Warnings), "warning")
			}
			s.hanging(s.paint(good, "SOUND")+"  ", 7, strong, said)
		} else {
			s.hanging(s.paint(bad, strings.ToUpper(count(len(f.Errors), "error")))+"  ", 10, strong, fmt.Sprintf("%s, a %s", f.Path, f.Kind))
		}
		s.faults(f.Errors, bad, "! ")
		s.faults(f.Warnings, doubt, "? ")
	}
}

func (s *Screen) faults(all yamlfile.Errors, st style, mark string) {
	for _, e := range all {
		s.hanging("  "+s.paint(st, mark), 4, plain, fmt.Sprintf("%s:%d:%d: %s", e.File, e.Spot.Line, e.Spot.Column, e.Message))
		if e.Advice != "" {
			s.line(6, plain, "-> "+e.Advice)
		}
	}
}

// CheckedJSON is the document "rulebook check".
func CheckedJSON(files []CheckedFile) any {
	type fault struct {
		Line    int    `json:"line"`
		Column  int    `json:"column"`
		Message string `json:"message"`
		Advice  string `json:"advice,omitempty"`
	}
	type file struct {
		File     string  `json:"file"`
		Kind     string  `json:"kind"`
		Sound    bool    `json:"sound"`
		Errors   []fault `json:"errors"`
		Warnings []fault `json:"warnings"`
	}
	doc := struct {
		Fitcheck about  `json:"fitcheck"`
		Files    []file `json:"files"`
	}{about{"rulebook check", Edition}, []file{}}
	for _, f := range files {
		j := file{f.Path, f.Kind, len(f.Errors) == 0, []fault{}, []fault{}}
		for _, e := range f.Errors {
			j.Errors = append(j.Errors, fault{e.Spot.Line, e.Spot.Column, e.Message, e.Advice})
		}
		for _, e := range f.Warnings {
			j.Warnings = append(j.Warnings, fault{e.Spot.Line, e.Spot.Column, e.Message, e.Advice})
		}
		doc.Files = append(doc.Files, j)
	}
	return doc
}

// DraftJSON is the document "rulebook draft".
func DraftJSON(d *draft.Draft) any {
	return struct {
		Fitcheck about    `json:"fitcheck"`
		Text     string   `json:"text"`
		Guesses  []string `json:"guesses"`
		Notes    []string `json:"notes,omitempty"`
	}{about{"rulebook draft", Edition}, d.YAML(), d.Guesses(), d.Notes}
}
