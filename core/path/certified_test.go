package path

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/rulebook"
)

// setOf is a certified set of the line's rulebook.
func setOf(t *testing.T, rules, versions string) *rulebook.CertifiedSet {
	rb := readRules(t, rules+"certified: [{name: s, source: RN, versions: ["+versions+"]}]\n")
	set := &rulebook.CertifiedSet{Name: "s", Known: []string{"s"}}
	for i := range rb.Certified[0].Versions {
		set.Entries = append(set.Entries, rulebook.CertifiedEntry{In: rb, CertifiedVersion: &rb.Certified[0].Versions[i]})
	}
	return set
}

// A certified set is a goal over all components: its release, and the boot loader it wants.
func TestPathToACertifiedSet(t *testing.T) {
	const at1 = "model: Q1\nrevision: A1\ninstalled: {main: '1.0', boot: '1.0'}\ncompanions: {ctl: '5'}\n"
	for name, c := range map[string]struct {
		set, device, hops, unsettled, blocked string
	}{
		"the release":                      {"{model: Q1, main: '2.0'}", at1, "2.0", "", ""},
		"the newest that a range takes":    {"{model: Q1, main: '>=1.0 <3.0'}", at1, "2.0", "", ""},
		"a withdrawn one is not taken":     {"{model: Q1, main: '>=2.1 <3.0'}", at1, "", "lists no release that stands for Q1 A1 and is >=2.1 <3.0", ""},
		"beyond it: down again":            {"{model: Q1, main: '1.0'}", "model: Q1\nrevision: A1\ninstalled: {main: '2.0', boot: '2.0'}\n", "1.0!", "", ""},
		"the boot loader, too":             {"{model: Q1, main: '1.0', boot: '>=2.0'}", at1, "boot:2.0", "", ""},
		"both at once":                     {"{model: Q1, main: '2.0', boot: '2.0'}", at1, "2.0", "", ""},
		"no release brings the boot":       {"{model: Q1, main: '2.0', boot: '>=9.0'}", at1, "", "", "path.not_certified"},
		"the boot loader is not known":     {"{model: Q1, main: '1.0', boot: '>=1.5 <2.0'}", "model: Q1\nrevision: A1\ninstalled: {main: '1.0'}\n", "", "the installed boot of box is not known", ""},
		"nothing of this model":            {"{model: Q2, main: '2.0'}", at1, "", "says nothing of Q1", ""},
		"nothing of the main":              {"{model: Q1, boot: '2.0'}", at1, "", "does not say which main", ""},
		"it is there, though withdrawn":    {"{model: Q1, main: '2.5'}", "model: Q1\nrevision: A1\ninstalled: {main: '2.5', boot: '2.0'}\n", "", "", ""},
		"a group, each as the set says it": {"{model: Q1, main: '2.0'}, {model: Q2, main: '>=2.0'}", "group: stack\nuniform: true\nmembers: [{name: a, model: Q1, revision: A1, installed: {main: '1.0', boot: '2.0'}}, {name: b, model: Q2, installed: {main: '1.0', boot: '2.0'}}]\n", "2.0@a+b", "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			a := ask(t, lineRules, c.device, Request{Goal: Goal{Version: "certified:s", Set: setOf(t, lineRules, c.set)}}).Plans[0]
			assert.Equal(t, c.hops, short(a.Hops))
			if c.unsettled != "" {
				require.NotEmpty(t, a.Unsettled)
				assert.Contains(t, a.Unsettled[0], c.unsettled)
			} else {
				assert.Empty(t, a.Unsettled)
			}
			if c.blocked != "" {
				require.NotEmpty(t, a.Blocked)
				assert.Equal(t, c.blocked, a.Blocked[0].Code)
			}
			assert.Equal(t, c.unsettled == "" && c.blocked == "", a.Found)
		})
	}
	// Of a group, each member is held against the set in all of its components.
	three := strings.NewReplacer("components: {boot: {optional: true}, main", "components: {boot: {optional: true}, poe: {optional: true}, main", "brings: {boot: '2.0'}", "brings: {boot: '2.0', poe: '1.1'}").Replace(lineRules)
	for versions, lacks := range map[[2]string]string{{"1.1", "1.1"}: "", {"1.1", "1.0"}: "b", {"1.0", "1.1"}: "a"} {
		device := fmt.Sprintf("group: stack\nuniform: true\nmembers: [{name: a, model: Q1, revision: A1, installed: {main: '2.0', boot: '2.0', poe: '%s'}}, {name: b, model: Q1, revision: A1, installed: {main: '2.0', boot: '2.0', poe: '%s'}}]\n", versions[0], versions[1])
		a := ask(t, three, device, Request{Goal: Goal{Version: "certified:s", Set: setOf(t, three, "{model: Q1, main: '2.0', boot: '2.0', poe: '>=1.1'}")}}).Plans[0]
		require.True(t, a.Found, versions)
		if lacks == "" {
			assert.Empty(t, a.Hops)
			continue
		}
		require.Len(t, a.Hops, 1, versions)
		assert.Equal(t, []Change{{lacks, "poe", "1.0", "1.1"}}, a.Hops[0].Components, versions)
	}
	a := ask(t, lineRules, at1, Request{Goal: Goal{Version: "certified:q", Set: &rulebook.CertifiedSet{Name: "q", Known: []string{"depot", "tunnel"}}}}).Plans[0]
	assert.Contains(t, a.Unsettled[0], "there are depot, tunnel")
}
