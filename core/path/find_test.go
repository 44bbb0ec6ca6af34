package path

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

// lineRules is a line with a stop on the way, a boot loader that comes first, a
// companion, and a withdrawn release.
const lineRules = `kind: rulebook
title: t
maker: m
sources: {RN: "Release notes"}
models:
  OLD: {}
  Q1: {families: [f], revisions: {A1: {arch: arm, memory: 256MiB}, B1: {arch: arm64, memory: 512MiB}}}
  Q2: {families: [f]}
families:
  f: {components: {boot: {optional: true}, main: {slotted: true}}, factory_reset: other-slot}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)$', order: [a, b]}}
releases:
  - {version: '1.0', families: [f], brings: {boot: '1.0'}, minutes: {install: 10, outage: 4}}
  - {version: '2.0', families: [f], channel: [steady, long-term], brings: {boot: '2.0'}, minutes: {install: 10, outage: 5}}
  - {version: '2.5', families: [f], withdrawn: "it burns", source: RN}
  - {version: '3.0', families: [f], channel: beta, needs: [{component: boot, within: '>=2.0', source: RN, why: "larger header"}, {companion: ctl, within: '>=5'}], drops: [OLD], minutes: {install: 20, outage: 9}}
hops:
  upward: open
  downward: closed
  rules:
    - {from: '<2.0', to: '>=3.0', allow: false, via: '2.0', source: RN, why: "the store changes"}
    - {from: '>=2.0', to: '1.0', allow: true, resets_config: true, source: RN}
`

func readRules(t testing.TB, text string) *rulebook.Rulebook {
	rb, err := rulebook.Read("rules.yaml", []byte(text))
	require.NoError(t, err)
	return rb
}

func ask(t testing.TB, rules, dev string, q Request) *Result {
	rb := readRules(t, rules)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: box\n"+dev))
	require.NoError(t, err)
	q.Device = d
	q.Rules = func(model string) *rulebook.Rulebook {
		if _, ok := rb.FindModel(model); ok {
			return rb
		}
		return nil
	}
	res, err := Find(q)
	require.NoError(t, err)
	return res
}

// short writes hops as one line.
func short(hops []Hop) string {
	var out []string
	for _, h := range hops {
		t := h.Release
		if h.BootOnly {
			t = "boot:" + t
		}
		if len(h.Members) > 0 {
			t += "@" + strings.Join(h.Members, "+")
		}
		if h.ResetsConfig {
			t += "!"
		}
		out = append(out, t)
	}
	return strings.Join(out, " ")
}

const at1 = "model: Q1\nrevision: A1\ninstalled: {main: '1.0', boot: '1.0'}\ncompanions: {ctl: '5.1'}\n"

