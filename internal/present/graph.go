package present

import (
	_ "embed"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/path"
)

// Graph is the drawing of one answer: a column for each image family, a row
// for each release, the way on the one side, forbidden moves on the other.
type Graph struct {
	Name, Word, Class, Headline, Sums string
	Notes                             []string
	Width, Height                     int
	Columns                           []graphColumn
	Nodes                             []graphNode
	Edges                             []graphEdge
	Hops                              []graphHop
	Forbidden                         []graphHop
	Left                              int
	Alone                             bool // the drawing stands by itself
}

type graphColumn struct {
	X     int
	Title string
}

type graphNode struct {
	X, Y                 int
	Text, Class, Note    string
	TextX, TextY, Radius int
}

type graphEdge struct {
	D, Class   string
	Tag        string
	TagX, TagY int
}

type graphHop struct{ Tag, Text, Why, Sources string }

const (
	graphRow         = 44
	graphTop         = 74
	graphColumnWidth = 380
	graphLeft        = 200
)

// NewGraph lays an answer out.
func NewGraph(a *path.Answer) Graph {
	p := PathAnswer{Answer: a}
	word, _ := p.status()
	class := map[string]string{"PATH": "fits", "UNSETTLED": "unsettled", "NO PATH": "misfit"}[word]
	g := Graph{Name: Safe(a.Name), Word: word, Class: class, Headline: Safe(p.headline()), Sums: Safe(p.sums())}
	for _, n := range a.Notes {
		g.Notes = append(g.Notes, Safe(n))
	}
	for _, u := range a.Unsettled {
		g.Notes = append(g.Notes, Safe(u))
	}
	if a.Picture == nil {
		return g
	}
	g.Left = a.Picture.Left
	at := map[[2]string][2]int{}
	var families []string
	rows := map[string]int{}
	for _, k := range a.Picture.Versions {
		column := slices.Index(families, k.Family)
		if column < 0 {
			column = len(families)
			families = append(families, k.Family)
			g.Columns = append(g.Columns, graphColumn{graphLeft + column*graphColumnWidth, Safe(k.Family)})
		}
		x, y := graphLeft+column*graphColumnWidth, graphTop+rows[k.Family]*graphRow
		rows[k.Family]++
		at[[2]string{k.Family, k.Version}] = [2]int{x, y}
		note := map[string]string{"runs": "runs now", "goal": "the goal", "stop": "a stop"}[k.State]
		if k.Why != "" {
			note = strings.TrimPrefix(note+"; "+k.Why, "; ")
		}
		g.Nodes = append(g.Nodes, graphNode{x, y, Safe(k.Version), k.State, shorten(Safe(note), 44), x + 14, y + 5, map[bool]int{true: 8, false: 5}[k.State != "open" && k.State != "closed"]})
		g.Height = max(g.Height, y+graphRow)
	}
	g.Width = graphLeft + len(families)*graphColumnWidth - 40
	drawn := map[int]int{}
	for i, h := range a.Hops {
		tag := fmt.Sprint(i + 1)
		text := "install " + h.Release
		if h.BootOnly {
			text = "install only the boot loader of " + h.Release
		}
		text += "; " + cost(h)
		if c := changes(h); c != "" {
			text += "; " + c
		}
		g.Hops = append(g.Hops, graphHop{tag, Safe(text), Safe(h.Because), Safe(restsOn(h.Sources))})
		g.edge(at, [2]string{h.FromFamily, h.From}, [2]string{h.Family, h.To}, "way", tag, drawn, h.BootOnly)
	}
	for i, f := range a.Picture.Forbidden {
		tag := string(rune('a' + i%26))
		g.Forbidden = append(g.Forbidden, graphHop{tag, Safe(fmt.Sprintf("from %s straight to %s", f.From, f.To)), Safe(f.Because), Safe(restsOn(f.Sources))})
		g.edge(at, [2]string{f.FromFamily, f.From}, [2]string{f.ToFamily, f.To}, "no", tag, drawn, false)
	}
	for _, b := range a.Blocked {
		g.Forbidden = append(g.Forbidden, graphHop{"", Safe(b.Release), Safe(b.Because), Safe(restsOn(b.Sources))})
	}
	return g
}

// edge draws a move: within a family as an arc to the left, the longer the
// wider; to another family straight across.
func (g *Graph) edge(at map[[2]string][2]int, from, to [2]string, class, tag string, drawn map[int]int, loop bool) {
	a, ok1 := at[from]
	b, ok2 := at[to]
	if !ok1 || !ok2 {
		return
	}
	switch {
	case loop || a == b:
		n := drawn[a[1]]
		drawn[a[1]]++
		x := a[0] - 110 - 40*n
		g.Edges = append(g.Edges, graphEdge{fmt.Sprintf("M%d %d C%d %d %d %d %d %d", a[0]-9, a[1]+4, x, a[1]+20, x, a[1]-20, a[0]-9, a[1]-4), class, tag, a[0] - 96 - 30*n, a[1] + 4})
	case a[0] != b[0]:
		lift := 14
		if class == "no" {
			lift = 44
		}
		g.Edges = append(g.Edges, graphEdge{fmt.Sprintf("M%d %d C%d %d %d %d %d %d", a[0], a[1]-9, a[0]+90, a[1]-9-lift, b[0]-90, b[1]-9-lift, b[0]-4, b[1]-9), class, tag, (a[0] + b[0]) / 2, (a[1]+b[1])/2 - 12 - lift*3/4})
	default:
		span := max(a[1]-b[1], b[1]-a[1])
		bulge := min(120, 22+span/4)
		if class == "no" {
			bulge = min(150, bulge+30)
		}
		x, up := a[0]-bulge*4/3, 4
		if b[1] > a[1] {
			up = -4
		}
		g.Edges = append(g.Edges, graphEdge{fmt.Sprintf("M%d %d C%d %d %d %d %d %d", a[0]-8, a[1]-up, x, a[1], x, b[1], b[0]-9, b[1]+up), class, tag, a[0] - bulge - 14, (a[1]+b[1])/2 + 4})
	}
}

func shorten(t string, n int) string {
	if r := []rune(t); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return t
}

//go:embed path.html
var pathPage string

var pathTemplate = newPage("path", pathPage)

// Draw makes the page of the paths, or only the drawing of the first.
func (p Paths) Draw(svg bool, version string) func(w *strings.Builder) error {
	return func(w *strings.Builder) error {
		if svg {
			g := p.Graph[0]
			g.Alone = true
			return pathTemplate.ExecuteTemplate(w, "drawing", g)
		}
		return pathTemplate.Execute(w, struct {
			Title, Version string
			Graphs         []Graph
			Paths          Paths
		}{Safe(p.Device), version, p.Graph, p})
	}
}
