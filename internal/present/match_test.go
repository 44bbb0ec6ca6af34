package present

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/internal/present/page"
)

func cited(side, value string, s fact.Source) fit.Cited {
	return fit.Cited{Side: side, Value: value, Source: s}
}

func verdict(of fit.Outcome, checks ...fit.Check) *fit.Verdict {
	return &fit.Verdict{Outcome: of, Package: "p.zip", Device: "cab-07", Release: "8.4.2",
		Members: []fit.Member{{About: "QM-8T, revision A2", Verdict: of, Checks: checks,
			Chosen: []fit.Chosen{{Component: "main", Item: "p.zip::a.img", Version: "8.4.2", Slot: "B"}}}}}
}

var (
	model = fit.Check{Check: "model", Component: "main", Outcome: fit.Fits, Because: "p.zip::a.img names the model QM-8T", Sources: []fit.Cited{
		cited(fit.OfDevice, "QM-8T", fact.Source{Kind: fact.DeviceFile, File: "cab.yaml", Line: 3}),
		cited(fit.OfPackage, "QM-8T", fact.Source{Kind: fact.Header, File: "p.zip::a.img", Offset: 32, Size: 5}),
		cited(fit.OfPackage, "QM-8T", fact.Source{Kind: fact.Manifest, File: "p.zip::m.txt", Line: 4})}}
	revision = fit.Check{Check: "revision", Component: "main", Outcome: fit.Misfit, Because: "for B1, and the device is an A2", Advice: "get the image for A2", Sources: []fit.Cited{
		cited(fit.OfDevice, "A2", fact.Source{Kind: fact.DeviceFile, File: "cab.yaml", Line: 4}), cited(fit.OfPackage, "B1", fact.Source{Kind: fact.Manifest, File: "p.zip::m.txt", Line: 4})}}
	slot      = fit.Check{Check: "slot", Component: "main", Outcome: fit.Fits, Because: "slot B is free"}
	region    = fit.Check{Check: "region", Outcome: fit.NotApplicable, Because: "no region is said"}
	published = fit.Check{Check: "digest", Outcome: fit.Unsettled, Because: "nothing to compare with", Advice: "give -digest"}
)

// shown is a page as text.
func shown(p *page.Page, width int, open ...string) string {
	var b bytes.Buffer
	(&page.Screen{Out: &b, Width: width, Open: open}).Show(p)
	return b.String()
}

// answers are verdicts, each of its own device.
func answers(all ...*fit.Verdict) []Answer {
	var out []Answer
	for _, v := range all {
		out = append(out, Answer{Device: &device.Device{}, Verdicts: []*fit.Verdict{v}})
	}
	return out
}

func screen(v *fit.Verdict, width int) string {
	return shown(AnswersPage(answers(v), nil, false), width, page.Why)
}

// glance is a verdict on one screen.
func glance(v *fit.Verdict) string { return shown(AnswersPage(answers(v), nil, false), 100) }

// On one screen stand the verdict, the matrix, what is open with both sides, the images with
// both versions, what to do next, and how to see all of it.
func TestMatchAtAGlance(t *testing.T) {
	v := verdict(fit.Misfit, model, published, revision, region)
	out := glance(v)
	inOrder(t, out, "MISFIT", "p.zip does NOT fit cab-07", "component", "model", "rev", "main", "ok", "X", "install", "?", "What decides it",
		"for B1, and the device is an A2", "A2 (device file cab.yaml:4)", "B1 (manifest ::m.txt:4)", "nothing to compare with",
		"What to do next", "1. get the image for A2", "2. give -digest", "-why shows every source")
	assert.NotContains(t, out, "names the model", "what fits is a cell")
	v = verdict(fit.Fits, slot, model, region)
	v.Members[0].Chosen[0].From = "8.2.1"
	out = glance(v)
	inOrder(t, out, "FITS", "component", "ok", "Images to install", "8.2.1 -> 8.4.2", "slot B", "What to do next", "2 checks fit")
	assert.NotContains(t, out, "What decides it")
}

