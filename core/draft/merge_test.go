package draft

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// A new release goes into a confirmed rulebook, each line of it a guess; what was there stays, to
// the byte, and a second time nothing is added.
func TestMergeAddsWhatIsNewAndTouchesNothingElse(t *testing.T) {
	for i, form := range []string{"xml", "ini", "csv", "lines", "json", "yaml"} {
		t.Run(form, func(t *testing.T) {
			p := invent(rand.New(rand.NewPCG(uint64(i), 7)), form, []string{"build", "letters", "date"}[i%3])
			dir := t.TempDir()
			in, _ := p.input(t, dir)
			text := New(Input{Packages: in.Packages[:3], Captures: in.Captures}).YAML()
			text = "# kept\n" + marks.ReplaceAllString(text, "")
			text = strings.Replace(text, "releases:\n", "releases:  # newest first\n  # the one in the depot\n", 1)
			rb, err := rulebook.Read("book.yaml", []byte(text))
			require.NoError(t, err)
			doc, err := notes.Read("new.txt", []byte(p.notes()), nil)
			require.NoError(t, err)
			add := Input{Notes: []Note{{"new.txt", doc}}}
			for n := range 5 {
				add.Packages = append(add.Packages, p.survey(t, dir, n, rb))
			}
			m, err := Merge(rb, text, add)
			require.NoError(t, err)
			assert.Equal(t, []string{p.last(), p.releases[0]}, m.Added, "the newest first")
			assert.ElementsMatch(t, p.releases[1:4], m.Known)
			assert.True(t, keepsLines(text, m.Text), "%s\n%s", text, m.Text)
			assert.NotEmpty(t, m.Guesses)

			merged, err := rulebook.Read("book.yaml", []byte(marks.ReplaceAllString(m.Text, "")))
			require.NoError(t, err)
			_, wrong := p.answers(t, dir, merged)
			assert.LessOrEqual(t, len(wrong), 1, "%s\n%s", strings.Join(wrong, "\n"), m.Text)

			again, err := rulebook.Read("book.yaml", []byte(m.Text))
			require.NoError(t, err)
			add.Packages = nil
			for n := range 5 {
				add.Packages = append(add.Packages, p.survey(t, dir, n, again))
			}
			m2, err := Merge(again, m.Text, add)
			require.NoError(t, err)
			assert.Equal(t, m.Text, m2.Text)
			assert.Empty(t, m2.Lines)
		})
	}
}

// keepsLines tells whether all lines of a text stand in another, in their order.
func keepsLines(before, after string) bool {
	rest := strings.SplitAfter(after, "\n")
	for _, l := range strings.SplitAfter(before, "\n") {
		i := 0
		for i < len(rest) && rest[i] != l {
			i++
		}
		if i == len(rest) {
			return false
		}
		rest = rest[i+1:]
	}
	return true
}

// A block in braces is not written into: the error says which, and the text stays as it is.
func TestMergeRefusesWhatItCannotWriteInto(t *testing.T) {
	p := invent(rand.New(rand.NewPCG(1, 7)), "ini", "plain")
	dir := t.TempDir()
	in, _ := p.input(t, dir)
	text := marks.ReplaceAllString(New(Input{Packages: in.Packages[:1]}).YAML(), "")
	at := strings.Index(text, "\nreleases:\n")
	end := strings.Index(text, "\nhops:")
	text = text[:at] + fmt.Sprintf("\nreleases: [{version: %q, families: [line]}]\n", p.releases[1]) + text[end:]
	rb, err := rulebook.Read("book.yaml", []byte(text))
	require.NoError(t, err)
	_, err = Merge(rb, text, Input{Packages: []*survey.Survey{p.survey(t, dir, 4, rb)}})
	require.ErrorContains(t, err, "releases is written in braces")
}