func TestFind(t *testing.T) {
	to := func(v string) Request { return Request{Goal: Goal{Version: v}} }
	group := "model: Q1\nrevision: A1\ncompanions: {ctl: '5.1'}\ngroup: stack\nuniform: true\nmembers:\n"
	member := func(name, main, boot string) string {
		return fmt.Sprintf("  - {name: %s, installed: {main: '%s', boot: '%s'}}\n", name, main, boot)
	}
	for name, c := range map[string]struct {
		rules, device string
		q             Request
		hops          string
		unsettled     string // part of what must be known
		blocked       string // part of what stands in the way
		note          string
	}{
		"a required stop":               {device: at1, q: to("3.0"), hops: "2.0 3.0"},
		"the newest":                    {device: at1, q: to("latest"), hops: "2.0 3.0", note: "3.0 is the newest release for it"},
		"the newest of a channel":       {device: at1, q: to("channel:STEADY"), hops: "2.0"},
		"no such channel":               {device: at1, q: to("channel:gold"), unsettled: `no release of the channel "gold" for Q1 A1; there is beta, long-term, steady`},
		"another of its channels":       {device: at1, q: to("channel:long-term"), hops: "2.0"},
		"already there":                 {device: at1, q: to("1.0"), note: "already runs 1.0"},
		"withdrawn":                     {device: at1, q: to("2.5"), blocked: "it was withdrawn: it burns"},
		"from a withdrawn one":          {device: strings.Replace(at1, "main: '1.0'", "main: '2.5'", 1), q: to("3.0"), hops: "boot:2.0 3.0"},
		"boot loader of another first":  {device: strings.Replace(at1, "main: '1.0'", "main: '2.0'", 1), q: to("3.0"), hops: "boot:2.0 3.0"},
		"a release to avoid":            {device: at1, q: Request{Goal: Goal{Version: "3.0"}, Options: Options{Avoid: []string{"2.0"}}}, blocked: "it is to be avoided"},
		"only what is at hand":          {device: at1, q: Request{Goal: Goal{Version: "3.0"}, Options: Options{OnHand: func(r *rulebook.Release) bool { return r.Version.Text == "3.0" }}}, blocked: "no package at hand carries it"},
		"down, by rule":                 {device: strings.Replace(at1, "main: '1.0'", "main: '3.0'", 1), q: to("1.0"), hops: "1.0!"},
		"down, against the policy":      {device: strings.Replace(at1, "main: '1.0'", "main: '3.0'", 1), q: to("2.0"), hops: "1.0! 2.0"},
		"companion too old":             {device: strings.Replace(at1, "5.1", "4.9", 1), q: to("3.0"), blocked: "it needs ctl >=5, and there is ctl 4.9"},
		"companion not known":           {device: strings.Replace(at1, "companions: {ctl: '5.1'}\n", "", 1), q: to("3.0"), unsettled: "3.0: it needs ctl >=5, and what there is is not known"},
		"attached is dropped":           {device: at1 + "attached: [OLD]\n", q: to("3.0"), blocked: "it no longer supports OLD, which is attached"},
		"attached is only guessed":      {device: at1 + "attached: [OLD]\nread_from: {attached: 'log:3 (guess)'}\n", q: to("3.0"), unsettled: "it no longer supports OLD, and what is attached is"},
		"boot loader not known":         {device: strings.Replace(at1, ", boot: '1.0'", "", 1), q: to("3.0"), unsettled: "2.0: it brings a boot, and the installed one of box is not known"},
		"installed not known":           {device: "model: Q1\n", q: to("3.0"), unsettled: "the installed main of box is not known"},
		"installed is no version":       {device: "model: Q1\ninstalled: {main: frozen}\n", q: to("3.0"), unsettled: `does not read "frozen"`},
		"installed only guessed":        {device: "model: Q1\ninstalled: {main: '1.0'}\nread_from: {installed.main: 'log:3 (guess)'}\n", q: to("3.0"), unsettled: "only guessed (log:3)"},
		"model not known":               {device: "installed: {main: '1.0'}\n", q: to("3.0"), unsettled: "the model of box is not known"},
		"model without a rulebook":      {device: "model: Z\ninstalled: {main: '1.0'}\n", q: to("3.0"), unsettled: "no rulebook knows the model Z"},
		"a target that does not exist":  {device: at1, q: to("2.7"), unsettled: "lists no release 2.7 of the family f; the nearest are 3.0, 2.5, 2.0, 1.0"},
		"a target that is no version":   {device: at1, q: to("thre.0"), unsettled: "lists no release thre.0"},
		"a family it may not run":       {device: at1, q: Request{Goal: Goal{Version: "3.0", Family: "g"}}, unsettled: "Q1 may not run the family g; it may run f"},
		"installed is not listed":       {device: strings.Replace(at1, "main: '1.0'", "main: '0.9'", 1), q: to("2.0"), hops: "2.0", note: "does not list 0.9, which is installed"},
		"members move together":         {device: group + member("a", "1.0", "1.0") + member("b", "1.0", "1.0"), q: to("3.0"), hops: "2.0@a+b 3.0@a+b"},
		"one boot loader is old":        {device: group + member("a", "2.0", "2.0") + member("b", "2.0", "1.0"), q: to("3.0"), hops: "boot:2.0@b 3.0@a+b"},
		"a member that joins late":      {device: group + member("a", "2.0", "2.0") + member("b", "2.0", "2.0") + member("c", "1.0", "1.0"), q: to("3.0"), hops: "2.0@c 3.0@a+b+c", note: "a, b at 2.0; c at 1.0"},
		"one that cannot come down":     {device: group + member("a", "2.0", "2.0") + member("b", "2.0", "2.0") + member("c", "2.5", "2.0"), q: to("3.0"), hops: "1.0@c! 2.0@c 3.0@a+b+c"},
		"one that nobody else can join": {rules: strings.Replace(lineRules, "    - {from: '>=2.0', to: '1.0', allow: true, resets_config: true, source: RN}\n", "", 1), device: group + member("a", "2.0", "2.0") + member("b", "2.0", "2.0") + member("c", "2.5", "2.0"), q: to("3.0"), hops: "3.0@a+b 3.0@c", note: "cannot first meet at 2.0"},
		"members for themselves":        {device: strings.Replace(group, "uniform: true\n", "", 1) + member("a", "1.0", "1.0") + member("b", "2.0", "2.0"), q: to("3.0"), hops: "2.0@a 3.0@a 3.0@b"},
		"rules that go in a circle":     {rules: strings.Replace(strings.Replace(lineRules, "upward: open", "upward: listed", 1), "rules:\n", "rules:\n    - {from: '1.0', to: '2.0', allow: true}\n    - {from: '2.0', to: '1.0', allow: true}\n", 1), device: at1, q: to("3.0"), blocked: "the move from 2.0 is not allowed: no rule allows it, and only listed moves are"},
		"the first of two rules":        {rules: strings.Replace(lineRules, "rules:\n", "rules:\n    - {from: '1.0', to: '3.0', allow: true}\n", 1), device: strings.Replace(at1, "boot: '1.0'", "boot: '2.0'", 1), q: to("3.0"), hops: "3.0"},
		"no releases listed":            {rules: lineRules[:strings.Index(lineRules, "releases:")] + "hops: {upward: open, downward: closed}\n", device: at1, q: to("7.7"), hops: "7.7"},
		"no hops given":                 {rules: lineRules[:strings.Index(lineRules, "hops:")], device: at1, q: to("2.0"), unsettled: "the rulebook does not say which moves are allowed"},
	} {
		t.Run(name, func(t *testing.T) {
			rules := lineRules
			if c.rules != "" {
				rules = c.rules
			}
			res := ask(t, rules, c.device, c.q)
			var hops []Hop
			var blocked, notes []string
			for _, a := range res.Plans {
				hops = append(hops, a.Hops...)
				for _, b := range a.Blocked {
					blocked = append(blocked, b.Release+": "+b.Because)
				}
				notes = append(notes, a.Notes...)
			}
			assert.Equal(t, c.hops, short(hops), "%v %v", blocked, res.Unsettled())
			assert.Equal(t, c.unsettled == "" && c.blocked == "", res.Found())
			assert.Contains(t, strings.Join(res.Unsettled(), "\n"), c.unsettled)
			assert.Equal(t, c.unsettled != "", len(res.Unsettled()) > 0, res.Unsettled())
			assert.Contains(t, strings.Join(blocked, "\n"), c.blocked)
			assert.Contains(t, strings.Join(notes, "\n"), c.note)
		})
	}
}

