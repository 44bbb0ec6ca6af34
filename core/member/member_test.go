package member

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
)

const rules = `kind: rulebook
title: Quillmere
models:
  QM-8T:
    also: [QM8T]
    families: [tram, mini]
    memory: 256MiB
    revisions:
      A1: {arch: arm, boards: ["quillmere,qm8t-a"], slot: 32MiB}
      B1: {arch: arm64, boards: ["quillmere,qm8t-b"], slot: 64MiB, memory: 512MiB}
  QM-24T: {families: [tram], arch: arm, boards: ["quillmere,qm24t"]}
  QM-1: {}
families:
  tram: {components: {boot: {title: boot loader}, main: {title: system image}}}
  mini: {components: {core: {title: core image}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?:\.(?P<build>\d+))?$', order: [a, b]}}
`

// box resolves a device file of some lines.
func box(t *testing.T, lines ...string) *Member {
	t.Helper()
	rb, err := rulebook.Read("r.yaml", []byte(rules))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: cab\n"+strings.Join(lines, "\n")+"\n"))
	require.NoError(t, err)
	if _, ok := rb.FindModel(d.Model.Text); !ok {
		rb = nil
	}
	return Resolve(d, rb)
}

// Whether a value is known, guessed or contradicted is decided here, once.
func TestValues(t *testing.T) {
	read := func(pairs ...string) string {
		out := "read_from:"
		for i := 0; i < len(pairs); i += 2 {
			out += "\n  " + pairs[i] + ": '" + pairs[i+1] + "'"
		}
		return out
	}
	installed := func(component string) func(m *Member) Value {
		return func(m *Member) Value { return m.Installed(component) }
	}
	named := func(n fact.Name) func(m *Member) Value { return func(m *Member) Value { return m.Value(n) } }
	memory := func(m *Member) Value { _, v := m.Memory(); return v }
	slot := func(m *Member) Value { _, v := m.SlotSize(); return v }
	free := func(m *Member) Value { _, v := m.StorageFree(); return v }
	for name, c := range map[string]struct {
		device []string
		of     func(m *Member) Value
		state  State
		text   string
	}{
		"a model by its other spelling":                  {[]string{"model: qm8t"}, named(fact.Model), Known, "qm8t"},
		"nothing is known of a model":                    {nil, named(fact.Model), Missing, "not known"},
		"a guessed model":                                {[]string{"model: QM-8T", read("model", "a capture (guess)")}, named(fact.Model), Guessed, "not known, guessed to be QM-8T"},
		"a guessed model tells nothing of the arch":      {[]string{"model: QM-24T", read("model", "a capture (guess)")}, named(fact.Arch), Missing, "not known"},
		"a revision in another case":                     {[]string{"model: QM-8T", "revision: b1"}, named(fact.Revision), Known, "b1"},
		"a revision that the model has not":              {[]string{"model: QM-8T", "revision: C9"}, named(fact.Revision), Contradicted, "C9 against A1, B1"},
		"any revision of a model without revisions":      {[]string{"model: QM-24T", "revision: C9"}, named(fact.Revision), Known, "C9"},
		"the arch of the revision":                       {[]string{"model: QM-8T", "revision: B1"}, named(fact.Arch), Known, "arm64"},
		"the arch without the revision":                  {[]string{"model: QM-8T"}, named(fact.Arch), Missing, "not known"},
		"no arch of a contradicted revision":             {[]string{"model: QM-8T", "revision: B1", "boards: ['quillmere,qm8t-a']"}, named(fact.Arch), Missing, "not known"},
		"the rulebook fills what was guessed":            {[]string{"model: QM-8T", "revision: A1", "arch: mips", read("arch", "x (guess)")}, named(fact.Arch), Known, "arm"},
		"another arch than the rulebook's":               {[]string{"model: QM-8T", "revision: A1", "arch: mips"}, named(fact.Arch), Contradicted, "mips against arm"},
		"the same arch by another name":                  {[]string{"model: QM-8T", "revision: B1", "arch: aarch64"}, named(fact.Arch), Known, "aarch64"},
		"the board of another revision":                  {[]string{"model: QM-8T", "revision: A1", "boards: ['quillmere,qm8t-b']"}, named(fact.Revision), Contradicted, "A1 against B1"},
		"the board of another model":                     {[]string{"model: QM-8T", "boards: ['quillmere,qm24t']"}, named(fact.Model), Contradicted, "QM-8T against QM-24T"},
		"a board that nobody has":                        {[]string{"model: QM-8T", "boards: ['acorn,x1']"}, named(fact.Model), Known, "QM-8T"},
		"one family is enough":                           {[]string{"model: QM-24T"}, named(fact.Family), Known, "tram"},
		"of two families none is known":                  {[]string{"model: QM-8T"}, named(fact.Family), Missing, "not known"},
		"a family in the rulebook's spelling":            {[]string{"model: QM-8T", "family: MINI"}, named(fact.Family), Known, "mini"},
		"a family that the model has not":                {[]string{"model: QM-8T", "family: stock"}, named(fact.Family), Contradicted, "stock against tram, mini"},
		"what is installed":                              {[]string{"model: QM-24T", "installed: {main: '8.2'}"}, installed("main"), Known, "8.2"},
		"a guessed version":                              {[]string{"model: QM-24T", "installed: {main: '8.2'}", read("installed.main", "x (guess)")}, installed("main"), Guessed, "not known, guessed to be 8.2"},
		"the active slot stands for what is not given":   {[]string{"model: QM-24T", "slots: [{name: A, main: '8.2', active: true}, {name: B, main: '8.1'}]"}, installed("main"), Known, "8.2"},
		"an idle slot does not":                          {[]string{"model: QM-24T", "slots: [{name: A, main: '8.2'}]"}, installed("main"), Missing, "not known"},
		"a slot does not speak of the boot loader":       {[]string{"model: QM-24T", "slots: [{name: A, main: '8.2', active: true}]"}, installed("boot"), Missing, "not known"},
		"the active slot says otherwise":                 {[]string{"model: QM-24T", "installed: {main: '8.2'}", "slots: [{name: A, main: '8.1', active: true}]"}, installed("main"), Contradicted, "8.2 against 8.1"},
		"the build of the slot is more than none":        {[]string{"model: QM-24T", "installed: {main: '8.2'}", "slots: [{name: A, main: '8.2.7', active: true}]"}, installed("main"), Known, "8.2.7"},
		"the file's build is kept":                       {[]string{"model: QM-24T", "installed: {main: '8.2.7'}", "slots: [{name: A, main: '8.2', active: true}]"}, installed("main"), Known, "8.2.7"},
		"other builds":                                   {[]string{"model: QM-24T", "installed: {main: '8.2.7'}", "slots: [{name: A, main: '8.2.6', active: true}]"}, installed("main"), Contradicted, "8.2.7 against 8.2.6"},
		"versions that nobody can read":                  {[]string{"model: QM-24T", "installed: {main: '8.2'}", "slots: [{name: A, main: new, active: true}]"}, installed("main"), Contradicted, "8.2 against new"},
		"a known slot is more than a guess":              {[]string{"model: QM-24T", "installed: {main: '8.2'}", "slots: [{name: A, main: '8.1', active: true}]", read("installed.main", "x (guess)")}, installed("main"), Known, "8.1"},
		"a guessed slot does not contradict":             {[]string{"model: QM-24T", "installed: {main: '8.2'}", "slots: [{name: A, main: '8.1', active: true}]", read("slots.A", "x (guess)")}, installed("main"), Known, "8.2"},
		"the memory of the model":                        {[]string{"model: QM-8T", "revision: A1"}, memory, Known, "256 MiB"},
		"revisions have different memories":              {[]string{"model: QM-8T"}, memory, Missing, "not known"},
		"the memory of the revision":                     {[]string{"model: QM-8T", "revision: B1"}, memory, Known, "512 MiB"},
		"the memory by the file alone":                   {[]string{"memory: 1GiB"}, memory, Known, "1 GiB"},
		"other memory than the rulebook's":               {[]string{"model: QM-8T", "revision: A1", "memory: 128MiB"}, memory, Contradicted, "128 MiB against 256 MiB"},
		"guessed memory":                                 {[]string{"memory: 128MiB", read("memory", "x (guess)")}, memory, Guessed, "not known, guessed to be 128 MiB"},
		"the slot of the revision":                       {[]string{"model: QM-8T", "revision: B1"}, slot, Known, "64 MiB"},
		"no slot without the revision":                   {[]string{"model: QM-8T"}, slot, Missing, "not known"},
		"no slot of a revision that the board denies":    {[]string{"model: QM-8T", "revision: B1", "boards: ['quillmere,qm8t-a']"}, slot, Missing, "not known"},
		"no slot without a rulebook":                     {[]string{"model: QM-99"}, slot, Missing, "not known"},
		"free storage":                                   {[]string{"storage_free: 30MiB"}, free, Known, "30 MiB"},
		"guessed storage":                                {[]string{"storage_free: 30MiB", read("storage_free", "x (guess)")}, free, Guessed, "not known, guessed to be 30 MiB"},
		"a companion in another case":                    {[]string{"companions: {Manager: '5.1'}"}, func(m *Member) Value { return m.Companion("manager") }, Known, "5.1"},
		"a companion that is not given":                  {[]string{"companions: {Manager: '5.1'}"}, func(m *Member) Value { return m.Companion("other") }, Missing, "not known"},
		"slots as a whole":                               {[]string{"slots: [{name: A, main: '8.2', active: true}, {name: B}]"}, (*Member).Slots, Known, "A 8.2, active, B"},
		"one guessed slot makes guesses of them":         {[]string{"slots: [{name: A, main: '8.2', active: true}, {name: B}]", read("slots.A", "x (guess)")}, (*Member).Slots, Guessed, "not known, guessed to be A 8.2, active"},
		"what is attached":                               {[]string{"attached: [VR-1, VR-2]"}, (*Member).Attached, Known, "VR-1, VR-2"},
		"an empty list of what is attached is not given": {[]string{"attached: []"}, (*Member).Attached, Missing, "not known"},
	} {
		t.Run(name, func(t *testing.T) {
			v := c.of(box(t, c.device...))
			assert.Equal(t, c.text, v.Text())
			assert.Equal(t, c.state, v.State)
			assert.Equal(t, c.state == Known, v.First() != "", "only what is known decides")
			assert.Equal(t, c.state == Contradicted, v.Why != "", v.Why)
			assert.NotEmpty(t, v.At.File, "it says where, or where it would stand")
		})
	}
}

