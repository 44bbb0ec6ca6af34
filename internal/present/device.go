package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/shell"
	"fitcheck/internal/present/page"
)

// DeviceReading is what was read of a device, and the file that it makes.
type DeviceReading struct {
	Device   *device.Device
	Draft    *device.Draft
	Readings []*device.Reading
	Out      string // "" when the file is printed
	Written  string // what became of Out
	Had      bool   // Out was there before
	Text     []byte
}

// Guesses counts the values that are only guessed.
func (d DeviceReading) Guesses() int {
	n := 0
	for _, f := range d.Draft.Findings {
		if f.Guess() {
			n++
		}
	}
	return n
}

// DevicePage tells what was read, then what is left to settle.
func DevicePage(d DeviceReading) *page.Page {
	t := page.Title{Word: "KNOWN", Tone: page.Good, Text: fmt.Sprintf("%s: %s %s", d.Device.Name.Text, d.Out, d.Written)}
	if len(d.Draft.Contradictions) > 0 || d.Guesses() > 0 {
		t.Word, t.Tone = "UNSETTLED", page.Doubt
	}
	for _, r := range d.Readings {
		t.About = append(t.About, page.Item{Text: r.File + ": " + r.Form, Tone: page.Info})
	}
	p := &page.Page{Name: d.Device.Name.Text}
	p.Add(t)
	if len(d.Device.Members) > 1 {
		p.Add(membersTable(d)...)
	} else {
		p.Add(findings(d, ""))
	}
	p.Add(remarks(d, len(d.Device.Members) < 2)...)
	return p
}

// findings is a table of values with their places, of one member or of all ("").
func findings(d DeviceReading, member string) page.Table {
	t := page.Table{Columns: []page.Column{{Title: "key", Fitting: page.Cut}, {Title: "value", Fitting: page.Wrap}, {Title: "read from", Fitting: page.Wrap}}, Most: 24, Flag: page.Why, Noun: "values"}
	for _, f := range d.Draft.Findings {
		if member != "" && f.Member != member {
			continue
		}
		var texts, places []string
		for _, v := range f.Values {
			texts, places = append(texts, v.Text), append(places, v.At.Where())
		}
		where := strings.Join(places, ", ")
		value := page.Span{Text: strings.Join(texts, ", ")}
		if f.Guess() {
			where += device.GuessMark
			value.Tone = page.Doubt
		}
		t.Rows = append(t.Rows, []page.Span{{Text: f.Key}, value, {Text: where, Tone: page.Faint}})
	}
	return t
}

// membersTable is a row a member and a column a key in which they differ; what all have alike
// is said once. Where each value was read is folded.
func membersTable(d DeviceReading) []page.Block {
	values := map[string]map[string]string{} // key, member
	var keys, members []string
	for _, f := range d.Draft.Findings {
		if f.Member == "" {
			continue
		}
		if values[f.Key] == nil {
			values[f.Key] = map[string]string{}
			keys = append(keys, f.Key)
		}
		if !slices.Contains(members, f.Member) {
			members = append(members, f.Member)
		}
		var texts []string
		for _, v := range f.Values {
			texts = append(texts, v.Text)
		}
		text := strings.Join(texts, ", ")
		if f.Guess() {
			text += " (guess)"
		}
		values[f.Key][f.Member] = text
	}
	t := page.Table{Columns: []page.Column{{Title: "member", Fitting: page.Cut}}, Most: 16, Flag: page.Why, Noun: "members"}
	for _, m := range members {
		t.Rows = append(t.Rows, []page.Span{{Text: m, Tone: page.Strong}})
	}
	var alike []string
	for _, k := range keys {
		same := true
		for _, m := range members {
			same = same && values[k][m] == values[k][members[0]]
		}
		if same {
			alike = append(alike, k+" "+values[k][members[0]])
			continue
		}
		t.Columns = append(t.Columns, page.Column{Title: k, Fitting: page.Cut})
		for i, m := range members {
			t.Rows[i] = append(t.Rows[i], page.Span{Text: values[k][m]})
		}
	}
	out := []page.Block{t}
	if len(alike) > 0 {
		out = append(out, page.Line{Text: "all of them: " + strings.Join(alike, ", ")})
	}
	return append(out, page.Fold{Line: "-why shows where each value was read", Title: "Where each value was read", Flag: page.Why, Inside: func() []page.Block {
		var out []page.Block
		for _, m := range members {
			t := findings(d, m)
			t.Most = 0
			out = append(out, page.Head{Text: m}, t)
		}
		return out
	}})
}

// DeviceRemarks is what of a reading is left to settle, and what else was seen: what is told
// beside a device file that is printed.
func DeviceRemarks(d DeviceReading) *page.Page { return &page.Page{Blocks: remarks(d, false)} }

