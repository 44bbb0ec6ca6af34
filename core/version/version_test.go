package version

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func tram(t *testing.T) *Scheme {
	t.Helper()
	s, err := NewScheme(regexp.MustCompile(`^v?(?P<major>\d+)\.(?P<minor>\d+)\.(?P<patch>\d+)(?P<fix>[a-z])?(?: build (?P<build>\d+))?$`),
		[]string{"major", "minor", "patch", "fix", "build"}, true)
	require.NoError(t, err)
	return s
}

// Each list is in ascending order; every pair in it must compare that way.
func TestOrder(t *testing.T) {
	cases := map[string]struct {
		scheme *Scheme
		order  []string
	}{
		"natural":                   {nil, []string{"1.2beta", "1.2rc1", "1.2rc2", "1.2", "1.2a", "1.2b", "1.2.1", "1.10", "2", "99999999999999999999999999"}},
		"natural pre-release words": {nil, []string{"2031.08-alpha", "2031.08-rc3", "2031.08", "2031.09"}},
		"natural letters":           {nil, []string{"11.2(3q)K7", "11.2(3r)K6", "11.2(3r)K7", "11.2(3r)K10"}},
		"pattern":                   {tram(t), []string{"7.9.1", "8.0.3", "8.4.2", "8.4.2 build 7", "8.4.2 build 1187", "8.4.2a", "8.4.2c", "8.4.10", "v10.0.0"}},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			for i, a := range c.order {
				for j, b := range c.order {
					va, err := c.scheme.Parse(a)
					require.NoError(t, err)
					vb, err := c.scheme.Parse(b)
					require.NoError(t, err)
					assert.Equal(t, sign(i-j), c.scheme.Compare(va, vb), "%s against %s", a, b)
				}
			}
		})
	}
}

func TestParseRefuses(t *testing.T) {
	_, err := tram(t).Parse("8.4")
	assert.ErrorContains(t, err, `does not read "8.4"`)
	_, err = (*Scheme)(nil).Parse("latest")
	assert.ErrorContains(t, err, "no digit")
	_, err = NewScheme(regexp.MustCompile(`(?P<a>\d)`), []string{"b"}, false)
	assert.ErrorContains(t, err, `group "b"`)
	_, err = NewScheme(regexp.MustCompile(`(?P<a>\d)`), []string{"a", "a"}, false)
	assert.ErrorContains(t, err, "twice")
}

func TestRange(t *testing.T) {
	cases := []struct {
		text    string
		in, out []string
	}{
		{">=8.0.0 <8.2.0", []string{"8.0.0", "8.1.9"}, []string{"7.9.9", "8.2.0"}},
		{"<8.0.0 || >= 9.0.0", []string{"7.0.0", "9.0.0"}, []string{"8.0.0", "8.9.9"}},
		{"8.4.2", []string{"8.4.2", "v8.4.2"}, []string{"8.4.2a", "8.4.1"}},
		{"8.4.2 build 1187", []string{"8.4.2 build 1187"}, []string{"8.4.2"}},
		{">8.4.2 build 3 !=9.0.0", []string{"8.4.2 build 4", "9.0.1"}, []string{"8.4.2", "9.0.0"}},
		{"*", []string{"1.0.0"}, nil},
		{"!=8.0.0", []string{"8.0.1"}, []string{"8.0.0"}},
	}
	for _, c := range cases {
		r, err := ParseRange(tram(t), c.text)
		require.NoError(t, err, c.text)
		for _, list := range [][]string{c.in, c.out} {
			for _, text := range list {
				v, err := tram(t).Parse(text)
				require.NoError(t, err)
				assert.Equal(t, slices.Contains(c.in, text), r.Contains(v), "%s in %s", text, c.text)
			}
		}
	}
	for _, bad := range []string{"", ">=", ">=8.0.0 ||", "8.0.0 8.1.0", "~8.0.0"} {
		_, err := ParseRange(tram(t), bad)
		assert.Error(t, err, bad)
	}
}

