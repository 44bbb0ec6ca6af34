package present

import (
	"fmt"
	"strings"

	"fitcheck/core/draft"
	"fitcheck/core/shell"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// DraftPage says where a first rulebook is, and what is to be done with it.
func DraftPage(file string, guesses int) *page.Page {
	p := &page.Page{Name: file}
	p.Add(page.Title{Word: "WRITTEN", Tone: page.Doubt, Text: fmt.Sprintf("a first rulebook is in %s, with %s", file, guessesOf(guesses)), About: []page.Item{{Text: "nothing fits, and nothing is a misfit, by a guess"}}})
	p.Add(whatNext([]string{
		"answer the question at the end of each line that is a guess: where it is yes, take the question away; where it is no, correct the line",
		"write down what the notes say and no line does: moves under hops:, what must hold before under needs:",
		"fitcheck rulebook check " + shell.Quote(file),
	})...)
	return p
}

// MergedPage says what was put into a rulebook.
func MergedPage(m *draft.Merged, file string) *page.Page {
	p := &page.Page{Name: file}
	t := page.Title{Word: "ADDED", Tone: page.Doubt, Text: fmt.Sprintf("%s to %s, with %s", wording.Count(len(m.Added), "release"), file, guessesOf(len(m.Guesses)))}
	if len(m.Lines) == 0 {
		t = page.Title{Word: "NOTHING NEW", Tone: page.Good, Text: file + " is as it was"}
	}
	if len(m.Known) > 0 {
		t.About = append(t.About, page.Item{Text: "it lists already: " + strings.Join(m.Known, ", ")})
	}
	for _, n := range m.Notes {
		t.About = append(t.About, page.Item{Text: n})
	}
	p.Add(t)
	var items []page.Item
	for _, l := range m.Lines {
		items = append(items, page.Item{Text: strings.TrimRight(l, "\n")})
	}
	if len(items) > 0 {
		p.Add(page.Head{Text: "Lines that were added"}, page.List{Items: items, Most: 24, Flag: page.All})
		p.Add(whatNext([]string{"answer the question at the end of each line: where it is yes, take the question away; where it is no, correct the line", "fitcheck rulebook check " + shell.Quote(file)})...)
	}
	return p
}

func init() {
	form(func() any { return MergedJSON(&draft.Merged{}, "") })
}

// MergedJSON is the document of rulebook draft -merge.
func MergedJSON(m *draft.Merged, file string) any {
	return struct {
		Fitcheck about    `json:"fitcheck"`
		File     string   `json:"file"`
		Added    []string `json:"added"`
		Known    []string `json:"known,omitempty"`
		Lines    []string `json:"lines"`
		Guesses  []string `json:"guesses"`
		Notes    []string `json:"notes,omitempty"`
	}{about{"rulebook draft", Edition}, file, append([]string{}, m.Added...), m.Known, append([]string{}, m.Lines...), m.Guesses, m.Notes}
}

func guessesOf(n int) string {
	if n == 1 {
		return "1 guess"
	}
	return fmt.Sprintf("%d guesses", n)
}
