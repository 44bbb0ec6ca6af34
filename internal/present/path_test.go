package present

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fact"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// samplePath is a way with a stop, a reset, and no way back.
func samplePath() Paths {
	cite := func(value string, line int) []path.Cited {
		return []path.Cited{{Value: value, Source: fact.Source{Kind: fact.Rulebook, File: "rules.yaml", Line: line}}}
	}
	hops := []path.Hop{
		{Release: "2.0", From: "1.0", To: "2.0", Family: "f", FromFamily: "f", Components: []path.Change{{Component: "boot", To: "2.0"}, {Component: "main", From: "1.0", To: "2.0"}},
			Because: "before 3.0: a rule forbids it", Sources: cite("RN", 7), Minutes: &rulebook.Minutes{Install: 10, Outage: 4}, NoReturn: true},
		{Release: "3.0", From: "2.0", To: "3.0", Family: "g", FromFamily: "f", Because: "this is where it is to go", Sources: cite("RN", 8), ResetsConfig: true},
	}
	a := &path.Answer{Name: "cab", From: "1.0", To: "3.0", Family: "g", Found: true, Hops: hops, Back: &path.Back{Because: "1.0: it goes down", Sources: cite("downward: closed", 5), Notes: []string{"a factory reset keeps 3.0"}}, Notes: []string{"3.0 is the newest"}}
	steps := []plan.Step{{Hop: hops[0], Packages: []*survey.Survey{{Name: "a.zip", Path: "packages/a.zip"}, {Name: "b.zip", Path: "packages/b.zip"}}}, {Hop: hops[1]}}
	return Paths{Device: "cab", Plans: []PathAnswer{{Answer: a, Steps: steps}}}
}

func pathShown(p Paths, width int) string {
	var b bytes.Buffer
	(&Screen{Out: &b, Width: width}).Path(p)
	return b.String()
}

func TestPathOnTheScreen(t *testing.T) {
	text := pathShown(samplePath(), 0)
	at := -1
	for _, want := range []string{"PATH  cab gets from 1.0 to 3.0 of g in 2 hops", "at least 10 min in all, 4 min of it without service; the rulebook gives no minutes for 1 hop; the configuration is RESET once",
		"point of no return: after hop 1", "3.0 is the newest", "o  1.0  runs now", "1. install 2.0", "boot ? -> 2.0, main 1.0 -> 2.0", "package: packages/a.zip and packages/b.zip", "by:  RN (rulebook rules.yaml:7)",
		"POINT OF NO RETURN", "2. install 3.0 (crosses from f to g)", "package: none at hand; to download", "the configuration is RESET: save", "*  3.0  is where it is to be",
		"none     1.0: it goes down", "downward: closed (rulebook rules.yaml:5)", "a factory reset keeps 3.0", "1. download 3.0", "2. check the first in full: fitcheck match -device cab packages/a.zip packages/b.zip"} {
		i := strings.Index(text, want)
		assert.Greater(t, i, at, "%q is told, and in this order:\n%s", want, text)
		at = max(at, i)
	}
	for _, width := range []int{60, 80, 100} {
		for line := range strings.Lines(pathShown(samplePath(), width)) {
			if !strings.HasPrefix(strings.TrimSpace(line), "fitcheck ") { // a command stays whole
				assert.LessOrEqual(t, len([]rune(strings.TrimSuffix(line, "\n"))), width, line)
			}
		}
	}
}

func TestPathThatIsNot(t *testing.T) {
	p := samplePath()
	a := p.Plans[0].Answer
	a.Found, a.Hops, a.Back, p.Plans[0].Steps = false, nil, nil, nil
	a.Blocked = []path.Blocked{{Release: "3.0", Because: "it was withdrawn", Sources: []path.Cited{{Value: "RN", Source: fact.Source{Kind: fact.Rulebook, File: "rules.yaml", Line: 9}}}}}
	text := pathShown(p, 0)
	assert.True(t, strings.HasPrefix(text, "NO PATH  cab cannot get from 1.0 to 3.0"), text)
	assert.Contains(t, text, "3.0        it was withdrawn")
	assert.Contains(t, text, "RN (rulebook rules.yaml:9)")
	a.Blocked, a.Unsettled = nil, []string{"3.0: it needs more"}
	text = pathShown(p, 0)
	assert.True(t, strings.HasPrefix(text, "UNSETTLED  whether cab can go to 3.0 is not settled"), text)
	assert.Contains(t, text, "  - 3.0: it needs more")
}

