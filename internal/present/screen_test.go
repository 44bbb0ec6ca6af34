package present

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/compare"
	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/notes"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present/page"

	y "fitcheck/core/yamlfile"
)

// anything makes answers of all sizes: what a screen must hold, whatever comes.
type anything struct{ *rand.Rand }

func (r anything) words(most int) string {
	all := []string{"the", "device", "has", "revision", "B1", "the", "manifest", "names", "A1,", "A2", "hold-the-line", "needs", "boot", ">=3.2.0"}
	var out []string
	for range 1 + r.IntN(most) {
		out = append(out, all[r.IntN(len(all))])
	}
	return strings.Join(out, " ")
}

func (r anything) name() string {
	return strings.Repeat(string(rune('a'+r.IntN(26)))+"-", r.IntN(12)) + fmt.Sprint("name", r.IntN(1000))
}

func (r anything) outcome(bad float64) fit.Outcome {
	if r.Float64() >= bad {
		return fit.Fits
	}
	return []fit.Outcome{fit.Misfit, fit.Unsettled, fit.Note}[r.IntN(3)]
}

func (r anything) sources(side ...string) []fit.Cited {
	var out []fit.Cited
	for _, s := range side {
		for range 1 + r.IntN(3) {
			out = append(out, cited(s, r.words(3), fact.Source{Kind: fact.Manifest, File: r.name() + "/" + r.name() + ".txt", Line: 1 + r.IntN(400)}))
		}
	}
	return out
}

func (r anything) checks(components []string, bad float64) []fit.Check {
	var out []fit.Check
	for _, k := range check.All() {
		if k.Of != "" {
			continue
		}
		for _, c := range components {
			out = append(out, fit.Check{Check: k.Name, Component: c, Outcome: r.outcome(bad), Because: r.words(30), Advice: r.words(20), Sources: r.sources(fit.OfDevice, fit.OfPackage)})
		}
	}
	return out
}

func (r anything) verdict() *fit.Verdict {
	bad := []float64{0, 0.02, 0.3}[r.IntN(3)]
	v := &fit.Verdict{Outcome: fit.Fits, Package: r.name() + ".zip", Path: "packages/" + r.name() + ".zip", Device: r.name(), Release: "8.4.2", Group: "stack"}
	var components []string
	for i := range 1 + r.IntN(8) {
		components = append(components, fmt.Sprintf("component%d", i))
	}
	v.Checks = r.checks([]string{""}, bad/4)
	for i := range []int{1, 2, 3, 12}[r.IntN(4)] {
		m := fit.Member{Name: fmt.Sprintf("member-%d", i+1), Verdict: fit.Fits, About: r.words(30), Checks: r.checks(components, bad)}
		for _, c := range components {
			m.Chosen = append(m.Chosen, fit.Chosen{Component: c, Item: v.Package + "::" + r.name() + "/" + r.name(), Version: "8.4.2", From: "8.2.1", Slot: []string{"", "B"}[r.IntN(2)]})
		}
		for _, c := range m.Checks {
			if c.Outcome == fit.Misfit || c.Outcome == fit.Unsettled {
				m.Verdict = fit.Worse(m.Verdict, c.Outcome)
			}
		}
		v.Outcome = fit.Worse(v.Outcome, m.Verdict)
		v.Members = append(v.Members, m)
	}
	for _, c := range v.Checks {
		if c.Outcome == fit.Misfit || c.Outcome == fit.Unsettled {
			v.Outcome = fit.Worse(v.Outcome, c.Outcome)
		}
	}
	for range r.IntN(3) {
		v.Notes = append(v.Notes, r.words(20))
	}
	return v
}

// oneScreen demands that a page is seen at once: no more lines than a screen has, none of them
// wider than it, but for one word or a command that stands alone; and the verdict first.
func oneScreen(t *testing.T, p *page.Page, lines int, verdict string) string {
	t.Helper()
	out := shown(p, 100)
	all := strings.Split(strings.TrimSuffix(out, "\n"), "\n")
	assert.LessOrEqual(t, len(all), lines, "%s", out)
	assert.Contains(t, all[0], verdict)
	keepsWidth(t, out)
	return out
}

func keepsWidth(t *testing.T, out string) {
	t.Helper()
	for l := range strings.SplitSeq(out, "\n") {
		if text.StringWidthWithoutEscSequences(l) > 100 {
			alone := strings.TrimSpace(l)
			assert.True(t, !strings.Contains(alone, " ") || strings.HasPrefix(alone, "fitcheck "), "wider than the screen: %q", l)
		}
	}
}

func TestAnyVerdictIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(3, 4))}
	for range 80 {
		v := r.verdict()
		p := AnswersPage(answers(v), nil, false)
		lines := 38
		switch {
		case len(v.Members) > 1:
			lines = 40
		case v.Outcome == fit.Fits:
			lines = 25
		}
		out := oneScreen(t, p, lines, strings.ToUpper(string(v.Outcome)))
		assert.Contains(t, out, "-why shows every source")
		full := strings.Join(strings.Fields(shown(p, 100, page.Why)), " ")
		for _, m := range v.Members {
			for _, c := range m.Checks {
				if c.Outcome != fit.Note || v.Outcome != fit.Misfit {
					assert.Contains(t, full, c.Because, "-why shows every one")
				}
			}
			break
		}
	}
}

// A verdict with three reasons takes no more than 35 lines, both sides of each among them.
func TestThreeReasons(t *testing.T) {
	other := revision
	other.Check, other.Because = "arch", "the device's architecture is arm64; the image is for arm (header)"
	third := revision
	third.Check, third.Because = "needs", "it needs boot >=3.2.0; 3.1.4 is installed"
	out := oneScreen(t, AnswersPage(answers(verdict(fit.Misfit, model, revision, other, third, slot)), nil, false), 35, "MISFIT")
	for _, want := range []string{revision.Because, other.Because, third.Because} {
		assert.Contains(t, out, want)
	}
	assert.Equal(t, 3, strings.Count(out, "B1 (manifest"), "both sides of each")
}

func TestAnyNumberOfAnswersIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(5, 6))}
	for _, n := range []int{2, 20, 300} {
		a := Answer{Device: &device.Device{}}
		a.Device.Name = y.String{Text: r.name()}
		for range n {
			a.Verdicts = append(a.Verdicts, r.verdict())
		}
		oneScreen(t, AnswersPage([]Answer{a}, nil, false), 38, strings.ToUpper(string(a.Verdicts[0].Outcome)))
		var many []Answer
		for i := range n {
			one := Answer{Device: &device.Device{}, Verdicts: a.Verdicts[i : i+1]}
			one.Device.Name = y.String{Text: fmt.Sprint("radio-", i)}
			many = append(many, one)
		}
		oneScreen(t, AnswersPage(many, nil, false), 38, fmt.Sprint(n, " devices"))
		brief := shown(AnswersPage(many, nil, true), 100)
		assert.Equal(t, n+3, strings.Count(brief, "\n"), "a line a device")
		keepsWidth(t, brief)
	}
}

func TestAnyPathIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(7, 8))}
	for range 60 {
		a := &path.Answer{Name: r.name(), From: "1.0", To: "9.0", Found: r.IntN(4) > 0}
		for range 1 + r.IntN(12) {
			h := path.Hop{Release: "R" + r.name(), From: "1.0", To: "2.0", Family: "f", FromFamily: "f", Because: r.words(40), ResetsConfig: r.IntN(3) == 0, NoReturn: r.IntN(5) == 0}
			if r.IntN(3) > 0 {
				h.Minutes = &rulebook.Minutes{Install: rulebook.AMinute(r.IntN(90)), Outage: rulebook.AMinute(r.IntN(90))}
			}
			for m := range r.IntN(12) {
				h.Members = append(h.Members, fmt.Sprint("member-", m))
			}
			for c := range 1 + r.IntN(8) {
				h.Components = append(h.Components, path.Change{Component: fmt.Sprint("component", c), From: "1.0", To: "2.0"})
			}
			a.Hops = append(a.Hops, h)
		}
		p := PathAnswer{Answer: a}
		switch {
		case a.Found:
			for _, h := range a.Hops {
				p.Steps = append(p.Steps, plan.Step{Hop: h})
			}
			a.Back = &path.Back{Found: r.IntN(2) == 0, Because: r.words(30)}
		case r.IntN(2) == 0:
			for range 1 + r.IntN(20) {
				a.Unsettled = append(a.Unsettled, r.words(40))
			}
		default:
			for range 1 + r.IntN(20) {
				a.Blocked = append(a.Blocked, path.Blocked{Release: r.name(), Because: r.words(40)})
			}
		}
		word, _ := p.status()
		oneScreen(t, PathPage(Paths{Device: a.Name, Plans: []PathAnswer{p}}), 38, word)
	}
}

func TestAnyConfirmationIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(9, 10))}
	for range 60 {
		c := Confirmed{Confirmation: &plan.Confirmation{Device: r.name(), From: "1", To: "2", Verdict: fit.Fits}}
		for i := range []int{1, 3, 12}[r.IntN(3)] {
			m := plan.ConfirmedMember{Name: fmt.Sprint("member-", i)}
			for range 1 + r.IntN(10) {
				ch := fit.Check{Check: "version", Component: r.name(), Outcome: r.outcome(0.3), Because: r.words(20), Advice: r.words(10), Sources: r.sources(fit.OfDevice, fit.OfPackage)}
				c.Confirmation.Verdict = fit.Worse(c.Confirmation.Verdict, ch.Outcome)
				m.Checks = append(m.Checks, ch)
			}
			c.Members = append(c.Members, m)
		}
		for range r.IntN(12) {
			c.Next = append(c.Next, r.words(20))
		}
		if c.Confirmation.Verdict == fit.Note {
			c.Confirmation.Verdict = fit.Fits
		}
		oneScreen(t, ConfirmPage(c), 38, map[fit.Outcome]string{fit.Fits: "AS PLANNED", fit.Misfit: "NOT AS PLANNED", fit.Unsettled: "UNSETTLED"}[c.Verdict()])
	}
}

func TestAnyStagingIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(11, 12))}
	for _, n := range []int{1, 10, 200} {
		d := Stage{Into: "staged", Done: &plan.Staged{Written: []string{"x"}}}
		for i := range n {
			f := plan.Serving{Name: fmt.Sprintf("release-%d/%s.img", i, r.name()), Size: int64(r.IntN(1 << 30)), For: []plan.Use{{Device: "depot", Member: "core-1", Release: "6.4.1", Component: "main", Slot: "2", Hop: 1}, {Device: "depot", Member: "core-2", Release: "6.4.1", Component: "main", Hop: 2}}}
			f.Digests = digest.Set{{Algorithm: digest.SHA256, Hex: strings.Repeat("ab", 32)}}
			d.Files = append(d.Files, f)
		}
		oneScreen(t, StagePage(d), 38, "STAGED")
	}
	var why []Refused
	for i := range 40 {
		why = append(why, Refused{Device: fmt.Sprint("cab-", i), Outcome: fit.Misfit, Because: []string{r.words(40), r.words(40)}})
	}
	oneScreen(t, RefusedPage(why, "staged", "see it in full"), 38, "MISFIT")
}

func TestAnyDeviceIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(13, 14))}
	for _, members := range []int{0, 3, 12} {
		rd := &device.Reading{File: "cab.txt", Form: "console capture"}
		d := DeviceReading{Device: &device.Device{}, Readings: []*device.Reading{rd}, Out: "devices/cab.yaml", Written: "is written"}
		d.Device.Name = y.String{Text: "cab"}
		for m := range max(1, members) {
			name := ""
			if members > 0 {
				name = fmt.Sprint("member-", m)
				d.Device.Members = append(d.Device.Members, device.Unit{})
			}
			for k := range 30 {
				rd.Values = append(rd.Values, device.Value{Member: name, Key: fmt.Sprint("installed.", k), Text: r.name(), At: fact.Source{Kind: fact.Capture, File: "cab.txt", Line: k + 1}, Guess: r.IntN(9) == 0})
			}
		}
		d.Draft = device.Merge([]*device.Reading{rd}, nil, nil, nobody{})
		oneScreen(t, DevicePage(d), 38, "cab: devices/cab.yaml is written")
	}
}

func TestAnyNotesAreOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(15, 16))}
	d := Notes{File: "p.zip::NOTES.md", Rulebook: "rules.yaml", Release: "8.4.2", Lines: 4000}
	for i := range 200 {
		d.Statements = append(d.Statements, notes.Statement{Kind: notes.Kinds[r.IntN(len(notes.Kinds))], Line: i, Text: r.words(40), Unsaid: r.IntN(3) == 0})
	}
	oneScreen(t, NotesPage([]Notes{d}, "x"), 38, "NOTES")
}

func TestAnyComparisonIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(17, 18))}
	c := &compare.Result{A: r.name(), B: r.name()}
	for i := range 300 {
		c.Items = append(c.Items, compare.Item{Path: fmt.Sprintf("%s/%d", r.name(), i), Kind: "text", Change: changeOrder[r.IntN(len(changeOrder))]})
	}
	oneScreen(t, ComparePage([]*compare.Result{c}), 38, "DIFFERENT")
}

// Any package is one screen, and -all lists every item.
func TestAnySurveyIsOneScreen(t *testing.T) {
	r := anything{rand.New(rand.NewPCG(19, 20))}
	for _, n := range []int{1, 12, 60, 1500} {
		var names []string
		var data [][]byte
		for i := range n {
			content := uimage(fmt.Sprintf("QM-%dT 8.4.%d", i, i%9), r.words(20))
			if i%5 == 4 {
				content[len(content)-1] ^= 1
			}
			switch i % 3 {
			case 1:
				content = []byte("words " + r.words(30) + "\n")
			}
			names, data = append(names, fmt.Sprintf("bundle-8.4.2/%s/%d-%s.img", r.name(), i, r.name())), append(data, content)
		}
		v := surveyed(t, "p.zip", zipOf(t, names, data...), survey.Options{})
		p := SurveyPage(v)
		out := shown(p, 100)
		assert.LessOrEqual(t, strings.Count(out, "\n"), 40, out)
		require.Contains(t, strings.SplitN(out, "\n", 2)[0], "p.zip")
		keepsWidth(t, out)
		full := shown(p, 0, page.All)
		for _, it := range v.Items {
			assert.Contains(t, full, it.Name)
		}
	}
}
