package device

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fact"
)

const cabinet = `kind: device
name: cabinet-07
model: QM-8T
revision: A2
boards: ["quillmere,qm8t-a"]
installed: {boot: 3.1.4, poe: "2.2"}
slots:
  - {name: A, main: 8.0.3, active: true}
  - {name: B, main: 7.9.1}
memory: 256MiB
companions: {controller: 5.1.0}
read_from: {model: "cab07.txt:3", installed.boot: "cab07.txt:5"}
`

func TestReadKeepsWhereEachValueWasRead(t *testing.T) {
	d, err := Read("cab.yaml", []byte(cabinet))
	require.NoError(t, err)
	model, ok := d.Fact(fact.Model, "model", d.Model)
	require.True(t, ok)
	assert.Equal(t, "QM-8T", model.Value)
	assert.Equal(t, fact.Capture, model.Source.Kind)
	assert.Equal(t, "cab07.txt:3 by way of cab.yaml:3", model.Source.Where())

	boot, ok := d.Version("boot")
	require.True(t, ok)
	assert.Equal(t, "cab07.txt:5 by way of cab.yaml:6", boot.Source.Where())

	main, ok := d.Version("main")
	require.True(t, ok, "the active slot says what runs")
	assert.Equal(t, "8.0.3", main.Value)
	assert.Equal(t, "cab.yaml:8", main.Source.Where())

	_, ok = d.Version("radio")
	assert.False(t, ok)
	_, ok = d.Fact(fact.Region, "region", d.Region)
	assert.False(t, ok)
}

func TestReadRefuses(t *testing.T) {
	for text, want := range map[string]string{
		"kind: device\nname: a\nmodle: QM-8T\n":                                              `d.yaml:3:1: there is no key "modle" here; did you mean "model"?`,
		"kind: rulebook\nname: a\n":                                                          "this is not a device file",
		"name: a\n":                                                                          "kind: device",
		"kind: device\nmodel: x\n":                                                           "the device has no name",
		"kind: device\nname: a\nplatform: cloud\n":                                           "physical or virtual",
		"kind: device\nname: a\nslots: [{main: 1.0}]\n":                                      "a slot needs a name",
		"kind: device\nname: a\nslots: [{name: A}, {name: A}]\n":                             "two slots",
		"kind: device\nname: a\nread_from: {model: x}\n":                                     `read_from speaks of "model"`,
		"kind: device\nname: a\nread_from: {installed.main: x}\n":                            `read_from speaks of "installed.main"`,
		"kind: device\nname: a\ngroup: stack\n":                                              "a stack needs members",
		"kind: device\nname: a\nmembers: [{model: x}]\n":                                     "and no group",
		"kind: device\nname: a\ngroup: heap\nmembers: [{model: x}]\n":                        "stack, cluster or chassis",
		"kind: device\nname: a\nuniform: true\n":                                             "uniform goes with a group",
		"kind: device\nname: a\ngroup: stack\nmembers: [{name: x}, {name: x}]\n":             "two members of the name",
		"kind: device\nname: a\ngroup: stack\nmembers: [{name: x, slots: [{main: 1.0}]}]\n":  "a slot needs a name",
		"kind: device\nname: a\nstate: asleep\n":                                             "running, boot-loader or silent",
		"kind: device\nname: a\nread_from: {config.saved: x}\n":                              `read_from speaks of "config.saved"`,
		"kind: device\nname: a\nslots: [{name: A, active: true}, {name: B, active: true}]\n": "2 slots are marked active",
	} {
		_, err := Read("d.yaml", []byte(text))
		assert.ErrorContains(t, err, want, text)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(cabinet))
	f.Fuzz(func(t *testing.T, data []byte) {
		d, err := Read("d.yaml", data)
		if err == nil && d.Name.Text == "" {
			t.Fatal("a device without a name passed")
		}
	})
}

// A device file holds at most so many members, and so much of each list.
func TestBoundsOfADeviceFile(t *testing.T) {
	members := func(n int) string {
		var b strings.Builder
		b.WriteString("kind: device\nname: a\ngroup: stack\nmembers:\n")
		for i := range n {
			fmt.Fprintf(&b, "  - {name: u%d, model: QM-8T}\n", i)
		}
		return b.String()
	}
	_, err := Read("d.yaml", []byte(members(maxMembers)))
	require.NoError(t, err)
	_, err = Read("d.yaml", []byte(members(maxMembers+1)))
	assert.ErrorContains(t, err, "d.yaml:1005:")
	assert.ErrorContains(t, err, "has at most 1000 members, and these are 1001")

	for _, key := range []string{"boards", "features", "attached"} {
		list := func(n int) []byte {
			return []byte("kind: device\nname: a\n" + key + ": [" + strings.Repeat("x, ", n) + "]\n")
		}
		_, err := Read("d.yaml", list(maxEntries))
		require.NoError(t, err, key)
		_, err = Read("d.yaml", list(maxEntries+1))
		assert.ErrorContains(t, err, key+" has 1001 entries, and at most 1000 are read")
	}
}

// What sources speak of is no more than a device file holds: nothing is written.
func TestBoundsOfADraft(t *testing.T) {
	var members, attached strings.Builder
	members.WriteString("Tramline OS\n")
	attached.WriteString("Tramline OS\n")
	for i := range maxEntries*3 + 1 {
		if i <= maxMembers {
			fmt.Fprintf(&members, "Unit %d QM-8T A2 8.4.2\n", i)
		}
		fmt.Fprintf(&attached, "Port %d VR-%d\n", i, i)
	}
	for text, want := range map[string]string{members.String(): "at most 1000", attached.String(): "more than 1000 entries"} {
		r, err := ReadSource("c.txt", []byte(text), []CaptureRule{tramline})
		require.NoError(t, err)
		_, err = Merge([]*Reading{r}, nil, nil, ignorance{}).Write("cab", nil)
		assert.ErrorContains(t, err, want)
	}
}
