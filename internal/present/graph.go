package present

import (
	"cmp"
	"fmt"
	"html/template"
	"slices"
	"strings"

	"fitcheck/core/path"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// The picture of a path: the releases of a line as stations from left to right, the oldest
// first, one family behind the other; hops as arcs above the line, refused moves as grey
// brackets below it, each with its reason; a closed release has its reason on a leader below.
// What lies above and below is laid in lanes, so that nothing crosses a label.

// picture is the layout of an answer, in pixels.
type picture struct {
	width, height, line int
	families            []family
	stations            []station
	arcs                []arc
	refused             []bracket
	left                int // releases that are not drawn
}

type family struct {
	x, to int
	name  string
}

type station struct {
	x                   int
	version, state, now string
}

// arc is a hop from one station to another, or to itself; top is how high it goes.
type arc struct {
	from, to, top int
	tag           string
	// away is how far from the stations it begins and ends.
	away, awayTo int
}

// bracket is a move that is refused, or, from a station to itself, a closed one.
type bracket struct {
	from, to, y int
	text        string
}

// box is where a text stands.
type box struct{ x, y, w, h int }

const (
	pictureMargin = 24
	stationGap    = 26 // between labels, at least
	wideGap       = 110
	roomyWidth    = 1000 // up to where a picture of few stations is spread
	familyGap     = 40
	letterWidth   = 7 // of the font of labels, on the safe side
	smallLetter   = 6 // of reasons
	arcLane       = 24
	refusedLane   = 30
	besideLoop    = 24 // how far from a station arcs end where a loop stands on it
	labelHeight   = 34 // of a version and what it is now
	maxStations   = 14
	longestReason = 90
)

// layOut places an answer. Of many releases those that nothing leads to or from are left out.
//
// In one piece: the blocks stand in the order in which they are read.
func layOut(a *path.Answer) *picture {
	p := &picture{left: a.Picture.Left}
	type key struct{ family, version string }
	involved := map[key]bool{}
	for _, h := range a.Hops {
		involved[key{h.FromFamily, h.From}], involved[key{h.Family, h.To}] = true, true
	}
	for _, f := range a.Picture.Forbidden {
		involved[key{f.FromFamily, f.From}], involved[key{f.ToFamily, f.To}] = true, true
	}
	known := slices.Clone(a.Picture.Versions)
	spare := len(known) - maxStations
	known = slices.DeleteFunc(known, func(k path.Known) bool {
		if spare > 0 && k.State == "open" && !involved[key{k.Family, k.Version}] {
			spare--
			p.left++
			return true
		}
		return false
	})
	var families []string
	for _, k := range known {
		if !slices.Contains(families, k.Family) {
			families = append(families, k.Family)
		}
	}
	if i := slices.Index(families, a.Family); i >= 0 && len(a.Hops) > 0 && a.Hops[0].FromFamily != a.Family { // where it ends is drawn last
		families = append(slices.Delete(families, i, i+1), a.Family)
	}
	states := map[string]string{"runs": "runs now", "goal": "the goal", "stop": "a stop"}
	gap := wideGap
	if len(known) > 0 {
		gap = max(stationGap, min(wideGap, roomyWidth/len(known)-8*letterWidth))
	}
	at := map[key]int{}
	x := pictureMargin
	for i, f := range families {
		if i > 0 {
			x += familyGap
		}
		band := family{x: x, name: f}
		for _, k := range slices.Backward(known) { // the newest comes first in it
			if k.Family != f {
				continue
			}
			s := station{version: k.Version, state: k.State, now: states[k.State]}
			w := max(len([]rune(s.version)), len([]rune(s.now)))*letterWidth + gap
			s.x = x + w/2
			x += w
			at[key{f, k.Version}] = s.x
			p.stations = append(p.stations, s)
		}
		band.to = x
		if w := x - band.x; len(families) > 1 && w < len([]rune(f))*letterWidth+stationGap {
			x = band.x + len([]rune(f))*letterWidth + stationGap
		}
		p.families = append(p.families, band)
	}
	p.width = x + pictureMargin
	p.hops(a, func(family, version string) (int, bool) { x, ok := at[key{family, version}]; return x, ok })
	p.refusals(a, known, func(family, version string) (int, bool) { x, ok := at[key{family, version}]; return x, ok })
	return p
}

// hops lays the arcs in lanes: of two that overlap, the longer goes higher.
func (p *picture) hops(a *path.Answer, at func(family, version string) (int, bool)) {
	for i, h := range a.Hops {
		from, ok1 := at(h.FromFamily, h.From)
		to, ok2 := at(h.Family, h.To)
		if h.BootOnly {
			to = from
		}
		if ok1 && ok2 {
			p.arcs = append(p.arcs, arc{from: from, to: to, tag: fmt.Sprint(i + 1)})
		}
	}
	order := make([]int, len(p.arcs))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(i, k int) int { return p.arcs[i].span() - p.arcs[k].span() })
	var lanes [][]arc
	highest := 0
	for _, i := range order {
		n := 0
		for n < len(lanes) && slices.ContainsFunc(lanes[n], p.arcs[i].overlaps) {
			n++
		}
		if n == len(lanes) {
			lanes = append(lanes, nil)
		}
		lanes[n] = append(lanes[n], p.arcs[i])
		p.arcs[i].top = arcLane * (n + 1)
		highest = max(highest, p.arcs[i].top)
	}
	head := 16
	if len(p.families) > 1 {
		head += 20
	}
	p.line = head + highest + 20
	loops := map[int]bool{}
	for _, a := range p.arcs {
		loops[a.from] = loops[a.from] || a.from == a.to
	}
	away := func(x int) int {
		if loops[x] {
			return besideLoop
		}
		return 5
	}
	for i := range p.arcs {
		a := &p.arcs[i]
		a.top = p.line - a.top - 8
		a.away, a.awayTo = away(a.from), away(a.to)
	}
}

