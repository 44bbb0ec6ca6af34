package rulebook

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fact"
	"fitcheck/core/truth"
	"fitcheck/core/yamlfile"
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
		"not a rulebook":         {"kind: device\n", ":1:7", "kind: rulebook"},
		"misspelt key":           {head + "modles: {}\n", ":3:1", `"models"`},
		"a step there is not":    {head + "procedure: {dance: x}\n", ":3:13", `there is no step "dance"`},
		"wording of nothing":     {head + "procedure: {backup: 'copy {{.Nothing}}'}\n", ":3:21", "can't evaluate field Nothing"},
		"wording left open":      {head + "procedure: {backup: 'copy {{.File'}\n", ":3:21", "unclosed action"},
		"wording without end":    {head + "procedure: {backup: '{{if .Slot}}{{range 1000000000000}}{{end}}{{end}}'}\n", ":3:21", "range has nothing to go through here"},
		"recovery, no address":   {head + "recovery: [{network: {device: box}}]\n", ":3:31", `"box" is not an address`},
		"factory reset to what":  {head + "families: {f: {components: {main: {}}, factory_reset: gone}}\n", ":3:55", `factory_reset is running, other-slot, or a version, not "gone"`},
		"recovery, no prefix":    {head + "recovery: [{network: {host: 10.0.0.1}}]\n", ":3:29", "with the length of its prefix"},
		"recovery, no sign":      {head + "recovery: [{signs: {ping_ttl: 64}, not_yet: {ping_ttl: 64}}]\n", ":3:12", "tells nothing apart"},
		"recovery, no time":      {head + "recovery: [{transfer: {within: soon}}]\n", ":3:32", "is not a stretch of time"},
		"recovery, fetches what": {head + "recovery: [{transfer: {direction: serve}}]\n", ":3:12", "transfer needs file"},
		"spelling taken":         {head + "models: {A: {also: [b]}, B: {}}\n", ":3:26", "belongs to the model A"},
		"unknown group":          {head + "packages: [{file: '(?P<colour>x)'}]\n", ":3:19", "colour"},
		"entry never found":      {head + "packages: [{title: x}]\n", ":3:12", "never be found"},
		"not a pattern":          {head + "packages: [{file: '('}]\n", ":3:19", "regular expression"},
		"lines without record":   {head + "packages: [{manifest: {item: 'a', form: lines}}]\n", ":3:23", "record"},
		"form of a manifest":     {head + "packages: [{manifest: {item: 'a', form: toml}}]\n", ":3:41", "toml"},
		"order without a group":  {head + "versions: {default: {pattern: '^(?P<a>x)$', order: [b]}}\n", ":3:12", `"b"`},
		"unread release":         {strings.Replace(line, `version: "2.0"`, `version: "2.0.0"`, 1), ":9:15", "does not read"},
		"unread range":           {strings.Replace(line, `from: "1.0"`, `from: ">=1"`, 1), ":15:14", ">=1"},
		"rule without allow":     {strings.Replace(line, "allow: true, resets_config: true", "resets_config: true", 1), ":16:7", "allow"},
		"two needs in one":       {strings.Replace(line, `{version: "2.0", families: [f]}`, `{version: "2.0", needs: [{memory: 1MiB, storage_free: 1MiB}]}`, 1), ":9:30", "exactly one"},
		"need without range":     {strings.Replace(line, `{version: "2.0", families: [f]}`, `{version: "2.0", needs: [{component: boot}]}`, 1), ":9:30", "within"},
		"handling":               {head + "packages: [{file: x, handling: packed}]\n", ":3:32", "unpacked or whole"},
		"manifest without item":  {head + "packages: [{manifest: {form: lines, record: '(?P<file>x)'}}]\n", ":3:23", "item"},
		"lines with records":     {head + "packages: [{manifest: {item: m, form: lines, record: '(?P<file>x)', records: a}}]\n", ":3:23", "go with the forms ini"},
		"json with a pattern":    {head + "packages: [{manifest: {item: m, form: json, record: '(?P<file>x)'}}]\n", ":3:23", "form lines"},
		"field of no meaning":    {head + "packages: [{manifest: {item: m, form: json, records: a, fields: {file: f, colour: c}}}]\n", ":3:23", "colour"},
		"fields without file":    {head + "packages: [{manifest: {item: m, form: json, records: a, fields: {version: v}}}]\n", ":3:23", "names the file"},
		"fields of no group":     {head + "packages: [{manifest: {item: m, form: json, group_fields: {models: m}}}]\n", ":3:23", "groups"},
		"file out of a manifest": {head + "packages: [{file: '(?P<file>x)'}]\n", ":3:19", "only in a manifest"},
		"signature of what":      {head + "packages: [{file: x, signature: {item: s, key: k}}]\n", ":3:33", "what it is of"},
		"signature where":        {head + "packages: [{file: x, signature: {of: manifest, key: k}}]\n", ":3:33", "which item"},
		"signature by whom":      {head + "packages: [{file: x, signature: {item: s, of: manifest}}]\n", ":3:33", "keys/"},
		"key that leads away":    {head + "packages: [{file: x, signature: {item: s, of: manifest, key: ../k}}]\n", ":3:62", "leads out"},
		"scheme of signing":      {head + "packages: [{file: x, signature: {item: s, of: manifest, key: k, scheme: dsa}}]\n", ":3:73", "schemes are"},
		"layout that leads away": {head + "layouts: [../l.yaml]\n", ":3:11", "leads out"},
		"item without match":     {head + "packages: [{file: x, items: [{component: main}]}]\n", ":3:30", "match"},
		"versions in a word":     {head + "versions: {default: semantic}\n", ":3:21", "natural"},
		"release of no version":  {strings.Replace(line, `{version: "2.0", families: [f]}`, `{families: [f]}`, 1), ":9:5", "needs a version"},
		"brings":                 {strings.Replace(line, `{version: "2.0", families: [f]}`, `{version: "2.0", brings: {boot: x}}`, 1), ":9:37", "does not read"},
		"within of a feature":    {strings.Replace(line, `{version: "2.0", families: [f]}`, `{version: "2.0", needs: [{feature: x, within: "1.0"}]}`, 1), ":9:30", "nothing else"},
		"downward":               {strings.Replace(line, "downward: closed", "downward: maybe", 1), ":13:13", "open or closed"},
		"upward":                 {strings.Replace(line, "upward: open", "upward: opne", 1), ":12:11", "open or listed"},
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
		want           truth.Truth
	}{{"A1", "a1", truth.Yes}, {"A1-B1", "A2", truth.Yes}, {"A1-A2", "B1", truth.No}, {"A2", "A1", truth.No},
		// What is no revision and no range of revisions says nothing.
		{"B1-A1", "A2", truth.Unknown}, {"A1-Z9", "A2", truth.Unknown}, {"A1-Z9", "Z9", truth.Unknown}, {"not-A2", "A2", truth.Unknown}, {"ex-A2", "A2", truth.Unknown}, {"A1", "Z9", truth.Unknown}, {"Z9", "Z9", truth.Unknown}, {"A2-", "A2", truth.Unknown}, {"", "A2", truth.Unknown}} {
		assert.Equal(t, c.want, m.HoldsRevision(c.text, c.revision), "%s in %s", c.revision, c.text)
	}
	var nobody *Model
	assert.Equal(t, truth.Unknown, nobody.HoldsRevision("1-10", "9"), "nobody listed them")
	assert.Equal(t, truth.Yes, nobody.HoldsRevision("r9", "R9"))
	assert.False(t, m.Alike())
	arch, ok := r.Arch(m, "")
	assert.False(t, ok, "with the revision unknown the architecture is not: %v", arch)
	assert.Len(t, r.Owners("X,Y-A"), 2)
}

