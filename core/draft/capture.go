package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/pattern"
)

// Capture says how the console output of the line reads.
type Capture struct {
	Recognise string
	From      Guess
	Member    string
	Read      []Read
	Each      []Read
}

// Read is the pattern of one key of a device file.
type Read struct {
	Key, Pattern string
	Guess        Guess
}

// labelLine is a line of a label and a value, with what stands between them.
var labelLine = pattern.New(`^(\s*)([\pL][\pL\pN ()/_#.-]{0,40}?)(\s*[:=]\s*|\s*\.{2,}\s*:?\s*|\s{2,}|\t+)(\S.*?)\s*$`)

// labelAlone is a label whose value stands in the next line.
var labelAlone = pattern.New(`^\s*([\pL][\pL\pN ()/_#.-]{0,40}?)\s*:\s*$`)

// prompt is the line of a command that was typed, behind the device's name.
var prompt = pattern.New(`^\s*([\w.-]+?)\s?[#>$%]\s*(\S.*)?$`)

// captureModels adds the models that captures name: a value behind a label that says so, or one
// that is known by another spelling.
func (d *Draft) captureModels(captures []Text, names modelNames) {
	for _, c := range captures {
		lines, err := device.Lines(c.Name, c.Data)
		if err != nil {
			continue
		}
		for i, l := range lines {
			label, value := "", ""
			if m := labelLine.FindStringSubmatch(l.Text); m != nil {
				label, value = m[2], m[4]
			} else if m := labelAlone.FindStringSubmatch(l.Text); m != nil && i+1 < len(lines) {
				label, value = m[1], lines[i+1].Text
			}
			for _, w := range strings.Fields(value) {
				w = strings.Trim(w, ",;()")
				if names[squeezed(w)] != nil && squeezed(w) != "" && strings.ContainsAny(w, "0123456789") {
					names.say(w, l.At.Where(), byCapture)
				}
			}
			if labelKey(label) == "model" && len(names) == 0 {
				if w := modelIn(value); w != "" {
					names.say(w, l.At.Where(), byCapture)
				}
			}
		}
	}
}

// labels are words by which consoles say what a value is; the first that matches counts.
var labels = []struct {
	key string
	re  *pattern.Pattern
}{
	{"", pattern.New(`(?i)\b(?:next|backup|standby|previous|available|alternate|other|uptime|temperature|mac|fan|power|copyright|protocol|schema|license|count|port|config)\b`)},
	{"serial", pattern.New(`(?i)\b(?:serial|s/n|sn)\b`)},
	{"installed.boot", pattern.New(`(?i)\bboot(?:[ -]?loader|[ -]?rom)?\b.*|\b(?:loader|bootloader|bootrom)\b`)},
	{"revision", pattern.New(`(?i)\b(?:revision|rev|hardware version|hw version|hw|board version|hwrev)\b`)},
	{"installed.main", pattern.New(`(?i)\b(?:software|firmware|running|release|os|image|system version|version|sw|fw)\b`)},
	{"model", pattern.New(`(?i)\b(?:model|product|platform|device|hardware|chassis|type|board)\b`)},
	{"name", pattern.New(`(?i)\b(?:host ?name|system name|device name|sysname)\b`)},
	{"memory", pattern.New(`(?i)\b(?:memory|ram|dram)\b`)},
	{"storage_free", pattern.New(`(?i)\bfree\b`)},
	{"arch", pattern.New(`(?i)\b(?:cpu|processor|architecture|arch)\b`)},
}

// labelKey is the key of a device file that a label seems to mean.
func labelKey(label string) string {
	if k := device.UsualKey(label); k != "" {
		return k
	}
	for _, l := range labels {
		if l.re.MatchString(label) {
			return l.key
		}
	}
	return ""
}

// captures makes patterns of the lines of captures that hold values which are known.
func (d *Draft) captures(all []Text) {
	out := &Capture{}
	for _, c := range all {
		lines, err := device.Lines(c.Name, c.Data)
		if err != nil {
			d.Notes = append(d.Notes, fmt.Sprintf("%s is no capture that can be read", c.Name))
			continue
		}
		d.capture(out, lines)
	}
	if len(out.Read)+len(out.Each) > 0 {
		if out.Recognise == "" {
			out.recogniseByLabel()
		}
		d.Captures = append(d.Captures, out)
	} else if len(all) > 0 {
		d.Notes = append(d.Notes, "no line of the captures holds a value that the packages name; write captures: by hand, and rulebook try shows what each pattern catches")
	}
}