// What is blocked names the release that would help, and why it does not.
func TestBlockersPointToWhatWouldHelp(t *testing.T) {
	rules := strings.Replace(lineRules, "channel: [steady, long-term], ", "channel: [steady, long-term], withdrawn: 'it stops', ", 1)
	res := ask(t, rules, strings.Replace(at1, "main: '1.0'", "main: '2.0'", 1), Request{Goal: Goal{Version: "3.0"}})
	require.Len(t, res.Plans[0].Blocked, 1)
	b := res.Plans[0].Blocked[0]
	assert.Equal(t, "3.0", b.Release)
	assert.Equal(t, "it needs boot >=2.0, and boot 1.0 is installed (larger header); nothing that can be installed brings boot from 1.0 to >=2.0: 2.0 brings boot 2.0, but it was withdrawn: it stops", b.Because)
	require.NotEmpty(t, b.Sources)
	assert.Equal(t, "needs boot >=2.0, RN: Release notes", b.Sources[0].Value)
	assert.Equal(t, 16, b.Sources[0].Source.Line)
}

// A path found does not hide that a better one would open.
func TestBetterWayIfMoreWereKnown(t *testing.T) {
	rules := strings.Replace(lineRules, "version: '3.0', families: [f], channel: beta, needs: [", "version: '3.0', families: [f], channel: beta, needs: [{component: main, within: '2.0 || 2.1', source: RN}, ", 1)
	rules = strings.Replace(rules, "  - {version: '2.5'", "  - {version: '2.1', families: [f], needs: [{storage_free: 5MiB}]}\n  - {version: '2.5'", 1)
	rules = strings.Replace(rules, "rules:\n", "rules:\n    - {from: '1.0', to: '2.0', allow: true, resets_config: true}\n", 1)
	res := ask(t, rules, strings.Replace(at1, "boot: '1.0'", "boot: '2.0'", 1), Request{Goal: Goal{Version: "3.0"}})
	assert.Equal(t, "2.0! 3.0", short(res.Plans[0].Hops))
	assert.Contains(t, strings.Join(res.Plans[0].Notes, "\n"), "a better way (2.1, 3.0) would open if this were known: 2.1: it needs 5 MiB of free storage")
}