func TestPathJSON(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, PathJSON(samplePath())))
	var doc map[string]any
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc))
	for key, want := range map[string]any{"device": "cab", "from": "1.0", "to": "3.0", "family": "g", "found": true, "resets": 1.0, "unsettled": []any{}, "blocked": []any{}} {
		assert.Equal(t, want, doc[key], key)
	}
	hops := doc["hops"].([]any)
	first, second := hops[0].(map[string]any), hops[1].(map[string]any)
	assert.Equal(t, "a.zip + b.zip", first["package"])
	assert.Equal(t, []any{"packages/a.zip", "packages/b.zip"}, first["packages"])
	assert.Equal(t, map[string]any{"install": 10.0, "outage": 4.0}, first["minutes"])
	assert.Equal(t, true, first["no_return"])
	assert.Equal(t, "to download", second["package"])
	assert.Nil(t, second["minutes"], "what is not known is left out")
	assert.Equal(t, true, second["resets_config"])
	assert.Equal(t, "", doc["back"].(map[string]any)["by"])

	// With several plans, the whole is found only when each is.
	two := samplePath()
	other := *two.Plans[0].Answer
	other.Found, other.Hops = false, nil
	two.Plans = append(two.Plans, PathAnswer{Answer: &other})
	b.Reset()
	require.NoError(t, WriteJSON(&b, PathJSON(two)))
	require.NoError(t, json.Unmarshal(b.Bytes(), &doc))
	assert.Equal(t, false, doc["found"])
	assert.Len(t, doc["plans"], 2)
	assert.Len(t, doc["hops"], 2)
}

func TestGraph(t *testing.T) {
	a := samplePath().Plans[0].Answer
	a.Picture = &path.Picture{Left: 3, Versions: []path.Known{{Version: "2.0", Family: "f", State: "stop"}, {Version: "1.5", Family: "f", State: "closed", Why: "it was withdrawn: <b>"}, {Version: "1.0", Family: "f", State: "runs"}, {Version: "3.0", Family: "g", State: "goal"}},
		Forbidden: []path.Forbidden{{From: "1.0", FromFamily: "f", To: "3.0", ToFamily: "g", Because: "a rule forbids it"}}}
	g := NewGraph(a)
	require.Len(t, g.Columns, 2, "a column for each family")
	require.Len(t, g.Nodes, 4)
	require.Len(t, g.Edges, 3)
	assert.Equal(t, []string{"way", "way", "no"}, []string{g.Edges[0].Class, g.Edges[1].Class, g.Edges[2].Class})
	places := map[[2]int]bool{}
	for _, n := range g.Nodes {
		assert.False(t, places[[2]int{n.X, n.Y}], "no two releases stand in one place")
		places[[2]int{n.X, n.Y}] = true
		assert.Less(t, n.X, g.Width)
		assert.LessOrEqual(t, n.Y, g.Height)
	}
	var page strings.Builder
	require.NoError(t, Paths{Device: "cab", Graph: []Graph{g}}.Draw(false, "1")(&page))
	for _, want := range []string{"a rule forbids it", "it was withdrawn: &lt;b&gt;", "3 older releases are left out", "before 3.0: a rule forbids it"} {
		assert.Contains(t, page.String(), want)
	}
	assert.NotContains(t, page.String(), "<b>it", "texts stay texts")
	var drawing strings.Builder
	require.NoError(t, Paths{Graph: []Graph{g}}.Draw(true, "1")(&drawing))
	assert.True(t, strings.HasPrefix(drawing.String(), "<svg"))
	assert.NotContains(t, drawing.String(), "<html")
}
