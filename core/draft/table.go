package draft

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/net/html"

	"fitcheck/core/pattern"
	"fitcheck/core/tree"
)

// A maker's table of moves, as rules: which release leads to which, and by way of what.

// Table is the cells of a table, with the line of each row in its file.
type Table struct {
	Head []string
	Rows []Row
}

// Row is one row of a table.
type Row struct {
	Line  int
	Cells []string
}

// ReadTables reads the tables of a text: CSV, HTML or Markdown.
func ReadTables(name string, data []byte) ([]Table, error) {
	text := string(data)
	lower := strings.ToLower(name)
	switch head := strings.ToLower(text[:min(len(text), 4096)]); {
	case strings.HasSuffix(lower, ".html"), strings.HasSuffix(lower, ".htm"), strings.Contains(head, "<table"):
		return htmlTables(text), nil
	case strings.HasSuffix(lower, ".md"), markdownRule.MatchString(text):
		return markdownTables(text), nil
	}
	return csvTable(data)
}

var markdownRule = pattern.New(`(?m)^\s*\|?\s*:?-+:?\s*(\|\s*:?-+:?\s*)+\|?\s*$`)

func csvTable(data []byte) ([]Table, error) {
	r := tree.CSV(data)
	r.LazyQuotes = true
	var t Table
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return []Table{t}, nil
		}
		if err != nil {
			return nil, err
		}
		if len(t.Head) == 0 {
			t.Head = cells
			continue
		}
		line, _ := r.FieldPos(0)
		t.Rows = append(t.Rows, Row{line, cells})
	}
}

func markdownTables(text string) []Table {
	var out []Table
	cells := func(line string) []string {
		line = strings.Trim(strings.TrimSpace(line), "|")
		var c []string
		for part := range strings.SplitSeq(line, "|") {
			c = append(c, strings.TrimSpace(strings.NewReplacer("**", "", "`", "").Replace(part)))
		}
		return c
	}
	var t *Table
	before := ""
	for i, line := range strings.Split(text, "\n") {
		switch {
		case t == nil && markdownRule.MatchString(line) && strings.Contains(before, "|"):
			out = append(out, Table{Head: cells(before)})
			t = &out[len(out)-1]
		case t != nil && strings.Contains(line, "|"):
			t.Rows = append(t.Rows, Row{i + 1, cells(line)})
		case strings.TrimSpace(line) == "":
			t = nil
		}
		before = line
	}
	return out
}

// cellText is the text of a cell, in which a vertical tab stands for each break of a line: several single words below
// each other are a list.
func cellText(raw string) string {
	lines := strings.Split(raw, "\v")
	separator := ", "
	for i, l := range lines {
		words := strings.Fields(l)
		if len(words) != 1 {
			separator = " "
		}
		lines[i] = strings.Join(words, " ")
	}
	return strings.Join(strings.Fields(strings.Join(lines, separator)), " ")
}

// In one piece: one automaton over the tags; its states share the table.
func htmlTables(text string) []Table {
	z := html.NewTokenizer(strings.NewReader(text))
	var out []Table
	var t *Table
	var row *Row
	var cell *strings.Builder
	head, line := false, 1
	flush := func() {
		if cell != nil && row != nil {
			row.Cells = append(row.Cells, cellText(cell.String()))
		}
		cell = nil
	}
	endRow := func() {
		flush()
		if t != nil && row != nil && len(row.Cells) > 0 {
			if head && len(t.Head) == 0 || len(t.Head) == 0 && len(t.Rows) == 0 {
				t.Head = row.Cells
			} else {
				t.Rows = append(t.Rows, *row)
			}
		}
		row, head = nil, false
	}
	for {
		kind := z.Next()
		raw := string(z.Raw())
		switch kind {
		case html.ErrorToken:
			endRow()
			return out
		case html.StartTagToken, html.SelfClosingTagToken:
			name, _ := z.TagName()
			switch string(name) {
			case "table":
				endRow()
				out = append(out, Table{})
				t = &out[len(out)-1]
			case "tr":
				endRow()
				row = &Row{Line: line}
			case "th", "td":
				flush()
				cell = &strings.Builder{}
				head = head || string(name) == "th" && len(headOf(t)) == 0
			case "br":
				if cell != nil {
					cell.WriteByte('\v')
				}
			}
		case html.EndTagToken:
			name, _ := z.TagName()
			switch string(name) {
			case "td", "th":
				flush()
			case "tr":
				endRow()
			case "table":
				endRow()
				t = nil
			}
		case html.TextToken:
			if cell != nil {
				cell.Write(z.Text())
			}
		}
		line += strings.Count(raw, "\n")
	}
}

