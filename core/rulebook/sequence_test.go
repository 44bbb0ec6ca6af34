package rulebook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSequenceIsChecked(t *testing.T) {
	for text, want := range map[string]string{
		"sequence: [{do: x}]":                                           "a step needs a name",
		"sequence: [{step: drain}]":                                     `the step "drain" says nothing`,
		"sequence: [{step: drain, do: x, each: port}]":                  "each is once, hop, member or component",
		"sequence: [{step: drain, do: x, when: sunny}]":                 `"sunny" is no condition`,
		"sequence: [{step: drain, do: x, when: [group, windy]}]":        `"windy" is no condition`,
		"sequence: [{step: drain, do: x, wait: soon}]":                  `"soon" is not a stretch of time`,
		"sequence: [{step: drain, do: x, wait: 6m-3m}]":                 "is not a stretch of time",
		"sequence: [{step: drain, do: 'hold {{.Nobody}}'}]":             "the wording cannot be used",
		"sequence: [{step: drain, do: x, shows: {installd.main: '1'}}]": "is not a key of a device file",
		"sequence: [{step: drain, do: x}]\nskip: [save]":                "skip stands beside sequence",
		"skip: [dance]":                                     `there is no built-in step "dance"`,
		"remedies: [{shows: 'error'}]":                      "a remedy needs shows: and do:",
		"checks_after: [{must_show: 'ok', new_only: true}]": "new_only goes with must_not_show",
		"checks_after: [{new_only: false}]":                 "looks at nothing",
		"install: {fetched_by: nobody}":                     "install.fetched_by is one of device, manager, person, maker",
		"install: {fetched_by: [device, x]}":                "install.fetched_by is one of",
		"install: {members: some}":                          "install.members is one of",
		"install: {root: ../up}":                            "leads out of the server's folder",
		"install: {fetches: manifest}\npackages: [{file: '^x$', handling: whole}]": "must be served whole",
		"procedure: {dance: x}": `there is no step "dance"`,
	} {
		_, err := Read("qm.yaml", []byte("kind: rulebook\ntitle: x\n"+text+"\n"))
		assert.ErrorContains(t, err, want, text)
	}
	rb, err := Read("qm.yaml", []byte("kind: rulebook\ntitle: x\ninstall: {fetched_by: [manager, person], root: /up, strip: 1}\nfamilies: {a: {components: {main: {title: x}}, install: {members: rolling}}}\nsequence:\n  - {step: drain, do: x}\n  - {step: install}\n  - {step: drain, wait: 3m, when: group slotted}\nremedies: [{shows: 'error (28|29)', do: y}]\nchecks_after: [the lamps are green, {must_show: '^power ok', say: power is there}]\n"))
	require.NoError(t, err)
	i := rb.Installing("a")
	assert.Equal(t, ByManager, i.FetchedBy.First())
	assert.Equal(t, MembersRolling, i.Members.Text, "the family says otherwise")
	assert.Equal(t, MembersEach, rb.Installing("b").Members.Text)
	assert.Equal(t, "up/bundle/a.img", i.Under("x/bundle/a.img"))
	assert.Equal(t, "up/a.img", i.Under("a.img"), "the name itself is never stripped")
	seq := rb.Ordered()
	require.Len(t, seq, 3)
	assert.Equal(t, "component", seq[1].Each.Text, "as often as the built-in step is")
	assert.Equal(t, "x", seq[2].Do.Text, "as said before")
	assert.Equal(t, []string{"group", "slotted"}, []string{seq[2].When.Words[0].Text, seq[2].When.Words[1].Text})
	assert.NotNil(t, rb.RemedyFor("nothing", "it ended with error 29"))
	assert.Nil(t, rb.RemedyFor("error 30"))
	checks := rb.AfterChecks()
	require.Len(t, checks, 2)
	assert.False(t, checks[0].ByCapture())
	assert.Equal(t, "power is there", checks[1].Text())
	assert.Contains(t, rb.Warnings().Error(), "waits for nothing and looks at nothing")

	var names []string
	for _, s := range (*Rulebook)(nil).Ordered() {
		names = append(names, s.Step.Text)
	}
	assert.Equal(t, "space transfer verify install activate save restart check", strings.Join(names, " "), "the built-in order")
}
