package present

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fact"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present/page"
)

// samplePath is a way with a stop, a reset, and no way back.
func samplePath() Paths {
	cite := func(value string, line int) []path.Cited {
		return []path.Cited{{Value: value, Source: fact.Source{Kind: fact.Rulebook, File: "rules.yaml", Line: line}}}
	}
	hops := []path.Hop{
		{Release: "2.0", From: "1.0", To: "2.0", Family: "f", FromFamily: "f", Components: []path.Change{{Component: "boot", To: "2.0"}, {Component: "main", From: "1.0", To: "2.0"}},
			Because: "before 3.0: a rule forbids it", Sources: cite("RN", 7), Minutes: &rulebook.Minutes{Install: rulebook.AMinute(10), Outage: rulebook.AMinute(4)}, NoReturn: true},
		{Release: "3.0", From: "2.0", To: "3.0", Family: "g", FromFamily: "f", Because: "this is where it is to go", Sources: cite("RN", 8), ResetsConfig: true},
	}
	a := &path.Answer{Name: "cab", From: "1.0", To: "3.0", Family: "g", Found: true, Hops: hops, Back: &path.Back{Because: "1.0: it goes down", Sources: cite("downward: closed", 5), Notes: []string{"a factory reset keeps 3.0"}}, Notes: []string{"3.0 is the newest"}}
	steps := []plan.Step{{Hop: hops[0], Packages: []*survey.Survey{{Name: "a.zip", Path: "packages/a.zip"}, {Name: "b.zip", Path: "packages/b.zip"}}}, {Hop: hops[1]}}
	return Paths{Device: "cab", Plans: []PathAnswer{{Answer: a, Steps: steps}}}
}

func pathShown(p Paths, width int) string {
	return shown(PathPage(p), width, page.Why)
}

