package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"fitcheck/core/pattern"
)

// loss reads which moves lose the settings.
func (t *told) loss(main []*mention) {
	for _, m := range main {
		if t.own(m) {
			continue
		}
		if m.op != "" || m.span != "" || fromBefore.MatchString(m.before) {
			t.rule(m.within(), t.here(), "allow: true, resets_config: true")
			return
		}
	}
	if t.release != nil {
		t.add(&t.release.Lines, "resets_config: true")
	}
}

// back reads whether older releases may follow.
//
// In one piece: which release a sentence names as the one that is left, and what follows.
func (t *told) back(main []*mention) {
	lost := loses.MatchString(t.text) && settings.MatchString(t.text) && !keeps.MatchString(t.text)
	if forbids.MatchString(t.text) {
		t.d.Moves.Downward, t.d.Moves.DownGuess = "closed", t.asked()
		return
	}
	if !permits.MatchString(t.text) && !lost {
		return
	}
	rest := "allow: true"
	if lost {
		rest += ", resets_config: true"
	}
	var from, to *mention
	for _, m := range main {
		switch {
		case fromBefore.MatchString(m.before) || t.own(m):
			from = m
		default:
			to = m
		}
	}
	source := ""
	switch {
	case from != nil && from.op == "":
		source = ">=" + unspaced(from.text)
	case from != nil:
		source = from.within()
	case t.release != nil:
		source = t.here()
	}
	switch {
	case to != nil && (to.op == "<" || to.op == "<="):
		if from == nil || from.op == "<" || from.op == "<=" {
			source = map[string]string{"<": ">=", "<=": ">"}[to.op] + unspaced(to.text)
		}
		t.rule(source, to.within(), rest)
	case to != nil:
		within := to.within()
		if source == "" {
			source = ">" + unspaced(to.text)
		} else if to.op == ">=" { // and no further up than where it comes from
			within += " <" + strings.TrimLeft(source, "<>=")
		}
		t.rule(source, within, rest)
	case source != "":
		t.rule(source, "<"+strings.TrimLeft(source, "<>="), rest)
	default:
		t.d.Moves.Downward, t.d.Moves.DownGuess = "open", t.asked()
	}
}

// withdrawn marks a release that was taken back.
func (t *told) withdrawn(main []*mention) bool {
	found := false
	for _, m := range main {
		if m.op != "" || m.span != "" || found && !listed.MatchString(m.before) {
			continue
		}
		rel := t.d.release(m.text)
		if rel == nil {
			if !t.readable("main", m.text) {
				continue
			}
			rel = &Release{Version: m.text, Guess: Guess{"is this a release of the line?", t.where}}
			v, err := t.d.schemes["main"].Parse(m.text)
			rel.parsed, rel.known = v, err == nil
			t.d.Releases = append(t.d.Releases, rel)
			t.d.order()
		}
		t.takeBack(rel)
		found = true
	}
	if len(main) == 0 && t.release != nil && regexp.MustCompile(`(?i)\bthis release\b`).MatchString(t.text) {
		t.takeBack(t.release)
		return true
	}
	return found
}

// listed is what stands between the members of a list.
var listed = pattern.New(`(?i)^(?:,|,?\s*(?:and|or|&))\s*(?:releases?|versions?)?\s*$`)

// movesWord is what sentences on moves have.
var movesWord = pattern.New(`(?i)\b(?:upgrad\w*|updat\w*|install\w*|moves?)\b`)

// takeBack marks a release as withdrawn, unless it is marked already.
func (t *told) takeBack(rel *Release) {
	if slices.ContainsFunc(rel.Lines, func(l Line) bool { return strings.HasPrefix(l.Text, "withdrawn: ") }) {
		return
	}
	t.add(&rel.Lines, "withdrawn: "+quote(clip(t.text, 200)))
	rel.Lines = append(rel.Lines, Line{Text: "source: " + t.key})
}

