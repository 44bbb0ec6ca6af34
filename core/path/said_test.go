package path

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds all that is said of ways through made-up rulebooks, and of those that are closed, against
// testdata/said.txt, so that a change of it is seen.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	tell := func(name string, a *Answer) {
		fmt.Fprintf(&b, "## %s: %s to %s %s, found %v\n", name, a.From, a.To, a.Family, a.Found)
		for _, h := range a.Hops {
			fmt.Fprintf(&b, "hop %s\n", pagetest.Line(h))
		}
		for _, r := range a.Blocked {
			fmt.Fprintf(&b, "blocked %s\n", pagetest.Line(r))
		}
		for _, u := range a.Unsettled {
			fmt.Fprintf(&b, "unsettled %s\n", u)
		}
		for _, o := range a.Alternatives {
			fmt.Fprintf(&b, "or %s\n", short(o.Hops))
		}
		if len(a.Maybe) > 0 {
			fmt.Fprintf(&b, "maybe %s\n", short(a.Maybe))
		}
		if a.Capped != nil {
			fmt.Fprintf(&b, "capped %s\n", pagetest.Line(a.Capped))
		}
		if a.Back != nil {
			fmt.Fprintf(&b, "back %v by %s, %s: %s %s\n", a.Back.Found, a.Back.By, short(a.Back.Hops), a.Back.Because, pagetest.Line(a.Back.Sources))
			for _, n := range a.Back.Notes {
				fmt.Fprintf(&b, "back, note %s\n", n)
			}
		}
		for _, n := range a.Notes {
			fmt.Fprintf(&b, "note %s\n", n)
		}
		b.WriteString("\n")
	}
	for _, device := range []string{at1, strings.Replace(at1, "5.1", "4.9", 1), strings.Replace(at1, "main: '1.0', boot: '1.0'", "main: '3.0', boot: '2.2'", 1), strings.Replace(at1, ", boot: '1.0'", "", 1)} {
		for _, goal := range []string{"1.0", "2.0", "2.5", "3.0", "latest"} {
			tell(strings.ReplaceAll(strings.TrimSpace(device), "\n", ", "), ask(t, lineRules, device, Request{Goal: Goal{Version: goal}}).Plans[0])
		}
	}
	chassis := map[string]*Answer{}
	stock := "group: chassis\nmembers:\n  - {name: ctl, model: CH, installed: {main: '1'}}\n  - {name: c1, model: CARD, installed: {image: '1'}}\n  - {name: c2, model: CARD, installed: {image: '2'}}\n"
	for name, rules := range map[string]string{"back again": strings.NewReplacer("upward: open", "upward: open\n  downward: open", "core: {components: {main: {}}}", "core: {components: {main: {slotted: true}}, factory_reset: other-slot}").Replace(chassisRules), "no way back": chassisRules, "one is stuck": strings.Replace(chassisRules, "rules: [", "rules: [{to: '3', allow: false, from_family: line}, ", 1)} {
		chassis[name] = ask(t, rules, stock, Request{Goal: Goal{Version: "3"}}).Plans[0]
	}
	for _, name := range slices.Sorted(maps.Keys(chassis)) {
		tell("chassis, "+name, chassis[name])
	}
	for seed := range 200 {
		if p := makePlan(rand.New(rand.NewPCG(uint64(seed), 6))); p.goal != 0 {
			tell(fmt.Sprintf("seed %d", seed), p.find(t))
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}