func (d *Draft) capture(out *Capture, lines []device.TextLine) {
	var banners []device.TextLine
	units := 0
	for i, l := range lines {
		if m := unitLine.FindStringSubmatch(l.Text); m != nil {
			if units++; units == 2 {
				out.Member = `^\s*` + literal(m[1]) + `\s+(\S+?)\s*` + literal(m[3]) + `$`
			}
			continue
		}
		if m := prompt.FindStringSubmatch(l.Text); m != nil && m[2] != "" && !out.has("name") && !strings.ContainsAny(m[1], ":") {
			out.read("name", `^\s*([\w.-]+?)\s?`+regexp.QuoteMeta(promptMark(l.Text, m[1]))+`\s*\S`, Guess{"is this the device's prompt, with its name?", l.At.Where()})
			continue
		}
		if m := labelAlone.FindStringSubmatch(l.Text); m != nil && i+1 < len(lines) && !labelLine.MatchString(lines[i+1].Text) && !prompt.MatchString(lines[i+1].Text) {
			d.value(out, l, m[1], ":\n", strings.TrimSpace(lines[i+1].Text))
			continue
		}
		m := labelLine.FindStringSubmatch(l.Text)
		if m == nil {
			if len(banners) == 0 && banner.MatchString(l.Text) && i < 40 {
				banners = append(banners, l)
			}
			continue
		}
		d.value(out, l, m[2], m[3], m[4])
		d.revisionToo(out, l, m[2], m[3], m[4])
	}
	d.table(out, lines)
	if out.Recognise == "" && len(banners) > 0 {
		words := bannerWord.FindAllString(banners[0].Text, 2)
		out.Recognise = `\b` + strings.Join(words, `\W+`) + `\b`
		out.From = Guess{"does every capture of the line have this, and no other line's?", banners[0].At.Where()}
	}
}

var (
	unitLine   = pattern.New(`^\s*((?i:unit|member|switch|node|chassis|stack unit|slot))\s+(\d+)\s*([:.)]?)\s*$`)
	bannerWord = pattern.New(`[\pL][\pL'-]+`)
	banner     = pattern.New(`^\s*[\pL][\pL\pN'-]+\s+[\pL][\pL'-]+`)
)

// promptMark is what stands behind the name in a prompt.
func promptMark(line, name string) string {
	rest := strings.TrimLeft(line[strings.Index(line, name)+len(name):], " ")
	return rest[:1]
}

// recogniseByLabel recognises captures by a line that they hold, that of the model before others.
func (c *Capture) recogniseByLabel() {
	all := slices.Concat(c.Read, c.Each)
	best := all[len(all)-1]
	for _, r := range slices.Backward(all) {
		if r.Key != "name" {
			best = r
		}
	}
	for _, r := range c.Read {
		if r.Key == "model" {
			best = r
		}
	}
	c.Recognise = groupOpen.ReplaceAllString(best.Pattern, "(?:")
	c.From = Guess{"do captures of this line alone have such a line?", best.Guess.From}
}

var groupOpen = pattern.New(`\((?:\?P<\w+>)?`)

func (c *Capture) has(key string) bool {
	return slices.ContainsFunc(c.Read, func(r Read) bool { return r.Key == key })
}

func (c *Capture) read(key, pattern string, g Guess) {
	if !c.has(key) {
		c.Read = append(c.Read, Read{key, pattern, g})
	}
}

