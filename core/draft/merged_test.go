package draft

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// TestWhatIsMerged holds what is added to the rulebooks of the demo kit, whole and with no release of their own, of
// packages that they describe and packages that they do not, and of notes, against testdata/merged.txt.
func TestWhatIsMerged(t *testing.T) {
	books := map[string]string{}
	for _, f := range demo.Kit() {
		if name, ok := strings.CutPrefix(f.Path, "rulebooks/"); ok {
			books[name] = string(f.Data)
		}
	}
	sets := map[string][]string{
		"quillmere.yaml": {"qm-tram-8.4.2.zip", "qm-tram-8.4.1.zip"}, "quillmere-core.yaml": {"qm-core-6.1.2.zip", "qm-core-6.4.1.zip"},
		"velloway.yaml": {"vg20-5.1.0.zip", "vc40-loader-2.4.1.bin", "vc40-system-2.4.1.bin", "vr310-4.2.0.itb"}, "platform.yaml": {"vr510-lantern-23.4.2.bin", "vr510-3.4.0.bin"},
	}
	doc, err := notes.Read("notes.txt", []byte(sentences), nil)
	require.NoError(t, err)
	var b strings.Builder
	for _, name := range []string{"quillmere.yaml", "quillmere-core.yaml", "velloway.yaml", "platform.yaml"} {
		whole := books[name]
		require.NotEmpty(t, whole, name)
		bare := whole
		if from := strings.Index(whole, "\nreleases:\n"); from >= 0 {
			rest := whole[from+1:]
			end := regexp.MustCompile(`(?m)^[a-z]+:`).FindAllStringIndex(rest, 2)
			require.Len(t, end, 2)
			bare = whole[:from+1] + rest[end[1][0]:]
		}
		stranger := regexp.MustCompile(`file: '\^`).ReplaceAllString(bare, `file: '^never-`)
		models := regexp.MustCompile(`(?m)^models:\n  ([\w-]+):`).FindStringSubmatch(whole)
		require.NotNil(t, models, name)
		unknown := strings.ReplaceAll(whole, models[1], models[1]+"X")
		for _, c := range []struct{ what, text string }{{"as it is", whole}, {"without its releases", bare}, {"of other names", stranger}, {"of another model", unknown}} {
			rb, err := rulebook.Read(name, []byte(c.text))
			if err != nil {
				fmt.Fprintf(&b, "## %s, %s: %v\n", name, c.what, err)
				continue
			}
			for _, given := range []struct {
				what string
				in   Input
			}{
				{"its packages", Input{Packages: surveyed(t, rb, sets[name]...)}}, {"packages of another line", Input{Packages: surveyed(t, rb, "vp12-5.3.0.bin", "gift.zip")}},
				{"notes", Input{Notes: []Note{{"notes.txt", doc}}}}, {"its packages and notes", Input{Packages: surveyed(t, rb, sets[name]...), Notes: []Note{{"notes.txt", doc}}}}, {"nothing", Input{}},
			} {
				fmt.Fprintf(&b, "## %s, %s, and %s\n", name, c.what, given.what)
				m, err := Merge(rb, c.text, given.in)
				if err != nil {
					fmt.Fprintf(&b, "refused: %v\n", err)
					continue
				}
				require.True(t, keepsLines(c.text, m.Text), m.Text)
				fmt.Fprintf(&b, "added %q, known %q\n", m.Added, m.Known)
				for _, l := range m.Lines {
					fmt.Fprintf(&b, "+ %s\n", pagetest.Cut(strings.TrimSuffix(l, "\n"), 200))
				}
				for _, n := range m.Notes {
					fmt.Fprintf(&b, "note: %s\n", n)
				}
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "merged.txt"), b.String())
}
