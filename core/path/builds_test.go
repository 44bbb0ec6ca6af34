package path

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
	"fitcheck/internal/pagetest"
)

// TestWhatOpenBuildsLeaveUnsettled holds the ways between versions of which some leave their build open, under every policy of hops and
// with rules that name builds and leave them open, against testdata/builds.txt.
func TestWhatOpenBuildsLeaveUnsettled(t *testing.T) {
	const book = `kind: rulebook
title: t
models: {Q: {families: [f]}}
families: {f: {components: {main: {}}}}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?:-(?P<build>\d+))?$', order: [a, b]}}
releases: [%s]
hops: {%s}
`
	var b strings.Builder
	for _, releases := range [][]string{{"8.2", "8.2-3", "8.2-7", "8.4-1"}, {"8.2-3", "8.2-7", "8.4"}, {"8.2", "8.4"}, {"8.2-3", "8.4", "8.4-1", "8.4-2", "8.6"}} {
		var listed []string
		for _, v := range releases {
			listed = append(listed, fmt.Sprintf("{version: '%s', families: [f]}", v))
		}
		for _, hops := range []string{
			"upward: open, downward: open", "upward: open, downward: closed", "upward: open", "upward: listed, downward: open",
			"upward: open, downward: closed, rules: [{from: '8.2', to: '8.4', allow: false}]",
			"upward: open, downward: closed, rules: [{from: '8.2-3', to: '>=8.4', allow: false}]",
			"upward: open, downward: closed, rules: [{from: '<8.4', to: '>8.2-3', allow: true, resets_config: true}]",
			"upward: listed, downward: closed, rules: [{from: '8.2', to: '8.2-7', allow: true}, {from: '8.2-7', to: '8.4', allow: true}, {from: '*', to: '8.6', allow: true}]",
			"upward: listed, downward: closed, rules: [{from: '*', to: '8.2', allow: true}, {from: '8.4', to: '8.2-3', allow: true, resets_config: true}]",
		} {
			rb, err := rulebook.Read("r.yaml", fmt.Appendf(nil, book, strings.Join(listed, ", "), hops))
			require.NoError(t, err)
			fmt.Fprintf(&b, "## %s; %s\n", strings.Join(releases, " "), hops)
			for _, installed := range append([]string{"8.2-5"}, releases...) {
				d, err := device.Read("d.yaml", fmt.Appendf(nil, "kind: device\nname: d\nmodel: Q\nfamily: f\ninstalled: {main: '%s'}\n", installed))
				require.NoError(t, err)
				for _, goal := range releases {
					res, err := Find(Request{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }, Goal: Goal{Version: goal}})
					require.NoError(t, err)
					var ways, stands []string
					for _, plan := range res.Plans {
						for _, h := range plan.Hops {
							way := h.To
							if h.ResetsConfig {
								way += " (resets)"
							}
							ways = append(ways, way)
						}
					}
					for _, plan := range res.Plans {
						for _, x := range plan.Blocked {
							stands = append(stands, pagetest.Line(x))
						}
						for _, h := range plan.Maybe {
							stands = append(stands, "perhaps by "+h.To)
						}
					}
					fmt.Fprintf(&b, "%s to %s: found %v %s; %s\n", installed, goal, res.Found(), strings.Join(ways, ", "), pagetest.Cut(strings.Join(append(res.Unsettled(), stands...), "; "), 300))
				}
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "builds.txt"), b.String())
}
