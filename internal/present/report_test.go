package present

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/evidence"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	y "fitcheck/core/yamlfile"
)

// stack is a verdict on a group: one member fits, the other does not.
func stack() Answer {
	v := verdict(fit.Misfit, model, slot)
	v.Device, v.Group = "depot", "stack"
	v.Checks = []fit.Check{{Check: "uniform", Outcome: fit.Misfit, Because: "two would stay behind", Advice: "bring both"}}
	v.Members[0].Name, v.Members[0].Verdict, v.Members[0].About = "one", fit.Fits, "one is a QM-8T"
	v.Members = append(v.Members, fit.Member{Name: "two", Verdict: fit.Misfit, About: "two is a QM-8T", Checks: []fit.Check{model, revision},
		Others: []fit.PassedOver{{Component: "main", Item: "p.zip::b.img", Because: "<script>alert(1)</script>"}}})
	d := &device.Device{}
	d.Name = y.Text{Text: "depot"}
	return Answer{Device: d, Verdicts: []*fit.Verdict{v}, Instead: &fit.Verdict{Package: "q.zip", Path: "packages/q.zip", Device: "depot"}}
}

func TestGroupsOnTheScreen(t *testing.T) {
	var b bytes.Buffer
	(&Screen{Out: &b, Width: 100, Why: true}).Answers([]Answer{stack()})
	inOrder(t, b.String(), "MISFIT", "p.zip does NOT fit depot", "depot is a stack of 2", "fits      one is a QM-8T", "misfit    two is a QM-8T",
		"What decides it", "two would stay behind", "two: for B1", "What else was checked", "all members: ::a.img names", "one: slot B is free",
		"What to do next", "1. q.zip of the kit (packages/q.zip) fits depot: take that one", "2. bring both", "3. get the image for A2")
}

func TestSeveralPackagesAndDevices(t *testing.T) {
	one := stack()
	better := verdict(fit.Fits, model)
	better.Package, better.Path, better.Device = "p.zip", "packages/new/p.zip", "depot"
	one.Verdicts[0].Path = "packages/old/p.zip"
	one.Verdicts = []*fit.Verdict{better, one.Verdicts[0]}
	two := stack()
	two.Device = &device.Device{}
	two.Device.Name = y.Text{Text: "yard"}
	var b bytes.Buffer
	(&Screen{Out: &b, Why: true}).Answers([]Answer{one, two})
	inOrder(t, b.String(), "MISFIT  2 devices: 1 fit, 1 do not, 0 are not settled", "depot", "FITS", "yard", "MISFIT", "====", "p.zip is the best of 2 for depot", "packages/new/p.zip", "packages/old/p.zip", "revision: for B1", "The best of them in full")
	b.Reset()
	(&Screen{Out: &b}).Answers([]Answer{one, two})
	inOrder(t, b.String(), "MISFIT  2 devices", "depot", "all checks", "yard", "revision: for B1, and the device is an A2", "-why shows each")
	assert.NotContains(t, b.String(), "component", "several devices are a table")
	b.Reset()
	(&Screen{Out: &b}).Answers([]Answer{one})
	inOrder(t, b.String(), "p.zip is the best of 2 for depot", "revision: for B1", "fitcheck match -device depot packages/new/p.zip shows the best one")
	b.Reset()
	(&Screen{Out: &b, Brief: true}).Answers([]Answer{one})
	assert.LessOrEqual(t, strings.Count(b.String(), "\n"), 4, "one line a device")

	var doc struct {
		Verdict string
		Matches []struct{ Verdict, Device, Path, Instead string }
	}
	b.Reset()
	require.NoError(t, WriteJSON(&b, AnswersJSON([]Answer{one, two}, nil)))
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc))
	assert.Equal(t, "misfit", doc.Verdict)
	require.Len(t, doc.Matches, 3)
	assert.Equal(t, "packages/new/p.zip", doc.Matches[0].Path)
	assert.Equal(t, []string{"packages/q.zip", "", "packages/q.zip"}, []string{doc.Matches[0].Instead, doc.Matches[1].Instead, doc.Matches[2].Instead})
}

