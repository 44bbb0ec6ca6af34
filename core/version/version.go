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

	"fitcheck/core/truth"
)

// Scheme reads and orders the version texts of one component. The zero value
// is the natural order, in which numbers that are missing at the end are 0.
//
// By a pattern, a text without its group "build" leaves the build open: it may
// be any. Any other group that is missing sorts first. Named groups that the
// order leaves out come after it: they decide between texts that the order finds
// equal, so that no two different texts are one version.
type Scheme struct {
	Pattern *regexp.Regexp // nil: natural order
	Order   []string       // names of groups, most significant first
	Compact bool           // digits run together in file names may stand for a known release

	keys []int // subexpressions of the pattern in the order in which they count
	// build is the place in keys of the group that may be left open, -1 for none.
	build int

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
	s := &Scheme{Pattern: pattern, Order: order, Compact: compact, build: -1}
	names := slices.Clone(order)
	for _, name := range pattern.SubexpNames() {
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for i, name := range names {
		s.keys = append(s.keys, pattern.SubexpIndex(name))
		if name == openGroup {
			s.build = i
		}
	}
	return s, nil
}

// openGroup names the group of a pattern that a text may leave open.
const openGroup = "build"

// Version is a version text that its scheme has read.
type Version struct {
	Text   string
	groups [][]run // one for each key of the scheme; natural: the whole text
	// open: the build is left open, and so are the groups from there on.
	open bool
}

// Parse reads a version text. The error says that the scheme does not read it.
func (s *Scheme) Parse(text string) (Version, error) {
	text = strings.TrimSpace(text)
	if s == nil || s.Pattern == nil {
		if !strings.ContainsAny(text, "0123456789") {
			return Version{}, fmt.Errorf("%q holds no digit, so it is not a version", text)
		}
		return Version{Text: text, groups: [][]run{canonical(runs(text))}}, nil
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
	for _, k := range s.keys {
		v.groups = append(v.groups, runs(m[k]))
	}
	v.open = s.build >= 0 && len(v.groups[s.build]) == 0
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

// Compare orders two versions of one scheme: -1, 0 or 1. A version that leaves
// its build open comes before all that give one.
func (s *Scheme) Compare(a, b Version) int { return comparePrefix(a, b, len(a.groups)) }

// comparePrefix compares the first n groups.
func comparePrefix(a, b Version, n int) int {
	for i := range min(n, len(a.groups), len(b.groups)) {
		if c := compareRuns(a.groups[i], b.groups[i]); c != 0 {
			return c
		}
	}
	return 0
}

// fixed is how many groups of a version are known: all, or those before the
// build that it leaves open.
func (s *Scheme) fixed(v Version) int {
	if v.open {
		return s.build
	}
	return len(v.groups)
}

// Rank orders two versions as far as is known: known is false when the build
// decides, and one of them leaves it open.
func (s *Scheme) Rank(a, b Version) (order int, known bool) {
	if a.open != b.open {
		order = comparePrefix(a, b, s.build)
		return order, order != 0
	}
	return s.Compare(a, b), true
}

// Alike tells whether two versions differ in their build at most.
func (s *Scheme) Alike(a, b Version) bool {
	return s != nil && s.build >= 0 && comparePrefix(a, b, s.build) == 0
}

// Same parses two texts and tells whether they name one version. It is not
// known when only one of them gives a build, and when the scheme does not read
// one of two different texts.
func (s *Scheme) Same(a, b string) truth.Truth {
	if strings.TrimSpace(a) == strings.TrimSpace(b) {
		return truth.Yes
	}
	va, errA := s.Parse(a)
	vb, errB := s.Parse(b)
	if errA != nil || errB != nil {
		return truth.Unknown
	}
	order, known := s.Rank(va, vb)
	if !known {
		return truth.Unknown
	}
	return truth.Of(order == 0)
}

// Equal tells whether two texts are known to name one version.
func (s *Scheme) Equal(a, b string) bool { return s.Same(a, b) == truth.Yes }

// LeavesOpen tells whether a version does not give its build.
func (v Version) LeavesOpen() bool { return v.open }

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