func headOf(t *Table) []string {
	if t == nil {
		return nil
	}
	return t.Head
}

// What a column is about, by the words of its heading.
var columnWords = []struct {
	about string
	words *pattern.Pattern
}{
	{"stops", pattern.New(`(?i)\b(stops?|via|by way of|intermediate|through|steps?|interim)\b`)},
	{"boot", pattern.New(`(?i)\bboot`)},
	{"companion", pattern.New(`(?i)\b(controller|manager|director|companion)\b`)},
	{"models", pattern.New(`(?i)\b(models?|products?|platforms?|devices?|hardware)\b`)},
	{"allow", pattern.New(`(?i)\b(allowed|permitted|possible|supported|status)\b`)},
	{"remark", pattern.New(`(?i)\b(remarks?|notes?|comments?|details?|conditions?)\b`)},
	{"from", pattern.New(`(?i)\b(from|current|installed|running|old|source)\b`)},
	{"to", pattern.New(`(?i)\b(to|target|new|destination|release|version|upgrade)\b`)},
}

// Imported is a table as parts of a rulebook.
type Imported struct {
	Key, Title string   // of the source
	Rules      []string // of hops, each one line
	Releases   []string // with needs, each one line
	Notes      []string

	fit func(version string) string // writes a version as the rulebook reads it; nil leaves it
}

// NoMovesError: no table has columns for from and to.
type NoMovesError struct{ Heads [][]string }

func (e *NoMovesError) Error() string {
	var all []string
	for _, h := range e.Heads {
		all = append(all, strings.Join(h, ", "))
	}
	if len(all) == 0 {
		return "it holds no table"
	}
	return "no table has a column for where a move comes from and one for where it goes to; the headings are: " + strings.Join(all, "; ")
}

// Import turns a maker's table into rules. key is that of the source; fit, where it is not nil,
// writes a version as the rulebook's scheme reads it.
func Import(name, key string, tables []Table, fit func(version string) string) (*Imported, error) {
	out := &Imported{Key: key, Title: name, fit: fit}
	none := &NoMovesError{}
	read := false
	for _, t := range tables {
		none.Heads = append(none.Heads, t.Head)
		columns := map[string]int{}
		var others []int
		for i, h := range t.Head {
			about := ""
			for _, c := range columnWords {
				if _, taken := columns[c.about]; !taken && c.words.MatchString(h) {
					about = c.about
					break
				}
			}
			if about == "" {
				if strings.TrimSpace(h) != "" {
					others = append(others, i)
				}
				continue
			}
			columns[about] = i
		}
		from, ok := columns["from"]
		to, ok2 := columns["to"]
		if !ok || !ok2 {
			continue
		}
		read = true
		for _, r := range t.Rows {
			cell := func(about string) string {
				if i, ok := columns[about]; ok && i < len(r.Cells) {
					return strings.TrimSpace(r.Cells[i])
				}
				return ""
			}
			if from >= len(r.Cells) || to >= len(r.Cells) || nothing(r.Cells[from]) || nothing(r.Cells[to]) {
				out.Notes = append(out.Notes, fmt.Sprintf("%s:%d: the row names no from, or no to, and is left out", name, r.Line))
				continue
			}
			out.row(name, t, r, r.Cells[from], r.Cells[to], cell, columns, others)
		}
	}
	if !read {
		return nil, none
	}
	return out, nil
}

// nothing tells a cell that says nothing: an empty one, or a dash.
func nothing(cell string) bool {
	switch strings.ToLower(strings.TrimSpace(cell)) {
	case "", "-", "–", "—", "n/a", "none", "direct", "no stop", "not needed":
		return true
	}
	return false
}

var denies = pattern.New(`(?i)^(no|not supported|unsupported|forbidden|x|✗|✘|❌|blocked)$`)
var allows = pattern.New(`(?i)^(yes|y|supported|ok|✓|✔|✅|allowed)$`)

