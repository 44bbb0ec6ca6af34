// Package version reads and orders version texts the way a product line
// writes them, and tests them against ranges.
//
// A Scheme is either the natural order (runs of digits as numbers, runs of
// letters as letters) or a pattern with named groups and the order in which
// the groups count.
package version

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Scheme reads and orders the version texts of one component. The zero value
// is the natural order.
type Scheme struct {
	Pattern *regexp.Regexp // nil: natural order
	Order   []string       // names of groups, most significant first
	Compact bool           // digits run together in file names may stand for a known release

	mu   sync.RWMutex
	read map[string]Version // texts that were read before
}

// maxRemembered bounds the texts that a scheme remembers.
const maxRemembered = 1 << 14

// NewScheme checks that each name in order is a group of the pattern.
func NewScheme(pattern *regexp.Regexp, order []string, compact bool) (*Scheme, error) {
	if pattern == nil {
		return nil, fmt.Errorf("a version scheme needs a pattern")
	}
	if len(order) == 0 {
		return nil, fmt.Errorf("a version pattern needs an order: the names of its groups, most significant first")
	}
	for i, name := range order {
		if pattern.SubexpIndex(name) < 0 {
			return nil, fmt.Errorf("order names the group %q, which the pattern does not have", name)
		}
		if slices.Contains(order[:i], name) {
			return nil, fmt.Errorf("order names the group %q twice", name)
		}
	}
	return &Scheme{Pattern: pattern, Order: order, Compact: compact}, nil
}

// Version is a version text that its scheme has read.
type Version struct {
	Text   string
	groups [][]run // one for each key of the order; natural: the whole text
}

// Parse reads a version text. The error says that the scheme does not read it.
func (s *Scheme) Parse(text string) (Version, error) {
	text = strings.TrimSpace(text)
	if s == nil || s.Pattern == nil {
		if !strings.ContainsAny(text, "0123456789") {
			return Version{}, fmt.Errorf("%q holds no digit, so it is not a version", text)
		}
		return Version{Text: text, groups: [][]run{runs(text)}}, nil
	}
	s.mu.RLock()
	known, ok := s.read[text]
	s.mu.RUnlock()
	if ok {
		return known, nil
	}
	m := s.Pattern.FindStringSubmatch(text)
	if m == nil {
		return Version{}, fmt.Errorf("the version pattern %s does not read %q", s.Pattern, text)
	}
	v := Version{Text: text}
	for _, name := range s.Order {
		v.groups = append(v.groups, runs(m[s.Pattern.SubexpIndex(name)]))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.read == nil {
		s.read = map[string]Version{}
	}
	if len(s.read) < maxRemembered {
		s.read[text] = v
	}
	return v, nil
}

// Compare orders two versions of one scheme: -1, 0 or 1.
func (s *Scheme) Compare(a, b Version) int {
	for i := range min(len(a.groups), len(b.groups)) {
		if c := compareRuns(a.groups[i], b.groups[i]); c != 0 {
			return c
		}
	}
	return 0
}

// Equal parses two texts and tells whether they name the same version. Texts
// that the scheme does not read are equal only when they are the same.
func (s *Scheme) Equal(a, b string) bool {
	va, errA := s.Parse(a)
	vb, errB := s.Parse(b)
	if errA != nil || errB != nil {
		return strings.TrimSpace(a) == strings.TrimSpace(b)
	}
	return s.Compare(va, vb) == 0
}

// Expand finds the known versions that a compact text ("842c") may stand for:
// those whose letters and digits, run together, are the same. More than one
// means that the text is ambiguous.
func (s *Scheme) Expand(text string, known []string) []string {
	if s == nil || !s.Compact {
		return nil
	}
	want := squeeze(text)
	var out []string
	for _, k := range known {
		if squeeze(k) == want && !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

func squeeze(text string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= '0' && r <= '9', r >= 'a' && r <= 'z':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return -1
	}, text)
}

// Key is one text for all spellings of a version: two versions have the same
// key exactly when Compare finds them equal.
func (s *Scheme) Key(v Version) string {
	var b strings.Builder
	for _, g := range v.groups {
		for _, r := range g {
			fmt.Fprintf(&b, "%d%s.", r.class, r.text)
		}
		b.WriteByte('|')
	}
	return b.String()
}
