package page

import (
	"fmt"
	"io"
	"strings"
)

// Markdown writes pages as one Markdown text. Nothing is folded in it.
func Markdown(w io.Writer, made string, pages ...*Page) error {
	m := &markdown{}
	for _, p := range pages {
		m.blocks(p.Blocks, 2)
	}
	if made != "" {
		m.f("\n%s\n", md(made))
	}
	_, err := io.WriteString(w, strings.TrimLeft(m.b.String(), "\n"))
	return err
}

type markdown struct{ b strings.Builder }

func (m *markdown) f(format string, args ...any) { fmt.Fprintf(&m.b, format, args...) }

func (m *markdown) blocks(all []Block, level int) {
	for _, b := range all {
		switch b := b.(type) {
		case Title:
			head := md(b.Text)
			if b.Word != "" {
				head = b.Word + ": " + head
			}
			m.f("\n# %s\n\n", head)
			m.list(List{Items: b.About}, 0)
		case Head:
			m.f("\n%s %s\n\n", strings.Repeat("#", level), md(b.Text))
		case Line:
			m.f("\n%s\n\n", md(b.Text))
		case Rule:
			m.f("\n---\n")
		case List:
			m.list(b, 0)
		case Table:
			m.table(b)
		case Matrix:
			m.table(b.table())
		case Pre:
			m.f("\n")
			m.pre(b, 0)
		case Fold:
			m.blocks(b.Closed, level)
			title := b.Title
			if title == "" {
				title = b.Line
			}
			if title != "" {
				m.f("\n%s %s\n\n", strings.Repeat("#", level), md(title))
			}
			m.blocks(b.Inside(), level+1)
		}
	}
}

// table is a matrix as a table.
func (m Matrix) table() Table {
	t := Table{}
	for _, l := range append(append([]string{}, m.Lead...), m.Columns...) {
		t.Columns = append(t.Columns, Column{Title: l})
	}
	for _, r := range m.Rows {
		var line []Span
		for _, l := range r.Lead {
			line = append(line, Span{Text: l})
		}
		for _, c := range r.Cells {
			line = append(line, marks[c])
		}
		t.Rows = append(t.Rows, line)
	}
	return t
}

func (m *markdown) list(l List, depth int) {
	lead := strings.Repeat("  ", depth)
	for i, it := range l.Items {
		switch {
		case l.Tick:
			m.f("%s- [ ] ", lead)
		case l.Numbered:
			m.f("%s%d. ", lead, i+max(1, l.From))
		default:
			m.f("%s- ", lead)
		}
		var words []string
		for k, x := range it.Marks {
			if t := strings.TrimSpace(x.Text); t != "" && !isSign(t) {
				if t = md(t); k == 0 || x.Tone == Strong {
					t = "**" + t + "**"
				}
				words = append(words, t)
			}
		}
		t := m.toned(it.Text, it.Tone)
		if len(words) > 0 && t != "" {
			t = ": " + t
		}
		m.f("%s%s\n", strings.Join(words, " "), t)
		m.list(List{Items: it.Under}, depth+1+numberedDepth(l))
		for _, b := range it.Inside {
			switch b := b.(type) {
			case Pre:
				m.f("\n")
				m.pre(b, depth+1)
				m.f("\n")
			case List:
				m.list(b, depth+1)
			case Table:
				m.table(b)
			}
		}
	}
}

// numberedDepth is how much further what belongs to an entry stands to the right.
func numberedDepth(l List) int {
	if l.Numbered && !l.Tick {
		return 1
	}
	return 0
}

// isSign tells a sign of a list, which Markdown has its own for.
func isSign(t string) bool { return strings.Trim(t, "!?->[]. ") == "" }

func (m *markdown) toned(t string, tone Tone) string {
	switch tone {
	case Code:
		return "`" + strings.ReplaceAll(Safe(t), "`", "'") + "`"
	case Strong, Bad:
		if t != "" {
			return "**" + md(t) + "**"
		}
	}
	return md(t)
}

func (m *markdown) table(t Table) {
	m.f("\n|")
	for _, c := range t.Columns {
		m.f(" %s |", md(c.Title))
	}
	m.f("\n|")
	for _, c := range t.Columns {
		m.f("%s|", map[bool]string{true: "--:", false: "---"}[c.Right])
	}
	m.f("\n")
	for _, r := range t.Rows {
		m.f("|")
		for _, c := range r {
			text := md(c.Text)
			if c.Tone == Code && text != "" {
				text = "`" + strings.NewReplacer("`", "'", "|", `\|`).Replace(Safe(c.Text)) + "`"
			}
			m.f(" %s |", text)
		}
		m.f("\n")
	}
}

// pre writes lines as they are: four blanks make it so.
func (m *markdown) pre(p Pre, depth int) {
	for _, l := range p.Lines {
		var line strings.Builder
		for _, x := range l {
			line.WriteString(Safe(x.Text))
		}
		m.f("%s    %s\n", strings.Repeat("  ", depth), strings.TrimRight(line.String(), " "))
	}
}

// mdEscape escapes what Markdown would take for its own.
var mdEscape = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "|", `\|`, "<", "&lt;", "[", `\[`, "]", `\]`, "#", `\#`)

// md makes a text fit for Markdown; commands in it are code.
func md(t string) string {
	return inCode(t, mdEscape.Replace, func(c string) string { return "`" + strings.NewReplacer("`", "'", "|", `\|`).Replace(c) + "`" })
}

// inCode writes a text with its commands set apart from its words.
func inCode(t string, plain, code func(string) string) string {
	t = Safe(t)
	if !strings.Contains(t, "fitcheck ") {
		return plain(t)
	}
	var out []string
	for w := range strings.SplitSeq(bindCommands(t), " ") {
		if strings.HasPrefix(w, "fitcheck"+bound) {
			cmd := strings.TrimRight(w, ";,.:")
			out = append(out, code(strings.ReplaceAll(cmd, bound, " "))+plain(w[len(cmd):]))
			continue
		}
		out = append(out, plain(strings.ReplaceAll(w, bound, " ")))
	}
	return strings.Join(out, " ")
}
