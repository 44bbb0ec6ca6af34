package present

import (
	"fmt"

	"fitcheck/core/unpack"
)

// Unpacked is what unpack did.
type Unpacked struct {
	Package, Into string
	*unpack.Result
}

// Unpacked lists what was written, each file with its digest, and what was
// not.
func (s *Screen) Unpacked(u Unpacked) {
	problems, notes := split(u.Problems)
	var total int64
	there := 0
	for _, f := range u.Files {
		total += f.Size
		if f.There {
			there++
		}
	}
	title := fmt.Sprintf("%s into %s: %s, %s", u.Package, u.Into, count(len(u.Files), "file"), Bytes(total))
	if there > 0 {
		title += fmt.Sprintf(", %d of them there already", there)
	}
	if len(problems) == 0 {
		s.hanging(s.paint(good, "UNPACKED")+"  ", 10, strong, title)
	} else {
		s.hanging(s.paint(bad, "UNPACKED IN PART")+"  ", 18, strong, title)
	}
	s.blank()
	for _, f := range u.Files {
		s.hanging("  "+s.paint(faint, f.SHA256)+"  ", 4, plain, fmt.Sprintf("%s  (%s)", f.Path, Bytes(f.Size)))
	}
	s.problems("What was left out or is wrong", bad, u.Package, problems)
	s.problems("Worth knowing", info, u.Package, notes)
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
