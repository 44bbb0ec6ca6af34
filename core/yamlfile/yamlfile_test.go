package yamlfile

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type inner struct {
	Spot
	Within String `yaml:"within"`
}

type sample struct {
	Name  String      `yaml:"name"`
	Slot  Size        `yaml:"slot"`
	Date  Date        `yaml:"date"`
	Ok    bool        `yaml:"ok"`
	Count int         `yaml:"count"`
	Names []String    `yaml:"names"`
	Needs []inner     `yaml:"needs"`
	Map   Map[String] `yaml:"map"`
	Re    Pattern     `yaml:"re"`
	Glob  Glob        `yaml:"glob"`
	Late  String      `yaml:"late,unserved"`
	One   *inner      `yaml:"one"`
}

func TestReadKeepsPlacesAndOrder(t *testing.T) {
	var s sample
	require.NoError(t, Read("f.yaml", []byte(`name: &n cab
slot: 1.5KiB
date: 2026-09-30
names: [8.0, *n]
needs:
  - within: ">=1"
  - {within: "2"}
map: {z: 1, a: 2}
re: '^(\d+)$'
glob: '**/*.img'
one: {within: x}
ok: true
count: 3
`), &s))
	assert.Equal(t, String{"cab", Spot{1, 7}}, s.Name)
	assert.EqualValues(t, 1536, s.Slot.Bytes)
	assert.Equal(t, "2026-09-30", s.Date.Day.Format("2006-01-02"))
	assert.Equal(t, "8.0", s.Names[0].Text, "a version keeps its spelling")
	assert.Equal(t, "cab", s.Names[1].Text)
	assert.Equal(t, Spot{7, 5}, s.Needs[1].Spot)
	assert.Equal(t, []string{"z", "a"}, s.Map.Keys())
	assert.True(t, s.Glob.Match("a/b/c.img"))
	assert.True(t, s.Re.MatchString("12"))
	assert.True(t, s.Ok)
	assert.Equal(t, 3, s.Count)
	assert.Equal(t, "x", s.One.Within.Text)
}

func TestReadRefuses(t *testing.T) {
	cases := map[string]struct{ text, want string }{
		"misspelt key":       {"name: a\nslott: 4\n", `f.yaml:2:1: there is no key "slott" here; did you mean "slot"?`},
		"far-off key":        {"zzzzzzzz: 4\n", "the keys here are count, date"},
		"nested key":         {"needs:\n  - {withn: 1}\n", `f.yaml:2:6: there is no key "withn" here; did you mean "within"?`},
		"duplicate key":      {"name: a\nname: b\n", `f.yaml:2:1: the key "name" stands here a second time; the first is in line 1`},
		"duplicate map key":  {"map: {a: 1, a: 2}\n", `"a" stands here a second time`},
		"key of a later day": {"late: x\n", `f.yaml:1:1: the key "late" is part of this format, but this fitcheck does not serve it yet`},
		"wrong size":         {"slot: 32 bananas\n", `f.yaml:1:7: slot: "32 bananas" is not a size`},
		"part of a byte":     {"slot: 1.5\n", "whole number of bytes"},
		"wrong date":         {"date: 30.9.2026\n", "write it as 2026-09-30"},
		"wrong bool":         {"ok: maybe\n", "ok: true or false is expected here"},
		"wrong number":       {"count: many\n", "count: a whole number is expected"},
		"list for text":      {"name: [a]\n", "name: one value is expected here, and a list is given"},
		"nothing for text":   {"name:\n", "and nothing is given"},
		"empty text":         {"name: ''\n", "leave the key out"},
		"text for list":      {"names: a\n", "names: a list such as [a, b] is expected"},
		"text for mapping":   {"needs: [a]\n", "needs[0]: a mapping of keys"},
		"bad pattern":        {"re: '('\n", "re: not a regular expression"},
		"bad glob":           {"glob: '[a'\n", "not a glob"},
		"not YAML":           {"name: a\n b: [\n", "f.yaml:2:1: this is not YAML"},
		"empty":              {"", "the file is empty"},
		"two documents":      {"name: a\n---\nname: b\n", "f.yaml:2:1: a second document"},
		"key that is a list": {"[a]: b\n", "a key must be plain text"},
		"scalar document":    {"hello\n", "the file: a mapping"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			assert.ErrorContains(t, Read("f.yaml", []byte(c.text), &sample{}), c.want)
		})
	}
}

