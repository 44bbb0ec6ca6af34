package draft

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/image/format"
	"fitcheck/core/kit"
	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

var marks = regexp.MustCompile(`(?m)\s+# GUESS.*$`)

// question is one that is asked of a rulebook: of a device, and of the package of a release.
type question struct {
	about        string
	model, rev   int // of the line
	runs, pkg    int // releases
	boot         string
	noRevision   bool
	want         []fit.Outcome
	strangeModel bool
}

func (p *product) questions() []question {
	misfit, fits, open := []fit.Outcome{fit.Misfit}, []fit.Outcome{fit.Fits}, []fit.Outcome{fit.Unsettled}
	if p.form == "names" { // by its name alone nothing fits
		fits = open
	}
	last := fits
	qs := []question{
		{about: "from the stop to the last release", runs: 2, pkg: 4, boot: "2.1.0", want: last},
		{about: "past the stop", runs: 0, pkg: 4, boot: "2.1.0", want: misfit},
		{about: "to the stop", runs: 0, pkg: 2, boot: "1.0.4", want: fits},
		{about: "back", runs: 4, pkg: 2, boot: "2.1.0", want: misfit},
		{about: "another model", model: 1, runs: 2, pkg: 4, boot: "2.1.0", want: fits},
		{about: "a model that nobody knows", runs: 2, pkg: 4, boot: "2.1.0", strangeModel: true, want: []fit.Outcome{fit.Misfit, fit.Unsettled}},
		{about: "one release on", runs: 1, pkg: 2, boot: "1.0.4", want: fits},
	}
	if p.form == "names" {
		qs[4].want = []fit.Outcome{fit.Misfit, fit.Unsettled} // the package is the first model's
	} else {
		qs = append(qs,
			question{about: "the other revision, which has an image of its own", rev: 1, runs: 2, pkg: 4, boot: "2.1.0", want: fits},
			question{about: "the revision is not known", runs: 2, pkg: 4, boot: "2.1.0", noRevision: true, want: open},
			question{about: "a boot loader that is brought along", runs: 2, pkg: 4, boot: "1.0.4", want: fits})
	}
	if p.withdrawn != "" {
		qs = append(qs, question{about: "a release that was withdrawn", runs: 2, pkg: 3, boot: "2.1.0", want: misfit})
	} else {
		qs = append(qs, question{about: "to the release before the last", runs: 2, pkg: 3, boot: "2.1.0", want: fits})
	}
	return qs
}

// input writes the packages of a line, without the one of the release that is held back, and
// reads what a draft is made from.
func (p *product) input(t *testing.T, dir string) (Input, string) {
	t.Helper()
	var in Input
	for n := 1; n < 5; n++ {
		in.Packages = append(in.Packages, p.survey(t, dir, n, nil))
	}
	text := p.notes()
	doc, err := notes.Read("notes.txt", []byte(text), nil)
	require.NoError(t, err)
	in.Notes = []Note{{"notes.txt", doc}}
	capture := p.capture(p.models[0], p.models[0].revisions[0], p.releases[1], p.boots[1])
	in.Captures = []Text{{"capture.txt", []byte(capture)}}
	return in, text + "\n" + capture
}

func (p *product) survey(t *testing.T, dir string, n int, rb *rulebook.Rulebook) *survey.Survey {
	name, data := p.pack(n)
	path := filepath.Join(dir, name)
	require.NoError(t, os.WriteFile(path, data, 0o644))
	o := survey.Options{Limits: archive.DefaultLimits(), Formats: format.Builtin(), Texts: true}
	if rb != nil {
		o.Rulebooks = []*rulebook.Rulebook{rb}
	}
	s, err := survey.Run(context.Background(), path, o)
	require.NoError(t, err)
	return s
}

// device is what a capture tells of a device, by the rulebook alone.
func (p *product) device(t *testing.T, rb *rulebook.Rulebook, q question) *device.Device {
	m := p.models[q.model]
	if q.strangeModel {
		m.shown = "ZZ-99"
	}
	text := p.capture(m, m.revisions[q.rev], p.releases[q.runs], q.boot)
	if q.noRevision {
		lines := strings.Split(text, "\n")
		for i, l := range lines {
			if strings.HasSuffix(strings.TrimSpace(l), " "+m.revisions[q.rev].name) {
				lines[i] = ""
			}
		}
		text = strings.Join(lines, "\n")
	}
	r, err := device.ReadSource("capture.txt", []byte(text), rb.CaptureRules())
	require.NoError(t, err)
	d := device.Merge([]*device.Reading{r}, nil, nil, &kit.Kit{Rulebooks: []*rulebook.Rulebook{rb}})
	out, err := d.Write("depot-3", nil)
	require.NoError(t, err)
	dev, err := device.Read("depot-3.yaml", out)
	require.NoError(t, err)
	return dev
}

// answers asks all questions; wrong tells what came out otherwise.
func (p *product) answers(t *testing.T, dir string, rb *rulebook.Rulebook) (right int, wrong []string) {
	for _, q := range p.questions() {
		s := p.survey(t, dir, q.pkg, rb)
		v := fit.Match(p.device(t, rb, q), fit.Only(rb), s, fit.Options{})
		ok := false
		for _, w := range q.want {
			ok = ok || v.Outcome == w
		}
		if ok {
			right++
			continue
		}
		why := ""
		for _, m := range v.Members {
			for _, l := range m.Checks {
				if l.Outcome == fit.Misfit || l.Outcome == fit.Unsettled {
					why += fmt.Sprintf("\n      %v %s: %s", l.Outcome, l.Code, l.Because)
				}
			}
		}
		wrong = append(wrong, fmt.Sprintf("%s: want %v, came %v%s", q.about, q.want, v.Outcome, why))
	}
	return right, wrong
}

// From four releases of a line that nobody has seen, with notes and a capture, a draft whose
// guesses are all confirmed answers nine of ten questions, and before they are confirmed none is
// answered by fits.
func TestDraftedRulebookAnswersQuestions(t *testing.T) {
	all, right := 0, 0
	for _, form := range []string{"xml", "ini", "csv", "lines", "json", "yaml", "names"} {
		for style := range styles {
			for seed := range uint64(2) {
				t.Run(fmt.Sprintf("%s/%s/%d", form, style, seed), func(t *testing.T) {
					p := invent(rand.New(rand.NewPCG(seed, uint64(len(form)*len(style)))), form, style)
					dir := t.TempDir()
					in, said := p.input(t, dir)
					text := New(in).YAML()
					_, err := rulebook.Read("draft.yaml", []byte(text))
					require.NoError(t, err, text)
					rb, err := rulebook.Read("draft.yaml", []byte(marks.ReplaceAllString(text, "")))
					require.NoError(t, err, text)
					assert.Empty(t, rb.Warnings(), text)
					n, wrong := p.answers(t, dir, rb)
					all, right = all+n+len(wrong), right+n
					if len(wrong) > 1 {
						name, _ := p.pack(1)
						manifest, _ := p.manifest(4, p.files(4))
						t.Errorf("%s\n%s\n%s\n%s\n%s", strings.Join(wrong, "\n"), name, manifest, said, text)
					}
				})
			}
		}
	}
	t.Logf("%d of %d questions", right, all)
	assert.GreaterOrEqual(t, 10*right, 9*all)
}
