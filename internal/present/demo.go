package present

import (
	"fmt"

	"fitcheck/core/shell"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// ScenePage introduces one case of the demo: what is at stake, and the command.
func ScenePage(n, of int, tale, command string) *page.Page {
	p := &page.Page{}
	p.Add(page.Rule{}, page.Line{Text: fmt.Sprintf("%d of %d. %s", n, of, tale)}, page.Gap{},
		page.List{Indent: -2, Items: []page.Item{{Marks: []page.Span{{Text: "$", Tone: page.Good}}, Text: command, Tone: page.Strong}}})
	return p
}

// DemoSummary lists how the cases came out.
func DemoSummary(cases []DemoCase, dir string) *page.Page {
	var l page.List
	for _, c := range cases {
		if c.OK {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "as told", Tone: page.Good}}, Text: c.Case + ": " + c.Expected})
		} else {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "OTHERWISE", Tone: page.Bad}}, Text: fmt.Sprintf("%s: expected %s, got %s", c.Case, c.Expected, c.Got)})
		}
	}
	last := "To keep the kit and try the commands yourself: fitcheck demo DIR"
	if dir != "" {
		last = "The kit is in " + dir + ": go there and try the commands yourself."
	}
	p := &page.Page{Document: true}
	p.Add(page.Gap{}, page.Head{Text: "How the cases came out"}, l, page.Gap{}, page.Line{Text: last})
	return p
}

// DemoEnd says how to go on after the scenes.
func DemoEnd(all int) *page.Page {
	p := &page.Page{}
	p.Add(page.Gap{}, page.Line{Text: fmt.Sprintf("fitcheck demo -all tells the whole story (%d cases); fitcheck demo DIR writes the kit, to try things on", all), Tone: page.Faint})
	return p
}

// DemoKit says where to begin with a kit that was written.
func DemoKit(dir string, files int, begin []string) *page.Page {
	l := page.List{Items: []page.Item{{Text: "cd " + shell.Quote(dir), Tone: page.Code}}}
	for _, b := range begin {
		l.Items = append(l.Items, page.Item{Text: b, Tone: page.Code})
	}
	p := &page.Page{Name: "The demo kit"}
	p.Add(page.Title{Word: "WRITTEN", Tone: page.Good, Text: fmt.Sprintf("the demo kit in %s: %s", dir, wording.Count(files, "file"))},
		page.Head{Text: "Where to begin"}, l, page.Gap{},
		page.Line{Text: "devices/, rulebooks/ and packages/ are made to be read and changed; fitcheck help tells the rest."})
	return p
}

func init() {
	form(func() any { return DemoKitJSON("", 0) })
}

// DemoKitJSON is the document "demo" of a kit that was written.
func DemoKitJSON(dir string, files int) any {
	return struct {
		Fitcheck about  `json:"fitcheck"`
		Kit      string `json:"kit"`
		Files    int    `json:"files"`
	}{about{"demo", Edition}, dir, files}
}
