package version_test

import (
	"fmt"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/version"
	"fitcheck/internal/pagetest"
)

// TestWhatPairsAreTo holds how versions of several schemes stand to each other and to ranges, and ranges to each other,
// against testdata/pairs.txt.
func TestWhatPairsAreTo(t *testing.T) {
	var b strings.Builder
	for _, c := range []struct {
		name, pattern string
		order         []string
		compact       bool
		versions      []string
		ranges        []string
	}{
		{"natural", "", nil, false, []string{"1.0", "1.0.0", "1.0a", "1.0-rc1", "1.0-rc2", "1.0b7", "1.0b10", "1.9", "1.10", "2", "02", "v2", "2.0.0.1", "a", "", "1..0", "1_0", "99999999999999999999", "99999999999999999998"},
			[]string{"*", ">=1.0", "<2", "1.0", "!=1.0", ">1.0 <=2", "1.0 || 2", ">2 <1"}},
		{"parts", `^v?(?P<major>\d+)\.(?P<minor>\d+)(?:\.(?P<patch>\d+))?(?P<fix>[a-z])?$`, []string{"major", "minor", "patch", "fix"}, false,
			[]string{"8.4", "8.4.0", "8.4.2", "v8.4.2", "8.4.2a", "8.4.2b", "8.10.0", "9.0", "8.04.2", "x", "8", "8.4.2.1", ""},
			[]string{"8.4", ">=8.4", "<8.4.2", "<=8.4.2", ">8.4.2", ">=8.4.2 <9.0", "8.4.2 || 9.0", "*", "!=8.4.2", ">=9.0 <8.4", ">=x", ">=8.4,<9.0", "8.4.2a", "", ">= 8.4", "=8.4.2", "==8.4.2", "~8.4", "^8.4", "8.x"}},
		{"builds", `^(?P<main>\d+\.\d+)(?:-b(?P<build>\d+))?$`, []string{"main", "build"}, false, []string{"12.4", "12.4-b731", "12.4-b1000", "12.5-b2", "12.5", "12.3-b9"},
			[]string{"12.4", ">=12.4", "<12.4", "<12.4-b800", ">=12.4-b731", ">12.4-b731", "<=12.4-b731", "12.4-b731", "!=12.4-b731", ">=12.4 <12.5", "*", "12.4-b731 || 12.4-b1000"}},
		{"compact", `^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$`, []string{"a", "b", "c"}, true, []string{"8.4.2", "842", "8.40.2", "8402", "84.0.2", "8.4.02"}, []string{"8.4.2", ">=8.4.2"}},
	} {
		var s *version.Scheme
		if c.pattern != "" {
			var err error
			s, err = version.NewScheme(regexp.MustCompile(c.pattern), c.order, c.compact)
			require.NoError(t, err)
		}
		fmt.Fprintf(&b, "## %s\n", c.name)
		var read []version.Version
		for _, text := range c.versions {
			v, err := s.Parse(text)
			if err != nil {
				fmt.Fprintf(&b, "%q: %v\n", text, err)
				continue
			}
			read = append(read, v)
			fmt.Fprintf(&b, "%q: key %q, leaves open %v, may be %q\n", text, s.Key(v), v.LeavesOpen(), s.Expand(text, c.versions))
		}
		for _, v := range read {
			var row []string
			for _, w := range read {
				order, known := s.Rank(v, w)
				row = append(row, fmt.Sprintf("%s%s", map[int]string{-1: "<", 0: "=", 1: ">"}[order], map[bool]string{true: "", false: "?"}[known]))
			}
			same := ""
			for _, w := range read {
				same += fmt.Sprintf("%v ", s.Same(v.Text, w.Text))
			}
			fmt.Fprintf(&b, "%q: %s, same: %s\n", v.Text, strings.Join(row, " "), same)
		}
		var ranges []*version.Range
		for _, text := range c.ranges {
			r, err := version.ParseRange(s, text)
			if err != nil {
				fmt.Fprintf(&b, "%q: %v\n", text, err)
				continue
			}
			ranges = append(ranges, r)
			var row []string
			for _, v := range read {
				row = append(row, fmt.Sprintf("%v%s", r.Holds(v), map[bool]string{true: " newer", false: ""}[r.Newer(v)]))
			}
			in, unsure := r.Spans(s, read)
			fmt.Fprintf(&b, "%q holds: %s; spans %v unsure %v\n", text, strings.Join(row, ", "), in, unsure)
		}
		for _, r := range ranges {
			var row []string
			for _, o := range ranges {
				m := version.NewMarks(s, r, o)
				row = append(row, fmt.Sprintf("%v/%v/%d/%v/%v", r.Covers(o), r.Meets(o), m.Places(), m.Spans(r), version.Overlap(m.Spans(r), m.Spans(o))))
			}
			fmt.Fprintf(&b, "%q covers/meets/…: %s\n", r.Text, strings.Join(row, " "))
		}
	}
	for _, c := range [][2][][2]int{{{{0, 3}}, {{0, 3}}}, {{{0, 3}}, {{0, 2}}}, {{{0, 3}}, {{0, 1}, {2, 3}}}, {{{0, 3}}, {{0, 1}, {1, 3}}}, {{}, {{0, 1}}}, {{{0, 1}}, {}}, {{{2, 4}}, {{0, 2}, {4, 6}}}, {{{2, 5}}, {{0, 2}, {4, 6}}}, {{{1, 2}, {5, 6}}, {{0, 3}, {5, 7}}}, {{{3, 3}}, {{0, 9}}}} {
		fmt.Fprintf(&b, "%v in %v: covered %v, overlap %v\n", c[0], c[1], version.Covered(c[0], c[1]), version.Overlap(c[0], c[1]))
	}
	pagetest.Hold(t, filepath.Join("testdata", "pairs.txt"), b.String())
}
