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
	"fitcheck/internal/present/page"
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
	d.Name = y.String{Text: "depot"}
	return Answer{Device: d, Verdicts: []*fit.Verdict{v}, Instead: &Instead{Package: "q.zip", Path: "packages/q.zip"}}
}

func TestGroupsOnTheScreen(t *testing.T) {
	inOrder(t, shown(AnswersPage([]Answer{stack()}, nil, false), 100, page.Why), "MISFIT", "p.zip does NOT fit depot", "depot is a stack of 2", "fits    one is a QM-8T", "misfit  two is a QM-8T",
		"What decides it", "two: for B1", "two would stay behind",
		"What to do next", "1. q.zip of the kit (packages/q.zip) fits depot: take that one", "2. get the image for A2", "3. bring both",
		"What else was checked", "all members: ::a.img names", "one: slot B is free", "two: images passed over", "::b.img")
}

func TestSeveralPackagesAndDevices(t *testing.T) {
	one := stack()
	better := verdict(fit.Fits, model)
	better.Package, better.Path, better.Device = "p.zip", "packages/new/p.zip", "depot"
	one.Verdicts[0].Path = "packages/old/p.zip"
	one.Verdicts = []*fit.Verdict{better, one.Verdicts[0]}
	two := stack()
	two.Device = &device.Device{}
	two.Device.Name = y.String{Text: "yard"}
	inOrder(t, shown(AnswersPage([]Answer{one, two}, nil, false), 0, page.Why), "MISFIT  2 devices: 1 fit, 1 do not, 0 are not settled", "yard", "MISFIT", "depot", "FITS", "p.zip is the best of 2 for depot", "packages/new/p.zip", "packages/old/p.zip", "revision: for B1", "The best of them", "====")
	out := shown(AnswersPage([]Answer{one, two}, nil, false), 0)
	inOrder(t, out, "MISFIT  2 devices", "yard", "revision: for B1, and the device is an A2", "depot", "all checks", "-why shows each")
	assert.NotContains(t, out, "component", "several devices are a table")
	inOrder(t, shown(AnswersPage([]Answer{one}, nil, false), 0), "p.zip is the best of 2 for depot", "revision: for B1", "fitcheck match -device depot packages/new/p.zip shows the best one")
	assert.LessOrEqual(t, strings.Count(shown(AnswersPage([]Answer{one}, nil, true), 0), "\n"), 4, "one line a device")

	var doc struct {
		Verdict string
		Results []struct{ Verdict, Device, Path, Instead string }
	}
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, AnswersJSON([]Answer{one, two}, nil)))
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc))
	assert.Equal(t, "misfit", doc.Verdict)
	require.Len(t, doc.Results, 3)
	assert.Equal(t, "packages/new/p.zip", doc.Results[0].Path)
	assert.Equal(t, []string{"packages/q.zip", "", "packages/q.zip"}, []string{doc.Results[0].Instead, doc.Results[1].Instead, doc.Results[2].Instead})
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
	e := Evidence{
		fact.Source{Kind: fact.Manifest, File: "p.zip::m.txt", Line: 4}:           {{Title: "p.zip::m.txt:4", Lines: []evidence.Line{{Number: 3, Text: "[QM-8T]"}, {Number: 4, Text: "main a.img \x1b[31m& more", Cited: true}}}},
		fact.Source{Kind: fact.Header, File: "p.zip::a.img", Offset: 32, Size: 5}: {{Title: "p.zip::a.img at 0x20", Dump: []byte("QM-8T 8.4.2"), At: 32, Mark: 32, MarkEnd: 37}},
	}
	r := Report{Page: AnswersPage([]Answer{stack()}, e, false), Made: time.Date(2026, 11, 25, 2, 0, 0, 0, time.UTC), Version: "0.1.0"}
	var b bytes.Buffer
	require.NoError(t, r.HTML(&b))
	text := b.String()
	inOrder(t, text, "p.zip does NOT fit depot", "class=\"matrix\"", "What decides it", "two would stay behind", "What to do next", "q.zip of the kit", "What else was checked", "51 4d 2d 38 54", "images passed over", "2026-11-25 02:00 UTC")
	assert.Contains(t, text, `main a.img \u001b[31m&amp; more</span>`, "nothing of an input acts on the page")
	assert.NotContains(t, text, "<script")
	for _, from := range []string{"http://", "https://", "src=", "@import", "<link"} {
		assert.NotContains(t, text, from, "the page needs nothing else")
	}
	for _, tag := range []string{"details", "section", "ul", "ol", "li", "table", "div"} {
		assert.Equal(t, strings.Count(text, "<"+tag+" ")+strings.Count(text, "<"+tag+">"), strings.Count(text, "</"+tag+">"), tag)
	}

	b.Reset()
	require.NoError(t, r.Markdown(&b))
	inOrder(t, b.String(), "# MISFIT: p.zip does NOT fit depot", "| member | component |", "| two | main |", "| all | install |", "- **misfit** **revision** main: two: for B1", "    | >    4 main a.img", "## What to do next", "1. q.zip of the kit", "What else was checked", "51 4d 2d 38 54", "&lt;script>")
	assert.NotContains(t, b.String(), "\x1b")

	b.Reset()
	require.NoError(t, r.Text(&b))
	inOrder(t, b.String(), "MISFIT  p.zip does NOT fit depot", "What decides it", "What else was checked", "Made by Fit Check 0.1.0")
}

func TestDeviceOnTheScreen(t *testing.T) {
	r := &device.Reading{File: "cab.txt", Form: "console capture"}
	r.Values = []device.Value{{Key: "model", Text: "QM-8T", At: fact.Source{Kind: fact.Capture, File: "cab.txt", Line: 3}}, {Key: "revision", Text: "A2", At: fact.Source{Kind: fact.Capture, File: "cab.txt", Line: 4}}, {Key: "revision", Text: "B1", At: fact.Source{Kind: fact.Capture, File: "label.txt", Line: 1}}, {Key: "installed.main", Text: "8.2.1", At: fact.Source{Kind: fact.Capture, File: "cab.txt", Line: 5}, Guess: true}}
	d := DeviceReading{Device: &device.Device{}, Draft: device.Merge([]*device.Reading{r}, nil, nil, nobody{}), Readings: []*device.Reading{r}, Out: "d.yaml", Written: "is not written: settle the contradictions first"}
	d.Device.Name = y.String{Text: "cab"}
	inOrder(t, shown(DevicePage(d), 110), "UNSETTLED", "cab: d.yaml is not written", "cab.txt: console capture", "model", "QM-8T", "cab.txt:3", "8.2.1", "cab.txt:5 (guess)",
		"Contradictions", "revision: cab.txt:4 says A2; label.txt:1 says B1", "A guess does not count as known", "1. read what is unsettled", "fitcheck device -out d.yaml -set revision=A2 -set installed.main=8.2.1 cab.txt")
	var doc map[string]any
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, DeviceJSON(d)))
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc))
	assert.Len(t, doc["contradictions"], 1)
	assert.Len(t, doc["values"], 2)
}

type nobody struct{}

func (nobody) Model(string) (string, bool)  { return "", false }
func (nobody) Revision(string, string) bool { return false }
func (nobody) Owners(string) []device.Owner { return nil }
