package path

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/fit/check"
)

// The newest that is capped by a need on a companion or the boot loader is not
// silently another release: it says so.
func TestNewestUnderACap(t *testing.T) {
	old := strings.Replace(at1, "5.1", "4.9", 1)
	a := ask(t, lineRules, old, Request{Goal: Goal{Version: "latest"}}).Plans[0]
	require.True(t, a.Found, a.Blocked)
	assert.Equal(t, "2.0", short(a.Hops), "the highest below, and not the withdrawn one")
	assert.Equal(t, "2.0", a.To)
	require.NotNil(t, a.Capped)
	assert.Equal(t, "3.0", a.Capped.Release)
	assert.Contains(t, a.Capped.Because, "it needs ctl >=5, and there is ctl 4.9")

	a = ask(t, lineRules, at1, Request{Goal: Goal{Version: "latest"}}).Plans[0]
	assert.Nil(t, a.Capped)
	a = ask(t, lineRules, old, Request{Goal: Goal{Version: "3.0"}}).Plans[0]
	assert.False(t, a.Found, "what is asked for by name is not replaced")
	a = ask(t, lineRules, old+"attached: [OLD]\n", Request{Goal: Goal{Version: "latest"}}).Plans[0]
	assert.False(t, a.Found, "more than a cap is against it")
	a = ask(t, lineRules, strings.Replace(old, "main: '1.0', boot: '1.0'", "main: '2.0', boot: '2.0'", 1), Request{Goal: Goal{Version: "latest"}}).Plans[0]
	require.True(t, a.Found)
	assert.Empty(t, a.Hops, "it runs the highest that it may")
	require.NotNil(t, a.Capped)
	assert.Equal(t, "3.0", a.Capped.Release)
	a = ask(t, lineRules, strings.Replace(at1, "companions: {ctl: '5.1'}\n", "", 1), Request{Goal: Goal{Version: "latest"}}).Plans[0]
	assert.False(t, a.Found, "a need that nobody can settle is no cap")
	assert.NotEmpty(t, a.Unsettled)
}

const viaRules = `kind: rulebook
title: t
models: {Q1: {families: [f]}}
families: {f: {components: {main: {}}}}
releases:
  - {version: '1', families: [f]}
  - {version: '2', families: [f]}
  - {version: '3', families: [f]}
  - {version: '4', families: [f]}
hops:
  upward: open
  rules:
    - {from: '1', to: '4', allow: false, VIA}
`

// Of two ways that are as good, the one that the rule names is taken; it forces
// nothing.
func TestByWayOf(t *testing.T) {
	for via, want := range map[string]string{"why: x": "3 4", "via: '2'": "2 4", "via: '3'": "3 4", "via: '9'": "3 4"} {
		a := ask(t, strings.Replace(viaRules, "VIA", via, 1), "model: Q1\ninstalled: {main: '1'}\n", Request{Goal: Goal{Version: "4"}}).Plans[0]
		assert.Equal(t, want, short(a.Hops), via)
	}
	reset := strings.Replace(strings.Replace(viaRules, "VIA", "via: '2'", 1), "rules:\n", "rules:\n    - {from: '1', to: '2', allow: true, resets_config: true}\n", 1)
	a := ask(t, reset, "model: Q1\ninstalled: {main: '1'}\n", Request{Goal: Goal{Version: "4"}}).Plans[0]
	assert.Equal(t, "3 4", short(a.Hops), "a way that resets is not as good")
	elsewhere := strings.Replace(viaRules, "from: '1', to: '4', allow: false, VIA", "from: '1', to: '4', allow: false}\n    - {from: '3', to: '2', allow: false, via: '2'", 1)
	a = ask(t, elsewhere, "model: Q1\ninstalled: {main: '1'}\n", Request{Goal: Goal{Version: "4"}}).Plans[0]
	assert.Equal(t, "3 4", short(a.Hops), "a rule of another move names nothing for this one")
}

// What the rulebook does not give is not added up.
func TestHopsWithoutMinutes(t *testing.T) {
	res := ask(t, strings.Replace(lineRules, ", minutes: {install: 20, outage: 9}", "", 1), at1, Request{Goal: Goal{Version: "3.0"}})
	require.Equal(t, "2.0 3.0", short(res.Plans[0].Hops))
	install, outage, unknown := res.Plans[0].Minutes()
	assert.Equal(t, []int{10, 5, 1}, []int{install.To, outage.To, unknown})
}