// value makes a pattern of a line of a label and a value, where the label or the value tells
// what it is.
//
// In one piece: what stands beside a label is asked in one loop over the lines.
func (d *Draft) value(out *Capture, l device.TextLine, label, between, value string) {
	key := labelKey(label)
	at := []int{0, len(value)}
	group := `(\S+)`
	word := func() { // the first word that is one
		at = []int{0, len(strings.TrimRight(strings.Fields(value)[0], ",;"))}
	}
	question := ""
	known := d.knownIn(value)
	switch {
	case known.model != nil && (key == "model" || key == ""):
		key, at = "model", known.model
		question = fmt.Sprintf("is %s the model?", value[at[0]:at[1]])
		if strings.Contains(value[at[0]:at[1]], " ") {
			group = `(\S.*?)`
		}
	case known.main != nil && (key == "installed.main" || key == "" && !labels[0].re.MatchString(label)):
		key, at = "installed.main", known.main
		group = "(" + wordsOf(value[at[0]:at[1]]) + ")"
		question = fmt.Sprintf("is %s what runs?", value[at[0]:at[1]])
	case key == "installed.boot":
		if known.boot != nil {
			at = known.boot
		} else if m := anyVersion.FindStringIndex(value); m != nil {
			at = m
		} else {
			return
		}
		question = fmt.Sprintf("is %s the boot loader that is installed?", value[at[0]:at[1]])
	case key == "installed.main":
		m := anyVersion.FindStringIndex(value)
		if m == nil || d.unreadable(value[m[0]:m[1]]) {
			return
		}
		at = m
		question = fmt.Sprintf("is %s what runs?", value[at[0]:at[1]])
	case key == "revision":
		r := d.revisionIn(value)
		if r == nil {
			return
		}
		at = r
		question = fmt.Sprintf("is %s the hardware revision?", value[at[0]:at[1]])
	case key == "serial", key == "name":
		word()
		question = fmt.Sprintf("is this the %s?", key)
	case key == "memory" || key == "storage_free":
		m := regexp.MustCompile(`(?i)\d+(?:[.,]\d+)*\s?[kMGT]i?B\b`).FindStringIndex(value)
		if m == nil {
			return
		}
		at, group = m, `(\d+(?:[.,]\d+)*\s?[kKMGT]i?B)`
		question = map[string]string{"memory": "is this the memory in all?", "storage_free": "is this the free room where images are stored?"}[key]
	case strings.HasPrefix(key, "installed.") || d.componentLabel(label) != "":
		if c := d.componentLabel(label); c != "" {
			key = "installed." + c
		}
		m := anyVersion.FindStringIndex(value)
		if m == nil || d.place(strings.TrimPrefix(key, "installed.")) < 0 {
			return
		}
		at = m
		question = fmt.Sprintf("is this the version of %s that is installed?", strings.TrimPrefix(key, "installed."))
	default:
		return
	}
	out.read(key, labelPattern(label, between)+loosely(value[:at[0]])+group, Guess{question, l.At.Where()})
}

// labelPattern reads a label and what stands between it and its value.
func labelPattern(label, between string) string {
	sep := `\s*[:=]\s*`
	switch t := strings.TrimSpace(between); {
	case strings.HasSuffix(between, "\n"):
		sep = `\s*:\s*\n\s*`
	case t == "":
		sep = `\s{2,}`
	case strings.HasPrefix(t, ".."):
		sep = `\s*\.{2,}\s*:?\s*`
	}
	return `^\s*` + strings.Join(literals(strings.Fields(label)), `\s+`) + sep
}

var behindRev = pattern.New(`(?i)\b(?:hw )?rev(?:ision)?[.:]?\s*$`)

// revisionToo makes a pattern of a revision that stands in a line about something else: "MW-200
// rev C2", or "Board: rev C2".
func (d *Draft) revisionToo(out *Capture, l device.TextLine, label, between, value string) {
	if out.has("revision") {
		return
	}
	for from := 0; from < len(value); {
		r := d.revisionIn(value[from:])
		if r == nil {
			return
		}
		at := []int{from + r[0], from + r[1]}
		if before := value[:at[0]]; behindRev.MatchString(before) {
			word := behindRev.FindString(before)
			lead := labelPattern(label, between)
			if len(word) < len(before) {
				lead += `.*`
			}
			out.read("revision", lead+loosely(word)+`(\S+?)\b`, Guess{fmt.Sprintf("is %s the hardware revision?", value[at[0]:at[1]]), l.At.Where()})
			return
		}
		from = at[1]
	}
}

func literals(words []string) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = regexp.QuoteMeta(w)
	}
	return out
}

// loosely is what stands before a value, its numbers left open.
func loosely(t string) string {
	if t == "" {
		return ""
	}
	return digitRun.ReplaceAllString(literal(t), `\d+`)
}

var anyVersion = pattern.New(`[A-Za-z]{0,3}[-_]?\d+(?:[._]\d+)*[\w().-]*\w|\d`)

// unreadable tells whether the line's own pattern does not read a version.
func (d *Draft) unreadable(text string) bool {
	_, err := d.schemes["main"].Parse(text)
	return err != nil
}

// componentLabel is the component that a label names.
func (d *Draft) componentLabel(label string) string {
	lower := " " + strings.ToLower(label) + " "
	for _, c := range d.Components {
		if c.Name != "main" && c.Name != "boot" && strings.Contains(lower, " "+c.Name+" ") {
			return c.Name
		}
	}
	return ""
}