func TestPreferences(t *testing.T) {
	rules := `kind: rulebook
title: t
maker: m
models: {Q1: {families: [f]}}
families: {f: {components: {main: {}}}}
releases:
  - {version: '1', families: [f]}
  - {version: '2', families: [f], minutes: {install: 1, outage: 1}}
  - {version: '3', families: [f], minutes: {install: 1, outage: 1}}
  - {version: '4', families: [f], minutes: {install: 9, outage: 5}}
  - {version: '5', families: [f], minutes: {install: 9, outage: 5}}
hops:
  upward: listed
  downward: closed
  rules:
    - {from: '1', to: '5', allow: true, resets_config: true}
    - {from: '1', to: '4', allow: true}
    - {from: '4', to: '5', allow: true}
    - {from: '1', to: '2', allow: true, resets_config: true}
    - {from: '2', to: '3', allow: true}
`
	dev := "model: Q1\ninstalled: {main: '1'}\n"
	for prefer, want := range map[Prefer]string{Resets: "4 5", Hops: "5!", Outage: "5!"} {
		res := ask(t, rules, dev, Request{Goal: Goal{Version: "5"}, Options: Options{Prefer: prefer, All: 3}})
		assert.Equal(t, want, short(res.Plans[0].Hops), prefer)
		require.Len(t, res.Plans[0].Alternatives, map[Prefer]int{Resets: 1, Hops: 0, Outage: 0}[prefer], "4 5 goes through 5 as well")
	}
	res := ask(t, strings.Replace(rules, "from: '2', to: '3'", "from: '2 || 3', to: '3 || 5'", 1), dev, Request{Goal: Goal{Version: "5"}, Options: Options{All: 5}})
	require.Len(t, res.Plans[0].Alternatives, 1)
	assert.Equal(t, "5!", short(res.Plans[0].Alternatives[0].Hops))
	assert.Contains(t, strings.Join(res.Plans[0].Notes, "\n"), "5 really different ways were asked for, and there are 2")
}

