package device

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// books is a kit that knows one line.
type books struct{}

func (books) Model(text string) (string, bool) {
	for _, w := range strings.Fields(text) {
		if strings.EqualFold(w, "QM-8T") || strings.EqualFold(w, "QM8T") {
			return "QM-8T", true
		}
	}
	return "", false
}

func (books) Revision(model, revision string) bool {
	return model == "QM-8T" && (revision == "A1" || revision == "A2" || revision == "B1")
}

func (books) Owners(board string) []Owner {
	switch board {
	case "quillmere,qm8t-a":
		return []Owner{{"QM-8T", "A1", "qm.yaml:7"}, {"QM-8T", "A2", "qm.yaml:8"}}
	case "quillmere,qm8t-b":
		return []Owner{{"QM-8T", "B1", "qm.yaml:9"}}
	}
	return nil
}

// from makes a reading of "member/key=text" words; a trailing ? is a guess, ??
// one that a rulebook can confirm.
func from(file string, words ...string) *Reading {
	r := &Reading{File: file}
	for i, w := range words {
		key, text, _ := strings.Cut(w, "=")
		member := ""
		if m, k, ok := strings.Cut(key, "/"); ok {
			member, key = m, k
			r.Group = "stack"
		}
		v := r.add(member, key, strings.TrimRight(text, "?"), lineOf(file, i+1))
		v.Guess, v.Open = strings.HasSuffix(text, "?"), strings.HasSuffix(text, "??")
	}
	return r
}

func hand(t *testing.T, texts ...string) []Value {
	var out []Value
	for _, x := range texts {
		v, err := ByHandValue(x)
		require.NoError(t, err)
		out = append(out, v)
	}
	return out
}

func findings(d *Draft) []string {
	var out []string
	for _, f := range d.Findings {
		var texts []string
		for _, v := range f.Values {
			texts = append(texts, v.Text)
		}
		t := f.Label() + "=" + strings.Join(texts, ",")
		if f.Guess() {
			t += "?"
		}
		out = append(out, t)
	}
	return out
}

func TestMerge(t *testing.T) {
	cases := map[string]struct {
		readings       []*Reading
		set            []string
		have           string
		want           []string
		contradictions []string
		changes, notes string
	}{
		"two that agree":              {readings: []*Reading{from("a", "model=QM-8T", "memory=256MiB"), from("b", "model=qm8t", "memory=268435456")}, want: []string{"model=QM-8T", "memory=256MiB"}},
		"two that do not":             {readings: []*Reading{from("a", "revision=A2", "serial=1"), from("b", "revision=B1")}, want: []string{"serial=1"}, contradictions: []string{"revision: a:1 says A2; b:1 says B1"}},
		"one source with two answers": {readings: []*Reading{from("a", "installed.main=8.2.1", "installed.main=8.4.2")}, contradictions: []string{"installed.main: a:1 says 8.2.1; a:2 says 8.4.2"}},
		"settled by hand":             {readings: []*Reading{from("a", "revision=A2"), from("b", "revision=B1")}, set: []string{"revision=B1"}, want: []string{"revision=B1"}, notes: "revision is set by hand to B1, where a:1 says A2"},
		"what is sure beats a guess":  {readings: []*Reading{from("a", "installed.main=8.2.1?"), from("b", "installed.main=8.4.2")}, want: []string{"installed.main=8.4.2"}, notes: "a:1: 8.2.1 could mean"},
		"guesses stay guesses":        {readings: []*Reading{from("a", "installed.main=8.2.1?")}, want: []string{"installed.main=8.2.1?"}},
		"guesses that differ":         {readings: []*Reading{from("a", "serial=1?", "serial=2?")}, contradictions: []string{"serial: a:1 says 1; a:2 says 2"}},
		"lists add up":                {readings: []*Reading{from("a", "attached=VR-310", "attached=VR-320"), from("b", "attached=vr-310")}, want: []string{"attached=VR-310,VR-320"}},
		"a rulebook confirms":         {readings: []*Reading{from("a", "model=Quillmere QM8T??", "revision=2??", "revision=B1??")}, want: []string{"model=QM-8T", "revision=B1"}},
		"no rulebook confirms":        {readings: []*Reading{from("a", "model=Velloway VR-310??")}, want: []string{"model=Velloway VR-310?"}},
		"a board tells the model":     {readings: []*Reading{from("a", "boards=quillmere,qm8t-a")}, want: []string{"boards=quillmere,qm8t-a", "model=QM-8T"}, notes: "it is that of the revisions A1, A2"},
		"a board tells the revision":  {readings: []*Reading{from("a", "boards=quillmere,qm8t-b")}, want: []string{"boards=quillmere,qm8t-b", "model=QM-8T", "revision=B1"}},
		"a board contradicts":         {readings: []*Reading{from("a", "boards=quillmere,qm8t-a", "revision=B1")}, want: []string{"boards=quillmere,qm8t-a", "model=QM-8T"}, contradictions: []string{"revision: a:2 says B1; qm.yaml:7, by the board quillmere,qm8t-a says A1 or A2"}},
		"two active slots":            {readings: []*Reading{from("a", "slots.A.name=A", "slots.A.active=true", "slots.B.name=B", "slots.B.active=true")}, want: []string{"slots.A.name=A", "slots.B.name=B"}, contradictions: []string{"active slot: a:2 says A; a:4 says B"}},
		"members":                     {readings: []*Reading{from("a", "one/model=QM-8T", "two/model=QM-24T")}, set: []string{"two/revision=A1"}, want: []string{"one: model=QM-8T", "two: model=QM-24T", "two: revision=A1"}},
		"state gives way, hardware does not": {have: "kind: device\nname: cab\nmodel: QM-8T\nserial: \"7\"\ninstalled: {main: 8.0.3, boot: 3.1.4}\n", readings: []*Reading{from("a", "installed.main=8.2.1", "serial=8")},
			want: []string{"installed.main=8.2.1"}, contradictions: []string{"serial: a:2 says 8; d.yaml:4 says 7"}, changes: "installed.main: 8.0.3 becomes 8.2.1 (a:1)"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			var have *Device
			if c.have != "" {
				var err error
				have, err = Read("d.yaml", []byte(c.have))
				require.NoError(t, err)
			}
			d := Merge(c.readings, hand(t, c.set...), have, books{})
			assert.Equal(t, c.want, findings(d))
			var got []string
			for _, x := range d.Contradictions {
				got = append(got, x.Label()+": "+x.Text())
			}
			assert.Equal(t, c.contradictions, got)
			assert.Contains(t, strings.Join(d.Changes, "\n"), c.changes)
			assert.Contains(t, strings.Join(d.Notes, "\n"), c.notes)
		})
	}
}

