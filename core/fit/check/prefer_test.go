package check

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/pagetest"
)

const preferRules = `kind: rulebook
title: t
models: {R-1: {families: [f]}}
families: {f: {components: {main: {}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?:-b(?P<build>\d+))?$', order: [a, b, build]}}
`

// TestWhatIsPreferred holds the order in which candidates for one component come, of every kind that there is, against
// testdata/preferred.txt.
func TestWhatIsPreferred(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(preferRules))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: R-1\n"))
	require.NoError(t, err)
	c := New(member.Resolve(d, rb), &survey.Survey{}, Options{})
	k := Component{Name: "main"}
	var all []*Candidate
	for _, given := range []bool{false, true} {
		for _, stands := range []bool{false, true} {
			for _, worst := range []Outcome{Fits, Note, Unsettled, Misfit} {
				for _, distance := range []int{0, 1, 2} {
					for _, v := range []string{"8.4", "8.10", "x", "8.4-b7"} {
						a := &Candidate{Item: &survey.Item{Item: &archive.Item{}}, given: given, summary: summary{worst: worst, stands: stands, distance: distance}}
						a.Item.Address = fmt.Sprintf("given %v, stands %v, %s, distance %d, %s", given, stands, worst, distance, v)
						a.Item.Witnesses = []fact.Witness{{Kind: fact.Header, Claims: []fact.Claim{{{About: fact.Version, Value: v}}}}}
						all = append(all, a)
					}
				}
			}
		}
	}
	slices.Reverse(all)
	slices.SortStableFunc(all, func(a, b *Candidate) int { return c.prefer(k, a, b) })
	for i, a := range all { // it is an order
		for n, o := range all {
			require.Equal(t, cmp.Compare(i, n), signOf(c.prefer(k, a, o)), "%s and %s", a.Item.Address, o.Item.Address)
		}
	}
	var b strings.Builder
	for _, a := range all {
		fmt.Fprintln(&b, a.Item.Address, a.Version().Value)
	}
	pagetest.Hold(t, filepath.Join("testdata", "preferred.txt"), b.String())
}

func signOf(n int) int { return cmp.Compare(n, 0) }

// Of an image with several configurations, what those say that exclude the device counts for nothing; where all do, all
// of it does.
func TestSpoken(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(preferRules))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: R-1\narch: arm\n"))
	require.NoError(t, err)
	c := New(member.Resolve(d, rb), &survey.Survey{}, Options{})
	claim := func(arch, version string) fact.Claim {
		return fact.Claim{{About: fact.Arch, Value: arch}, {About: fact.Version, Value: version}}
	}
	said := func(kind fact.Kind, claims ...fact.Claim) string {
		return fact.Values(c.spoken(fact.Witness{Kind: kind, Claims: claims}, fact.Version))
	}
	for want, got := range map[string]string{
		"8.4":         said(fact.Header, claim("arm", "8.4"), claim("mips", "7.1")),
		"8.4, 8.5":    said(fact.Header, claim("arm", "8.4"), claim("mips", "7.1"), claim("arm", "8.5")),
		"7.1":         said(fact.Header, claim("mips", "7.1")),
		"7.1, 7.2":    said(fact.Header, claim("mips", "7.1"), claim("x86", "7.2")),
		"9.1, 9.2":    said(fact.Manifest, claim("arm", "9.1"), claim("mips", "9.2")),
		"10.1":        said(fact.Header, claim("arm", "10.1")),
		"11.1, 11.10": said(fact.Header, claim("arm", "11.1"), claim("arm", "11.10")),
	} {
		require.Regexp(t, regexp.MustCompile(`^`+regexp.QuoteMeta(want)+`$`), got)
	}
}

// By a guess of the rulebook nothing fits and nothing is a misfit, but what rests on the bytes alone; where nothing else
// is said, the guess is not spoken of.
func TestWhatRestsOnAGuess(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(strings.Replace(preferRules, "models: {R-1: {families: [f]}}", "models:\n  R-1: {families: [f]}  # GUESS: is it of f?", 1)))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: R-1\n"))
	require.NoError(t, err)
	c := New(member.Resolve(d, rb), &survey.Survey{}, Options{})
	line := func(check string, o Outcome) Line { return Line{Check: check, Outcome: o, Because: "so"} }
	for _, x := range []struct {
		name  string
		lines []Line
		want  []string
	}{
		{"what would fit", []Line{line("model", Fits)}, []string{"model fits", "rulebook unsettled"}},
		{"what would not", []Line{line("model", Misfit)}, []string{"rulebook unsettled", "rulebook unsettled"}},
		{"what is not settled anyway", []Line{line("model", Unsettled)}, []string{"model unsettled"}},
		{"a note", []Line{line("model", Note)}, []string{"model note"}},
		{"bytes", []Line{line("intact", Misfit)}, []string{"intact misfit"}},
		{"bytes that fit", []Line{line("intact", Fits)}, []string{"intact fits"}},
		{"both", []Line{line("intact", Misfit), line("model", Misfit), line("model", Note)}, []string{"intact misfit", "rulebook unsettled", "model note", "rulebook unsettled"}},
		{"nothing", nil, nil},
	} {
		var got []string
		for _, l := range c.Guessed(slices.Clone(x.lines)) {
			got = append(got, l.Check+" "+string(l.Outcome))
		}
		slices.Sort(got)
		slices.Sort(x.want)
		require.Equal(t, x.want, got, x.name)
	}
}

// Why another image was picked is said as it is: newer only where that is known.
func TestWhyItWasPassedOver(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(preferRules))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: R-1\n"))
	require.NoError(t, err)
	c := New(member.Resolve(d, rb), &survey.Survey{}, Options{})
	of := func(v string) *Candidate {
		return &Candidate{Item: &survey.Item{Item: &archive.Item{Address: v}, Witnesses: []fact.Witness{{Kind: fact.Header, Claims: []fact.Claim{{{About: fact.Version, Value: v}}}}}}}
	}
	for _, x := range [][3]string{{"8.10", "8.4", "the other one is newer"}, {"8.4", "8.4", "the other one was found first"}, {"8.4", "x", "nothing tells which of the two is newer"}, {"8.4-b7", "8.4", "nothing tells which of the two is newer"}} {
		require.Equal(t, x[2], c.passedOver(Component{Name: "main"}, of(x[1]), of(x[0])).Because, x)
	}
}