// What a rulebook says of the hardware is known only where all revisions that
// are possible agree.
func TestHardware(t *testing.T) {
	r, err := Read("r.yaml", []byte(head+`models:
  M-1:
    also: [M1]
    slot: 16MiB
    revisions:
      A1: {arch: arm, boards: ["x,a"], memory: 128MiB}
      A2: {arch: armv7, boards: ["x,a"], memory: 256MiB}
      B1: {arch: arm64, boards: ["x,b", "x,c"], slot: 32MiB}
  M-2: {arch: mipsel, boards: ["y,m2"], memory: 64MiB}
families: {f: {components: {boot: {}, rootfs: {slotted: true}}}, g: {components: {a: {}, b: {}}}}
versions: {default: natural, main: {pattern: '^(?P<a>\d+)$', order: [a]}}
releases: [{version: "2"}, {version: "1"}]
`))
	require.NoError(t, err)
	for _, c := range []struct{ model, revision, arch, boards, slot, memory string }{
		{"m1", "a1", "arm", "x,a", "16777216", "134217728"},
		{"M-1", "B1", "arm64", "x,b, x,c", "33554432", ""},
		{"M-1", "", "", "", "", ""},
		{"M-2", "", "mipsel", "y,m2", "", "67108864"},
		{"M-2", "whatever", "mipsel", "y,m2", "", "67108864"},
		{"M-1", "Z9", "", "", "", ""},
	} {
		e, ok := r.FindModel(c.model)
		require.True(t, ok)
		m := &e.Value
		arch, ok := r.Arch(m, c.revision)
		assert.Equal(t, c.arch, arch.Value, c)
		assert.Equal(t, c.arch != "", ok)
		if ok {
			assert.Regexp(t, `^r\.yaml:\d+$`, arch.Source.Where())
		}
		assert.Equal(t, c.boards, fact.Values(r.Boards(m, c.revision)), c)
		for want, of := range map[*string]func(*Model, string) (yamlfile.Size, bool){&c.slot: r.SlotSize, &c.memory: r.MemorySize} {
			size, ok := of(m, c.revision)
			assert.Equal(t, *want != "", ok, c)
			if ok {
				assert.Equal(t, *want, strconv.FormatInt(size.Bytes, 10), c)
			}
		}
	}
	_, ok := r.FindModel("M-3")
	assert.False(t, ok)
	assert.Equal(t, "M-1", r.CanonicalModel(" m1 "))
	assert.Equal(t, "m-3", r.CanonicalModel("M-3"))
	assert.Equal(t, []string{"2", "1"}, r.Known())
	assert.Equal(t, "rootfs", r.Main("f"), "the only slotted one")
	assert.Equal(t, "b", r.Main("g"), "the last that is installed")
	assert.Equal(t, "main", r.Main("unknown"))
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
