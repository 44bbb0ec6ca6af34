package draft

import (
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/notes"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
)

// mention is a version in a sentence, with what the words around it make of it.
type mention struct {
	text          string
	before, after string // of the sentence, up to the next mention on either side
	clause        string // of the sentence in which it stands
	op            string // "<", "<=", ">", ">=", or "" for the version alone
	component     string // that it is a version of; "" for the system image
	companion     string
	span          string // a range that is written as one: "8.2.x", "8.0 to 8.2"
	wide          bool   // the span is all that begin with the version: "8.2"
}

// within is the range that is meant.
func (m *mention) within() string {
	if m.span != "" {
		return m.span
	}
	return m.op + unspaced(m.text)
}

// widen takes a version that leaves out its last parts for all that begin so: "running 3.1".
func (m *mention) widen(known []string) {
	if m.op != "" || m.span != "" || m.component != "" || !isShort(m.text, known) {
		return
	}
	at := digitRun.FindAllStringIndex(m.text, -1)
	last := at[len(at)-1]
	n, err := strconv.Atoi(m.text[last[0]:last[1]])
	if err == nil {
		m.wide = true
		m.span = ">=" + m.text + " <" + m.text[:last[0]] + strconv.Itoa(n+1)
	}
}

// versionTexts are the versions of the releases.
func (d *Draft) versionTexts() []string {
	var out []string
	for _, rel := range d.Releases {
		out = append(out, rel.Version)
	}
	return out
}

// unspaced writes a version as ranges have it.
func unspaced(t string) string { return strings.ReplaceAll(t, " ", "") }

var (
	laterAfter   = pattern.New(`(?i)^\s*(?:\+|(?:or|and)\s+(?:any\s+)?(?:later|newer|above|higher|up|greater|onwards?|upwards?)\b|onwards?\b|upwards?\b)`)
	earlierAfter = pattern.New(`(?i)^\s*(?:or|and)\s+(?:any\s+)?(?:earlier|older|below|lower|before)\b`)
	noun         = `(?:\s+(?:the\s+)?(?:release|version|firmware|software|image|build|level)s?)?\s*["'(]?$`
	belowBefore  = pattern.New(`(?i)(?:\bbefore|\bprior to|\b(?:earlier|older|lower|less) than|\bbelow|\bup to but not including|<)` + noun)
	beforeWord   = pattern.New(`(?i)\bbefore` + noun)
	installAfter = pattern.New(`(?i)^\s*(?:is|are|can be|may be|gets)\s+(?:installed|loaded|applied|used)\b`)
	aboveBefore  = pattern.New(`(?i)(?:\b(?:newer|later|higher|greater) than|\babove|\bafter|\bbeyond|>)` + noun)
	notBelow     = pattern.New(`(?i)(?:\bat least|\bminimum(?: of)?|\bmin\.?|\b(?:not|no) (?:older|earlier|lower|less) than|\bsince|\bnot below|>=|≥)` + noun)
	notAbove     = pattern.New(`(?i)(?:\bup to(?: and including)?|\buntil|\bnot (?:newer|later|above)(?: than)?|\bat most|<=|≤)` + noun)
	bootBefore   = pattern.New(`(?i)\b(?:boot[\s-]?loader|boot[\s-]?rom|boot|pre-?loader|loader)\b`)
	ofBoot       = pattern.New(`(?i)^[^,;.]{0,30}\bof (?:the |its )?(?:boot[\s-]?loader|boot[\s-]?rom|boot|loader)\b`)
	companions   = pattern.New(`(?i)\b(controller|manager|director|companion|management (?:server|system|station))\b`)
	wildcard     = pattern.New(`(?:^|[\s("])([A-Za-z]{0,3}\d+(?:\.\d+)*\.[xX*])(?:$|[\s),.;:"])`)
)

// found is where a version stands in a sentence, and the range that it is written as, if it is.
type found struct {
	at, end int
	text    string
	span    string
}

// joined takes two versions that are written as one range together: "8.0 through 8.2" has all of 8.2 in it, and is no way
// through 8.2.
func (d *Draft) joined(text string, all []found) []found {
	for i := len(all) - 1; i > 0; i-- {
		a, b := all[i-1], all[i]
		if between := strings.TrimSpace(text[a.end:b.at]); a.span == "" && b.span == "" && slices.Contains([]string{"through", "thru", "-", "–"}, between) {
			last := mention{text: b.text}
			last.widen(d.versionTexts())
			_, below, wide := strings.Cut(last.span, " ")
			if !wide {
				below = "<=" + unspaced(b.text)
			}
			all[i-1].end, all[i-1].span = b.end, ">="+unspaced(a.text)+" "+below
			all = slices.Delete(all, i, i+1)
		}
	}
	return all
}

