package example

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// Tried is what the patterns of a rulebook do with one file.
type Tried struct {
	File   string
	Caught []Caught
	Unread []Unread // lines that no pattern reads
	Silent []Silent // patterns that catch nothing in it
}

// Caught is what one pattern read at one place.
type Caught struct {
	Pattern string // where it stands: "captures[0].read.model"
	Where   string
	Text    string
	Values  map[string]string
}

// Unread is a line that nothing read, and the pattern that comes nearest.
type Unread struct {
	Where, Text, Nearest string
}

// Silent is a pattern that read nothing, and the line that comes nearest.
type Silent struct {
	Pattern, Regexp, Where, Nearest string
}

// pattern is one of a rulebook, and what it is read as.
type pattern struct {
	name  string
	re    *regexp.Regexp
	first string // what the first group is, where it has no name
}

// Text tries the patterns for captures and manifests on a text.
func Text(rb *rulebook.Rulebook, name string, data []byte) (*Tried, error) {
	lines, err := device.Lines(name, data)
	if err != nil {
		return nil, err
	}
	var all []pattern
	for i, c := range rb.CaptureRules() {
		at := fmt.Sprintf("captures[%d]", i)
		if !slices.ContainsFunc(lines, func(l device.TextLine) bool { return c.Recognise.MatchString(l.Text) }) {
			all = append(all, pattern{at + ".recognise", c.Recognise, ""})
			continue
		}
		all = append(all, pattern{at + ".recognise", c.Recognise, ""})
		if c.Member != nil {
			all = append(all, pattern{at + ".member", c.Member, "name"})
		}
		for _, k := range c.Read {
			all = append(all, pattern{at + ".read." + k.Key, k.Pattern, k.Key})
		}
		for _, e := range c.Each {
			all = append(all, pattern{at + ".each." + e.Key, e.Pattern, e.Key})
		}
	}
	for i := range rb.Packages {
		m := rb.Packages[i].Manifest
		if m == nil || m.Form.Text != "lines" || !m.Item.Match(name) && !m.Item.Match(path.Base(name)) && !m.Item.Match("x/"+path.Base(name)) {
			continue
		}
		at := fmt.Sprintf("packages[%d].manifest", i)
		if m.Heading.Set() {
			all = append(all, pattern{at + ".heading", m.Heading.Regexp, ""})
		}
		all = append(all, pattern{at + ".record", m.Record.Regexp, ""})
	}
	t := &Tried{File: name}
	t.lines(all, lines)
	t.name(rb, name)
	return t, nil
}

// Package tries the patterns for names, manifests and titles on a package that was read.
func Package(rb *rulebook.Rulebook, s *survey.Survey, text func(address string) []byte) *Tried {
	t := &Tried{File: s.Name}
	t.name(rb, s.Name)
	for i := range rb.Packages {
		p := &rb.Packages[i]
		if s.Entry != p {
			continue
		}
		at := fmt.Sprintf("packages[%d]", i)
		for k := range p.Items {
			it := &p.Items[k]
			if !it.Title.Set() {
				continue
			}
			name := fmt.Sprintf("%s.items[%d].title", at, k)
			var titles []device.TextLine
			for _, x := range s.Items {
				if x.Image != nil && it.Match.Match(strings.ReplaceAll(x.Address, "::", "/")) {
					if f, ok := x.Image.First("title"); ok {
						titles = append(titles, device.TextLine{Text: f.Value, At: f.Source})
					}
				}
			}
			t.lines([]pattern{{name, it.Title.Regexp, ""}}, titles)
		}
		if m := p.Manifest; m != nil && m.Form.Text == "lines" {
			for _, x := range s.Items {
				if x.Role != "manifest" {
					continue
				}
				if lines, err := device.Lines(x.Address, text(x.Address)); err == nil {
					var all []pattern
					if m.Heading.Set() {
						all = append(all, pattern{at + ".manifest.heading", m.Heading.Regexp, ""})
					}
					t.lines(append(all, pattern{at + ".manifest.record", m.Record.Regexp, ""}), lines)
				}
			}
		}
	}
	return t
}

// name tries the patterns for file names.
func (t *Tried) name(rb *rulebook.Rulebook, name string) {
	base := path.Base(strings.ReplaceAll(name, `\`, "/"))
	for i := range rb.Packages {
		if re := rb.Packages[i].File.Regexp; re != nil && re.MatchString(base) {
			t.Caught = append(t.Caught, caught(pattern{fmt.Sprintf("packages[%d].file", i), re, ""}, base, "the name of the file"))
		}
	}
}

func caught(p pattern, text, where string) Caught {
	c := Caught{Pattern: p.name, Where: where, Text: strings.TrimSpace(text), Values: map[string]string{}}
	m := p.re.FindStringSubmatch(text)
	for n, g := range p.re.SubexpNames() {
		switch {
		case n == 0 || n >= len(m) || m[n] == "":
		case g != "":
			c.Values[g] = strings.TrimSpace(m[n])
		case p.first != "" && c.Values[p.first] == "":
			c.Values[p.first] = strings.TrimSpace(m[n])
		}
	}
	return c
}

// lines tries patterns on every line.
func (t *Tried) lines(all []pattern, lines []device.TextLine) {
	reads := make([]int, len(all))
	var unread []device.TextLine
	upTo := 0 // before which lines are read as parts of longer rows
	for n, l := range lines {
		read := n < upTo
		for i, p := range all {
			if text, used, m := device.Window(p.re, lines, n); m != nil {
				reads[i]++
				read = true
				upTo = max(upTo, n+used)
				t.Caught = append(t.Caught, caught(p, text, l.At.Where()))
			}
		}
		if !read && strings.TrimSpace(l.Text) != "" && !strings.HasPrefix(strings.TrimSpace(l.Text), "#") {
			unread = append(unread, l)
		}
	}
	for _, l := range unread {
		u := Unread{Where: l.At.Where(), Text: strings.TrimSpace(l.Text)}
		best := rulebook.NearEnough
		for i, p := range all {
			if s := rulebook.Alike(p.re, l.Text); s > best && reads[i] == 0 {
				best, u.Nearest = s, p.name
			}
		}
		t.Unread = append(t.Unread, u)
	}
	for i, p := range all {
		if reads[i] > 0 {
			continue
		}
		s := Silent{Pattern: p.name, Regexp: p.re.String()}
		best := rulebook.NearEnough
		for _, l := range lines {
			if x := rulebook.Alike(p.re, l.Text); x > best {
				best, s.Nearest, s.Where = x, strings.TrimSpace(l.Text), l.At.Where()
			}
		}
		t.Silent = append(t.Silent, s)
	}
}
