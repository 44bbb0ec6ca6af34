package present

import (
	"fmt"

	"fitcheck/core/unpack"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Unpacked is what unpack did.
type Unpacked struct {
	Package, Into string
	*unpack.Result
}

// filesShown is how many files that were written are listed at a glance.
const filesShown = 24

// UnpackedPage lists what was written, each file with its digest, and what was not.
func UnpackedPage(u Unpacked) *page.Page {
	problems, notes := split(u.Problems)
	var total int64
	there := 0
	for _, f := range u.Files {
		total += f.Size
		if f.There {
			there++
		}
	}
	t := page.Title{Word: "UNPACKED", Tone: page.Good, Text: fmt.Sprintf("%s into %s: %s, %s", u.Package, u.Into, wording.Count(len(u.Files), "file"), Bytes(total))}
	if there > 0 {
		t.Text += fmt.Sprintf(", %d of them there already", there)
	}
	if len(problems) > 0 {
		t.Word, t.Tone = "UNPACKED IN PART", page.Bad
	}
	files := page.Table{Columns: []page.Column{{Title: "file", Fitting: page.CutFront}, {Title: "size", Right: true}, {Title: "sha256", Fitting: page.Cut}}, Most: filesShown, Flag: page.All, Noun: "files"}
	for _, f := range u.Files {
		files.Rows = append(files.Rows, []page.Span{{Text: f.Path}, {Text: Bytes(f.Size)}, {Text: f.SHA256, Tone: page.Faint}})
	}
	p := &page.Page{Name: u.Package}
	p.Add(t)
	if len(files.Rows) > 0 {
		p.Add(files)
	}
	p.Add(byKind("What was left out or is wrong", page.Bad, u.Package, problems, surveyKinds)...)
	p.Add(byKind("Worth knowing", page.Info, u.Package, notes, surveyNotes)...)
	return p
}

func init() {
	form(func() any { return UnpackedJSON(Unpacked{Result: &unpack.Result{}}) })
}

// UnpackedJSON is the document "unpack".
func UnpackedJSON(u Unpacked) any {
	type file struct {
		Path   string `json:"path"`
		Item   string `json:"item"`
		Size   int64  `json:"size"`
		SHA256 string `json:"sha256"`
		There  bool   `json:"there_already,omitempty"`
	}
	doc := struct {
		Fitcheck about         `json:"fitcheck"`
		Package  string        `json:"package"`
		Into     string        `json:"into"`
		Files    []file        `json:"files"`
		Problems []jsonProblem `json:"problems"`
	}{about{"unpack", Edition}, u.Package, u.Into, []file{}, problemsJSON(u.Problems)}
	for _, f := range u.Files {
		doc.Files = append(doc.Files, file{f.Path, f.Address, f.Size, f.SHA256, f.There})
	}
	return doc
}
