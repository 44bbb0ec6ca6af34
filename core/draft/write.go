package draft

import (
	"fmt"
	"strings"
	"unicode"
)

// GuessMark marks a line that somebody has to confirm.
const GuessMark = "# GUESS"

// writer writes lines, each with the guess on which it rests.
type writer struct{ strings.Builder }

func (w *writer) line(text string, g Guess) {
	w.WriteString(text + g.comment() + "\n")
}

func (w *writer) plain(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// comment writes a guess behind a line; nothing where there is none.
func (g Guess) comment() string {
	switch {
	case g.Question == "":
		return ""
	case g.From == "":
		return "  " + GuessMark + ": " + onLine(g.Question)
	}
	return "  " + GuessMark + ": " + onLine(g.Question) + " (" + onLine(g.From) + ")"
}

// YAML writes the draft as a rulebook, in the order of the documentation, each guess with a
// question that says from what it was made.
func (d *Draft) YAML() string {
	body := d.body()
	n := 0
	for line := range strings.Lines(body) {
		if strings.Contains(line, GuessMark+": ") && !strings.HasPrefix(strings.TrimSpace(line), "#") {
			n++
		}
	}
	var w writer
	w.plain("# A draft with %d guesses. Each ends in a question; where the answer is yes, take the", n)
	w.plain("# question away, where it is no, correct the line. Until then the line decides nothing.")
	for _, t := range d.Notes {
		w.plain("# NOTE: %s", onLine(t))
	}
	return w.String() + body
}

// In one piece: the sections of a rulebook in their order.
func (d *Draft) body() string {
	w := &writer{}
	w.plain("kind: rulebook")
	w.plain("title: %s", quote(or(d.Title, "Line of products, to be named")))
	if len(d.Sources) > 0 {
		w.plain("sources:")
	}
	for _, s := range d.Sources {
		w.plain("  %s: %s", s[0], quote(s[1]))
	}
	if len(d.Models) > 0 {
		w.plain("\nmodels:")
	}
	for _, m := range d.Models {
		m.write(w)
	}
	w.plain("\nfamilies:")
	w.line("  line:", Guess{"is there one line of software for all of them?", ""})
	w.plain("    components:")
	for _, c := range d.Components {
		rest := fmt.Sprintf("{title: %s}", quote(c.Name+" image"))
		switch {
		case c.Name == "main":
			rest = "{title: system image}"
		case c.Name == "boot" && c.Optional:
			rest = "{title: boot loader, optional: true}"
		case c.Optional:
			rest = fmt.Sprintf("{title: %s, optional: true}", quote(c.Name+" image"))
		}
		w.line(fmt.Sprintf("      %s: %s", quote(c.Name), rest), c.Guess)
	}
	if len(d.Versions) > 0 {
		w.plain("\nversions:")
	}
	for _, v := range d.Versions {
		v.write(w)
	}
	if len(d.Packages) > 0 {
		w.plain("\npackages:")
	}
	for _, p := range d.Packages {
		p.write(w)
	}
	if len(d.Releases) > 0 {
		w.plain("\nreleases:")
	}
	for _, r := range d.Releases {
		r.write(w, "  ", "line")
	}
	w.plain("\nhops:")
	w.line("  upward: "+or(d.Moves.Upward, "listed"), d.Moves.UpGuess)
	w.line("  downward: "+or(d.Moves.Downward, "closed"), d.Moves.DownGuess)
	if len(d.Moves.Rules) > 0 {
		w.plain("  rules:")
	}
	for _, r := range d.Moves.Rules {
		w.line("    "+r.Text, r.Guess)
	}
	if len(d.Captures) > 0 {
		w.plain("\ncaptures:")
	}
	for _, c := range d.Captures {
		c.write(w)
	}
	if len(d.Moves.Remedies) > 0 {
		w.plain("\nremedies:")
	}
	for _, r := range d.Moves.Remedies {
		w.line("  "+r.Text, r.Guess)
	}
	return w.String()
}

func (m *Model) write(w *writer) {
	w.line(fmt.Sprintf("  %s:", quote(m.Name)), m.Guess)
	if len(m.Also) > 0 {
		w.line("    also: ["+strings.Join(quoted(m.Also), ", ")+"]", m.AlsoGuess)
	}
	w.plain("    families: [line]")
	m.Board.write(w, "    ")
	if len(m.Revisions) > 0 {
		w.plain("    revisions:")
	}
	for _, r := range m.Revisions {
		if r.Arch == "" && len(r.Boards) == 0 {
			w.line(fmt.Sprintf("      %s: {}", quote(r.Name)), r.Guess)
			continue
		}
		w.line(fmt.Sprintf("      %s:", quote(r.Name)), r.Guess)
		r.Board.write(w, "        ")
	}
}

func (b Board) write(w *writer, indent string) {
	if b.Arch != "" {
		question := "is this its architecture?"
		if b.ByteOrder {
			question = "is this its architecture? The header leaves the byte order open"
		}
		w.line(indent+"arch: "+quote(b.Arch), Guess{question, b.ArchFrom})
	}
	if len(b.Boards) > 0 {
		question := "is this the identifier of its board?"
		if len(b.Boards) > 1 {
			question = "are these the identifiers of its boards?"
		}
		w.line(indent+"boards: ["+strings.Join(quoted(b.Boards), ", ")+"]", Guess{question, b.BoardFrom})
	}
}

func (v *Versions) write(w *writer) {
	if v.Pattern == "" {
		w.line(fmt.Sprintf("  %s: natural", quote(v.Component)), Guess{"does 2 come before 10 and a before b in them, and a release candidate before its release?", ""})
		return
	}
	w.line(fmt.Sprintf("  %s:", quote(v.Component)), Guess{"are its parts in the order in which they count?", ""})
	w.plain("    pattern: %s", single(v.Pattern))
	w.plain("    order: [%s]", strings.Join(v.Order, ", "))
	if v.Compact {
		w.plain("    compact: true")
	}
}

// In one piece: the sections of a rulebook in their order.
func (p *Package) write(w *writer) {
	w.plain("  - title: %s", quote(p.Title))
	w.line("    file: "+single(p.File), p.Guess)
	if len(p.Components) > 0 {
		w.line("    components: ["+strings.Join(p.Components, ", ")+"]", Guess{"do such downloads bring nothing else?", p.all[0].s.Name})
	}
	if p.Handling != "" {
		w.line("    handling: "+p.Handling, p.HandGuess)
	}
	if m := p.Manifest; m != nil {
		w.line("    manifest:", m.Guess)
		w.plain("      item: %s\n      form: %s", single(m.Glob), m.Form)
		for _, k := range [][2]string{{"heading", m.Heading}, {"record", m.Record}, {"groups", m.Groups}} {
			if k[1] != "" {
				w.plain("      %s: %s", k[0], single(k[1]))
			}
		}
		fields(w, "group_fields", m.GroupFields)
		if m.Records != "" {
			w.plain("      records: %s", single(m.Records))
		}
		fields(w, "fields", m.Fields)
	}
	if len(p.Codes) > 0 {
		var all []string
		for _, c := range p.Codes {
			all = append(all, quote(c[0])+": "+quote(c[1]))
		}
		w.line("    codes: {component: {fact: component, codes: {"+strings.Join(all, ", ")+"}}}", Guess{"is this what the list means by these words?", p.Manifest.Guess.From})
	}
	if p.Sums != "" {
		w.plain("    checksums: %s", single(p.Sums))
	}
	if p.Signed != "" {
		w.plain("    # signature: {item: %s, of: manifest, key: maker.pem}   # there is such a file; ask the maker for the key", single(p.Signed))
	}
	if len(p.Notes) > 0 {
		var all []string
		for _, n := range p.Notes {
			all = append(all, single(n))
		}
		w.plain("    notes: [%s]", strings.Join(all, ", "))
	}
	if len(p.Items) > 0 {
		w.plain("    items:")
	}
	for _, it := range p.Items {
		text := "match: " + single(it.Glob) + ", component: " + quote(it.Component)
		if it.Title != "" {
			text += ", title: " + single(it.Title)
		}
		w.line("      - {"+text+"}", it.Guess)
	}
}

func fields(w *writer, key string, pairs [][2]string) {
	if len(pairs) == 0 {
		return
	}
	var all []string
	for _, p := range pairs {
		all = append(all, fmt.Sprintf("%s: %s", p[0], quote(p[1])))
	}
	w.plain("      %s: {%s}", key, strings.Join(all, ", "))
}

func (r *Release) write(w *writer, indent, family string) {
	w.line(indent+"- version: "+quote(r.Version), r.Guess)
	if r.Date != "" {
		w.line(indent+"  date: "+r.Date, r.DateOf)
	}
	if family != "" {
		w.plain("%s  families: [%s]", indent, family)
	}
	if len(r.Brings) > 0 {
		var all []string
		for _, v := range r.Brings {
			all = append(all, fmt.Sprintf("%s: %s", quote(v[0]), quote(v[1])))
		}
		w.plain("%s  brings: {%s}", indent, strings.Join(all, ", "))
	}
	if len(r.Needs) > 0 {
		w.plain("%s  needs:", indent)
	}
	for _, l := range r.Needs {
		w.line(indent+"    "+l.Text, l.Guess)
	}
	for _, l := range r.Lines {
		w.line(indent+"  "+l.Text, l.Guess)
	}
}

func (c *Capture) write(w *writer) {
	w.line("  - recognise: "+single(c.Recognise), c.From)
	if c.Member != "" {
		w.line("    member: "+single(c.Member), Guess{"does this line begin what is said of one member?", ""})
	}
	for _, part := range []struct {
		key  string
		list []Read
	}{{"read", c.Read}, {"each", c.Each}} {
		if len(part.list) > 0 {
			w.plain("    %s:", part.key)
		}
		for _, r := range part.list {
			w.line(fmt.Sprintf("      %s: %s", r.Key, single(r.Pattern)), r.Guess)
		}
	}
}

// Guesses lists what was guessed, and from what.
func (d *Draft) Guesses() []string { return guessesIn(d.YAML()) }

func guessesIn(text string) []string {
	out := []string{}
	for line := range strings.Lines(text) {
		if t := strings.TrimSpace(line); strings.Contains(t, GuessMark+": ") && !strings.HasPrefix(t, "#") {
			out = append(out, t)
		}
	}
	return out
}

func or(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// quote writes a text as YAML in double quotes where it needs them.
func quote(t string) string {
	plainWord := t != ""
	for i, r := range t {
		letter := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r == '_'
		digit := r >= '0' && r <= '9' || r == '-' || r == '.'
		if !letter && !(digit && i > 0) {
			plainWord = false
		}
	}
	switch strings.ToLower(t) {
	case "yes", "no", "true", "false", "null", "on", "off", "y", "n":
		plainWord = false
	}
	if plainWord {
		return t
	}
	return fmt.Sprintf("%q", onLine(t))
}

// single writes a text in single quotes, in which a backslash is itself.
func single(t string) string { return "'" + strings.ReplaceAll(onLine(t), "'", "''") + "'" }

// onLine keeps a text on its line, without characters that control how it is shown.
func onLine(t string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.C, r) || r == 0x2028 || r == 0x2029 {
			return ' '
		}
		return r
	}, t)
}