// drops reads which hardware a release does not support any more.
//
// In one piece: the forms of a sentence, one after the other.
func (t *told) drops(main []*mention) {
	if t.release == nil {
		return
	}
	if slices.ContainsFunc(main, func(m *mention) bool { return !t.own(m) }) && movesWord.MatchString(t.text) {
		return // it is about a move
	}
	if slices.ContainsFunc(main, func(m *mention) bool { return !t.own(m) && !t.newer(t.release, m.text) }) {
		add(&t.d.Notes, fmt.Sprintf("%s speaks of hardware that another release than %s drops: %s", t.where, t.release.Version, clip(t.text, 80)))
		return
	}
	models, revs := t.models(), t.revisions()
	switch {
	case len(revs) == 0 && revisionNames.MatchString(t.text):
		add(&t.d.Notes, fmt.Sprintf("%s speaks of a hardware revision that no package names: %s", t.where, clip(t.text, 80)))
		return
	case len(revs) > 0:
		// Revisions are listed for all models at once: only a name that no other model has can be
		// left out.
		var rest []string
		for _, m := range t.d.Models {
			meant := len(models) == 0 || slices.Contains(models, m.Name)
			for _, r := range m.Revisions {
				switch gone := slices.Contains(revs, r.Name); {
				case gone && !meant:
					add(&t.d.Notes, fmt.Sprintf("%s drops a revision that another model has, too: %s", t.where, clip(t.text, 80)))
					return
				case !gone:
					add(&rest, r.Name)
				}
			}
			if len(m.Revisions) == 0 {
				rest = nil
				break
			}
		}
		if len(rest) > 0 {
			t.add(&t.release.Lines, "revisions: ["+strings.Join(quoted(rest), ", ")+"]")
		}
		return
	case len(models) > 0:
		var rest []string
		for _, m := range t.d.Models {
			if !slices.Contains(models, m.Name) {
				rest = append(rest, m.Name)
			}
		}
		if len(rest) > 0 {
			t.add(&t.release.Lines, "models: ["+strings.Join(quoted(rest), ", ")+"]")
		}
		return
	}
	var gone []string
	for _, w := range strings.Fields(t.text) {
		w = strings.Trim(w, `.,;:()"'`)
		if modelWord.MatchString(w) && !versionWord.MatchString(w) && t.d.model(w) == nil {
			add(&gone, w)
		}
	}
	if len(gone) == 0 {
		return
	}
	t.add(&t.release.Lines, "drops: ["+strings.Join(quoted(gone), ", ")+"]")
	for _, w := range gone {
		t.d.Models = append(t.d.Models, &Model{Name: w, Guess: Guess{"is this a model that is attached to others, and has no images of its own here?", t.where}})
	}
	t.d.order()
}

var dayForms = []struct {
	re     *pattern.Pattern
	layout string
}{
	{pattern.New(`\b(\d{4}-\d\d-\d\d)\b`), "2006-01-02"},
	{pattern.New(`\b(\d{1,2}\.\d{1,2}\.\d{4})\b`), "2.1.2006"},
	{pattern.New(`\b(\d{1,2} [A-Z][a-z]+ \d{4})\b`), "2 January 2006"},
	{pattern.New(`\b([A-Z][a-z]+ \d{1,2}, \d{4})\b`), "January 2, 2006"},
	{pattern.New(`\b(\d{1,2} [A-Z][a-z]{2} \d{4})\b`), "2 Jan 2006"},
	{pattern.New(`\b([A-Z][a-z]{2} \d{1,2}, \d{4})\b`), "Jan 2, 2006"},
}

// date reads when the release was published.
func (t *told) date() {
	if t.release == nil || !released.MatchString(t.text) || t.release.DateOf.From != "" && strings.HasPrefix(t.release.DateOf.Question, "is this what") {
		return
	}
	for _, f := range dayForms {
		for _, m := range f.re.FindAllString(t.text, -1) {
			if day, err := time.Parse(f.layout, m); err == nil && t.d.release(m) == nil {
				t.release.Date, t.release.DateOf = day.Format("2006-01-02"), t.asked()
				return
			}
		}
	}
}
