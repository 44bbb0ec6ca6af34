package page

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
)

//go:embed page.css
var css string

//go:embed page.js
var js string

// HTML writes pages as one that needs nothing else: no other file, no network.
func HTML(w io.Writer, made string, pages ...*Page) error {
	h := &html{}
	name := "Fit Check"
	if len(pages) > 0 && pages[0].Name != "" {
		name = pages[0].Name
	}
	h.f(`<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta name="color-scheme" content="light dark">
<title>%s</title>
<style>%s</style>
</head>
<body>
`, esc(name), css)
	for _, p := range pages {
		h.page(p)
	}
	h.close()
	if made != "" {
		h.f("<footer>%s</footer>\n", esc(made))
	}
	if h.ticks > 0 {
		h.f("<script>\n%s</script>\n", js)
	}
	h.f("</body>\n</html>\n")
	_, err := io.WriteString(w, h.b.String())
	return err
}

type html struct {
	b       strings.Builder
	section bool
	depth   int // of folds
	ticks   int
}

func (h *html) f(format string, args ...any) { fmt.Fprintf(&h.b, format, args...) }

func esc(t string) string { return template.HTMLEscapeString(Safe(t)) }

// rich escapes a text and sets the commands in it apart.
func rich(t string) string {
	return inCode(t, template.HTMLEscapeString, func(c string) string { return "<code>" + template.HTMLEscapeString(c) + "</code>" })
}

// classes are the tones as classes of the style sheet.
var classes = map[Tone]string{Plain: "plain", Strong: "strong", Faint: "faint", Good: "good", Bad: "bad", Doubt: "doubt", Info: "info", Code: "code"}

func (h *html) page(p *Page) { h.blocks(p.Blocks) }

func (h *html) close() {
	if h.section {
		h.f("</section>\n")
		h.section = false
	}
}

func (h *html) blocks(all []Block) {
	for _, b := range all {
		h.block(b)
	}
}

func (h *html) block(b Block) {
	switch b := b.(type) {
	case Title:
		if h.depth == 0 {
			h.close()
			h.section = true
			h.f("<section>\n")
		}
		h.f("<div class=\"verdict on-%s\"><div class=\"word %[1]s\">%s</div><div><h1>%s</h1>", classes[b.Tone], esc(b.Word), esc(b.Text))
		h.list(List{Items: b.About})
		h.f("</div></div>\n")
	case Head:
		h.f("<h2>%s</h2>\n", rich(b.Text))
	case Line:
		h.f("<p class=\"%s\">%s</p>\n", classes[b.Tone], rich(b.Text))
	case List:
		h.list(b)
	case Table:
		h.table(b)
	case Matrix:
		h.matrix(b)
	case Pre:
		h.pre(b)
	case Bar:
		h.bar(b)
	case Fold:
		h.blocks(b.Closed)
		title := b.Title
		if title == "" {
			title = b.Line
		}
		if b.Wide && h.depth == 0 {
			if b.Title != "" {
				h.f("<h2>%s</h2>\n", esc(b.Title))
			}
			h.blocks(b.Inside())
			return
		}
		h.depth++
		h.f("<details class=\"fold\"><summary>%s</summary><div class=\"in\">\n", esc(title))
		h.blocks(b.Inside())
		h.f("</div></details>\n")
		h.depth--
	case Picture:
		h.f("<div class=\"picture\">%s</div>\n", b.SVG)
	}
}

func (h *html) list(l List) {
	if len(l.Items) == 0 {
		return
	}
	shown, rest := l.Items, []Item(nil)
	if l.Most > 0 && len(shown) > l.Most+1 {
		shown, rest = shown[:l.Most], shown[l.Most:]
	}
	var widths []int
	for _, it := range l.Items {
		for k, m := range it.Marks {
			if k == len(widths) {
				widths = append(widths, 0)
			}
			widths[k] = max(widths[k], min(maxMark, width(Safe(m.Text))))
		}
	}
	write := func(items []Item, from int) {
		tag, class := "ul", "list"
		switch {
		case l.Tick:
			tag, class = "ol", "ticks"
		case l.Numbered:
			tag, class = "ol", "steps"
		}
		h.f("<%s class=\"%s\"", tag, class)
		if from > 1 {
			h.f(" start=\"%d\"", from)
		}
		h.f(">")
		for i, it := range items {
			h.item(l, it, widths, from+i)
		}
		h.f("</%s>\n", tag)
	}
	write(shown, max(1, l.From))
	if len(rest) > 0 {
		h.f("<details class=\"fold\"><summary>and %d more</summary><div class=\"in\">", len(rest))
		write(rest, max(1, l.From)+len(shown))
		h.f("</div></details>\n")
	}
}

