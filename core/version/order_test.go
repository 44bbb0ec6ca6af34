package version

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/truth"
)

// shapes are version texts as makers write them, each line in order, with the
// pattern that a rulebook would give for it.
var shapes = []struct {
	pattern string
	order   []string
	sorted  []string
	make    func(n func(int) int) string // another version of this shape
}{
	{`^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)(?P<fix>[a-z])?$`, []string{"a", "b", "c", "fix"},
		[]string{"4.1.9", "4.1.20", "4.1.20a", "4.1.20c", "4.1.21", "4.2.0"},
		func(n func(int) int) string {
			return fmt.Sprintf("%d.%d.%d%s", n(9), n(30), n(30), letter(n, "", "a", "c"))
		}},
	{`^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)\.(?P<d>\d+)$`, []string{"a", "b", "c", "d"},
		[]string{"9.9.9.9", "12.3.0.7", "12.3.0.10", "12.3.1.0"},
		func(n func(int) int) string { return fmt.Sprintf("%d.%d.%d.%d", n(20), n(9), n(9), n(20)) }},
	{`^(?P<a>\d+)\.(?P<b>\d+)\((?P<c>\d+)(?P<fix>[a-z]*)\)$`, []string{"a", "b", "c", "fix"},
		[]string{"5.4(1)", "5.4(9)", "5.4(9c)", "5.4(10)", "5.5(1a)"},
		func(n func(int) int) string {
			return fmt.Sprintf("%d.%d(%d%s)", n(9), n(9), n(20), letter(n, "", "a", "c"))
		}},
	{`^(?P<a>\d+)\.(?P<b>\d+)\((?P<c>\d+)(?P<kind>[a-z])\)(?P<train>[A-Z]+)(?P<n>\d*)$`, []string{"a", "b", "c", "kind", "train", "n"},
		[]string{"11.2(2r)K7", "11.2(3r)K", "11.2(3r)K7", "11.2(3r)K12", "11.2(3s)A1"},
		func(n func(int) int) string {
			return fmt.Sprintf("%d.%d(%d%s)%s%s", n(12), n(9), n(9), letter(n, "r", "s"), letter(n, "K", "AB"), letter(n, "", "7", "12"))
		}},
	{`^(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)(?: build (?P<build>\d+))?$`, []string{"a", "b", "c", "build"},
		[]string{"3.6.2", "3.6.2 build 99", "3.6.2 build 1187", "3.6.10 build 2"},
		func(n func(int) int) string { return fmt.Sprintf("%d.%d.%d build %d", n(5), n(9), n(20), n(2000)) }},
	{`^V(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)\.(?P<d>\d+)_(?P<e>\d+)\.(?P<f>\d+)\.(?P<g>\d+)$`, []string{"a", "b", "c", "d", "e", "f", "g"},
		[]string{"V2.1.0.55_9.1.1", "V2.1.0.55_20.0.13", "V2.1.0.56_1.0.0"},
		func(n func(int) int) string {
			return fmt.Sprintf("V%d.%d.%d.%d_%d.%d.%d", n(3), n(3), n(3), n(60), n(30), n(3), n(20))
		}},
	{`^(?P<year>\d{4})\.(?P<month>\d\d)(?:-(?P<pre>rc\d+))?$`, []string{"year", "month", "pre"},
		[]string{"2031.05", "2031.08-rc3", "2031.08-rc10", "2031.08", "2032.01-rc1"},
		func(n func(int) int) string {
			return fmt.Sprintf("%d.%02d%s", 2030+n(3), 1+n(12), letter(n, "", "-rc1", "-rc10"))
		}},
	{`^R(?P<a>\d+)\.(?P<b>\d+)\.(?P<c>\d+)$`, []string{"a", "b", "c"},
		[]string{"R9.99.99", "R14.5.10", "R14.40.9", "R14.40.10"},
		func(n func(int) int) string { return fmt.Sprintf("R%d.%d.%d", n(20), n(50), n(20)) }},
	{`^(?P<a>\d+)\.(?P<b>\d+)-(?P<build>\d+)$`, []string{"a", "b", "build"},
		[]string{"2.7-99", "2.7-215", "2.10-1"},
		func(n func(int) int) string { return fmt.Sprintf("%d.%d-%d", n(4), n(12), n(300)) }},
}