func TestExpandCompact(t *testing.T) {
	known := []string{"8.4.2", "8.4.2c", "8.42.0", "84.2.0"}
	assert.Equal(t, []string{"8.4.2c"}, tram(t).Expand("842C", known))
	assert.Equal(t, []string{"8.42.0", "84.2.0"}, tram(t).Expand("8420", known), "two could be meant")
	assert.Empty(t, tram(t).Expand("999", known))
	assert.Empty(t, (&Scheme{}).Expand("842", known), "only where the rulebook allows it")
}

// The order is total and consistent for any texts at all.
func FuzzNatural(f *testing.F) {
	f.Add("1.2", "1.2rc1", "1.2.0")
	f.Add("v1", "01", "1a")
	f.Add("", "é", "\xff0")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		ab, ba, bc, ac := natural(a, b), natural(b, a), natural(b, c), natural(a, c)
		if ab != -ba || natural(a, a) != 0 {
			t.Fatalf("not antisymmetric: %q %q", a, b)
		}
		if ab <= 0 && bc <= 0 && ac > 0 {
			t.Fatalf("not transitive: %q %q %q", a, b, c)
		}
	})
}

func FuzzRange(f *testing.F) {
	f.Add(">=8.0.0 <8.2.0 || *", "8.1")
	f.Fuzz(func(t *testing.T, text, v string) {
		r, err := ParseRange(nil, text)
		if err != nil {
			return
		}
		if parsed, err := (*Scheme)(nil).Parse(v); err == nil {
			r.Contains(parsed)
		}
	})
}

// Covers and Meets agree with asking every version one by one.
func TestRangesAgainstEachOther(t *testing.T) {
	s, err := NewScheme(regexp.MustCompile(`^(?P<a>\d+)\.(?P<b>\d+)$`), []string{"a", "b"}, false)
	require.NoError(t, err)
	texts := []string{"*", "1.1", "<1.1", "<=1.1", ">1.1", ">=1.1", "!=1.1", ">=1.1 <1.3", ">1.1 <=1.2", "1.2 || 1.3", "<1.1 || >1.3", ">=1.0 <1.2 || >=1.2 <1.4"}
	var all []Version // the versions that the ranges name, and one in every gap between them
	for _, text := range []string{"0.5", "1.0", "1.05", "1.1", "1.15", "1.2", "1.25", "1.3", "1.35", "1.4", "2.0"} {
		v := Version{Text: text}
		a, b, _ := strings.Cut(text, ".")
		v.groups = [][]run{runs(a), runs((b + "0")[:2])}
		all = append(all, v)
	}
	scaled := func(text string) *Range { // 1.1 is written 1.10 here, so that 1.15 lies between
		r, err := ParseRange(s, regexp.MustCompile(`(\d\.\d)`).ReplaceAllString(text, "${1}0"))
		require.NoError(t, err)
		return r
	}
	for _, x := range texts {
		for _, y := range texts {
			a, b := scaled(x), scaled(y)
			covers, meets := true, false
			for _, v := range all {
				covers = covers && (a.Contains(v) || !b.Contains(v))
				meets = meets || a.Contains(v) && b.Contains(v)
			}
			assert.Equal(t, covers, a.Covers(b), "%s covers %s", x, y)
			assert.Equal(t, meets, a.Meets(b), "%s meets %s", x, y)
		}
	}
	var any *Range
	assert.True(t, any.Covers(scaled("1.1")))
	assert.False(t, scaled("1.1").Covers(any))
}

// A range names at most so many versions: each costs when ranges are held against each
// other.
func TestBoundOfARange(t *testing.T) {
	var s *Scheme
	for _, text := range []string{"1.0", "!=1.0", ">=1.0"} {
		for _, between := range []string{" || ", " "} {
			if between == " " && text == "1.0" {
				continue // a blank alone does not separate
			}
			_, err := ParseRange(s, strings.Repeat(text+between, maxComparators-1)+text)
			require.NoError(t, err)
			_, err = ParseRange(s, strings.Repeat(text+between, maxComparators)+text)
			assert.ErrorContains(t, err, "more than 1000 versions")
		}
	}
}