func TestJUnit(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, JUnit(&b, []Answer{stack()}))
	var doc struct {
		Tests    int `xml:"tests,attr"`
		Failures int `xml:"failures,attr"`
		Suites   []struct {
			Cases []struct {
				Name    string `xml:"name,attr"`
				Class   string `xml:"classname,attr"`
				Failure *struct {
					Type string `xml:"type,attr"`
					Text string `xml:",chardata"`
				} `xml:"failure"`
			} `xml:"testcase"`
		} `xml:"testsuite"`
	}
	require.NoError(t, xml.Unmarshal(b.Bytes(), &doc), b.String())
	assert.Equal(t, []int{5, 2}, []int{doc.Tests, doc.Failures})
	last := doc.Suites[0].Cases[4]
	assert.Equal(t, []string{"revision main", "two", "misfit"}, []string{last.Name, last.Class, last.Failure.Type})
	assert.Contains(t, last.Failure.Text, "B1 (manifest p.zip::m.txt:4)")
	assert.Contains(t, last.Failure.Text, "get the image for A2")
}

func TestReport(t *testing.T) {
	r := Report{Answers: []Answer{stack()}, Made: time.Date(2026, 11, 25, 2, 0, 0, 0, time.UTC), Version: "0.1.0", Evidence: Evidence{
		fact.Source{Kind: fact.Manifest, File: "p.zip::m.txt", Line: 4}:           {{Title: "p.zip::m.txt:4", Lines: []evidence.Line{{Number: 3, Text: "[QM-8T]"}, {Number: 4, Text: "main a.img \x1b[31m& more", Cited: true}}}},
		fact.Source{Kind: fact.Header, File: "p.zip::a.img", Offset: 32, Size: 5}: {{Title: "p.zip::a.img at 0x20", Dump: []byte("QM-8T 8.4.2"), At: 32, Mark: 32, MarkEnd: 37}},
	}}
	var b bytes.Buffer
	require.NoError(t, r.HTML(&b))
	page := b.String()
	inOrder(t, page, "p.zip does not fit depot", "What to do next", "q.zip of the kit", "What decides it", "two would stay behind", "<th>one</th><th>two</th>", "uniform", "colspan=\"2\"", "model main", "revision main", "Images passed over", "Evidence", "51 4d 2d 38 54", "2026-11-25 02:00 UTC")
	assert.Contains(t, page, `<span class="c">main a.img \u001b[31m&amp; more</span>`, "nothing of an input acts on the page")
	assert.NotContains(t, page, "<script")
	for _, from := range []string{"http://", "https://", "src=", "@import", "<link"} {
		assert.NotContains(t, page, from, "the page needs nothing else")
	}
	assert.Equal(t, strings.Count(page, "<details"), strings.Count(page, "</details>"))

	b.Reset()
	require.NoError(t, r.Markdown(&b))
	inOrder(t, b.String(), "# MISFIT: p.zip does not fit depot", "1. q.zip of the kit", "- **uniform**: two would stay behind", "| check | one | two |", "| uniform | misfit | misfit |", "| model main | fits | fits |", "| revision main |  | misfit |", "&lt;script>", "    > 4 main a.img")
	assert.NotContains(t, b.String(), "\x1b")
}

func TestDeviceOnTheScreen(t *testing.T) {
	r := &device.Reading{File: "cab.txt", Form: "console capture"}
	r.Values = []device.Value{{Key: "model", Text: "QM-8T", Where: "cab.txt:3"}, {Key: "revision", Text: "A2", Where: "cab.txt:4"}, {Key: "revision", Text: "B1", Where: "label.txt:1"}, {Key: "installed.main", Text: "8.2.1", Where: "cab.txt:5", Guess: true}}
	d := DeviceReading{Device: &device.Device{}, Draft: device.Merge([]*device.Reading{r}, nil, nil, nobody{}), Readings: []*device.Reading{r}, Out: "d.yaml", Written: "is not written: settle the contradictions first"}
	d.Device.Name = y.Text{Text: "cab"}
	var b bytes.Buffer
	(&Screen{Out: &b, Width: 110}).Device(d)
	inOrder(t, b.String(), "UNSETTLED", "cab: d.yaml is not written", "cab.txt: console capture", "model", "QM-8T", "cab.txt:3", "8.2.1", "cab.txt:5 (guess)",
		"Contradictions", "revision: cab.txt:4 says A2; label.txt:1 says B1", "Guesses", "installed.main: 8.2.1 (cab.txt:5)", "1. read what is unsettled", "-set revision=A2")
	var doc map[string]any
	b.Reset()
	require.NoError(t, WriteJSON(&b, DeviceJSON(d)))
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc))
	assert.Len(t, doc["contradictions"], 1)
	assert.Len(t, doc["values"], 2)
}

type nobody struct{}

func (nobody) Model(string) (string, bool)  { return "", false }
func (nobody) Revision(string, string) bool { return false }
func (nobody) Owners(string) []device.Owner { return nil }
