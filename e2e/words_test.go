package e2e

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"fitcheck/e2e/program"
)

// wordRules is a line whose images say nothing of themselves: names, codes and digests do.
const wordRules = `kind: rulebook
title: lanterns
models:
  LT-5: {families: [stock, lantern], revisions: {v1: {arch: mips}, v2: {arch: mips}}}
families:
  stock:   {components: {main: {title: system image}}}
  lantern: {components: {main: {title: system image}}}
packages:
  - title: converter
    file: '^lt5-first-(?P<version>[\d.]+)\.(?P<kind>[34])\.bin$'
    stands_for: {family: lantern, from_family: stock}
    codes: {kind: {fact: platform, codes: {3: physical, 4: virtual}}}
    items: [{match: '*', component: main}]
  - title: update
    file: '^lt5-next-(?P<version>[\d.]+)\.bin$'
    stands_for: {family: lantern}
    items: [{match: '*', component: main}]
  - title: bundle
    file: '^lt5-(?P<version>[\d.]+)\.tar$'
    outer: tar
    items: [{match: '**/*.bin', component: main}]
by_digest:
  - {sha256: DIGEST, component: main, version: 3.4.0, families: [stock], models: [LT-5], revisions: [v2]}
releases:
  - {version: 3.4.0}
  - {version: 3.0.0, families: [stock]}
  - {version: 4.0.0, families: [lantern]}
  - {version: 4.1.0, families: [lantern], needs: [{companion: ctl, within: '>=9', revisions: [v1]}]}
hops:
  upward: open
  rules: [{from_family: stock, to_family: lantern, allow: true}]
`

// What the rulebook says of names, codes and digests.
func TestTheRulebooksWord(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	image := []byte("LT5 image, a format of nobody's" + strings.Repeat("\x01\x7f\xfe", 4000))
	sum := sha256.Sum256(image)
	program.Write(t, dir, "rulebooks/r.yaml", []byte(strings.Replace(wordRules, "DIGEST", hex.EncodeToString(sum[:]), 1)))
	r := program.Call(t, dir, "rulebook", "check", "rulebooks/r.yaml")
	assert.Equal(t, 0, r.Status, r.Out)
	for _, name := range []string{"lt5-first-4.0.0.3.bin", "lt5-first-4.0.0.4.bin", "lt5-next-4.1.0.bin", "x.bin", "lt5-4.0.0.tar"} {
		program.Write(t, dir, name, image)
	}
	program.Write(t, dir, "other/lt5-first-4.0.0.3.bin", append([]byte("LT5 one more"), image...))
	program.Write(t, dir, "other/lt5-next-4.1.0.bin", append([]byte("LT5 another"), image...))
	device := func(name, family, revision string) {
		program.Write(t, dir, "devices/"+name+".yaml", fmt.Appendf(nil, "kind: device\nname: %s\nmodel: LT-5\nrevision: %s\nfamily: %s\nplatform: physical\ninstalled: {main: '3.0.0'}\n", name, revision, family))
	}
	device("s2", "stock", "v2")
	device("s1", "stock", "v1")
	device("l2", "lantern", "v2")
	line := func(device, pkg, check string, flags ...string) string {
		r := program.Call(t, dir, append([]string{"match", "-json", "-others=false", "-device", device, pkg}, flags...)...)
		doc := program.One(t, r)
		lists := [][]any{doc["checks"].([]any)}
		for _, m := range doc["members"].([]any) {
			lists = append(lists, m.(map[string]any)["checks"].([]any))
		}
		for _, list := range lists {
			for _, c := range list {
				if c := c.(map[string]any); c["check"] == check {
					return fmt.Sprint(c["outcome"], " ", c["code"])
				}
			}
		}
		return "none"
	}
	// By digest alone: model, revision, component and version, and it is intact.
	assert.Equal(t, "fits model.named", line("s2", "x.bin", "model"))
	assert.Equal(t, "fits revision.named", line("s2", "x.bin", "revision"))
	assert.Equal(t, "misfit revision.excluded", line("s1", "x.bin", "revision"))
	assert.Equal(t, "fits intact.by_digest", line("s2", "x.bin", "intact"))
	assert.Equal(t, "fits family.named", line("s2", "x.bin", "family"))
	// By the name: which family it is of, and from which it leads.
	assert.Equal(t, "unsettled family.by_name_only", line("l2", "other/lt5-next-4.1.0.bin", "family"))
	assert.Equal(t, "fits family.trusted", line("l2", "other/lt5-next-4.1.0.bin", "family", "-trust-names"))
	assert.Equal(t, "unsettled family.by_name_only", line("s2", "other/lt5-next-4.1.0.bin", "family"), "the move is allowed, and only a name says what it is")
	assert.Equal(t, "misfit family.no_crossing", line("l2", "lt5-first-4.0.0.3.bin", "family"))
	assert.Equal(t, "misfit family.from_other", line("l2", "other/lt5-first-4.0.0.3.bin", "family"))
	assert.Equal(t, "unsettled family.contradicted", line("s2", "lt5-first-4.0.0.3.bin", "family"), "by its digest it is of stock")
	// By a code in the name.
	assert.Equal(t, "unsettled platform.by_name_only", line("s2", "lt5-first-4.0.0.3.bin", "platform"))
	assert.Equal(t, "unsettled platform.by_name_only", line("s2", "lt5-first-4.0.0.4.bin", "platform"))
	assert.Equal(t, "misfit handling.other_outer", line("s2", "lt5-4.0.0.tar", "handling"))
	// A need of one revision only.
	assert.Equal(t, "none", line("l2", "other/lt5-next-4.1.0.bin", "needs"))
	device("l1", "lantern", "v1")
	assert.Equal(t, "unsettled needs.device_unknown", line("l1", "other/lt5-next-4.1.0.bin", "needs"))
}
