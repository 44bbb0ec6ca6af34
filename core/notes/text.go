// Package notes reads release notes and readme files, and picks out what bears
// on an install: prerequisites, supported and dropped hardware, known faults,
// what erases settings. It quotes; it decides nothing.
package notes

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
	"golang.org/x/net/html/charset"
)

// Line is one line of a document as people read it.
type Line struct {
	Number  int // from 1; of the file's own lines, or within the page of a PDF
	Page    int // from 1; 0 where there are no pages
	Text    string
	Heading bool
	// Begins: a new paragraph or list item begins here.
	Begins bool
}

// MaxBytes bounds a document, and MaxLines what is made of it.
const (
	MaxBytes = 16 << 20
	MaxLines = 400_000
)

// Document is what was read.
type Document struct {
	Form  string // text, markdown, html or pdf
	Lines []Line
}

// Read reads a document by what it holds, its name telling Markdown from plain
// text, and a PDF with the reader given. Texts may be in UTF-8, UTF-16 with a byte order mark, or Windows-1252.
// The error says that it is no text, too long, or a PDF that cannot be read.
func Read(name string, data []byte, pdf PDFReader) (*Document, error) {
	if len(data) > MaxBytes {
		return nil, fmt.Errorf("%s: it is longer than %d MiB; no notes are", name, MaxBytes>>20)
	}
	lower := strings.ToLower(name)
	head := bytes.ToLower(bytes.TrimLeft(data[:min(len(data), 1024)], "\ufeff \t\r\n"))
	switch {
	case bytes.HasPrefix(data, []byte("%PDF-")):
		lines, err := pdf(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		return &Document{"pdf", lines}, nil
	case bytes.HasPrefix(head, []byte("<!doctype html")), bytes.HasPrefix(head, []byte("<html")), strings.HasSuffix(lower, ".html"), strings.HasSuffix(lower, ".htm"):
		return &Document{"html", readHTML(decode(data, "text/html"))}, nil
	}
	text := decode(data, "text/plain")
	if !readable(text) {
		return nil, fmt.Errorf("%s: it is no text, HTML or PDF; save the notes as one of these", name)
	}
	if strings.HasSuffix(lower, ".md") || strings.HasSuffix(lower, ".markdown") {
		return &Document{"markdown", readMarkdown(text)}, nil
	}
	return &Document{"text", readPlain(text)}, nil
}

func decode(data []byte, kind string) string {
	if utf8.Valid(data) && kind == "text/plain" {
		return strings.TrimPrefix(string(data), "\ufeff")
	}
	r, err := charset.NewReader(bytes.NewReader(data), kind)
	if err != nil {
		return string(data)
	}
	out, _ := io.ReadAll(io.LimitReader(r, 2*MaxBytes))
	return strings.TrimPrefix(string(out), "\ufeff")
}

// readable: nearly all of it are characters that texts have.
func readable(text string) bool {
	odd, n := 0, 0
	for _, r := range text[:min(len(text), 4096)] {
		n++
		if r == utf8.RuneError || r < ' ' && r != '\n' && r != '\r' && r != '\t' && r != '\f' && r != 0x1b {
			odd++
		}
	}
	return odd*50 <= n
}

// split cuts a text into lines, without their ends.
func split(text string) []string {
	text = strings.NewReplacer("\r\n", "\n", "\r", "\n", "\f", "\n").Replace(text)
	lines := strings.SplitN(text, "\n", MaxLines+1)
	return lines[:min(len(lines), MaxLines)]
}

// bullet takes the mark of a list item off a line.
func bullet(line string) (rest string, ok bool) {
	t := strings.TrimLeft(line, " \t")
	for _, mark := range []string{"- ", "* ", "+ ", "• ", "o ", "– "} {
		if rest, ok := strings.CutPrefix(t, mark); ok {
			return strings.TrimSpace(rest), true
		}
	}
	i := 0
	for i < len(t) && i < 4 && t[i] >= '0' && t[i] <= '9' {
		i++
	}
	if i > 0 && i+1 < len(t) && (t[i] == '.' || t[i] == ')') && t[i+1] == ' ' {
		return strings.TrimSpace(t[i+2:]), true
	}
	return line, false
}

// headsWhatFollows tells a heading behind an empty line by its length and by what stands below it: nothing, or what begins
// anew.
func headsWhatFollows(text string, alone bool, below string) bool {
	if len(text) >= 70 || strings.ContainsAny(text[len(text)-1:], ".,;!?") {
		return false
	}
	return alone || strings.HasSuffix(text, ":") || capitals(text) || len(text) < 45 && begins(below)
}

// next is the line below another; "" below the last.
func next(lines []string, i int) string {
	if i+1 < len(lines) {
		return lines[i+1]
	}
	return ""
}

// readPlain reads plain text: a line that is underlined, numbered as a section,
// in capitals, or short and followed by a blank line is a heading.
func readPlain(text string) []Line {
	raw := split(text)
	blank := func(i int) bool { return i < 0 || i >= len(raw) || strings.TrimSpace(raw[i]) == "" }
	var out []Line
	for i, t := range raw {
		trimmed := strings.TrimSpace(t)
		if trimmed == "" || underline(trimmed) {
			continue
		}
		l := Line{Number: i + 1, Text: trimmed, Begins: blank(i-1) || i > 0 && underline(strings.TrimSpace(raw[i-1]))}
		rest, item := bullet(trimmed)
		under := i+1 < len(raw) && underline(strings.TrimSpace(raw[i+1]))
		switch {
		case under, !item && blank(i-1) && headsWhatFollows(trimmed, blank(i+1), next(raw, i)):
			l.Heading, l.Begins = true, true
		case item:
			l.Text, l.Begins = rest, true
		case len(out) > 0 && out[len(out)-1].Heading:
			l.Begins = true
		}
		out = append(out, l)
	}
	return out
}

// begins tells whether a line begins like a sentence or an item.
func begins(t string) bool {
	if _, item := bullet(t); item {
		return true
	}
	t = strings.TrimSpace(t)
	return len(t) > 45 && t[0] >= 'A' && t[0] <= 'Z'
}

func underline(t string) bool {
	return len(t) >= 3 && (strings.Trim(t, "=") == "" || strings.Trim(t, "-") == "" || strings.Trim(t, "~") == "" || strings.Trim(t, "*") == "")
}

func capitals(t string) bool {
	return t == strings.ToUpper(t) && t != strings.ToLower(t)
}

// readMarkdown reads Markdown, with the marks of emphasis, code and links taken
// off.
func readMarkdown(text string) []Line {
	var out []Line
	fenced := false
	for _, l := range readPlain(text) {
		if strings.HasPrefix(l.Text, "```") || strings.HasPrefix(l.Text, "~~~") {
			fenced = !fenced
			continue
		}
		if t := strings.TrimLeft(l.Text, "#"); t != l.Text && strings.HasPrefix(t, " ") && !fenced {
			l.Text, l.Heading, l.Begins = strings.Trim(t, "# "), true, true
		} else if strings.HasPrefix(l.Text, "|") { // a row of a table
			l.Text, l.Begins, l.Heading = strings.Join(strings.Fields(strings.Trim(strings.ReplaceAll(l.Text, "|", " "), " -:")), " "), true, false
		}
		l.Text = strings.NewReplacer("**", "", "__", "", "`", "").Replace(l.Text)
		if l.Text != "" {
			out = append(out, l)
		}
	}
	return out
}

// blocks are the elements after whose beginning and end a new line begins.
var blocks = map[atom.Atom]bool{atom.P: true, atom.Div: true, atom.Li: true, atom.Tr: true, atom.Table: true, atom.Ul: true, atom.Ol: true, atom.Dl: true, atom.Dt: true, atom.Dd: true,
	atom.H1: true, atom.H2: true, atom.H3: true, atom.H4: true, atom.H5: true, atom.H6: true, atom.Section: true, atom.Article: true, atom.Header: true, atom.Footer: true,
	atom.Pre: true, atom.Blockquote: true, atom.Body: true, atom.Title: true}

// readHTML reads a page; line numbers are those of its source.
func readHTML(text string) []Line {
	z := html.NewTokenizer(strings.NewReader(text))
	var out []Line
	at, start := 1, 1
	var b strings.Builder
	heading, skip := false, atom.Atom(0)
	flush := func() {
		if t := strings.Join(strings.Fields(b.String()), " "); t != "" && len(out) < MaxLines {
			out = append(out, Line{Number: start, Text: t, Heading: heading, Begins: true})
		}
		b.Reset()
	}
	for {
		kind := z.Next()
		if kind == html.ErrorToken {
			flush()
			return out
		}
		lines := bytes.Count(z.Raw(), []byte("\n"))
		switch kind {
		case html.TextToken:
			if skip == 0 {
				t := string(z.Text())
				if strings.TrimSpace(b.String()) == "" {
					lead := t[:len(t)-len(strings.TrimLeft(t, " \t\r\n"))]
					start = at + strings.Count(lead, "\n")
				}
				b.WriteString(t)
			}
		case html.StartTagToken, html.EndTagToken, html.SelfClosingTagToken:
			name, _ := z.TagName()
			a := atom.Lookup(name)
			switch {
			case a == atom.Script || a == atom.Style:
				skip = 0
				if kind == html.StartTagToken {
					skip = a
				}
			case a == atom.Br:
				b.WriteString(" ")
			case a == atom.Td || a == atom.Th:
				b.WriteString("  ")
			case blocks[a]:
				flush()
				heading = kind == html.StartTagToken && len(name) == 2 && name[0] == 'h' && name[1] >= '1' && name[1] <= '6'
			}
		}
		at += lines
	}
}