func TestWayBack(t *testing.T) {
	slots := "slots: [{name: A, main: '1.0', active: true}, {name: B, main: '0.8'}]\n"
	for name, c := range map[string]struct {
		rules, device, to string
		by, because, note string
		noReturn          int // hop, from 1
	}{
		"by the other slot":          {lineRules, at1 + slots, "2.0", "slot", "slot A still holds 1.0: activate it and restart", "falls back to slot A, which then holds 1.0", 0},
		"overwritten on the way":     {lineRules, at1 + slots, "3.0", "hops", "by 1 hop, with the configuration reset once, 4 min without service; no other slot holds 1.0 any more", "falls back to slot B, which then holds 2.0", 0},
		"by a hop":                   {lineRules, at1, "2.0", "hops", "by 1 hop, with the configuration reset once", "", 0},
		"one slot":                   {lineRules, at1 + "slots: [{name: A, main: '1.0', active: true}]\n", "2.0", "hops", "there is one slot only", "", 0},
		"active slot not known":      {lineRules, at1 + "slots: [{name: A}, {name: B}]\n", "2.0", "hops", "which slot is active is not known", "", 0},
		"no hop leads back":          {strings.Replace(lineRules, "to: '1.0', allow: true", "to: '1.0', allow: false", 1), at1, "3.0", "", "1.0: the move from 3.0 is not allowed", "", 1},
		"the boot loader is newer":   {strings.Replace(lineRules, "brings: {boot: '1.0'}, minutes", "brings: {boot: '1.0'}, needs: [{component: boot, within: '<2.0'}], minutes", 1), at1 + slots, "2.0", "", "slot A still holds 1.0, which needs boot <2.0, and by then it has 2.0", "", 1},
		"only the second is final":   {strings.Replace(lineRules, "from: '>=2.0', to: '1.0'", "from: '2.0', to: '1.0'", 1), at1, "3.0", "", "1.0: the move from 3.0 is not allowed", "", 2},
		"a withdrawn one, by slot":   {lineRules, strings.ReplaceAll(at1+slots, "main: '1.0'", "main: '2.5'"), "3.0", "slot", "slot A still holds 2.5", "", 0},
		"a withdrawn one, by no hop": {lineRules, strings.ReplaceAll(at1, "main: '1.0'", "main: '2.5'"), "3.0", "", "2.5: it was withdrawn", "", 2},
	} {
		t.Run(name, func(t *testing.T) {
			a := ask(t, c.rules, c.device, Request{Goal: Goal{Version: c.to}}).Plans[0]
			require.True(t, a.Found, a.Blocked)
			require.NotNil(t, a.Back)
			assert.Equal(t, c.by, a.Back.By)
			assert.Equal(t, c.by != "", a.Back.Found)
			assert.Contains(t, a.Back.Because, c.because)
			assert.Contains(t, strings.Join(a.Back.Notes, "\n"), c.note)
			for i, h := range a.Hops {
				assert.Equal(t, i+1 == c.noReturn, h.NoReturn, "hop %d", i+1)
			}
		})
	}
}

