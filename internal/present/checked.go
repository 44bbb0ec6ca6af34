package present

import (
	"fmt"
	"strings"

	"fitcheck/core/yamlfile"
)

// CheckedFile is a file that people write, and what is wrong with it.
type CheckedFile struct {
	Path, Kind string
	Errors     yamlfile.Errors
}

// Checked shows how the files came out.
func (s *Screen) Checked(files []CheckedFile) {
	for i, f := range files {
		if i > 0 {
			s.blank()
		}
		if len(f.Errors) == 0 {
			s.hanging(s.paint(good, "SOUND")+"  ", 7, strong, fmt.Sprintf("%s, a %s", f.Path, f.Kind))
			continue
		}
		s.hanging(s.paint(bad, strings.ToUpper(count(len(f.Errors), "error")))+"  ", 10, strong, fmt.Sprintf("%s, a %s", f.Path, f.Kind))
		for _, e := range f.Errors {
			s.hanging("  "+s.paint(bad, "! "), 4, plain, fmt.Sprintf("%s:%d:%d: %s", e.File, e.Spot.Line, e.Spot.Column, e.Message))
			if e.Advice != "" {
				s.line(6, plain, "-> "+e.Advice)
			}
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
		File   string  `json:"file"`
		Kind   string  `json:"kind"`
		Sound  bool    `json:"sound"`
		Errors []fault `json:"errors"`
	}
	doc := struct {
		Fitcheck about  `json:"fitcheck"`
		Files    []file `json:"files"`
	}{about{"rulebook check", Edition}, []file{}}
	for _, f := range files {
		j := file{f.Path, f.Kind, len(f.Errors) == 0, []fault{}}
		for _, e := range f.Errors {
			j.Errors = append(j.Errors, fault{e.Spot.Line, e.Spot.Column, e.Message, e.Advice})
		}
		doc.Files = append(doc.Files, j)
	}
	return doc
}
