package draft

import (
	"fmt"
	"strings"
)

// Guess marks a line that somebody has to hold against release notes and labels.
const Guess = "# GUESS"

// YAML writes the draft as a rulebook, each guess with a comment that says
// from what it was made.
func (d *Draft) YAML() string {
	var b strings.Builder
	f := func(format string, args ...any) { fmt.Fprintf(&b, format, args...) }
	guess := func(from string) string {
		if from == "" {
			return ""
		}
		return "  # GUESS: " + plain(from)
	}
	f("# A draft, made from what packages say of themselves. Every line is a guess until you\n")
	f("# have held it against release notes and labels; then take its GUESS away.\n")
	for _, n := range d.Notes {
		f("# NOTE: %s\n", plain(n))
	}
	f("kind: rulebook\n")
	f("title: %s\n", quote(or(d.Title, "Line of products, to be named")))
	f("# sources:\n#   KEY: \"title of the release notes that rules cite\"\n\n")
	if len(d.Models) > 0 {
		f("models:\n")
	}
	for _, m := range d.Models {
		f("  %s:%s\n", quote(m.Name), guess(m.From))
		f("    families: [line]\n")
		if len(m.Revisions) == 0 {
			d.board(&b, "    ", m.Board)
			continue
		}
		f("    revisions:\n")
		for _, r := range m.Revisions {
			if r.Arch == "" {
				r.Arch, r.archFrom = m.Arch, m.archFrom
			}
			if len(r.Boards) == 0 {
				r.Boards = m.Boards
			}
			f("      %s:%s\n", quote(r.Name), guess(r.From))
			if r.Arch == "" && len(r.Boards) == 0 {
				f("        boards: []\n")
			}
			d.board(&b, "        ", r.Board)
		}
	}
	f("\nfamilies:\n  line:  # GUESS: nothing tells lines of software apart\n    components:  # in the order in which they are installed\n")
	for _, c := range d.Components {
		rest := fmt.Sprintf("{title: %s, optional: true}", quote(c.Name+" image"))
		if c.Name == "main" {
			rest = "{title: system image}  # slotted: true where the device has slots"
		}
		f("      %s: %s%s\n", quote(c.Name), rest, guess(c.From))
	}
	if len(d.Versions) > 0 {
		f("\nversions:\n")
	}
	for _, v := range d.Versions {
		if v.Pattern == "" {
			f("  %s: natural  # GUESS: no plain pattern reads all that were seen\n", quote(v.Component))
			continue
		}
		f("  %s:  # GUESS: it reads all that were seen\n    pattern: %s\n    order: [%s]\n", quote(v.Component), single(v.Pattern), strings.Join(v.Order, ", "))
	}
	if len(d.Packages) > 0 {
		f("\npackages:\n")
	}
	for _, p := range d.Packages {
		d.pkg(&b, p, guess)
	}
	if len(d.Releases) > 0 {
		f("\nreleases:\n")
	}
	for _, r := range d.Releases {
		f("  - version: %s%s\n", quote(r.Version), guess(r.From))
		if r.Built != "" {
			f("    # date: %s  # GUESS: a header says that it was built then\n", r.Built)
		}
		f("    families: [line]\n")
		if len(r.Brings) > 0 {
			var brings []string
			for _, v := range r.Brings {
				brings = append(brings, fmt.Sprintf("%s: %s", quote(v[0]), quote(v[1])))
			}
			f("    brings: {%s}\n", strings.Join(brings, ", "))
		}
		f("    # needs: what must hold before, by the release notes\n")
	}
	f("\n# Which moves are allowed, only release notes tell. As it stands, none is.\nhops:\n  upward: listed\n  downward: closed\n")
	return b.String()
}

func (d *Draft) board(b *strings.Builder, indent string, h Board) {
	if h.Arch != "" {
		fmt.Fprintf(b, "%sarch: %s  # GUESS: %s\n", indent, quote(h.Arch), plain(h.archFrom))
	}
	if len(h.Boards) > 0 {
		var all []string
		for _, t := range h.Boards {
			all = append(all, quote(t))
		}
		fmt.Fprintf(b, "%sboards: [%s]  # GUESS: headers name them\n", indent, strings.Join(all, ", "))
	}
}

func (d *Draft) pkg(b *strings.Builder, p *Package, guess func(string) string) {
	f := func(format string, args ...any) { fmt.Fprintf(b, format, args...) }
	f("  - title: %s\n    file: %s%s\n", quote(p.Title), single(p.File), guess("the name "+p.From))
	f("    # handling: unpacked, or whole: how the server must offer it\n")
	if m := p.Manifest; m != nil {
		f("    manifest:%s\n      item: %s\n      form: %s\n", guess(m.From), single(m.Glob), m.Form)
		if m.Heading != "" {
			f("      heading: %s\n", single(m.Heading))
		}
		if m.Record != "" {
			f("      record: %s\n", single(m.Record))
		}
		if m.Groups != "" {
			f("      groups: %s\n", single(m.Groups))
		}
		fields(b, "group_fields", m.GroupFields)
		if m.Records != "" {
			f("      records: %s\n", single(m.Records))
		}
		fields(b, "fields", m.Fields)
	}
	if p.Sums != "" {
		f("    checksums: %s\n", single(p.Sums))
	}
	if p.Signed != "" {
		f("    # signature: {item: %s, of: manifest, key: maker.pem}  # GUESS: there is such a file; ask the maker for the key\n", single(p.Signed))
	}
	if len(p.Notes) > 0 {
		var all []string
		for _, n := range p.Notes {
			all = append(all, single(n))
		}
		f("    notes: [%s]\n", strings.Join(all, ", "))
	}
	if len(p.Items) > 0 {
		f("    items:\n")
	}
	for _, it := range p.Items {
		f("      - match: %s\n        component: %s%s\n", single(it.Glob), quote(it.Component), guess(it.From))
		if it.Title != "" {
			f("        title: %s\n", single(it.Title))
		}
	}
}

func fields(b *strings.Builder, key string, pairs [][2]string) {
	if len(pairs) == 0 {
		return
	}
	var all []string
	for _, p := range pairs {
		all = append(all, fmt.Sprintf("%s: %s", p[0], quote(p[1])))
	}
	fmt.Fprintf(b, "      %s: {%s}\n", key, strings.Join(all, ", "))
}

// Guesses lists what was guessed, and from what.
func (d *Draft) Guesses() []string {
	var out []string
	for line := range strings.Lines(d.YAML()) {
		if strings.Contains(line, "# GUESS: ") {
			out = append(out, strings.TrimSpace(line))
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
	return fmt.Sprintf("%q", plain(t))
}

// single writes a text in single quotes, in which a backslash is itself.
func single(t string) string { return "'" + strings.ReplaceAll(plain(t), "'", "''") + "'" }

// plain keeps a text on its line.
func plain(t string) string {
	return strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0x7f || r == 0x85 || r == 0x2028 || r == 0x2029 || r == 0xfeff {
			return ' '
		}
		return r
	}, t)
}