// known is where a value holds what the packages name.
type knownIn struct{ model, main, boot []int }

func (d *Draft) knownIn(value string) knownIn {
	var k knownIn
	for _, m := range d.Models {
		for _, name := range append([]string{m.Name}, m.Also...) {
			if i := strings.Index(strings.ToLower(value), strings.ToLower(name)); i >= 0 && alone(value, i, i+len(name)) && (k.model == nil || len(name) > k.model[1]-k.model[0]) {
				k.model = []int{i, i + len(name)}
			}
		}
	}
	in := func(text string) []int {
		for _, t := range []string{text, strings.TrimLeft(text, "vVrR")} {
			if i := strings.Index(value, t); i >= 0 && t != "" && alone(value, i, i+len(t)) {
				return []int{i, i + len(t)}
			}
		}
		return nil
	}
	for _, rel := range d.Releases {
		if at := in(rel.Version); at != nil && k.main == nil {
			k.main = at
		}
		for _, b := range rel.Brings {
			if b[0] == "boot" && k.boot == nil {
				k.boot = in(b[1])
			}
		}
	}
	return k
}

// revisionIn is where a value names a hardware revision of some model; a word alone is one, too.
func (d *Draft) revisionIn(value string) []int {
	for _, m := range d.Models {
		for _, r := range m.Revisions {
			for from := 0; from < len(value); {
				i := strings.Index(strings.ToLower(value[from:]), strings.ToLower(r.Name))
				if i < 0 {
					break
				}
				if i += from; alone(value, i, i+len(r.Name)) {
					return []int{i, i + len(r.Name)}
				}
				from = i + 1
			}
		}
	}
	if w := strings.Fields(value); len(w) == 1 && len(w[0]) < 5 {
		return []int{0, len(w[0])}
	}
	return nil
}

// table finds rows of slots: lines one after the other that begin alike, each with a version of
// the line, one of them marked.
//
// In one piece: what makes a table is asked in one loop over its rows.
func (d *Draft) table(out *Capture, lines []device.TextLine) {
	type row struct {
		line  device.TextLine
		cells []string
		at    int // the cell with the version
	}
	var rows []row
	flush := func() {
		defer func() { rows = nil }()
		if len(rows) < 2 || len(rows) > 4 || len(out.Each) > 0 {
			return
		}
		marks := map[string]int{}
		for i, r := range rows {
			if r.at != rows[0].at {
				return
			}
			for _, c := range r.cells[r.at+1:] {
				if activeWord.MatchString(c) {
					marks[c] = i
				}
			}
		}
		if len(marks) != 1 {
			return
		}
		lead := ""
		name := 0
		if rows[0].at == 2 && rows[0].cells[0] == rows[1].cells[0] { // "Bank 1  8.4.2"
			lead, name = regexp.QuoteMeta(rows[0].cells[0])+`\s+`, 1
		} else if rows[0].at != 1 {
			return
		}
		if rows[0].cells[name] == rows[1].cells[name] {
			return
		}
		slot, version := `[\w-]+`, `\S*\d\S*`
		switch names := rows[0].cells[name] + rows[1].cells[name]; {
		case number.MatchString(names):
			slot = `\d+`
		case len(names) == 2:
			slot = `[A-Za-z]`
		}
		if len(d.Versions) > 0 && d.Versions[0].Pattern != "" {
			version = d.Versions[0].unnamed()
		}
		for mark := range marks {
			out.Each = append(out.Each, Read{"slots", `^\s*` + lead + `(?P<name>` + slot + `):?\s+(?P<main>` + version + `)(?P<active>\s.*` + regexp.QuoteMeta(mark) + `)?`,
				Guess{fmt.Sprintf("are these slots, and does %s mark the one that runs?", mark), rows[0].line.At.Where()}})
		}
	}
	for _, l := range lines {
		cells := strings.Fields(l.Text)
		at := -1
		for i, c := range cells {
			if i > 0 && i < 3 && strings.ContainsAny(c, "0123456789") && !d.unreadable(c) && d.schemes["main"] != nil {
				at = i
				break
			}
		}
		if at < 0 {
			flush()
			continue
		}
		rows = append(rows, row{l, cells, at})
	}
	flush()
}

var activeWord = pattern.New(`(?i)^[\[(<]?(?:active|running|current|primary|in-use|\*+|<-+|booted)[\])>]?$`)