// A rule that may or may not bear on the device settles nothing, whatever else the
// policy says; once it is known, it does.
func TestRuleThatMayApply(t *testing.T) {
	for _, policy := range []string{"upward: open\n  downward: closed", "upward: listed\n  downward: closed"} {
		rules := `kind: rulebook
title: t
models: {Q1: {families: [f], revisions: {A1: {}, B1: {}}}}
families: {f: {components: {main: {}}}}
releases: [{version: '1', families: [f]}, {version: '2', families: [f]}]
hops:
  ` + policy + `
  rules:
    - {from: '1', to: '2', revisions: [B1], allow: ALLOW}
`
		for _, c := range []struct {
			allow, revision string
			found, settled  bool
		}{
			{"false", "", false, false}, {"false", "revision: A1\n", policy[8] == 'o', true}, {"false", "revision: B1\n", false, true},
			{"true", "", false, false}, {"true", "revision: A1\n", policy[8] == 'o', true}, {"true", "revision: B1\n", true, true},
		} {
			res := ask(t, strings.Replace(rules, "ALLOW", c.allow, 1), "model: Q1\n"+c.revision+"installed: {main: '1'}\n", Request{Goal: Goal{Version: "2"}})
			assert.Equal(t, c.found, res.Found(), "%s %s %q", policy, c.allow, c.revision)
			assert.Equal(t, c.settled, len(res.Unsettled()) == 0, "%s %s %q %v", policy, c.allow, c.revision, res.Unsettled())
		}
	}
}

// Of members that move together, what one of them leaves open is open for all.
func TestRuleThatMayApplyToOneMember(t *testing.T) {
	for _, move := range []struct{ from, to, hops string }{{"1", "2", "upward: open"}, {"2", "1", "downward: open"}} {
		rules := `kind: rulebook
title: t
models: {Q1: {families: [f], revisions: {A1: {}, B1: {}}}}
families: {f: {components: {main: {}}}}
releases: [{version: '1', families: [f]}, {version: '2', families: [f]}]
hops: {` + move.hops + `, rules: [{from: '` + move.from + `', to: '` + move.to + `', revisions: [B1], allow: false}]}
`
		dev := "model: Q1\ngroup: stack\nuniform: true\nmembers:\n  - {name: a, revision: A1, installed: {main: '" + move.from + "'}}\n  - {name: b, REV installed: {main: '" + move.from + "'}}\n"
		for rev, want := range map[string][2]bool{"revision: A1,": {true, true}, "revision: B1,": {false, true}, "": {false, false}} {
			res := ask(t, rules, strings.Replace(dev, "REV", rev, 1), Request{Goal: Goal{Version: move.to}})
			assert.Equal(t, want, [2]bool{res.Found(), len(res.Unsettled()) == 0}, "%s %q", move.hops, rev)
		}
	}
}

const chassisRules = `kind: rulebook
title: t
models: {CH: {families: [core]}, CARD: {families: [line]}}
families: {core: {components: {main: {}}}, line: {components: {image: {}}}}
releases:
  - {version: '1', families: [core, line]}
  - {version: '2', families: [core, line], minutes: {install: 5, outage: 1}}
  - {version: '3', families: [core, line], minutes: {install: 5, outage: 1}}
hops:
  upward: open
  rules: [{from: '1', to: '3', allow: false, from_family: core}]
`

// A chassis and its cards, of families with main components of their own, go
// release by release, in one plan.
func TestChassisIsOnePlan(t *testing.T) {
	dev := "group: chassis\nmembers:\n  - {name: ctl, model: CH, installed: {main: '1'}}\n  - {name: c1, model: CARD, installed: {image: '1'}}\n  - {name: c2, model: CARD, installed: {image: '2'}}\n"
	res := ask(t, chassisRules, dev, Request{Goal: Goal{Version: "3"}})
	require.Len(t, res.Plans, 1)
	a := res.Plans[0]
	require.True(t, a.Found, "%v %v", a.Blocked, a.Unsettled)
	assert.Equal(t, "2@ctl 3@ctl 3@c1 3@c2", short(a.Hops))
	assert.Equal(t, []string{"ctl", "c1", "c2"}, a.Members)
	assert.Equal(t, "1 and 2", a.From, "what runs on its members")
	assert.Equal(t, []string{"1", "1", "1", "2"}, []string{a.Hops[0].Begin, a.Hops[1].Begin, a.Hops[2].Begin, a.Hops[3].Begin})
	assert.Equal(t, "-to 3", a.Asked())
	assert.NotContains(t, strings.Join(res.Notes, "\n"), "a path of its own")
	assert.Equal(t, "c1", a.Hops[2].Components[0].Member)
	assert.Equal(t, "image", a.Hops[2].Components[0].Component)

	// Where each family has a newest of its own, the plan is asked for as it was.
	newer := strings.Replace(chassisRules, "hops:", "  - {version: '4', families: [line]}\nhops:", 1)
	a = ask(t, newer, dev, Request{Goal: Goal{Version: "latest"}}).Plans[0]
	require.True(t, a.Found)
	assert.Equal(t, "3 and 4", a.To)
	assert.Equal(t, "-to latest", a.Asked())

	// One that cannot go keeps all of them, and is named.
	stuck := strings.Replace(chassisRules, "rules: [", "rules: [{to: '3', allow: false, from_family: line}, ", 1)
	a = ask(t, stuck, dev, Request{Goal: Goal{Version: "3"}}).Plans[0]
	assert.False(t, a.Found)
	assert.Empty(t, a.Hops)
	require.NotEmpty(t, a.Blocked)
	for _, b := range a.Blocked {
		assert.True(t, strings.HasPrefix(b.Because, "c1: ") || strings.HasPrefix(b.Because, "c2: ") || strings.HasPrefix(b.Because, "c1, c2: "), b.Because)
	}
	// What is not known of one keeps all of them unsettled.
	a = ask(t, chassisRules, strings.Replace(dev, "image: '2'", "x: '2'", 1), Request{Goal: Goal{Version: "3"}}).Plans[0]
	assert.False(t, a.Found)
	assert.Contains(t, strings.Join(a.Unsettled, "\n"), "c2: ")
}