func (h *html) item(l List, it Item, widths []int, number int) {
	id := ""
	if it.ID != "" {
		id = fmt.Sprintf(" id=%q", esc(it.ID))
	}
	h.f("<li%s>", id)
	if l.Tick {
		h.ticks++
		h.f("<input type=\"checkbox\" id=\"s%d\" aria-label=\"step %[1]d done\"><span class=\"nr\">%[1]d</span><div>", number)
	}
	row := len(it.Marks) > 0 && !l.Tick // what wraps hangs under itself
	if row {
		h.f("<div class=\"row\">")
	}
	for k, m := range it.Marks {
		if m.Text == "" && k == len(it.Marks)-1 {
			continue
		}
		h.f("<b class=\"mark %s\" style=\"min-width:%dch\">%s</b> ", classes[m.Tone], widths[k], esc(m.Text))
	}
	switch {
	case it.Text == "":
	case it.Tone == Code:
		h.f("<code>%s</code>", esc(it.Text))
	case l.Tick:
		h.f("<label class=\"text %s\" for=\"s%d\">%s</label>", classes[it.Tone], number, rich(it.Text))
	default:
		h.f("<span class=\"%s\">%s</span>", classes[it.Tone], rich(it.Text))
	}
	if row {
		h.f("</div>")
	}
	h.list(List{Items: it.Under})
	if len(it.Inside) > 0 {
		h.f("<details class=\"evidence\"><summary>evidence</summary>")
		h.blocks(it.Inside)
		h.f("</details>")
	}
	if l.Tick {
		h.f("</div>")
	}
	h.f("</li>\n")
}

// rowsShown is how many rows of a table stand open on a page where not all need to.
const rowsShown = 60

func (h *html) table(t Table) {
	rows, rest := t.Rows, [][]Span(nil)
	if t.Most > 0 && len(rows) > rowsShown {
		rows, rest = rows[:rowsShown], rows[rowsShown:]
	}
	write := func(rows [][]Span) {
		h.f("<div class=\"scroll\"><table><tr>")
		for _, c := range t.Columns {
			h.f("<th%s>%s</th>", map[bool]string{true: " class=\"right\""}[c.Right], esc(c.Title))
		}
		h.f("</tr>\n")
		for _, r := range rows {
			h.f("<tr>")
			for i, c := range r {
				class := classes[c.Tone]
				if t.Columns[i].Right {
					class += " right"
				}
				text := rich(c.Text)
				if c.Tone == Code {
					text = "<code>" + esc(c.Text) + "</code>"
				}
				h.f("<td class=\"%s\">%s</td>", class, text)
			}
			h.f("</tr>\n")
		}
		h.f("</table></div>\n")
	}
	write(rows)
	if len(rest) > 0 {
		h.f("<details class=\"fold\"><summary>and %d more</summary><div class=\"in\">", len(rest))
		write(rest)
		h.f("</div></details>\n")
	}
}

var cellClasses = map[Mark]string{Yes: "good", No: "bad", Open: "doubt", None: "none"}

func (h *html) matrix(m Matrix) {
	if len(m.Rows) == 0 {
		return
	}
	h.f("<div class=\"scroll\"><table class=\"matrix\"><tr>")
	for _, l := range slices.Concat(m.Lead, m.Columns) {
		h.f("<th>%s</th>", esc(l))
	}
	h.f("</tr>\n")
	for _, r := range m.Rows {
		h.f("<tr>")
		for _, l := range r.Lead {
			h.f("<th>%s</th>", esc(l))
		}
		for _, c := range r.Cells {
			h.f("<td class=\"on-%s %[1]s\">%s</td>", cellClasses[c], marks[c].Text)
		}
		h.f("</tr>\n")
	}
	h.f("</table></div>\n")
}

func (h *html) pre(p Pre) {
	h.f("<pre>")
	for _, l := range p.Lines {
		for _, x := range l {
			if x.Tone == Plain {
				h.f("%s", esc(x.Text))
				continue
			}
			h.f("<span class=\"%s\">%s</span>", classes[x.Tone], esc(x.Text))
		}
		h.f("\n")
	}
	h.f("</pre>\n")
}

func (h *html) bar(b Bar) {
	if len(b.Pieces) == 0 {
		return
	}
	h.f("<div class=\"bar\">")
	for _, p := range b.Pieces {
		h.f("<i class=\"%s\" style=\"flex:%d\" title=\"%s\"></i>", classes[p.Tone], max(1, (p.To-p.From)*1000/max(1, b.Size)), esc(p.Title))
	}
	h.f("</div>\n")
}