func TestPathOnTheScreen(t *testing.T) {
	text := pathShown(samplePath(), 0)
	at := -1
	for _, want := range []string{"PATH  cab gets from 1.0 to 3.0 of g in 2 hops", "at least 10 min in all, 4 min of it without service; the rulebook gives no minutes for 1 hop; the configuration is RESET once",
		"POINT OF NO RETURN: after hop 1", "hop 2 RESETS the configuration", "3.0 is the newest", "1    2.0", "boot ? -> 2.0, main 1.0 -> 2.0", "10 min     4 min", "a.zip and b.zip", "2    3.0 (crosses from f to g)", "not given", "RESET     to download",
		"Why each hop", "1. before 3.0: a rule forbids it", "from here nothing leads back", "RN (rulebook rules.yaml:7)", "The way back to 1.0",
		"none  1.0: it goes down", "downward: closed (rulebook rules.yaml:5)", "a factory reset keeps 3.0", "1. download 3.0", "2. check the first in full: fitcheck match -device cab packages/a.zip packages/b.zip"} {
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
	assert.Contains(t, text, "3.0  it was withdrawn")
	assert.Contains(t, text, "RN (rulebook rules.yaml:9)")
	a.Blocked, a.Unsettled = nil, []string{"3.0: it needs more"}
	text = pathShown(p, 0)
	assert.True(t, strings.HasPrefix(text, "UNSETTLED  whether cab can go to 3.0 is not settled"), text)
	assert.Contains(t, text, "? 3.0: it needs more")
}

func TestPathJSON(t *testing.T) {
	var b bytes.Buffer
	require.NoError(t, WriteJSON(&b, PathJSON([]Paths{samplePath()})))
	var all struct {
		Found   bool
		Results []map[string]any
	}
	require.NoError(t, json.Unmarshal(b.Bytes(), &all))
	assert.True(t, all.Found)
	doc := all.Results[0]
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
	require.NoError(t, WriteJSON(&b, PathJSON([]Paths{two})))
	require.NoError(t, json.Unmarshal(b.Bytes(), &all))
	assert.False(t, all.Found)
	doc = all.Results[0]
	assert.Equal(t, false, doc["found"])
	assert.Len(t, doc["plans"], 2)
	assert.Len(t, doc["hops"], 2)
}

func TestGraph(t *testing.T) {
	a := samplePath().Plans[0].Answer
	a.Picture = &path.Picture{Left: 3, Versions: []path.Known{{Version: "2.0", Family: "f", State: "stop"}, {Version: "1.5", Family: "f", State: "closed", Why: "it was withdrawn: <b>"}, {Version: "1.0", Family: "f", State: "runs"}, {Version: "3.0", Family: "g", State: "goal"}},
		Forbidden: []path.Forbidden{{From: "1.0", FromFamily: "f", To: "3.0", ToFamily: "g", Because: "a rule forbids it"}}}
	l := layOut(a)
	require.Len(t, l.families, 2, "a stretch of the line for each family")
	require.Len(t, l.stations, 4)
	require.Len(t, l.arcs, 2)
	require.Len(t, l.refused, 2, "a refused move, and a closed release")
	for i, s := range l.stations[1:] {
		assert.Greater(t, s.x, l.stations[i].x, "from left to right, no two in one place")
	}
	holds(t, l)
	svg := l.svg("headline", true)
	inOrder(t, svg, "<svg", "a</tspan>  a rule forbids it", "runs now", "a stop", "the goal", "</svg>")
	assert.Contains(t, svg, "it was withdrawn: &lt;b&gt;")
	assert.NotContains(t, svg, "<b>", "texts stay texts")
	var b bytes.Buffer
	p := Paths{Device: "cab", Plans: []PathAnswer{{Answer: a, Steps: samplePath().Plans[0].Steps}}}
	require.NoError(t, Report{Page: PathPage(p), Version: "1"}.HTML(&b))
	inOrder(t, b.String(), "<svg", "Why each hop", "What is not possible", "1.0 straight to 3.0", "a rule forbids it")
}

// holds demands of a picture that no words meet, and no line crosses words.
func holds(t *testing.T, l *picture) {
	t.Helper()
	var words []box
	for _, s := range l.stations {
		words = append(words, l.labelAt(s))
	}
	for _, r := range l.refused {
		words = append(words, r.textAt())
	}
	for i, w := range words {
		assert.GreaterOrEqual(t, w.x, 0)
		assert.LessOrEqual(t, w.x+w.w, l.width)
		assert.LessOrEqual(t, w.y+w.h, l.height)
		for k, o := range words {
			assert.False(t, i != k && w.meets(o), "words %d and %d: %v %v", i, k, w, o)
		}
	}
	for i, r := range l.refused {
		for _, x := range []int{r.from, r.to} {
			down := box{x, l.line + 12 + labelHeight, 1, r.y - (l.line + 12 + labelHeight)}
			for k, o := range l.refused {
				assert.False(t, i != k && down.meets(o.textAt()), "a line to %d crosses the words of %d", i, k)
			}
		}
	}
	for i, a := range l.arcs {
		assert.Less(t, a.top+8, l.line, "hops go above the line, and words stand below it")
		assert.Greater(t, a.top-8, 0)
		for k, o := range l.arcs {
			assert.False(t, i != k && a.top == o.top && a.overlaps(o), "arcs %d and %d share a lane", i, k)
		}
	}
}

// Whatever the releases, moves and reasons are, nothing in the picture meets.
func TestPictureOfAnything(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		a := &path.Answer{Name: "d", Picture: &path.Picture{}}
		families := []string{"f", "a long name of a family", "g"}[:1+r.IntN(3)]
		for _, f := range families {
			for v := range 1 + r.IntN(9) {
				k := path.Known{Family: f, Version: fmt.Sprintf("R%d.%d", v, r.IntN(1000)) + strings.Repeat("-b7", r.IntN(3)), State: []string{"open", "closed", "runs", "goal", "stop"}[r.IntN(5)]}
				if k.State == "closed" {
					k.Why = strings.Repeat("why ", 1+r.IntN(30))
				}
				a.Picture.Versions = append(a.Picture.Versions, k)
			}
		}
		any := func() path.Known { return a.Picture.Versions[r.IntN(len(a.Picture.Versions))] }
		for range r.IntN(6) {
			from, to := any(), any()
			a.Hops = append(a.Hops, path.Hop{From: from.Version, FromFamily: from.Family, To: to.Version, Family: to.Family, BootOnly: r.IntN(4) == 0})
			a.Family = to.Family
		}
		for range r.IntN(8) {
			from, to := any(), any()
			a.Picture.Forbidden = append(a.Picture.Forbidden, path.Forbidden{From: from.Version, FromFamily: from.Family, To: to.Version, ToFamily: to.Family, Because: strings.Repeat("because ", 1+r.IntN(20))})
		}
		holds(t, layOut(a))
	}
}