func TestMember(t *testing.T) {
	m := box(t, "model: QM-8T", "family: mini", "installed: {core: '2.0', boot: '1.1'}")
	assert.Equal(t, "core", m.Main(), "of the family that runs")
	assert.Equal(t, []string{"core", "boot"}, m.InstalledComponents())
	assert.Equal(t, []string{"tram", "mini"}, m.Families())
	family, ok := m.MayRun("TRAM")
	assert.True(t, ok)
	assert.Equal(t, "tram", family)
	_, ok = m.MayRun("stock")
	assert.False(t, ok)

	m = box(t, "model: QM-24T", "installed: {boot: '1.1'}", "slots: [{name: A, main: '8.2', active: true}]")
	assert.Equal(t, []string{"boot", "main"}, m.InstalledComponents(), "the slot tells of the main one")
	m = box(t, "model: QM-24T", "installed: {boot: '1.1'}")
	assert.Equal(t, []string{"boot"}, m.InstalledComponents())
	m = box(t, "model: QM-24T", "installed: {main: '8.2', boot: '1.1'}")
	assert.Equal(t, []string{"main", "boot"}, m.InstalledComponents(), "each of them once")

	m = box(t, "model: QM-99", "installed: {main: '8.2'}")
	assert.Equal(t, "main", m.Main())
	assert.Empty(t, m.Families())
	for state, want := range map[string]bool{"running": false, "boot-loader": true, "silent": true} {
		_, yes := box(t, "state: "+state).DoesNotStart()
		assert.Equal(t, want, yes, state)
	}
	assert.Equal(t, "QM-8T A1", box(t, "model: QM-8T", "revision: A1").Hardware())
	assert.Equal(t, "cab", box(t).Hardware())
	small, v := box(t, "model: QM-8T", "revision: A1", "memory: 1GiB").Memory()
	assert.Equal(t, Contradicted, v.State)
	assert.EqualValues(t, 256<<20, small, "of two sizes the smaller")
}

