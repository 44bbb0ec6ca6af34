package device

import (
	"bytes"
	"fmt"

	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// more is what is known of it beside its model.
func (a *Attached) more() map[string]string {
	out := map[string]string{}
	for key, t := range map[string]y.String{"name": a.Name, "serial": a.Serial, "main": a.Main} {
		if t.Set() {
			out[key] = t.Text
		}
	}
	if len(out) == 0 {
		return nil
	}
	return out
}

func init() {
	registerForm(form{rank: 60, read: func(in *input) (*Reading, bool, error) {
		if !bytes.HasPrefix(in.begins(), []byte("kind: device")) {
			return nil, false, nil
		}
		r, err := readFile(in.file, in.data)
		return r, true, err
	}})
}

// readFile takes a device file as a source: what was known of the device then.
func readFile(file string, data []byte) (*Reading, error) {
	d, err := Read(file, data)
	if err != nil {
		return nil, err
	}
	r := &Reading{File: file, Form: "device file", Group: d.Group.Text}
	take := func(member string, u *Unit) {
		values := u.values(file)
		add := func(key, text string, at y.Spot) {
			_, guess := u.Guessed(key)
			values = append(values, Value{Key: key, Text: text, At: fact.Source{Kind: fact.DeviceFile, File: file, Line: at.Line}, Guess: guess})
		}
		for _, l := range []struct {
			key  string
			list []y.String
		}{{"boards", u.Boards}, {"features", u.Features}, {"faults", u.Faults}, {"not_together", u.NotTogether}} {
			for _, t := range l.list {
				add(l.key, t.Text, t.Spot)
			}
		}
		for _, a := range u.Attached {
			add("attached", a.Model.Text, a.Spot)
			values[len(values)-1].More = a.more()
		}
		for _, s := range u.Slots {
			if s.Active {
				add("slots."+s.Name.Text+".active", "true", s.Spot)
			}
			if s.Next {
				add("slots."+s.Name.Text+".next", "true", s.Spot)
			}
		}
		if c := u.Config; c != nil && c.Saved != nil {
			add("config.saved", fmt.Sprint(*c.Saved), c.Spot)
		}
		for _, v := range values {
			if v.Text == "" || member != "" && v.Key == "name" {
				continue
			}
			v.Member = member
			r.Values = append(r.Values, v)
		}
	}
	take("", &d.Unit)
	for _, m := range d.Members {
		take(m.Name.Text, &m)
	}
	return r, nil
}
