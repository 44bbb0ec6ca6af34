package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/pattern"
	"fitcheck/core/survey"
)

// named finds the item that a list means: relative to its folder, else the
// only one of that name.
func (r *reading) named(list, file string) *survey.Item {
	if file == "" || strings.HasSuffix(file, "/") {
		return nil
	}
	level := list
	if i := strings.LastIndex(level, "/"); i > strings.LastIndex(level, "::") {
		level = level[:i+1]
	} else if i := strings.LastIndex(level, "::"); i >= 0 {
		level = level[:i+2]
	}
	if it := r.s.Find(level + path.Clean(file)); it != nil {
		return it
	}
	var found *survey.Item
	for _, it := range r.s.Items {
		if path.Base(it.Name) == path.Base(file) {
			if found != nil {
				return nil
			}
			found = it
		}
	}
	return found
}

func whereLine(file string, line int) string { return fmt.Sprintf("%s:%d", file, line) }

func sizeText(n int64) string { return strconv.FormatInt(n, 10) }

// keyed is a word such as revs=A1,A2.
var keyed = pattern.New(`^([A-Za-z][A-Za-z0-9_-]*)[=:](\S+)$`)

// record is a line that names a file of its package.
type record struct {
	of    list
	item  *survey.Item
	cells []string
}

// readLines finds the pattern of texts that list files, a line each.
func readLines(lists []list) *Manifest {
	separator := lineSeparator(lists)
	var records []record
	var others []string
	for _, l := range lists {
		n := 0
		for line := range strings.Lines(string(l.it.Text())) {
			line = strings.TrimSpace(line)
			if line == "" || strings.HasPrefix(line, "#") {
				continue
			}
			cells := separator.cut(line)
			var item *survey.Item
			for _, c := range cells {
				if m := keyed.FindStringSubmatch(c); m != nil {
					c = m[2]
				}
				if it := l.r.named(l.it.Address, c); it != nil && it != l.it {
					item = it
				}
			}
			if item == nil {
				add(&others, line)
				continue
			}
			records, n = append(records, record{l, item, cells}), n+1
		}
		if n == 0 {
			return nil
		}
	}
	if len(others) > len(records)+4*len(lists) {
		return nil
	}
	m := &Manifest{Record: columns(records, separator)}
	if m.Record == "" {
		return nil
	}
	m.Heading = headings(others)
	return m
}

// separators are what may stand between the cells of a line.
type separator struct{ text, pattern string }

var separators = []separator{{"|", `\s*\|\s*`}, {"\t", `\t+`}, {";", `\s*;\s*`}, {",", `\s*,\s*`}}

var wordsApart = separator{"", `\s+`}

func (s separator) cut(line string) []string {
	if s.text == "" {
		return strings.Fields(line)
	}
	cells := strings.Split(line, s.text)
	for i := range cells {
		cells[i] = strings.TrimSpace(cells[i])
	}
	return cells
}

// lineSeparator is what stands between the cells: the mark between which as many lines name a
// file as between blanks.
func lineSeparator(lists []list) separator {
	named := func(s separator) int {
		n := 0
		for _, l := range lists {
			for line := range strings.Lines(string(l.it.Text())) {
				cells := s.cut(strings.TrimSpace(line))
				if len(cells) > 2 && slices.ContainsFunc(cells, func(c string) bool { return l.r.named(l.it.Address, c) != nil }) {
					n++
				}
			}
		}
		return n
	}
	words := named(wordsApart)
	for _, s := range separators {
		if n := named(s); n > 0 && n >= words {
			return s
		}
	}
	return wordsApart
}

// columns makes a pattern of lines: what stands in the same place in all of them is a column;
// words such as revs=A1 may be left out.
//
// In one piece: the columns are found in one pass over the records, and then named in their order.
func columns(records []record, sep separator) string {
	width := 1 << 10
	extra := []string{} // in the order in which the lines have them
	withKey := map[string]*column{}
	first := map[string]int{}
	for _, r := range records {
		n := 0
		for i, w := range r.cells {
			k := keyed.FindStringSubmatch(w)
			if k == nil || r.of.r.named(r.of.it.Address, w) != nil {
				n++
				continue
			}
			if withKey[k[1]] == nil {
				withKey[k[1]] = &column{key: k[1]}
				extra = append(extra, k[1])
				first[k[1]] = i
			}
			c := withKey[k[1]]
			c.values, c.of, c.items = append(c.values, k[2]), append(c.of, r.of), append(c.items, r.item)
		}
		width = min(width, n)
	}
	used := map[string]bool{}
	var parts []string
	for i := range width {
		c := &column{}
		for _, r := range records {
			var places []string
			for _, w := range r.cells {
				if !keyed.MatchString(w) || r.of.r.named(r.of.it.Address, w) != nil {
					places = append(places, w)
				}
			}
			c.values, c.of, c.items = append(c.values, places[i]), append(c.of, r.of), append(c.items, r.item)
		}
		group := c.about()
		if c.files() {
			group = "file"
		}
		value := `\S+`
		if sep.text != "" {
			value = fmt.Sprintf(`[^%s]*?`, strings.ReplaceAll(regexp.QuoteMeta(sep.text), "\t", `\t`))
		}
		if group == "" || used[group] {
			parts = append(parts, value)
			continue
		}
		used[group] = true
		parts = append(parts, fmt.Sprintf(`(?P<%s>%s)`, group, value))
	}
	pattern := "^" + strings.Join(parts, sep.pattern)
	// A word with a key is in its place in all lines, or may be left out.
	for i, k := range extra {
		c := withKey[k]
		group := c.about()
		if c.files() {
			group = "file"
		}
		if group == "" || used[group] {
			continue
		}
		used[group] = true
		between := sep.pattern
		if i == 0 && width == 0 {
			between = ""
		}
		part := fmt.Sprintf(`%s%s[=:](?P<%s>[^\s|;]+)`, between, regexp.QuoteMeta(k), group)
		if len(c.values) < len(records) || group != "file" {
			part = "(?:" + part + ")?"
		}
		pattern += part
	}
	if !used["file"] {
		return ""
	}
	return pattern + `(?:[\s|;,]+.*)?$`
}