func (im *Imported) row(name string, t Table, r Row, from, to string, cell func(string) string, columns map[string]int, others []int) {
	scope := ""
	if m := cell("models"); !nothing(m) {
		scope = ", models: [" + strings.Join(quoteAll(splitList(m)), ", ") + "]"
	}
	_, stopsKnown := columns["stops"]
	_, allowKnown := columns["allow"]
	switch stops := cell("stops"); {
	case allowKnown && nothing(stops):
		im.allowed(name, r, from, to, cell("allow"), cell("remark"), scope)
	case stopsKnown || len(others) == 0:
		im.move(name, r, from, to, stops, scope)
	}
	if !stopsKnown && !allowKnown { // a column a model: what its cell says of the move
		for _, i := range others {
			if i >= len(r.Cells) {
				continue
			}
			im.move(name, r, from, to, r.Cells[i], ", models: ["+quoteYAML(strings.TrimSpace(t.Head[i]))+"]")
		}
	}
	if b := cell("boot"); !nothing(b) {
		im.Releases = append(im.Releases, fmt.Sprintf("- {version: %s, needs: [{component: boot, within: %s, source: %s}]}   # %s:%d", quoteYAML(to), quoteYAML(atLeast(b)), im.Key, name, r.Line))
	}
	if c := cell("companion"); !nothing(c) {
		im.Releases = append(im.Releases, fmt.Sprintf("- {version: %s, needs: [{companion: %s, within: %s, source: %s}]}   # %s:%d", quoteYAML(to), quoteYAML(strings.ToLower(companionOf(t.Head[columns["companion"]]))), quoteYAML(atLeast(c)), im.Key, name, r.Line))
	}
}

// Words of a remark: by way of what a move is made, and that it costs the settings.
var (
	remarkStop  = pattern.New(`(?i)\b(?:by way of|via|through|stop at|go to|first(?: install)?)\s+(?:release |version )?(v?\d[\w.()-]*\w)`)
	remarkReset = pattern.New(`(?i)\b(?:settings|config\w*)\b.*\b(?:lost|erased?s?|resets?|deleted|cleared)\b|\b(?:erases?|resets?|clears?|loses?)\b.*\b(?:settings|config\w*)\b|\bfactory (?:reset|defaults)\b`)
)

// allowed writes the rule of a row that says in a word whether the move is allowed, and in another cell what goes with it.
func (im *Imported) allowed(name string, r Row, from, to, allow, remark, scope string) {
	stop := remarkStop.FindStringSubmatch(remark)
	switch {
	case denies.MatchString(allow) && stop != nil:
		im.move(name, r, from, to, stop[1], scope)
	case denies.MatchString(allow):
		im.move(name, r, from, to, "no", scope)
	case allows.MatchString(allow):
		if remarkReset.MatchString(remark) {
			scope = ", resets_config: true" + scope
		}
		im.move(name, r, from, to, "yes", scope)
	default:
		im.Notes = append(im.Notes, fmt.Sprintf("%s:%d: whether the move is allowed, %q does not say, and the row is left out", name, r.Line, allow))
	}
}

var companionWord = pattern.New(`(?i)controller|manager|director|companion`)

func companionOf(head string) string { return companionWord.FindString(head) }

// move writes the rules of one row: the move itself, and where it has stops, those that lead
// from one to the next.
func (im *Imported) move(name string, r Row, from, to, stops, scope string) {
	rule := func(from, to string, allow bool, via string) {
		t := fmt.Sprintf("- {from: %s, to: %s, allow: %v", quoteYAML(from), quoteYAML(to), allow)
		if via != "" {
			t += ", via: " + quoteYAML(via)
		}
		t += fmt.Sprintf("%s, source: %s}   # %s:%d", scope, im.Key, name, r.Line)
		head, _, _ := strings.Cut(t, "   #")
		if !slices.ContainsFunc(im.Rules, func(o string) bool { return strings.HasPrefix(o, head) }) {
			im.Rules = append(im.Rules, t)
		}
	}
	a, b := im.within(from), im.within(to)
	switch {
	case denies.MatchString(strings.TrimSpace(stops)):
		rule(a, b, false, "")
	case nothing(stops), allows.MatchString(strings.TrimSpace(stops)):
		rule(a, b, true, "")
	default:
		list := splitStops(stops)
		for i := range list {
			list[i] = im.within(list[i])
		}
		rule(a, b, false, list[0])
		for i, s := range list {
			if i == 0 {
				rule(a, s, true, "")
			} else {
				rule(list[i-1], s, true, "")
			}
		}
		rule(list[len(list)-1], b, true, "")
	}
}

// rangeVersion is a version in the text of a range.
var rangeVersion = pattern.New(`[^\s<>=!|*]+`)

func (im *Imported) within(cell string) string {
	text := Within(cell)
	if im.fit == nil {
		return text
	}
	return rangeVersion.ReplaceAllStringFunc(text, im.fit)
}

