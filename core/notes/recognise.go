package notes

import (
	"slices"
	"strings"

	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// Versions finds the version texts of a sentence, as a rulebook reads them, in their order.
func Versions(rb *rulebook.Rulebook, text string) []Version { return newRecogniser(rb).versions(text) }

// Models finds the models of a rulebook that a text names.
func Models(rb *rulebook.Rulebook, text string) []string { return newRecogniser(rb).models(text) }

// recogniser finds versions and models in sentences, as a rulebook knows them.
type recogniser struct {
	rb      *rulebook.Rulebook
	schemes []*version.Scheme
	known   map[string]bool
}

func newRecogniser(rb *rulebook.Rulebook) *recogniser {
	r := &recogniser{rb: rb, known: map[string]bool{}}
	if rb == nil {
		return r
	}
	for _, rel := range rb.Releases {
		r.known[rel.Version.Text] = true
	}
	for _, f := range rb.Families.Entries {
		for _, c := range f.Value.Components.Entries {
			if s := rb.Scheme(c.Key); s != nil && s.Pattern != nil && !slices.Contains(r.schemes, s) {
				r.schemes = append(r.schemes, s)
			}
		}
	}
	return r
}

// numbered is a text that looks like a version: numbers joined by points, and
// what makers put behind.
var numbered = pattern.New(`\b[vVR]?\d+(?:\.\d+)+(?:\(\d+[a-z]*\)[A-Z]*\d*|[a-z]\b)?(?:[-_](?:rc|beta|alpha|build)?\.?\d[\d.]*)?(?: build \d+)?`)

// versions finds version texts: those that a pattern of the rulebook reads, and
// what looks like one.
func (r *recogniser) versions(text string) []Version {
	var out []Version
	add := func(t string) {
		t = strings.TrimRight(t, ".,;:")
		if slices.ContainsFunc(out, func(v Version) bool { return v.Text == t }) {
			return
		}
		out = append(out, Version{t, r.listed(t)})
	}
	fields := strings.Fields(text)
	for i := 0; i < len(fields); {
		if n, t := r.scheme(fields[i:]); n > 0 {
			add(t)
			i += n
			continue
		}
		near := strings.Join(fields[i:min(len(fields), i+longestVersion)], " ")
		for _, at := range numbered.FindAllStringIndex(near, -1) {
			if at[0] < len(fields[i]) { // what begins in this word
				add(near[at[0]:at[1]])
			}
		}
		i++
	}
	return out
}

// longestVersion is how many words a version text may have: "8.4.2 build 17".
const longestVersion = 3

// scheme finds the version text at the beginning of some words that a pattern of the rulebook
// reads, the longest there is, and how many words it has; 0 for none.
func (r *recogniser) scheme(words []string) (n int, text string) {
	for n := min(len(words), longestVersion); n > 0; n-- {
		t := trimmed(strings.Join(words[:n], " "))
		if !strings.ContainsAny(t, "0123456789") {
			continue
		}
		for _, s := range r.schemes {
			if _, err := s.Parse(t); err == nil {
				return n, t
			}
		}
	}
	return 0, ""
}

// trimmed takes off what a sentence puts around a version; a bracket that belongs to it stays.
func trimmed(t string) string {
	t = strings.TrimLeft(t, "\"'([<>=≥≤")
	for {
		last, cut := t, strings.TrimRight(t, ".,;:\"'!?")
		if strings.Count(cut, ")") > strings.Count(cut, "(") {
			cut = strings.TrimSuffix(cut, ")")
		}
		t = strings.TrimRight(cut, "]")
		if t == last {
			return t
		}
	}
}

func (r *recogniser) listed(text string) bool {
	if r.known[text] {
		return true
	}
	return r.rb != nil && r.rb.FindRelease(text, "", "", "") != nil
}

// models finds the models of the rulebook that a text names.
func (r *recogniser) models(text string) []string {
	if r.rb == nil {
		return nil
	}
	lower := strings.ToLower(text)
	var out []string
	for _, e := range r.rb.Models.Entries {
		spellings := []string{e.Key}
		for _, t := range e.Value.Also {
			spellings = append(spellings, t.Text)
		}
		for _, s := range spellings {
			if holdsWord(lower, strings.ToLower(s)) {
				out = append(out, e.Key)
				break
			}
		}
	}
	return out
}

// holdsWord tells whether a text holds a word with nothing of a name around it.
func holdsWord(text, word string) bool {
	part := func(c byte) bool {
		return c == '-' || c == '_' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z'
	}
	for from := 0; ; {
		i := strings.Index(text[from:], word)
		if i < 0 || word == "" {
			return false
		}
		i += from
		k := i + len(word)
		if (i == 0 || !part(text[i-1])) && (k == len(text) || !part(text[k])) {
			return true
		}
		from = i + 1
	}
}