// mentions finds the versions that a sentence names, in their order.
func mentions(rb *rulebook.Rulebook, d *Draft, text string) []*mention {
	var all []found
	for _, m := range wildcard.FindAllStringSubmatchIndex(text, -1) {
		t := text[m[2]:m[3]]
		all = append(all, found{m[2], m[3], t, Within(t)})
	}
	for _, v := range notes.Versions(rb, text) {
		for from := 0; ; {
			i := strings.Index(text[from:], v.Text)
			if i < 0 {
				break
			}
			i += from
			from = i + len(v.Text)
			inside := false
			for _, o := range all {
				inside = inside || i < o.end && from > o.at
			}
			if !inside && alone(text, i, from) {
				all = append(all, found{i, from, v.Text, ""})
			}
		}
	}
	for i := range all { // by where they stand
		for k := i; k > 0 && all[k].at < all[k-1].at; k-- {
			all[k], all[k-1] = all[k-1], all[k]
		}
	}
	all = d.joined(text, all)
	var out []*mention
	for i, f := range all {
		from, to := 0, len(text)
		if i > 0 {
			from = all[i-1].end
		}
		if i+1 < len(all) {
			to = all[i+1].at
		}
		m := &mention{text: f.text, before: text[from:f.at], after: text[f.end:to], span: f.span}
		m.clause = clauseAt(text, f.at)
		m.op = m.comparator()
		m.whose(d)
		m.widen(d.versionTexts())
		out = append(out, m)
	}
	return out
}

var clauseEnd = pattern.New(`;\s|,\s+(?:and\s+)?(?:the|for|on)\s|\s+(?:while|whereas|but)\s`)

// clauseAt is the clause of a sentence in which a place lies.
func clauseAt(text string, at int) string {
	from, to := 0, len(text)
	for _, m := range clauseEnd.FindAllStringIndex(text, -1) {
		if m[0] <= at {
			from = m[0]
		} else {
			to = m[0]
			break
		}
	}
	return text[from:to]
}

// alone tells whether a stretch of a text is no part of a longer word.
func alone(text string, from, to int) bool {
	part := func(c byte) bool {
		return isDigit(c) || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
	}
	if from > 0 && part(text[from-1]) {
		return false
	}
	if to < len(text) && (part(text[to]) || (text[to] == '.' || text[to] == '-') && to+1 < len(text) && part(text[to+1])) {
		return false
	}
	return true
}

func (m *mention) comparator() string {
	switch {
	case m.span != "":
		return ""
	case laterAfter.MatchString(m.after):
		return ">="
	case earlierAfter.MatchString(m.after):
		return "<="
	case notBelow.MatchString(m.before):
		return ">="
	case notAbove.MatchString(m.before):
		return "<="
	case beforeWord.MatchString(m.before) && installAfter.MatchString(m.after):
		return "" // "before 8.4 is installed" says what comes first, and not what is older
	case belowBefore.MatchString(m.before):
		return "<"
	case aboveBefore.MatchString(m.before):
		return ">"
	}
	return ""
}

// whose finds what the version is of: the last thing before it that has versions of its own.
func (m *mention) whose(d *Draft) {
	clause := m.before
	if i := strings.LastIndexAny(clause, ";:"); i >= 0 && i < len(clause)-2 {
		clause = clause[i+1:]
	}
	last := -1
	if at := bootBefore.FindAllStringIndex(clause, -1); at != nil {
		last, m.component = at[len(at)-1][0], "boot"
	}
	for _, c := range d.Components {
		if c.Name == "boot" || c.Name == "main" {
			continue
		}
		if at := strings.LastIndex(strings.ToLower(clause), c.Name); at > last {
			last, m.component = at, c.Name
		}
	}
	if at := companions.FindAllStringSubmatchIndex(clause, -1); at != nil {
		if l := at[len(at)-1]; l[0] > last {
			words := strings.Fields(strings.ToLower(clause[l[2]:l[3]]))
			last, m.component, m.companion = l[0], "", words[len(words)-1]
		}
	}
	if last < 0 && ofBoot.MatchString(m.after) {
		m.component = "boot"
	}
}
