package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/duration"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Runbooks are those of several devices, and the waves in which they are worked.
type Runbooks struct {
	Books   []*plan.Runbook
	Slots   map[string]string // by device: which slot is written
	Night   plan.Night
	Waves   []plan.Wave
	Left    []plan.Unplaced
	Refused []Refused
}

// sheet is a runbook that several devices share.
type sheet struct {
	names []string
	book  *plan.Runbook
	key   string
}

// sheets joins runbooks that are the same but for whose they are.
func (r Runbooks) sheets() []*sheet {
	var out []*sheet
	for _, b := range r.Books {
		var k strings.Builder
		for _, s := range b.Sections {
			for _, i := range s.Steps {
				fmt.Fprintf(&k, "%s %v %v %s %s\n", i.Text, i.Commands, i.See, i.Back, i.Member)
			}
		}
		key := strings.ReplaceAll(k.String(), b.Device, "\x00")
		i := slices.IndexFunc(out, func(o *sheet) bool { return o.key == key })
		if i < 0 {
			out = append(out, &sheet{book: b, key: key})
			i = len(out) - 1
		}
		out[i].names = append(out[i].names, b.Device)
	}
	return out
}

// ManyRunbooksPage is one page for several devices: the waves, who is refused and why, and each
// sheet once.
//
// In one piece: the blocks stand in the order in which they are read.
func ManyRunbooksPage(r Runbooks) *page.Page {
	p := &page.Page{Name: "Runbook of " + wording.Count(len(r.Books), "device"), Document: true}
	all := len(r.Books)
	total, outage := 0, 0
	for _, w := range r.Waves {
		total, outage = max(total, w.At+w.Minutes), outage+w.Outage
	}
	t := page.Title{Word: "RUNBOOK", Tone: page.Info, Text: fmt.Sprintf("%s in %s", wording.Count(all, "device"), wording.Count(len(r.Waves), "wave"))}
	if total > 0 {
		t.About = append(t.About, page.Item{Text: fmt.Sprintf("%s from the beginning to the end of the last, %s of outage in all, wave after wave", duration.Minutes(total), duration.Minutes(outage))})
	}
	if len(r.Refused) > 0 {
		t.Tone = page.Bad
		t.About = append(t.About, page.Item{Tone: page.Bad, Text: wording.Count(len(r.Refused), "device") + " refused, below"})
	}
	p.Add(t)
	if len(r.Refused) > 0 {
		l := page.List{}
		for _, x := range r.Refused {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "X", Tone: toneOf(x.Outcome)}}, Text: x.Device + ": " + strings.Join(x.Because[:min(1, len(x.Because))], "")})
		}
		p.Add(page.Head{Text: "Refused"}, l)
	}
	if len(r.Left) > 0 {
		l := page.List{}
		for _, u := range r.Left {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "?", Tone: page.Doubt}}, Text: u.Name + ": " + u.Why})
		}
		p.Add(page.Head{Text: "Without a place in the night"}, l)
	}
	sheetOf := map[string]int{}
	sheets := r.sheets()
	for i, s := range sheets {
		for _, n := range s.names {
			sheetOf[n] = i + 1
		}
	}
	table := page.Table{Columns: []page.Column{{Title: "wave"}, {Title: "from"}, {Title: "to"}, {Title: "device", Fitting: page.Wrap}, {Title: "slot"}, {Title: "takes", Right: true}, {Title: "outage", Right: true}, {Title: "sheet", Right: true}}}
	for i, w := range r.Waves {
		if all > manyBooks {
			table.Rows = append(table.Rows, r.waveRow(i, w, sheetOf))
			continue
		}
		for k, j := range w.Jobs {
			lead := []page.Span{{}, {}, {}}
			if k == 0 {
				lead = []page.Span{{Text: fmt.Sprint(i + 1), Tone: page.Strong}, {Text: r.Night.Clock(w.At)}, {Text: r.Night.Clock(w.At + w.Minutes)}}
			}
			table.Rows = append(table.Rows, append(lead, page.Span{Text: j.Name, Tone: page.Strong}, page.Span{Text: r.Slots[j.Name]}, page.Span{Text: duration.Minutes(j.Minutes)}, page.Span{Text: duration.Minutes(j.Outage)}, page.Span{Text: fmt.Sprint(sheetOf[j.Name])}))
		}
	}
	if len(table.Rows) > 0 {
		p.Add(page.Head{Text: "Waves"}, table)
	}
	for i, s := range sheets {
		names := ranges(s.names)
		p.Add(page.Head{Text: fmt.Sprintf("Sheet %d: %s, from %s to %s", i+1, strings.Join(few(names), ", "), s.book.From, s.book.To)})
		if len(names) > 4 {
			p.Add(page.Line{Text: strings.Join(names, ", "), Tone: page.Faint})
		}
		if len(s.names) > 1 {
			p.Add(page.Line{Text: fmt.Sprintf("written for %s; for each of the others its own name stands where that of %s does", s.book.Device, s.book.Device), Tone: page.Faint})
		}
		n := 1
		for _, sec := range s.book.Sections {
			p.Add(page.Head{Text: sectionTitle(sec)}, instructions(sec.Steps, n, true))
			n += len(sec.Steps)
		}
	}
	return p
}

