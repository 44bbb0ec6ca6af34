package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/notes"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// needs adds a need of the release that the notes are about, scoped to what the sentence names.
func (t *told) needs(what, within, scope string) {
	if t.release == nil {
		t.d.Notes = append(t.d.Notes, fmt.Sprintf("%s says what a release needs, and not which: %s", t.where, clip(t.text, 80)))
		return
	}
	text := "- {" + what
	if within != "" {
		text += ", within: " + quote(within)
	}
	t.add(&t.release.Needs, text+scope+", source: "+t.key+"}")
}

var revisionNames = pattern.New(`(?i)\b(?:revisions?|revs?\.?|boards?)\s+([A-Z0-9]{1,4}(?:(?:,\s*|\s+and\s+|\s+or\s+|\s*/\s*)[A-Z0-9]{1,4})*)\b`)

// scope is whom a clause is about, or its sentence, where it names models or revisions that are
// not all.
func (t *told) scope(clause string) string {
	out := ""
	models := notes.Models(t.rb, clause)
	if len(models) == 0 {
		models = t.models()
	}
	if len(models) > 0 && len(models) < len(t.d.Models) {
		out += ", models: [" + strings.Join(quoted(models), ", ") + "]"
	}
	if revs := t.revisions(); len(revs) > 0 {
		out += ", revisions: [" + strings.Join(quoted(revs), ", ") + "]"
	}
	return out
}

func quoted(list []string) []string {
	var out []string
	for _, t := range list {
		out = append(out, quote(t))
	}
	return out
}

func (t *told) models() []string { return notes.Models(t.rb, t.text) }

// revisions are those that the sentence names and some model has.
func (t *told) revisions() []string {
	var out []string
	for _, m := range revisionNames.FindAllStringSubmatch(t.text, -1) {
		for _, w := range regexp.MustCompile(`[^A-Za-z0-9]+`).Split(m[1], -1) {
			for _, model := range t.d.Models {
				for _, r := range model.Revisions {
					if strings.EqualFold(r.Name, w) {
						add(&out, r.Name)
					}
				}
			}
		}
	}
	return out
}

// mustBe stands before how new something may be, and not before what is to be updated.
var mustBe = pattern.New(`(?i)\b(?:must|has to|have to|may|is to|are to)(?: only)?(?: be| run| have)+\b[^,;]{0,30}$`)

// need reads what a component or companion must have.
func (t *told) need(m *mention) {
	if !asks.MatchString(t.text) && m.op == "" || brings.MatchString(t.text) && m.op == "" {
		return
	}
	within := m.within()
	switch older := m.op == "<" || m.op == "<="; {
	case m.op == "" && m.span == "":
		within = ">=" + within
	case older && !mustBe.MatchString(m.before):
		if !forbids.MatchString(t.text) && !asks.MatchString(t.text) {
			return
		}
		within = map[string]string{"<": ">=", "<=": ">"}[m.op] + unspaced(m.text) // what is older has to be updated
	}
	if m.companion != "" {
		t.needs("companion: "+quote(m.companion), within, t.scope(m.clause))
		return
	}
	t.d.learn(m.component, m.text)
	if t.readable(m.component, within) {
		t.needs("component: "+quote(m.component), within, t.scope(m.clause))
	}
}

// minimum reads from which release on one may be installed.
func (t *told) minimum(m *mention) {
	switch {
	case t.own(m) || t.release == nil || !t.newer(t.release, m.text):
	case m.op == ">=" && asks.MatchString(t.text) && !brings.MatchString(t.text):
		t.needs("component: main", m.within(), t.scope(m.clause))
	case m.op == "<" && forbids.MatchString(t.text):
		t.needs("component: main", ">="+unspaced(m.text), t.scope(m.clause))
	case m.op == "" && m.span == "" && regexp.MustCompile(`(?i)\b(?:requires?|needs?|must (?:run|be at|have))\b`).MatchString(m.before):
		t.needs("component: main", ">="+unspaced(m.text), t.scope(m.clause))
	}
}

var (
	freeWord    = pattern.New(`(?i)\bfree\b`)
	storageWord = pattern.New(`\b(?:free|storage|flash|space|room|disk)\b`)
)

// space reads how much room or memory is needed.
func (t *told) space() {
	if !asks.MatchString(t.text) && !freeWord.MatchString(t.text) {
		return
	}
	m := sizes.FindStringSubmatchIndex(t.text)
	if m == nil || t.release == nil {
		return
	}
	size := y.PlainSize(t.text[m[2]:m[3]] + t.text[m[4]:m[5]])
	if _, err := y.ParseSize(size); !t.sound(err) {
		return
	}
	lower := strings.ToLower(t.text)
	switch {
	case notes.SpeaksOfMemory(lower):
		t.needs("memory: "+quote(size), "", t.scope(t.text))
	case storageWord.MatchString(lower):
		t.needs("storage_free: "+quote(size), "", t.scope(t.text))
	}
}

// time reads how long an install takes, and how long the device is without service.
func (t *told) time() {
	if t.release == nil || !takes.MatchString(t.text) {
		return
	}
	install, out := t.spans()
	var parts []string
	if install != "" {
		parts = append(parts, "install: "+install)
	}
	if out != "" {
		parts = append(parts, "outage: "+out)
	}
	if len(parts) == 0 {
		return
	}
	if i := slices.IndexFunc(t.release.Lines, func(l Line) bool { return strings.HasPrefix(l.Text, "minutes: ") }); i >= 0 {
		have := &t.release.Lines[i] // the other half stands in another sentence
		for _, p := range parts {
			if key, _, _ := strings.Cut(p, ":"); !strings.Contains(have.Text, key) {
				have.Text = strings.TrimSuffix(have.Text, "}") + ", " + p + "}"
			}
		}
		return
	}
	t.add(&t.release.Lines, "minutes: {"+strings.Join(parts, ", ")+"}")
}

// spans are the first stretches of minutes of an install and of an outage that the sentence names.
func (t *told) spans() (install, out string) {
	from := 0
	for _, m := range minutes.FindAllStringSubmatchIndex(t.text, -1) {
		span := t.text[m[2]:m[3]]
		if m[4] >= 0 {
			span += "-" + t.text[m[4]:m[5]]
		}
		if !t.minutesSound(span) {
			continue
		}
		around := t.text[from:min(len(t.text), m[1]+25)]
		if i := strings.IndexAny(t.text[m[1]:], ",;."); i >= 0 && m[1]+i < m[1]+25 {
			around = t.text[from : m[1]+i]
		}
		if outage.MatchString(around) {
			out = or(out, span)
		} else {
			install = or(install, span)
		}
		from = m[1]
	}
	if m := ofWhich.FindStringSubmatch(t.text); m != nil && out == "" && install != "" && t.minutesSound(m[1]) {
		out = m[1]
	}
	return install, out
}

func (t *told) minutesSound(span string) bool {
	return t.sound(new(rulebook.MinuteSpan).ReadScalar(span, y.Spot{}))
}

// handling says how a download is to be served.
func (t *told) handling(how string) {
	for _, p := range t.d.Packages {
		if p.Handling == "" {
			p.Handling, p.HandGuess = how, t.asked()
		}
	}
}