func TestReadReportsEveryErrorInOrder(t *testing.T) {
	err := Read("f.yaml", []byte("nam: 1\nslot: x\nok: 3\n"), &sample{})
	var all Errors
	require.ErrorAs(t, err, &all)
	require.Len(t, all, 3)
	assert.Equal(t, []int{1, 2, 3}, []int{all[0].Spot.Line, all[1].Spot.Line, all[2].Spot.Line})
}

func TestReadStopsAtAliasBomb(t *testing.T) {
	var b strings.Builder
	b.WriteString("names: [&a0 [[],[],[],[],[],[],[],[],[],[]]")
	for i := range 9 {
		b.WriteString(", &a" + string(rune('1'+i)) + " [" + strings.Repeat("*a"+string(rune('0'+i))+",", 10) + "]")
	}
	b.WriteString("]\n")
	var out struct {
		Names []nest `yaml:"names"`
	}
	assert.ErrorContains(t, Read("f.yaml", []byte(b.String()), &out), "unfolds beyond all measure")
}

// A file may be nested as deep as the bound says, and no deeper.
func TestDepthIsBounded(t *testing.T) {
	var out struct {
		Names nest `yaml:"names"`
	}
	read := func(lists int) error {
		out.Names = nil
		return Read("f.yaml", []byte("names: "+strings.Repeat("[", lists)+strings.Repeat("]", lists)+"\n"), &out)
	}
	assert.NoError(t, read(maxDepth))
	assert.ErrorContains(t, read(maxDepth+1), "unfolds beyond all measure")
}

type nest []nest

func TestParseSize(t *testing.T) {
	for text, want := range map[string]int64{"0": 0, "12": 12, "12B": 12, "32MiB": 32 << 20, "120MB": 120e6, "1 GiB": 1 << 30, "2kB": 2000, "1TiB": 1 << 40} {
		got, err := ParseSize(text)
		assert.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, bad := range []string{"", "-1", "1PiB", "99999999999TiB", "0x10", "1e3"} {
		_, err := ParseSize(bad)
		assert.Error(t, err, bad)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("name: a\nneeds: [{within: '1'}]\n"))
	f.Add([]byte("a: &a [*a]\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_ = Read("f.yaml", data, &sample{})
	})
}

// What is wrong with a regular expression is told in words, with the part of it that is.
func TestFaultsOfPatterns(t *testing.T) {
	for text, want := range map[string]string{
		"(": "a ( is not closed: (", "a)": "a ) closes nothing: a)", "[a": "a [ is not closed: [a", "*a": "there is nothing that is to be repeated: *", "a**": "what is repeated already is repeated again: **",
		"a{2000}": "it is repeated too often: {2000}", "[z-a]": "there is no such range or class of characters: z-a", "[[:tram:]]": "there is no such range or class of characters: [:tram:]", `\y`: `there is no such escape: \y`,
		`a\`: "it ends in a backslash", "(?P<a": "the name of a group is not closed, or is no name: (?P<a", "(?=a)": "it looks around or back, which expressions here cannot (they are those of RE2): (?=",
		strings.Repeat("(", 1001) + strings.Repeat(")", 1001): "its groups lie too deep in each other",
	} {
		var p Pattern
		err := p.ReadScalar(text, Spot{})
		if assert.Error(t, err, text) {
			assert.True(t, strings.HasPrefix(err.Error(), "not a regular expression: "), err.Error())
			assert.Contains(t, err.Error(), want, text)
			assert.NotContains(t, err.Error(), "error parsing", text)
		}
	}
	var p Pattern
	require.NoError(t, p.ReadScalar("^a(?P<b>c)$", Spot{Line: 3}))
	assert.True(t, p.Set() && p.MatchString("ac"))
	assert.Equal(t, 3, p.Line)
}