func (a arc) ends() (int, int) {
	const loop = 24 // how wide a loop is to either side
	if a.from == a.to {
		return a.from - loop, a.from + loop
	}
	return min(a.from, a.to), max(a.from, a.to)
}

func (a arc) span() int { l, r := a.ends(); return r - l }

func (a arc) overlaps(o arc) bool {
	al, ar := a.ends()
	ol, or := o.ends()
	return al < or && ol < ar
}

// refusals lays the brackets and leaders in lanes below the labels, with room for the reasons.
func (p *picture) refusals(a *path.Answer, known []path.Known, at func(family, version string) (int, bool)) {
	for i, f := range a.Picture.Forbidden {
		from, ok1 := at(f.FromFamily, f.From)
		to, ok2 := at(f.ToFamily, f.To)
		if ok1 && ok2 {
			p.refused = append(p.refused, bracket{from: from, to: to, text: letter(i) + "  " + shorten(cmp.Or(f.Brief, f.Because), longestReason)})
		}
	}
	for _, k := range known {
		if x, ok := at(k.Family, k.Version); ok && k.State == "closed" && k.Why != "" {
			p.refused = append(p.refused, bracket{from: x, to: x, text: shorten(k.Why, longestReason)})
		}
	}
	// Those further to the right go above: so no reason stands where another's leader goes down.
	slices.SortStableFunc(p.refused, func(a, b bracket) int { return cmp.Or(b.left()-a.left(), a.right()-b.right()) })
	base := p.line + 16 + labelHeight
	lanes := 0
	for i := range p.refused {
		b := &p.refused[i]
		n := 0
		for ; ; n++ {
			b.y = base + refusedLane*(n+1)
			if !slices.ContainsFunc(p.refused[:i], b.touches) {
				break
			}
		}
		lanes = max(lanes, n+1)
	}
	for i := range p.refused { // a reason ends where the line of another goes down through its lane
		b := &p.refused[i]
		room := longestReason
		for _, o := range p.refused {
			for _, leg := range []int{o.from, o.to} {
				if x := b.textAt().x; o.y > b.y && leg > x {
					room = min(room, (leg-x-4)/smallLetter)
				}
			}
		}
		b.text = shorten(b.text, max(1, room))
		p.width = max(p.width, b.textAt().x+b.textAt().w+pictureMargin)
	}
	p.height = base + refusedLane*lanes + 24
}

