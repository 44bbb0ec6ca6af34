package present

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"fitcheck/core/device"
)

// DeviceReading is what was read of a device, and the file that it makes.
type DeviceReading struct {
	Device   *device.Device
	Draft    *device.Draft
	Readings []*device.Reading
	Out      string // "" when the file is printed
	Written  string // what became of Out
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

// Device shows what was read, each value with its place, then what is left to
// settle.
func (s *Screen) Device(d DeviceReading) {
	word, st := "KNOWN", good
	if len(d.Draft.Contradictions) > 0 || d.Guesses() > 0 {
		word, st = "UNSETTLED", doubt
	}
	s.hanging(s.paint(st, word)+"  ", len(word)+2, strong, fmt.Sprintf("%s: %s %s", d.Device.Name.Text, d.Out, d.Written))
	for _, r := range d.Readings {
		s.line(len(word)+2, info, r.File+": "+r.Form)
	}
	s.blank()
	var rows []table.Row
	member := ""
	for _, f := range d.Draft.Findings {
		if f.Member != member {
			member = f.Member
			rows = append(rows, table.Row{s.paint(strong, member), "", ""})
		}
		var texts, places []string
		for _, v := range f.Values {
			texts, places = append(texts, v.Text), append(places, v.Where)
		}
		where := strings.Join(places, ", ")
		if f.Guess() {
			where += device.GuessMark
		}
		key := f.Key
		if f.Member != "" {
			key = "  " + key
		}
		rows = append(rows, table.Row{Safe(key), Safe(strings.Join(texts, ", ")), s.paint(faint, where)})
	}
	s.table(table.Row{"key", "value", "read from"}, rows, s.columns(20, 30))
	s.DeviceRemarks(d)
}

// columns lets the last column of a table of three wrap at the width.
func (s *Screen) columns(first, second int) []table.ColumnConfig {
	if s.Width <= 0 {
		return nil
	}
	return []table.ColumnConfig{{Number: 1, WidthMax: first, WidthMaxEnforcer: text.WrapSoft}, {Number: 2, WidthMax: second, WidthMaxEnforcer: text.WrapSoft}, {Number: 3, WidthMax: max(20, s.Width-first-second-6), WidthMaxEnforcer: text.WrapSoft}}
}

// DeviceRemarks tells what of a reading is left to settle, and what else was
// seen.
func (s *Screen) DeviceRemarks(d DeviceReading) {
	if n := len(d.Draft.Contradictions); n > 0 {
		s.head("Contradictions: left out until you settle them")
		for _, c := range d.Draft.Contradictions {
			s.hanging("  "+s.paint(bad, "! "), 4, plain, c.Label()+": "+c.Text())
		}
	}
	if d.Guesses() > 0 {
		s.head("Guesses: they do not count as known")
		for _, f := range d.Draft.Findings {
			if f.Guess() {
				s.hanging("  "+s.paint(doubt, "? "), 4, plain, fmt.Sprintf("%s: %s (%s)", f.Label(), f.Values[0].Text, f.Values[0].Where))
			}
		}
	}
	if len(d.Draft.Changes) > 0 {
		s.head("What changes")
		for _, t := range d.Draft.Changes {
			s.hanging("  - ", 4, plain, t)
		}
	}
	if len(d.Draft.Notes) > 0 {
		s.head("Also seen")
		for _, t := range d.Draft.Notes {
			s.hanging("  - ", 4, plain, t)
		}
	}
	if len(d.Draft.Contradictions) > 0 || d.Guesses() > 0 {
		s.head("What to do next")
		s.hanging("  1. ", 5, plain, "read what is unsettled off the device or its label, and give it with -set, as in "+example(d))
		s.hanging("  2. ", 5, plain, "where captures of this line come often, add captures: to its rulebook")
	}
}

// example shows how one of the open values is set.
func example(d DeviceReading) string {
	at := func(member, key, text string) string {
		if member != "" {
			key = member + "/" + key
		}
		return fmt.Sprintf("-set %s=%s", key, text)
	}
	if len(d.Draft.Contradictions) > 0 {
		c := d.Draft.Contradictions[0]
		if c.Key == "active slot" {
			return at(c.Member, "slots."+c.Values[0].Text+".active", "true")
		}
		return at(c.Member, c.Key, c.Values[0].Text)
	}
	for _, f := range d.Draft.Findings {
		if f.Guess() {
			return at(f.Member, f.Key, f.Values[0].Text)
		}
	}
	return ""
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
			doc.Values = append(doc.Values, value{f.Member, f.Key, v.Text, v.Where, v.Guess})
		}
	}
	for _, c := range d.Draft.Contradictions {
		j := contradiction{c.Member, c.Key, nil}
		for _, v := range c.Values {
			j.Values = append(j.Values, value{c.Member, c.Key, v.Text, v.Where, v.Guess})
		}
		doc.Contradictions = append(doc.Contradictions, j)
	}
	return doc
}