// remarks tells them; marked says that a table marks the guesses already.
func remarks(d DeviceReading, marked bool) []page.Block {
	var out []page.Block
	add := func(head string, l page.List) {
		if len(l.Items) > 0 {
			l.Flag, l.Most = page.Why, 8
			out = append(out, page.Head{Text: head}, l)
		}
	}
	var open, guesses, changes, notes page.List
	for _, c := range d.Draft.Contradictions {
		open.Items = append(open.Items, page.Item{Marks: []page.Span{{Text: "!", Tone: page.Bad}}, Text: c.Label() + ": " + c.Text()})
	}
	for _, f := range d.Draft.Findings {
		if f.Guess() {
			guesses.Items = append(guesses.Items, page.Item{Marks: []page.Span{{Text: "?", Tone: page.Doubt}}, Text: fmt.Sprintf("%s: %s (%s)", f.Label(), f.Values[0].Text, f.Values[0].At)})
		}
	}
	for _, t := range d.Draft.Changes {
		changes.Items = append(changes.Items, page.Item{Marks: []page.Span{{Text: "-"}}, Text: t})
	}
	for _, t := range d.Draft.Notes {
		notes.Items = append(notes.Items, page.Item{Marks: []page.Span{{Text: "-"}}, Text: t})
	}
	add("Contradictions: left out until you settle them", open)
	if marked && len(guesses.Items) > 0 {
		out = append(out, page.Line{Text: "A guess does not count as known.", Tone: page.Doubt})
	} else {
		add("Guesses: they do not count as known", guesses)
	}
	add("What changes", changes)
	add("Also seen", notes)
	if len(d.Draft.Contradictions) > 0 || d.Guesses() > 0 {
		out = append(out, whatNext([]string{
			"read what is unsettled off the device or its label, and settle it: " + d.settle(),
			"where captures of this line come often, add captures: to its rulebook",
		})...)
	}
	return out
}

// maxSettled is how many values a command that is offered settles.
const maxSettled = 4

// settle is the command that settles what is open, with the values as they were read.
func (d DeviceReading) settle() string {
	out := "fitcheck device"
	if d.Out != "" {
		out += " -out " + shell.Quote(d.Out)
		if d.Had || len(d.Draft.Contradictions) == 0 {
			out += " -replace"
		}
	}
	var sets []string
	at := func(member, key, text string) {
		if member != "" {
			key = member + "/" + key
		}
		sets = append(sets, " -set "+shell.Quote(key+"="+text))
	}
	for _, c := range d.Draft.Contradictions {
		if c.Key == "active slot" {
			at(c.Member, "slots."+c.Values[0].Text+".active", "true")
			continue
		}
		at(c.Member, c.Key, c.Values[0].Text)
	}
	for _, f := range d.Draft.Findings {
		if f.Guess() {
			at(f.Member, f.Key, f.Values[0].Text)
		}
	}
	out += strings.Join(sets[:min(maxSettled, len(sets))], "")
	if d.Out == "" || len(d.Draft.Contradictions) > 0 { // nothing of them is written
		for _, r := range d.Readings {
			out += " " + shell.Quote(r.File)
		}
	}
	return out
}

func init() {
	form(func() any { return DeviceJSON(DeviceReading{Device: &device.Device{}, Draft: &device.Draft{}}) })
}

// DeviceJSON is the document "device".
func DeviceJSON(d DeviceReading) any {
	type value struct {
		Member string `json:"member,omitempty"`
		Key    string `json:"key"`
		Value  string `json:"value"`
		Where  string `json:"where"`
		Guess  bool   `json:"guess,omitempty"`
	}
	type contradiction struct {
		Member string  `json:"member,omitempty"`
		Key    string  `json:"key"`
		Values []value `json:"values"`
	}
	type source struct {
		File string `json:"file"`
		Form string `json:"form"`
	}
	doc := struct {
		Fitcheck       about           `json:"fitcheck"`
		Name           string          `json:"name"`
		Group          string          `json:"group,omitempty"`
		Members        []string        `json:"members,omitempty"`
		Sources        []source        `json:"sources"`
		Values         []value         `json:"values"`
		Contradictions []contradiction `json:"contradictions"`
		Changes        []string        `json:"changes,omitempty"`
		Notes          []string        `json:"notes,omitempty"`
		File           string          `json:"file,omitempty"`
		Text           string          `json:"text"`
	}{about{"device", Edition}, d.Device.Name.Text, d.Device.Group.Text, nil, []source{}, []value{}, []contradiction{}, d.Draft.Changes, d.Draft.Notes, d.Out, string(d.Text)}
	for _, m := range d.Device.Members {
		doc.Members = append(doc.Members, m.Name.Text)
	}
	for _, r := range d.Readings {
		doc.Sources = append(doc.Sources, source{r.File, r.Form})
	}
	for _, f := range d.Draft.Findings {
		for _, v := range f.Values {
			doc.Values = append(doc.Values, value{f.Member, f.Key, v.Text, v.At.Where(), v.Guess})
		}
	}
	for _, c := range d.Draft.Contradictions {
		j := contradiction{c.Member, c.Key, nil}
		for _, v := range c.Values {
			j.Values = append(j.Values, value{c.Member, c.Key, v.Text, v.At.Where(), v.Guess})
		}
		doc.Contradictions = append(doc.Contradictions, j)
	}
	return doc
}