func letter(i int) string { return string(rune('a' + i%26)) }

func (b bracket) left() int  { return min(b.from, b.to) }
func (b bracket) right() int { return max(b.from, b.to) }

// textAt is where the reason of a bracket stands: below its line, from its left end on; that of
// a closed release beside the end of its leader.
func (b bracket) textAt() box {
	if b.from == b.to {
		return box{b.left() + 12, b.y - 12, len([]rune(b.text)) * smallLetter, 14}
	}
	return box{b.left() + 2, b.y + 3, len([]rune(b.text)) * smallLetter, 14}
}

// touches tells whether the reason or the line of one meets that of another.
func (b bracket) touches(o bracket) bool {
	line := func(b bracket) box { return box{b.left(), b.y - 2, b.right() - b.left() + 1, 4} }
	for _, x := range [][2]box{{b.textAt(), o.textAt()}, {line(b), o.textAt()}, {b.textAt(), line(o)}, {line(b), line(o)}} {
		if x[0].meets(x[1]) {
			return true
		}
	}
	return false
}

func (b box) meets(o box) bool {
	return b.x < o.x+o.w && o.x < b.x+b.w && b.y < o.y+o.h && o.y < b.y+b.h
}

// labelAt is where the words of a station stand.
func (p *picture) labelAt(s station) box {
	w := max(len([]rune(s.version)), len([]rune(s.now))) * letterWidth
	return box{s.x - w/2, p.line + 10, w, labelHeight}
}

func shorten(t string, n int) string {
	if r := []rune(t); len(r) > n {
		return strings.TrimRight(string(r[:n-1]), " ") + "…"
	}
	return t
}

const pictureStyle = `.l{stroke:#98a3ad;stroke-width:3;stroke-linecap:round}.s{fill:#98a3ad}.s.runs,.s.stop{fill:#24588f}.s.goal{fill:#1a6e3c}.s.closed{fill:none;stroke:#c9453d;stroke-width:2}.v{fill:currentColor;font-weight:600}.v.closed{fill:#8b959e;text-decoration:line-through;font-weight:400}.v.open{font-weight:400}.n,.f{fill:#7a858e;font-size:11px}.f{font-size:12px;font-weight:600}.way{fill:none;stroke:#2f9e5a;stroke-width:2.5}.no{fill:none;stroke:#98a3ad;stroke-width:1.5;stroke-dasharray:4 3}.r{fill:#7a858e;font-size:11px}.t{fill:#fff;font-size:11px;font-weight:700}.d{fill:#2f9e5a}.b{fill:#8b959e;opacity:.12}`