func letter(n func(int) int, of ...string) string { return of[n(len(of))] }

// Every shape is read and ordered by its pattern; and by the natural order, too.
func TestShapesAsMakersWriteThem(t *testing.T) {
	for _, shape := range shapes {
		s, err := NewScheme(regexp.MustCompile(shape.pattern), shape.order, false)
		require.NoError(t, err)
		for _, scheme := range []*Scheme{s, nil} {
			for i, a := range shape.sorted {
				va, err := scheme.Parse(a)
				require.NoError(t, err)
				for k, b := range shape.sorted {
					vb, err := scheme.Parse(b)
					require.NoError(t, err)
					assert.Equal(t, sign(i-k), scheme.Compare(va, vb), "%s and %s, natural: %v", a, b, scheme == nil)
				}
			}
		}
	}
}

// A total order: each version equals itself, two come out the other way round
// when they are asked for the other way round, and what lies between stays
// between; for every scheme, and for the natural order over texts of all shapes
// and of none.
func TestTotalOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 7))
	any := func(n func(int) int) string {
		text := []rune("0")
		for range n(9) {
			text = append(text, []rune("0012359aabcrcxz.-_() +~V")[n(23)])
		}
		return string(text)
	}
	check := func(t *testing.T, s *Scheme, make func(func(int) int) string) {
		for range 3000 {
			var v [3]Version
			for i := range v {
				var err error
				v[i], err = s.Parse(make(r.IntN))
				require.NoError(t, err)
			}
			require.Zero(t, s.Compare(v[0], v[0]), v[0].Text)
			for i := range v {
				for k := range v {
					require.Equal(t, -s.Compare(v[i], v[k]), s.Compare(v[k], v[i]), "%s and %s", v[i].Text, v[k].Text)
				}
			}
			sorted := slices.SortedFunc(slices.Values(v[:]), s.Compare)
			require.LessOrEqual(t, s.Compare(sorted[0], sorted[2]), 0, "%v", v)
			if s.Compare(v[0], v[1]) <= 0 && s.Compare(v[1], v[2]) <= 0 {
				require.LessOrEqual(t, s.Compare(v[0], v[2]), 0, "%v", v)
			}
			if s.Compare(v[0], v[1]) == 0 {
				require.Equal(t, s.Compare(v[0], v[2]), s.Compare(v[1], v[2]), "equal ones are alike: %v", v)
			}
		}
	}
	for _, shape := range shapes {
		s, err := NewScheme(regexp.MustCompile(shape.pattern), shape.order, false)
		require.NoError(t, err)
		check(t, s, shape.make)
		check(t, nil, shape.make)
	}
	check(t, nil, any)
	check(t, nil, func(n func(int) int) string { return shapes[n(len(shapes))].make(n) })
}

// The place of a version among marks says the same as the range itself.
func TestPlaces(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 5))
	v := func() string { return fmt.Sprintf("%d.%d", r.IntN(4), r.IntN(4)) }
	for range 3000 {
		var ranges []*Range
		for range 1 + r.IntN(4) {
			text := []string{">=", "<", "=", "!=", ">", "<="}[r.IntN(6)] + v()
			if r.IntN(2) == 0 {
				text += []string{" <", " || ="}[r.IntN(2)] + v()
			}
			one, err := ParseRange(nil, text)
			require.NoError(t, err)
			ranges = append(ranges, one)
		}
		marks := NewMarks(nil, ranges...)
		at, err := (*Scheme)(nil).Parse(v())
		require.NoError(t, err)
		for _, one := range ranges {
			place, sure := marks.Place(at)
			require.True(t, sure)
			require.Equal(t, one.Contains(at), one.HoldsPlace(place, marks), "%s in %s", at.Text, one.Text)
		}
	}
}

