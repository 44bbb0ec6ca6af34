package present

import (
	"fmt"

	"fitcheck/core/shell"
	"fitcheck/internal/present/page"
)

// DraftPage says where a first rulebook is, and what is to be done with it.
func DraftPage(file string, guesses int) *page.Page {
	p := &page.Page{Name: file}
	p.Add(page.Title{Word: "WRITTEN", Tone: page.Doubt, Text: fmt.Sprintf("a first rulebook is in %s, with %s", file, guessesOf(guesses)), About: []page.Item{{Text: "as it stands, it allows no move from one release to another"}}})
	p.Add(whatNext([]string{
		"go through it with the release notes beside you: what holds loses its GUESS, what does not is corrected",
		"write down under hops: which moves the notes allow, and under needs: what must hold before",
		"fitcheck rulebook check " + shell.Quote(file),
	})...)
	return p
}

func guessesOf(n int) string {
	if n == 1 {
		return "1 guess"
	}
	return fmt.Sprintf("%d guesses", n)
}