// headings makes a pattern of the lines that name no file: those that say for what the lines
// below them are, and others, which say nothing.
func headings(lines []string) string {
	var shapes []string
	for _, l := range lines {
		add(&shapes, headingShape(l))
	}
	if len(shapes) == 0 {
		return ""
	}
	used := map[string]bool{}
	for i, s := range shapes { // a group may stand in a pattern once
		for _, g := range namedGroup.FindAllStringSubmatch(s, -1) {
			if used[g[1]] {
				shapes[i] = strings.Replace(shapes[i], g[0], "(?:", 1)
			}
			used[g[1]] = true
		}
	}
	slices.SortStableFunc(shapes, func(a, b string) int { return strings.Count(b, "(?P<") - strings.Count(a, "(?P<") })
	if len(shapes) == 1 {
		return "^" + shapes[0] + "$"
	}
	return "^(?:" + strings.Join(shapes, "|") + ")$"
}

var (
	namedGroup    = pattern.New(`\(\?P<(\w+)>`)
	bracketed     = pattern.New(`^([\[(<{=*-]+\s*)(.*?)(\s*[\])>}=*:-]+)$`)
	labelled      = pattern.New(`^([A-Za-z][A-Za-z _-]*?)(\s*[:=]\s*|\s+)(\S.*)$`)
	modelsAndRevs = pattern.New(`^(\S+)\s+(?:revisions?|revs?\.?|hw|boards?)\s*[:=]?\s*(\S.*)$`)
)

// headed are the meanings of labels that a heading may have.
var headed = map[string]bool{"models": true, "revisions": true, "arch": true, "platform": true, "family": true, "region": true, "boards": true, "component": true}

// devicesShape is a text that names models, and revisions of one, as a pattern; after is what follows it.
func devicesShape(text, after string) (pattern string, ok bool) {
	if m := modelsAndRevs.FindStringSubmatch(text); m != nil && modelList.MatchString(m[1]) {
		middle := strings.TrimSuffix(strings.TrimPrefix(text, m[1]), m[2])
		return `(?P<models>\S+)` + literal(middle) + `(?P<revisions>\S.*?)`, true
	}
	if modelList.MatchString(text) {
		return `(?P<models>` + modelsPattern(after) + `)`, true
	}
	return "", false
}

// headingShape is a line as a pattern, with what it says of the lines below it in groups.
func headingShape(line string) string {
	before, inside, after := "", line, ""
	if m := bracketed.FindStringSubmatch(line); m != nil {
		before, inside, after = literal(m[1]), m[2], literal(m[3])
	} else if t, ok := strings.CutSuffix(line, ":"); ok {
		inside, after = strings.TrimSpace(t), `\s*:`
	}
	subject := func(t string) (pattern string, ok bool) { return devicesShape(t, after) }
	if p, ok := subject(inside); ok {
		return before + p + after
	}
	if m := labelled.FindStringSubmatch(inside); m != nil {
		label := literal(m[1]) + `\s*[:=]?\s*`
		meaning := meaningOf(strings.ReplaceAll(m[1], " ", ""))
		switch p, ok := subject(m[3]); {
		case ok && (meaning == "models" || meaning == ""):
			return before + label + p + after
		case headed[meaning] || meaning == "version" && versionWord.MatchString(m[3]):
			return before + label + `(?P<` + meaning + `>\S.*?)` + after
		}
		return before + literal(m[1]) + `\b.*`
	}
	if fields := strings.Fields(inside); before != "" && len(fields) == 1 && word.MatchString(inside) {
		return before + `(?P<models>` + modelsPattern(after) + `)` + after
	}
	return literal(line)
}

func modelsPattern(after string) string {
	if strings.Contains(after, `\]`) {
		return `[^\]]+`
	}
	return `\S.*?`
}