// A version that leaves its build open may be any of its builds: it lies in a
// range when all of them do, and outside when none does. A text in a range that
// gives no build stands for all of them.
func TestOpenBuilds(t *testing.T) {
	s, err := NewScheme(regexp.MustCompile(`^(?P<a>\d+)\.(?P<b>\d+)(?: build (?P<build>\d+))?$`), []string{"a", "b", "build"}, false)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(8, 1))
	parse := func(text string) Version {
		v, err := s.Parse(text)
		require.NoError(t, err)
		return v
	}
	const builds = 7 // ranges name builds from 1 to 5
	type version struct{ a, b, build int }
	in := func(v version, op string, c version) bool {
		x, y := v.a*1000+v.b*100+v.build, c.a*1000+c.b*100+c.build*2 // v counts in halves: there is always room between two
		if c.build == 0 {                                            // all builds
			x, y = v.a*1000+v.b*100, c.a*1000+c.b*100
		}
		return map[string]bool{"<": x < y, "<=": x <= y, "=": x == y, "!=": x != y, ">=": x >= y, ">": x > y}[op]
	}
	seen := map[truth.Truth]int{}
	for range 4000 {
		type comparator struct {
			op string
			v  version
		}
		var all []comparator
		text := ""
		for range 1 + r.IntN(2) {
			c := comparator{[]string{"<", "<=", "=", "!=", ">=", ">"}[r.IntN(6)], version{r.IntN(2), r.IntN(3), r.IntN(6)}}
			all = append(all, c)
			text += fmt.Sprintf("%s%d.%d", c.op, c.v.a, c.v.b)
			if c.v.build > 0 {
				text += fmt.Sprintf(" build %d", c.v.build)
			}
			text += " "
		}
		rng, err := ParseRange(s, text)
		require.NoError(t, err)
		holds := func(v version) bool {
			for _, c := range all {
				if !in(v, c.op, c.v) {
					return false
				}
			}
			return true
		}
		var sorted []Version
		for a := range 2 {
			for b := range 3 {
				sorted = append(sorted, parse(fmt.Sprintf("%d.%d", a, b)))
				some, every := false, true
				for half := range 2 * builds {
					v := version{a, b, half}
					if half%2 == 0 {
						sorted = append(sorted, parse(fmt.Sprintf("%d.%d build %d", a, b, half/2)))
						require.Equal(t, truth.Of(holds(v)), rng.Holds(sorted[len(sorted)-1]), "%v in %s", v, text)
					}
					some, every = some || holds(v), every && holds(v)
				}
				want := truth.Unknown
				if some == every {
					want = truth.Of(some)
				}
				seen[want]++
				require.Equal(t, want, rng.Holds(parse(fmt.Sprintf("%d.%d", a, b))), "%d.%d in %s", a, b, text)
			}
		}
		yes, unsure := rng.Spans(s, sorted)
		for i, v := range sorted {
			within := func(spans [][2]int) bool {
				return slices.ContainsFunc(spans, func(x [2]int) bool { return x[0] <= i && i < x[1] })
			}
			require.Equal(t, rng.Holds(v) == truth.Yes, within(yes), "%s in %s", v.Text, text)
			require.Equal(t, rng.Holds(v) == truth.Unknown, within(unsure), "%s in %s", v.Text, text)
		}
	}
	assert.Greater(t, seen[truth.Unknown], 500)

	assert.Equal(t, truth.Unknown, s.Same("1.2", "1.2 build 7"))
	assert.Equal(t, truth.No, s.Same("1.2", "1.3 build 7"))
	assert.Equal(t, truth.No, s.Same("1.2 build 8", "1.2 build 7"))
	assert.Equal(t, truth.Yes, s.Same("1.2", "1.2"))
	assert.Equal(t, truth.Unknown, s.Same("1.2", "newest"), "what is not read may be anything")
}