// svg draws the picture. alone gives it a ground of its own.
//
// In one piece: the blocks stand in the order in which they are read.
func (p *picture) svg(headline string, alone bool) string {
	var b strings.Builder
	f := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	esc := func(t string) string { return template.HTMLEscapeString(page.Safe(t)) }
	ground := ""
	if alone {
		ground = ` style="background:#fff;color:#1c2126"`
	}
	f(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d" width="%d" height="%d" role="img" aria-label="%s" font-family="system-ui,sans-serif" font-size="12"%s><style>%s</style>`, p.width, p.height, p.width, p.height, esc(headline), ground, pictureStyle)
	f(`<defs><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerUnits="userSpaceOnUse" markerWidth="10" markerHeight="10" orient="auto"><path d="M0 0 8 4 0 8z" fill="#2f9e5a"/></marker></defs>` + "\n")
	for _, x := range p.families {
		if len(p.families) > 1 {
			f(`<rect class="b" x="%d" y="4" width="%d" height="%d" rx="6"/><text class="f" x="%d" y="20">%s</text>`, x.x-6, max(x.to-x.x, len([]rune(x.name))*letterWidth)+12, p.line+labelHeight+8, x.x+4, esc(x.name))
		}
		f(`<line class="l" x1="%d" y1="%d" x2="%d" y2="%d"/>`+"\n", x.x+8, p.line, x.to-8, p.line)
	}
	for _, r := range p.refused {
		from := p.line + 12 + labelHeight
		if r.from == r.to {
			f(`<path class="no" d="M%d %dV%dh8"/>`, r.from, from, r.y-5)
		} else {
			f(`<path class="no" d="M%d %dV%dH%dV%d"/>`, r.from, from, r.y, r.to, from)
		}
		t := r.textAt()
		tag, text, ok := strings.Cut(r.text, "  ")
		if ok {
			tag = `<tspan font-weight="700">` + esc(tag) + "</tspan>  "
		} else {
			tag, text = "", r.text
		}
		f(`<text class="r" x="%d" y="%d" xml:space="preserve">%s%s</text>`+"\n", t.x, t.y+11, tag, esc(text))
	}
	for _, a := range p.arcs {
		middle := (a.from + a.to) / 2
		switch {
		case a.from == a.to:
			f(`<path class="way" d="M%d %dC%d %d %d %d %d %d" marker-end="url(#tip)"/>`, a.from-5, p.line-8, a.from-26, a.top-8, a.from+26, a.top-8, a.from+5, p.line-8)
		default:
			bend := 4 * (p.line - 8 - a.top) / 3
			from, to := a.from+a.away, a.to-a.awayTo
			if a.to < a.from {
				from, to = a.from-a.away, a.to+a.awayTo
			}
			f(`<path class="way" d="M%d %dC%d %d %d %d %d %d" marker-end="url(#tip)"/>`, from, p.line-8, from, p.line-8-bend, to, p.line-8-bend, to, p.line-8)
		}
		f(`<circle class="d" cx="%d" cy="%d" r="8"/><text class="t" x="%d" y="%d" text-anchor="middle">%s</text>`+"\n", middle, a.top, middle, a.top+4, esc(a.tag))
	}
	for _, s := range p.stations {
		radius := 5
		if s.state != "open" && s.state != "closed" {
			radius = 7
		}
		f(`<circle class="s %s" cx="%d" cy="%d" r="%d"/><text class="v %[1]s" x="%[2]d" y="%[5]d" text-anchor="middle">%[6]s</text>`, esc(s.state), s.x, p.line, radius, p.line+22, esc(s.version))
		if s.now != "" {
			f(`<text class="n" x="%d" y="%d" text-anchor="middle">%s</text>`, s.x, p.line+36, esc(s.now))
		}
		f("\n")
	}
	f("</svg>\n")
	return b.String()
}

// Drawing is the picture of an answer.
func Drawing(a *path.Answer) page.Picture {
	headline := PathAnswer{Answer: a}.headline()
	l := layOut(a)
	return page.Picture{SVG: template.HTML(l.svg(headline, false)), Alone: template.HTML(l.svg(headline, true)), Alt: headline}
}

// notPossible lists the moves that the picture shows as refused, with where it was read.
func notPossible(a PathAnswer) []page.Block {
	if a.Picture == nil || len(a.Picture.Forbidden) == 0 && a.Picture.Left == 0 {
		return nil
	}
	t := page.Table{Columns: []page.Column{{Title: ""}, {Title: "move"}, {Title: "why not", Fitting: page.Wrap}, {Title: "read from", Fitting: page.Wrap}}}
	for i, f := range a.Picture.Forbidden {
		t.Rows = append(t.Rows, []page.Span{{Text: letter(i)}, {Text: f.From + " straight to " + f.To}, {Text: f.Because}, {Text: restsOn(f.Sources), Tone: page.Faint}})
	}
	var out []page.Block
	if len(t.Rows) > 0 {
		out = append(out, t)
	}
	if n := layOut(a.Answer).left; n > 0 {
		out = append(out, page.Line{Text: wording.Count(n, "release") + " that nothing leads to or from are not drawn.", Tone: page.Faint})
	}
	return []page.Block{page.Fold{Title: "What is not possible", Flag: page.Why, Silent: true, Wide: true, Inside: func() []page.Block { return out }}}
}