// manyBooks is from how many devices on a wave is one row.
const manyBooks = 40

// waveRow is a wave in one row: all its devices, and what they have in common.
func (r Runbooks) waveRow(i int, w plan.Wave, sheetOf map[string]int) []page.Span {
	var names, slots, takes, outages, sheets []string
	add := func(to *[]string, t string) {
		if !slices.Contains(*to, t) {
			*to = append(*to, t)
		}
	}
	for _, j := range w.Jobs {
		names = append(names, j.Name)
		add(&slots, r.Slots[j.Name])
		add(&takes, duration.Minutes(j.Minutes))
		add(&outages, duration.Minutes(j.Outage))
		add(&sheets, fmt.Sprint(sheetOf[j.Name]))
	}
	join := func(list []string) page.Span { return page.Span{Text: strings.Join(list, ", ")} }
	return []page.Span{{Text: fmt.Sprint(i + 1), Tone: page.Strong}, {Text: r.Night.Clock(w.At)}, {Text: r.Night.Clock(w.At + w.Minutes)}, {Text: strings.Join(ranges(names), ", "), Tone: page.Strong}, join(slots), join(takes), join(outages), join(ranges(sheets))}
}

type jsonWave struct {
	Wave    int      `json:"wave"`
	At      int      `json:"at_minute"`
	From    string   `json:"from"`
	To      string   `json:"to"`
	Minutes int      `json:"minutes"`
	Outage  int      `json:"outage"`
	Devices []string `json:"devices"`
}

type jsonUnplaced struct {
	Device  string `json:"device"`
	Because string `json:"because"`
}

func init() {
	form(func() any { return ManyRunbooksJSON(Runbooks{}) })
}

// ManyRunbooksJSON is the document of runbook for several devices.
func ManyRunbooksJSON(r Runbooks) any {
	doc := struct {
		jsonResults[jsonRunbook]
		Waves  []jsonWave     `json:"waves"`
		Placed []jsonUnplaced `json:"not_placed"`
	}{Waves: []jsonWave{}, Placed: []jsonUnplaced{}}
	worst := fit.Fits
	var results []jsonRunbook
	for _, b := range r.Books {
		results = append(results, runbookJSON(b, nil))
	}
	for _, x := range r.Refused {
		one := runbookJSON(nil, []Refused{x})
		one.Device = x.Device
		results = append(results, one)
		worst = fit.Worse(worst, x.Outcome)
	}
	doc.jsonResults = resultsJSON("runbook", string(worst), results)
	for i, w := range r.Waves {
		j := jsonWave{Wave: i + 1, At: w.At, From: r.Night.Clock(w.At), To: r.Night.Clock(w.At + w.Minutes), Minutes: w.Minutes, Outage: w.Outage}
		for _, x := range w.Jobs {
			j.Devices = append(j.Devices, x.Name)
		}
		doc.Waves = append(doc.Waves, j)
	}
	for _, u := range r.Left {
		doc.Placed = append(doc.Placed, jsonUnplaced{u.Name, u.Why})
	}
	return doc
}