// What the order leaves out still tells two versions apart.
func TestBeyondTheOrder(t *testing.T) {
	s, err := NewScheme(regexp.MustCompile(`^v?(?P<a>\d+)\.(?P<b>\d+)(?:-(?P<build>\w+))?(?:\+(?P<kind>\w+))?$`), []string{"a", "b"}, false)
	require.NoError(t, err)
	for _, c := range []struct {
		a, b string
		want truth.Truth
	}{{"1.2-7", "1.2-8", truth.No}, {"1.2-7", "v1.2-7", truth.Yes}, {"1.2", "1.2-8", truth.Unknown}, {"1.2-7+k9", "1.2-7", truth.No}, {"1.2-7+k9", "1.2-7+k8", truth.No}} {
		assert.Equal(t, c.want, s.Same(c.a, c.b), "%s and %s", c.a, c.b)
		assert.Equal(t, c.want, s.Same(c.b, c.a), "%s and %s", c.b, c.a)
	}
}

// By the natural order, numbers that are missing at the end are 0.
func TestMissingNumbers(t *testing.T) {
	var s *Scheme
	for _, c := range []struct {
		rng, v string
		want   truth.Truth
	}{{">5.1", "5.1.0", truth.No}, {">5.1", "5.1.0.0", truth.No}, {">=5.1.0", "5.1", truth.Yes}, {"=5.1", "5.1.0", truth.Yes}, {">5.1", "5.1.1", truth.Yes}, {">5.1", "5.1a", truth.Yes},
		{"<5.1", "5.1.0-rc2", truth.Yes}, {"=5.1-rc2", "5.1.0-rc2", truth.Yes}, {">5.1.0", "5.1.0a", truth.Yes}, {"<5.10", "5.1", truth.Yes}, {"=5.0", "5", truth.Yes}, {"=10", "1", truth.No}} {
		rng, err := ParseRange(s, c.rng)
		require.NoError(t, err)
		v, err := s.Parse(c.v)
		require.NoError(t, err)
		assert.Equal(t, c.want, rng.Holds(v), "%s in %s", c.v, c.rng)
	}
}

// A version that gives its build is held against a range at once; by the places of the
// line it is the same.
func TestHoldsAsThePlacesSay(t *testing.T) {
	s, err := NewScheme(regexp.MustCompile(`^(?P<a>\d+)\.(?P<b>\d+)(?:-(?P<build>\d+))?$`), []string{"a", "b", "build"}, false)
	require.NoError(t, err)
	r := rand.New(rand.NewPCG(5, 9))
	text := func() string {
		t := fmt.Sprintf("%d.%d", r.IntN(3), r.IntN(3))
		if r.IntN(2) == 0 {
			t += fmt.Sprintf("-%d", r.IntN(3))
		}
		return t
	}
	for range 3000 {
		var parts []string
		for range 1 + r.IntN(3) {
			parts = append(parts, []string{"<", "<=", "=", "!=", ">=", ">"}[r.IntN(6)]+text(), []string{" ", " || "}[r.IntN(2)])
		}
		x, err := ParseRange(s, strings.Join(parts[:len(parts)-1], ""))
		require.NoError(t, err)
		v, err := s.Parse(text())
		require.NoError(t, err)
		from, to := placesOf(s, x.edges(), v)
		want := truth.Of(x.holdsAt(from, x.edges()))
		for p := from + 1; p <= to; p++ {
			if truth.Of(x.holdsAt(p, x.edges())) != want {
				want = truth.Unknown
				break
			}
		}
		require.Equal(t, want, x.Holds(v), "%s in %s", v.Text, x.Text)
	}
}