func TestByHandRefuses(t *testing.T) {
	for text, want := range map[string]string{"model": "write KEY=VALUE", "modle=x": `"modle" is not a key`, "memory=much": "not a size", "platform=cloud": "physical or virtual", "slots.A=x": "is not a key", "model=": "empty", "config.saved=perhaps": "neither yes nor no", "entitled_until=soon": "not a date"} {
		_, err := ByHandValue(text)
		assert.ErrorContains(t, err, want, text)
	}
}

// A file that is updated keeps what people wrote into it.
func TestWriteUpdates(t *testing.T) {
	const have = `kind: device
name: cab # the one by the bridge
model: QM-8T
features: [vpn]  # until spring
slots:
  - {name: A, main: 8.0.3, active: true}
  - {name: C}
read_from: {slots.C: "old.txt:4", model: "label"}
`
	old, err := Read("d.yaml", []byte(have))
	require.NoError(t, err)
	d := Merge([]*Reading{from("new.txt", "slots.A.name=A", "slots.A.main=8.0.3", "slots.B.name=B", "slots.B.main=8.2.1", "slots.B.active=true", "installed.poe=2.20", "storage_free=10MiB", "config.saved=true")}, nil, old, books{})
	text, err := d.Write("cab", []byte(have))
	require.NoError(t, err)
	got, err := Read("d.yaml", text)
	require.NoError(t, err, string(text))
	assert.Contains(t, string(text), "# the one by the bridge")
	assert.Contains(t, string(text), "# until spring")
	require.Len(t, got.Slots, 2)
	assert.True(t, got.Slots[1].Active)
	assert.False(t, got.Slots[0].Active)
	poe, _ := got.Version("poe")
	assert.Equal(t, "2.20", poe.Value, "a version keeps its zero")
	assert.Equal(t, "new.txt:6 by way of d.yaml:5", poe.Source.Where())
	assert.Equal(t, "label", got.readFrom("model"))
	assert.Empty(t, got.readFrom("slots.C"), "what is gone is cited no more")

	again := Merge([]*Reading{from("new.txt", "slots.A.name=A", "slots.A.main=8.0.3", "slots.B.name=B", "slots.B.main=8.2.1", "slots.B.active=true", "installed.poe=2.20", "storage_free=10MiB", "config.saved=true")}, nil, got, books{})
	twice, err := again.Write("cab", text)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(twice), "a second run changes nothing")
}

func TestGroups(t *testing.T) {
	d, err := Read("s.yaml", []byte(`kind: device
name: depot
group: stack
uniform: true
model: QM-8T
revision: A2
installed: {boot: 3.1.4, main: 8.2.1}
read_from: {model: "depot.txt:2", installed.boot: "depot.txt:9", revision: "depot.txt:3 (guess)"}
members:
  - {name: one}
  - {revision: B1, installed: {main: 8.0.3}, boards: [x], read_from: {installed.main: "two.txt:5"}}
`))
	require.NoError(t, err)
	all := d.All()
	require.Len(t, all, 2)
	one, two := all[0], all[1]
	assert.Equal(t, "QM-8T", one.Model.Text)
	assert.Equal(t, "depot.txt:2", one.readFrom("model"))
	_, known := one.Fact("revision", "revision", one.Revision)
	assert.False(t, known, "a guess of the group is one for the member")
	assert.Equal(t, "depot member 2", two.Name.Text)
	rev, known := two.Fact("revision", "revision", two.Revision)
	assert.True(t, known, "what a member says itself is not where the group's was read")
	assert.Equal(t, "B1", rev.Value)
	main, _ := two.Version("main")
	boot, _ := two.Version("boot")
	assert.Equal(t, []string{"8.0.3", "two.txt:5 by way of s.yaml:11", "3.1.4", "depot.txt:9 by way of s.yaml:7"}, []string{main.Value, main.Source.Where(), boot.Value, boot.Source.Where()})
	assert.Empty(t, one.Serial.Text)
	assert.Equal(t, []*Device{one}, one.All())
}