var stopSplit = pattern.New(`(?i)\s*(?:,|;|→|->|=>|»|\bthen\b|\band\b|\s/\s)\s*`)

func splitStops(text string) []string {
	var out []string
	for _, s := range stopSplit.Split(text, -1) {
		if s = strings.TrimSpace(s); s != "" {
			out = append(out, s)
		}
	}
	if len(out) == 0 {
		return []string{strings.TrimSpace(text)}
	}
	return out
}

func splitList(text string) []string {
	var out []string
	for _, s := range regexp.MustCompile(`\s*[,;/]\s*|\s+and\s+`).Split(text, -1) {
		if s != "" {
			out = append(out, s)
		}
	}
	return out
}

func quoteAll(list []string) []string {
	var out []string
	for _, t := range list {
		out = append(out, quoteYAML(t))
	}
	return out
}

func quoteYAML(t string) string { return single(t) }

var (
	laterWords   = pattern.New(`(?i)^(.*?)\s*(?:\+|(?:or|and)\s+(?:later|newer|above|higher|greater))$`)
	earlierWords = pattern.New(`(?i)^(.*?)\s*(?:or|and)\s+(?:earlier|older|below|lower)$`)
	beforeWords  = pattern.New(`(?i)^(?:before|earlier than|older than|below|prior to|up to but not including)\s+(.+)$`)
	sinceWords   = pattern.New(`(?i)^(?:from|since|minimum|min\.?|at least|≥)\s*(.+)$`)
	spanWords    = pattern.New(`(?i)^(\S+)\s*(?:–|—|\s-\s|\bto\b|\bthrough\b|\.\.\.?)\s*(\S+)$`)
	wildVersion  = pattern.New(`^(v?)((?:\d+\.)+)[x*](?:\.[x*])*$`)
)

// Within reads what a table says of versions, as the text of a range.
func Within(cell string) string {
	cell = strings.TrimSpace(cell)
	switch {
	case strings.EqualFold(cell, "any"), strings.EqualFold(cell, "all"), cell == "*":
		return "*"
	case strings.ContainsAny(cell, "<>="):
		return strings.NewReplacer(" and ", " ", " or ", " || ", ",", "").Replace(cell)
	}
	if m := beforeWords.FindStringSubmatch(cell); m != nil {
		return "<" + m[1]
	}
	if m := laterWords.FindStringSubmatch(cell); m != nil && m[1] != "" {
		return ">=" + m[1]
	}
	if m := earlierWords.FindStringSubmatch(cell); m != nil {
		return "<=" + m[1]
	}
	if m := sinceWords.FindStringSubmatch(cell); m != nil {
		return ">=" + m[1]
	}
	if m := wildVersion.FindStringSubmatch(cell); m != nil {
		return wild(m[1], strings.Split(strings.TrimSuffix(m[2], "."), "."), strings.Count(strings.ToLower(cell), "x")+strings.Count(cell, "*"))
	}
	if m := spanWords.FindStringSubmatch(cell); m != nil {
		return ">=" + m[1] + " <=" + m[2]
	}
	if list := splitList(cell); len(list) > 1 {
		for i := range list {
			list[i] = Within(list[i])
		}
		return strings.Join(list, " || ")
	}
	return cell
}

// wild is the range of 8.2.x: from 8.2.0 to before 8.3.0.
func wild(prefix string, fixed []string, open int) string {
	n, err := strconv.Atoi(fixed[len(fixed)-1])
	if err != nil {
		return strings.Join(fixed, ".")
	}
	zeros := strings.Repeat(".0", open)
	next := append(slices.Clone(fixed[:len(fixed)-1]), strconv.Itoa(n+1))
	return ">=" + prefix + strings.Join(fixed, ".") + zeros + " <" + prefix + strings.Join(next, ".") + zeros
}

// atLeast reads a level that is needed: a version alone is the least one.
func atLeast(cell string) string {
	r := Within(cell)
	if strings.ContainsAny(r, "<>=*") {
		return r
	}
	return ">=" + r
}

// YAML is what was imported, as parts of a rulebook.
func (im *Imported) YAML() string {
	var b strings.Builder
	fmt.Fprintf(&b, "sources:\n  %s: %s\n\nhops:\n  rules:\n", im.Key, quoteYAML(im.Title))
	for _, r := range im.Rules {
		b.WriteString("    " + r + "\n")
	}
	if len(im.Releases) > 0 {
		b.WriteString("\nreleases:\n")
		for _, r := range im.Releases {
			b.WriteString("  " + r + "\n")
		}
	}
	return b.String()
}