func TestSituation(t *testing.T) {
	s := Situation{Member: box(t, "model: QM-8T", "installed: {main: '8.2', boot: '1.1'}", "features: [PoE]", "attached: [qm-24t, VR-9]", "memory: 256MiB"), Versions: map[string]string{"main": "8.4", "boot": ""}}
	v, ok := s.Version("main")
	assert.Equal(t, "8.4 true", v+" "+map[bool]string{true: "true"}[ok], "as it will be")
	_, ok = s.Version("boot")
	assert.False(t, ok, "nobody knows what it will be")
	assert.Equal(t, truth.Yes, s.Feature("poe"))
	assert.Equal(t, truth.No, s.Feature("mesh"))
	assert.Equal(t, truth.Yes, s.Attached("QM-24T"), "by any spelling")
	assert.Equal(t, truth.No, s.Attached("QM-8T"))
	n, ok := s.Memory()
	assert.True(t, ok)
	assert.EqualValues(t, 256<<20, n)

	none := Situation{Member: box(t, "model: QM-8T")}
	assert.Equal(t, truth.Unknown, none.Feature("poe"), "what is not given is not known to be missing")
	assert.Equal(t, truth.Unknown, none.Attached("QM-24T"))
	_, ok = none.StorageFree()
	assert.False(t, ok)
	_, ok = none.Companion("manager")
	assert.False(t, ok)
}