// A cell is the worst of its checks; members that come out the same share a row; columns of
// which nothing is said are left out.
func TestMatrix(t *testing.T) {
	v := verdict(fit.Misfit, model, slot)
	v.Group = "stack"
	v.Members = append(v.Members, fit.Member{Name: "two", Chosen: v.Members[0].Chosen, Checks: []fit.Check{model, revision, {Check: "agreement", Component: "main", Outcome: fit.Unsettled}}})
	v.Members[0].Name = "one"
	m := matrixOf(v)
	cell := func(member, component, column string) fit.Outcome {
		for _, r := range m.rows {
			if r.member == member && r.component == component {
				if i := slices.Index(m.columns, column); i >= 0 {
					return r.cells[i]
				}
			}
		}
		return "none"
	}
	assert.Equal(t, fit.Misfit, cell("two", "main", "rev"))
	assert.Equal(t, fit.Unsettled, cell("two", "main", "agree"))
	assert.Equal(t, fit.Fits, cell("one", "main", "model"))
	assert.Equal(t, fit.Fits, cell("one", "main", "room"))
	assert.NotContains(t, m.columns, "signed")
	v.Members[1].Checks = v.Members[0].Checks
	m = matrixOf(v)
	assert.Equal(t, fit.Fits, cell("all", "main", "model"))
	// On a narrow screen the columns in which nothing is wrong are named instead.
	v.Members[1].Checks = []fit.Check{model, revision}
	m = matrixOf(v)
	var b bytes.Buffer
	(&page.Screen{Out: &b, Width: 26}).Show(&page.Page{Blocks: []page.Block{m.page()}})
	inOrder(t, b.String(), "member", "component", "rev", "two", "main", "X", "ok wherever they apply:", "model")
	for _, c := range check.All() {
		if c.Of == "" {
			assert.NotEmpty(t, c.Column, "%s stands in no column", c.Name)
		}
	}
}

// inOrder holds when the texts stand in the output one after the other.
func inOrder(t *testing.T, out string, texts ...string) {
	t.Helper()
	at := 0
	for _, want := range texts {
		i := strings.Index(out[at:], want)
		require.GreaterOrEqual(t, i, 0, "%q after what comes before it in:\n%s", want, out)
		at += i + len(want)
	}
}

func TestMatchTellsInOrder(t *testing.T) {
	inOrder(t, screen(verdict(fit.Misfit, model, published, revision, region), 100),
		"MISFIT", "p.zip does NOT fit cab-07", "QM-8T, revision A2; the package stands for release 8.4.2",
		"What decides it", "for B1, and the device is an A2", "A2 (device file cab.yaml:4)", "B1 (manifest ::m.txt:4)", "nothing to compare with",
		"What to do next", "1. get the image for A2", "2. give -digest", "What else was checked", "names the model QM-8T", "What proves each image", "::a.img")
	out := screen(verdict(fit.Fits, slot, model, region), 0)
	inOrder(t, out, "FIT", "Images to install, in this order", "8.4.2", "slot B", "::a.img", "back up the settings", "install into slot B", "What else was checked", "slot B is free", "names the model")
	assert.NotContains(t, out, "no region is said", "what does not apply is not worth a line")
	inOrder(t, screen(verdict(fit.Unsettled, model, published), 100), "UNSETTLED", "is not settled", "What decides it", "nothing to compare with")
}

// Every line cites both sides, also where it is short.
func TestSidesNameEveryPlace(t *testing.T) {
	for _, v := range []*fit.Verdict{verdict(fit.Fits, model), verdict(fit.Misfit, model, revision)} {
		out := screen(v, 0)
		for _, place := range []string{"device file cab.yaml:3", "header ::a.img at 0x20, 5 bytes", "manifest ::m.txt:4"} {
			assert.Contains(t, out, place)
		}
	}
	assert.Contains(t, screen(verdict(fit.Fits, model), 0), "QM-8T (header ::a.img at 0x20, 5 bytes and manifest ::m.txt:4)", "one value of two places is written once")
}

func TestMatchNarrow(t *testing.T) {
	for _, l := range strings.Split(screen(verdict(fit.Misfit, model, revision, published), 60), "\n") {
		assert.LessOrEqual(t, len(l), 60, l)
	}
}

func TestMatchJSON(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, AnswersJSON([]Answer{{Verdicts: []*fit.Verdict{verdict(fit.Misfit, model, revision)}}}, nil)))
	var doc struct {
		Fitcheck struct{ Edition int }
		Verdict  string
		Results  []struct {
			Members []struct {
				Checks []struct {
					Check, Outcome string
					Sources        []struct{ Side, Value, Source, Where string }
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc), b.String())
	assert.Equal(t, 2, doc.Fitcheck.Edition)
	assert.Equal(t, "misfit", doc.Verdict)
	require.Len(t, doc.Results, 1)
	members := doc.Results[0].Members
	require.Len(t, members[0].Checks, 2)
	assert.Equal(t, "revision", members[0].Checks[1].Check)
	assert.Equal(t, struct{ Side, Value, Source, Where string }{fit.OfPackage, "B1", "manifest", "p.zip::m.txt:4"}, members[0].Checks[1].Sources[1])
	assert.NotContains(t, b.String(), "null", "what is not known is left out, or empty")
}

func TestRawText(t *testing.T) {
	assert.Equal(t, "27 05 19 56", rawText([]byte{0x27, 5, 0x19, 0x56}))
	assert.Equal(t, strings.Repeat("ab ", 16)+"…", rawText(bytes.Repeat([]byte{0xab}, 20)))
}
