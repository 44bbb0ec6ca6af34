package present

import (
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/survey"
	"fitcheck/core/wording"
)

// jsonContents is what a file system holds.
type jsonContents struct {
	Files   int        `json:"files"`
	Folders int        `json:"folders"`
	Links   int        `json:"links"`
	Devices int        `json:"devices"`
	SetID   int        `json:"set_id"`
	Bytes   int64      `json:"bytes"`
	Depth   int        `json:"depth"`
	Partial bool       `json:"partial,omitempty"` // not all of it could be listed or read
	Facts   []jsonFact `json:"facts"`
	Others  []jsonNode `json:"others,omitempty"`
}

// jsonNode is what is no file in a file system whose files were listed.
type jsonNode struct {
	Path   string `json:"path"`
	Mode   string `json:"mode"`
	Target string `json:"target,omitempty"`
}

func contentsJSON(c *image.Contents) *jsonContents {
	if c == nil {
		return nil
	}
	out := &jsonContents{Files: c.Files, Folders: c.Folders, Links: c.Links, Devices: c.Devices, SetID: c.SetID, Bytes: c.Bytes, Depth: c.Depth, Partial: c.Partial, Facts: factsJSON(c.Facts)}
	for _, e := range c.List {
		if !e.Mode.IsRegular() {
			out.Others = append(out.Others, jsonNode{e.Path, e.Mode.String(), e.Target})
		}
	}
	return out
}

// surveyLine is an item, or a file of the file system that an item is.
type surveyLine struct {
	item *survey.Item
	file *image.Listed
}

// withContents lists the items, and behind each the files that were listed of it.
func withContents(s *survey.Survey) []surveyLine {
	var out []surveyLine
	for _, it := range s.Items {
		out = append(out, surveyLine{item: it})
		if it.Contents == nil {
			continue
		}
		for i := range it.Contents.List {
			if f := &it.Contents.List[i]; f.Mode.IsRegular() && s.Find(it.Address+"::"+f.Path) == nil {
				out = append(out, surveyLine{it, f})
			}
		}
	}
	return out
}

// contentsText counts what a file system holds.
func contentsText(c *image.Contents) string {
	t := fmt.Sprintf("%s (%s) in %s", wording.Count(c.Files, "file"), Bytes(c.Bytes), wording.Count(c.Folders, "folder"))
	for _, more := range []struct {
		n    int
		noun string
	}{{c.Links, "link"}, {c.Devices, "device"}} {
		if more.n > 0 {
			t += ", " + wording.Count(more.n, more.noun)
		}
	}
	if c.Partial {
		t = "at least " + t
	}
	if c.SetID > 0 {
		t += fmt.Sprintf(", %d set-id", c.SetID)
	}
	return t
}

// factsText says what the files of a file system tell, in one line.
func factsText(facts []fact.Fact) string {
	var order []fact.Name
	for _, f := range facts {
		if !slices.Contains(order, f.About) {
			order = append(order, f.About)
		}
	}
	var out []string
	for _, n := range order {
		out = append(out, fmt.Sprintf("%s %s", n, fact.Values(ofName(facts, n))))
	}
	return strings.Join(out, "; ")
}

// listedText is the line of a file of a file system.
func listedText(e *image.Listed) string {
	t := e.Path
	switch {
	case e.Mode.IsDir():
		t += "/"
	case e.Mode&fs.ModeSymlink != 0:
		t += " -> " + e.Target
	case !e.Mode.IsRegular():
		t += "  (" + e.Mode.String() + ")"
	default:
		t += fmt.Sprintf("  (%s, %s)", e.Kind, Bytes(e.Size))
		if e.SHA256 != "" {
			t += "  " + e.SHA256
		}
	}
	return t
}
