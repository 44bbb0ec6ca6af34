package rulebook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const head = "kind: rulebook\ntitle: T\n"

const line = head + `models:
  M-1: {also: [M1], families: [f], revisions: {A1: {arch: arm, boards: ["x,y-a"]}, A2: {arch: arm, boards: ["x,y-a"]}, B1: {arch: arm64, boards: ["x,y-b"]}}}
families:
  f: {components: {boot: {optional: true}, main: {slotted: true}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
releases:
  - {version: "2.0", families: [f]}
  - {version: "1.0", families: [f], revisions: [A1-A2]}
hops:
  upward: open
  downward: closed
  rules:
    - {from: "1.0", to: "3.0", allow: false, revisions: [B1]}
    - {from: "3.0", to: "2.0", allow: true, resets_config: true}
    - {from_family: f, to_family: g, allow: true}
`

// Each fault of a rulebook is refused with its place and words that help.
func TestRefused(t *testing.T) {
	for name, c := range map[string]struct{ text, where, says string }{
		"not a rulebook":        {"kind: device\n", ":1:7", "kind: rulebook"},
		"misspelt key":          {head + "modles: {}\n", ":3:1", `"models"`},
		"not served yet":        {head + "captures: []\n", ":3:1", "does not serve it yet"},
		"spelling taken":        {head + "models: {A: {also: [b]}, B: {}}\n", ":3:26", "belongs to the model A"},
		"unknown group":         {head + "packages: [{file: '(?P<colour>x)'}]\n", ":3:19", "colour"},
		"entry never found":     {head + "packages: [{title: x}]\n", ":3:12", "never be found"},
		"not a pattern":         {head + "packages: [{file: '('}]\n", ":3:19", "regular expression"},
		"lines without record":  {head + "packages: [{manifest: {item: 'a', form: lines}}]\n", ":3:23", "record"},
		"form of a manifest":    {head + "packages: [{manifest: {item: 'a', form: toml}}]\n", ":3:41", "toml"},
		"order without a group": {head + "versions: {default: {pattern: '^(?P<a>x)$', order: [b]}}\n", ":3:12", `"b"`},
		"unread release":        {strings.Replace(line, `version: "2.0"`, `version: "2.0.0"`, 1), ":9:15", "does not read"},
		"unread range":          {strings.Replace(line, `from: "1.0"`, `from: ">=1"`, 1), ":15:14", ">=1"},
		"rule without allow":    {strings.Replace(line, "allow: true, resets_config: true", "resets_config: true", 1), ":16:7", "allow"},
		"two needs in one":      {strings.Replace(line, `{version: "2.0", families: [f]}`, `{version: "2.0", needs: [{memory: 1MiB, storage_free: 1MiB}]}`, 1), ":9:30", "exactly one"},
		"need without range":    {strings.Replace(line, `{version: "2.0", families: [f]}`, `{version: "2.0", needs: [{component: boot}]}`, 1), ":9:30", "within"},
		"upward":                {strings.Replace(line, "upward: open", "upward: opne", 1), ":12:11", "open or listed"},
	} {
		_, err := Read("r.yaml", []byte(c.text))
		if assert.Error(t, err, name) {
			assert.Contains(t, err.Error(), "r.yaml"+c.where, name)
			assert.Contains(t, err.Error(), c.says, name)
		}
	}
}

func TestRule(t *testing.T) {
	r, err := Read("r.yaml", []byte(strings.Replace(line, "f: {components", "g: {components: {main: {}}}\n  f: {components", 1)))
	require.NoError(t, err)
	v := func(s string) Move {
		from, to, _ := strings.Cut(s, ">")
		a, err := r.Scheme("main").Parse(from)
		require.NoError(t, err)
		b, err := r.Scheme("main").Parse(to)
		require.NoError(t, err)
		return Move{From: a, To: b, FromFamily: "f", ToFamily: "f", Model: "m1", Revision: "A1"}
	}
	for _, c := range []struct {
		move             string
		change           func(*Move)
		allowed, settled bool
		because          string
	}{
		{"1.0>2.0", nil, true, true, "upward: open"},
		{"2.0>1.0", nil, false, true, "goes down"},
		{"3.0>2.0", nil, true, true, "a rule allows"},
		{"1.0>3.0", nil, true, true, "upward: open"},
		{"1.0>3.0", func(m *Move) { m.Revision = "b1" }, false, true, "a rule forbids"},
		{"1.0>3.0", func(m *Move) { m.Revision = "" }, false, false, "revision"},
		{"1.0>2.0", func(m *Move) { m.ToFamily = "g" }, true, true, "a rule allows"},
		{"1.0>2.0", func(m *Move) { m.FromFamily = "g" }, false, true, "no rule allows the move from family"},
	} {
		m := v(c.move)
		if c.change != nil {
			c.change(&m)
		}
		got := r.Rule(m)
		assert.Equal(t, c.allowed, got.Allowed, "%s %+v", c.move, got)
		assert.Equal(t, c.settled, got.Settled, "%s %+v", c.move, got)
		assert.Contains(t, got.Because, c.because)
		assert.NotEmpty(t, got.Source.File)
	}
}

func TestRevisions(t *testing.T) {
	r, err := Read("r.yaml", []byte(line))
	require.NoError(t, err)
	e, ok := r.FindModel("m1")
	require.True(t, ok, "by another spelling, without regard to case")
	m := &e.Value
	for _, c := range []struct {
		text, revision string
		holds, known   bool
	}{{"A1", "a1", true, true}, {"A1-B1", "A2", true, true}, {"A1-A2", "B1", false, true}, {"B1-A1", "A2", false, true}, {"A1-Z9", "A2", false, false}, {"A1-Z9", "Z9", true, true}} {
		holds, known := m.HoldsRevision(c.text, c.revision)
		assert.Equal(t, []bool{c.holds, c.known}, []bool{holds, known}, "%s in %s", c.revision, c.text)
	}
	holds, known := noModelRevision("1-10", "9")
	assert.True(t, holds && known, "numbers have an order of their own")
	assert.False(t, m.Alike())
	arch, ok := r.Arch(m, "")
	assert.False(t, ok, "with the revision unknown the architecture is not: %v", arch)
	assert.Len(t, r.Owners("X,Y-A"), 2)
}

func noModelRevision(text, revision string) (bool, bool) {
	var m *Model
	return m.HoldsRevision(text, revision)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(line))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := Read("r.yaml", data)
		if err == nil {
			r.FindRelease("2.0", "f", "M-1", "A1")
			r.Owners("x")
		}
	})
}