// A member that was brought to the others first has written to its slots by then.
func TestWayBackOfALateMember(t *testing.T) {
	slots := func(active, other string) string {
		return fmt.Sprintf("slots: [{name: A, main: '%s', active: true}, {name: B, main: '%s'}]", active, other)
	}
	dev := "model: Q1\nrevision: A1\ncompanions: {ctl: '5.1'}\ngroup: stack\nuniform: true\nmembers:\n" +
		"  - {name: a, installed: {main: '2.0', boot: '2.0'}, " + slots("2.0", "1.0") + "}\n" +
		"  - {name: b, installed: {main: '2.0', boot: '2.0'}, " + slots("2.0", "1.0") + "}\n" +
		"  - {name: c, installed: {main: '1.0', boot: '1.0'}, " + slots("1.0", "0.9") + "}\n"
	a := ask(t, lineRules, dev, Request{Goal: Goal{Version: "3.0"}}).Plans[0]
	require.Equal(t, "2.0@c 3.0@a+b+c", short(a.Hops))
	require.NotNil(t, a.Back)
	assert.Equal(t, "slot", a.Back.By, a.Back.Because)
	assert.Equal(t, "2.0", a.From)
	// Where they meet elsewhere, no one way back is told.
	apart := strings.NewReplacer("{name: c, installed: {main: '1.0', boot: '1.0'}", "{name: c, installed: {main: '2.5', boot: '2.0'}", slots("1.0", "0.9"), slots("2.5", "1.0")).Replace(dev)
	a = ask(t, strings.Replace(lineRules, "    - {from: '>=2.0', to: '1.0', allow: true, resets_config: true, source: RN}\n", "", 1), apart, Request{Goal: Goal{Version: "latest"}}).Plans[0]
	require.Equal(t, "3.0@a+b 3.0@c", short(a.Hops))
	assert.Equal(t, "2.0", a.From)
	assert.Nil(t, a.Back)
	assert.Contains(t, a.Hops[1].Because, "brings c to 3.0; ")
	assert.Contains(t, strings.Join(a.Notes, "\n"), "no way back leads to all of them")
}

// Halves of a pair move together, and a boot loader that is half of one never
// by itself.
func TestPairedMoveTogether(t *testing.T) {
	rules := strings.Replace(lineRules, "factory_reset: other-slot", "paired: [[main, boot]]", 1)
	rules = strings.NewReplacer("brings: {boot: '1.0'}, ", "", "brings: {boot: '2.0'}, ", "").Replace(rules)
	a := ask(t, rules, at1, Request{Goal: Goal{Version: "3.0"}}).Plans[0]
	assert.Equal(t, "2.0 3.0", short(a.Hops))
	assert.Equal(t, []Change{{"", "boot", "1.0", "2.0"}, {"", "main", "1.0", "2.0"}}, a.Hops[0].Components)
	down := ask(t, rules, strings.Replace(at1, "main: '1.0', boot: '1.0'", "main: '3.0', boot: '3.0'", 1), Request{Goal: Goal{Version: "1.0"}}).Plans[0]
	assert.False(t, down.Found, "the boot loader would go down")
}

// The newer boot loader stays when an older release is installed.
func TestNoOlderBootLoader(t *testing.T) {
	a := ask(t, lineRules, strings.Replace(at1, "main: '1.0', boot: '1.0'", "main: '3.0', boot: '2.2'", 1), Request{Goal: Goal{Version: "1.0"}}).Plans[0]
	require.Equal(t, "1.0!", short(a.Hops))
	assert.Equal(t, []Change{{"", "main", "3.0", "1.0"}}, a.Hops[0].Components)

	// Nor is one that is the same put there again.
	a = ask(t, lineRules, strings.Replace(at1, "boot: '1.0'", "boot: '2.0'", 1), Request{Goal: Goal{Version: "2.0"}}).Plans[0]
	require.Len(t, a.Hops, 1)
	assert.Equal(t, []Change{{"", "main", "1.0", "2.0"}}, a.Hops[0].Components)
	a = ask(t, lineRules, at1, Request{Goal: Goal{Version: "2.0"}}).Plans[0]
	assert.Equal(t, []Change{{"", "boot", "1.0", "2.0"}, {"", "main", "1.0", "2.0"}}, a.Hops[0].Components)
}

func TestBound(t *testing.T) {
	rb := readRules(t, bigRulebook(1000, 10, 10))
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: M\ninstalled: {main: '1.0', boot: '1.0'}\n"))
	require.NoError(t, err)
	_, err = Find(Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: Goal{Version: "latest"}, Options: Options{MaxStates: 500}})
	var many *TooManyStates
	require.ErrorAs(t, err, &many)
	assert.ErrorContains(t, err, "given up after 500 states; raise the bound with -max-states")
}