// Needs on the main component of one family say nothing of that of another.
func TestNeedOnAnotherMain(t *testing.T) {
	rules := `kind: rulebook
title: t
models: {Q1: {families: [a, b]}}
families: {a: {components: {main: {}}}, b: {components: {core: {}}}}
releases:
  - {version: '1', families: [a]}
  - {version: '2', families: [b], needs: [{component: NEED, within: '>=1'}]}
hops: {upward: open, rules: [{from_family: a, to_family: b, allow: true}]}
`
	dev := "model: Q1\nfamily: a\ninstalled: {main: '1'}\n"
	to := Request{Goal: Goal{Version: "2", Family: "b"}}
	res := ask(t, strings.Replace(rules, "NEED", "core", 1), dev, to)
	assert.False(t, res.Found(), "there is no core of b on it")
	assert.Empty(t, res.Unsettled(), "which is known")
	res = ask(t, strings.Replace(rules, ", needs: [{component: NEED, within: '>=1'}]", "", 1), dev, to)
	assert.True(t, res.Found(), "%v", res.Unsettled())
}

const buildRules = `kind: rulebook
title: t
models: {Q1: {families: [f]}}
families: {f: {components: {main: {}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?:-(?P<build>\d+))?$', order: [a, b]}}
releases: [{version: '1.0-5', families: [f]}, {version: '1.1-7', families: [f]}, {version: '1.1-9', families: [f]}]
hops: {upward: open, downward: closed}
`

// A goal without its build is the one release of it; of two nobody can say which.
func TestGoalWithoutItsBuild(t *testing.T) {
	dev := "model: Q1\ninstalled: {main: '1.0-5'}\n"
	res := ask(t, buildRules, dev, Request{Goal: Goal{Version: "1.1-7"}})
	assert.Equal(t, "1.1-7", short(res.Plans[0].Hops))
	res = ask(t, buildRules, dev, Request{Goal: Goal{Version: "1.1"}})
	assert.False(t, res.Found())
	assert.Contains(t, strings.Join(res.Unsettled(), "\n"), "1.1-7")
	one := strings.Replace(buildRules, ", {version: '1.1-9', families: [f]}", "", 1)
	res = ask(t, one, dev, Request{Goal: Goal{Version: "1.1"}})
	assert.Equal(t, "1.1-7", short(res.Plans[0].Hops), "%v", res.Unsettled())
}

// Whatever is against a release can be looked up.
func TestReasonsAreRegistered(t *testing.T) {
	for _, to := range []string{"2.5", "3.0", "1.0"} {
		for _, dev := range []string{at1 + "attached: [OLD]\n", strings.Replace(at1, "5.1", "4.9", 1), strings.Replace(at1, "main: '1.0'", "main: '2.5'", 1), at1 + "entitled_until: 2020-01-01\n"} {
			for _, a := range ask(t, lineRules, dev, Request{Goal: Goal{Version: to}}).Plans {
				for _, b := range a.Blocked {
					assert.NotNil(t, check.Explain(b.Code), "%q: %s", b.Code, b.Because)
				}
			}
		}
	}
}

// Where the next below the newest is capped too, the one below that is found; where it is not settled, or something else is
// against it, nothing is taken in place of the newest.
func TestNewestUnderSeveralCaps(t *testing.T) {
	const rules = `kind: rulebook
title: t
models: {Q1: {families: [f]}}
families: {f: {components: {main: {}}}}
releases:
  - {version: '1', families: [f]}
  - {version: '2', families: [f]}
  - {version: '3', families: [f]NEED}
  - {version: '4', families: [f], needs: [{companion: ctl, within: '>=5'}]}
hops: {upward: open}
`
	for need, want := range map[string]string{
		"": "3", ", needs: [{companion: ctl, within: '>=4.95'}]": "2", ", needs: [{companion: ctl, within: '>=4'}]": "3",
		", needs: [{companion: other, within: '>=1'}]": "", ", needs: [{memory: 64MiB}]": "", ", needs: [{feature: x}]": "",
		", withdrawn: it burns": "2", ", drops: [Q1]": "3",
	} {
		a := ask(t, strings.Replace(rules, "NEED", need, 1), "model: Q1\ninstalled: {main: '1'}\nmemory: 32MiB\nfeatures: [y]\ncompanions: {ctl: '4.9'}\n", Request{Goal: Goal{Version: "latest"}}).Plans[0]
		if want == "" {
			assert.False(t, a.Found, need)
			assert.Nil(t, a.Capped, need)
			continue
		}
		require.True(t, a.Found, "%s: %v", need, a.Unsettled)
		assert.Equal(t, want, a.To, need)
		require.NotNil(t, a.Capped, need)
		assert.Equal(t, "4", a.Capped.Release, need)
	}
}