// The picture of a way: which releases there are, what each is on it, and which moves are not allowed between its
// stops.
func TestPicture(t *testing.T) {
	picture := func(rules, device, to string) (versions, forbidden []string, p *Picture) {
		p = ask(t, rules, device, Request{Goal: Goal{Version: to}, Options: Options{Picture: true}}).Plans[0].Picture
		require.NotNil(t, p)
		for _, k := range p.Versions {
			text := k.Version + " " + k.State
			if k.Why != "" {
				text += ": " + k.Why
			}
			versions = append(versions, text)
		}
		for _, f := range p.Forbidden {
			forbidden = append(forbidden, f.From+" to "+f.To+": "+f.Brief)
			assert.Contains(t, f.Because, f.Brief)
		}
		return versions, forbidden, p
	}
	versions, forbidden, p := picture(lineRules, at1, "3.0")
	assert.Equal(t, []string{"3.0 goal", "2.5 closed: it was withdrawn: it burns", "2.0 stop", "1.0 runs"}, versions)
	require.Len(t, forbidden, 1)
	assert.Contains(t, forbidden[0], "1.0 to 3.0: ")
	assert.Contains(t, p.Forbidden[0].Because, "the store changes")
	assert.NotEmpty(t, p.Forbidden[0].Sources)
	assert.Zero(t, p.Left)

	versions, forbidden, _ = picture(lineRules, at1, "2.0")
	assert.Equal(t, []string{"3.0 open", "2.5 closed: it was withdrawn: it burns", "2.0 goal", "1.0 runs"}, versions)
	assert.Empty(t, forbidden)

	// A hop of the boot loader alone is no stop of its own; what comes behind it is.
	bootFirst := strings.Replace(at1, "main: '1.0'", "main: '2.0'", 1)
	further := strings.Replace(strings.Replace(lineRules, "hops:", "  - {version: '4.0', families: [f]}\nhops:", 1), "  rules:\n", "  rules:\n    - {from: '<3.0', to: '4.0', allow: false, via: '3.0', source: RN}\n", 1)
	require.Equal(t, "boot:2.0 3.0 4.0", short(ask(t, further, bootFirst, Request{Goal: Goal{Version: "4.0"}}).Plans[0].Hops))
	versions, forbidden, _ = picture(further, bootFirst, "4.0")
	assert.Equal(t, []string{"4.0 goal", "3.0 stop", "2.5 closed: it was withdrawn: it burns", "2.0 runs", "1.0 open"}, versions)
	require.Len(t, forbidden, 1)
	assert.Contains(t, forbidden[0], "2.0 to 4.0: ")

	// Where no way leads there, why not is drawn between the ends.
	versions, forbidden, _ = picture(strings.Replace(lineRules, "hops:", "  - {version: '4.0', families: [f], withdrawn: 'it burns, too'}\nhops:", 1), at1, "4.0")
	assert.Contains(t, versions, "4.0 goal: it was withdrawn: it burns, too")
	assert.Equal(t, []string{"1.0 to 4.0: it was withdrawn: it burns, too"}, forbidden)

	// What runs may be no release that is listed; very many are counted.
	var many strings.Builder
	for n := range 60 {
		fmt.Fprintf(&many, "  - {version: '1.%d', families: [f]}\n", n+10)
	}
	versions, _, p = picture(strings.Replace(lineRules, "hops:", many.String()+"hops:", 1), strings.Replace(at1, "main: '1.0'", "main: '1.5'", 1), "2.0")
	assert.Contains(t, versions, "1.5 runs: the rulebook lists no release 1.5 for Q1 A1, family f")
	assert.Contains(t, versions, "2.0 goal")
	assert.LessOrEqual(t, len(versions), maxKnown+3)
	assert.Equal(t, 60+4-(len(versions)-1), p.Left, "all that is listed is drawn or counted")
}
