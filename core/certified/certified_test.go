package certified

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

const rules = `kind: rulebook
title: t
models:
  Q1: {also: [Q-1], families: [f]}
  Q2: {families: [g]}
families:
  f: {components: {boot: {optional: true}, main: {}}}
  g: {components: {loader: {}, system: {}}, paired: [[loader, system]]}
versions: {default: {pattern: '^(?P<a>\d+)\.(?P<b>\d+)(?: build (?P<build>\d+))?$', order: [a, b, build]}}
certified: [{name: s, versions: [{model: Q-1, main: '2.0', boot: '>=1.0 <1.5 || >=3.0'}, {model: Q2, main: '2.0 build 7', system: '2.0'}]}]
`

// Each component is below, on or beyond what the set wants, and the worst is the device's.
func TestJudge(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte(rules))
	require.NoError(t, err)
	set := &rulebook.CertifiedSet{Name: "s"}
	for i := range rb.Certified[0].Versions {
		set.Entries = append(set.Entries, rulebook.CertifiedEntry{In: rb, CertifiedVersion: &rb.Certified[0].Versions[i]})
	}
	for dev, want := range map[string]State{
		"model: Q1\ninstalled: {main: '2.0', boot: '1.2'}":             On,
		"model: Q1\ninstalled: {main: '1.9', boot: '1.2'}":             Below,
		"model: Q1\ninstalled: {main: '2.1', boot: '1.2'}":             Beyond,
		"model: Q1\ninstalled: {main: '2.0', boot: '2.0'}":             Below, // between two ranges: a newer one is wanted
		"model: Q1\ninstalled: {main: '2.1', boot: '0.9'}":             Below,
		"model: Q1\ninstalled: {main: '2.0'}":                          Unknown,
		"model: Q1\ninstalled: {main: '1.0'}":                          Below, // whatever the boot loader is
		"model: Q9\ninstalled: {main: '2.0'}":                          Unknown,
		"model: Q2\ninstalled: {loader: '2.0 build 7', system: '2.0'}": On,
		"model: Q2\ninstalled: {loader: '2.0', system: '2.0'}":         Unknown, // the build decides
		"model: Q2\ninstalled: {loader: '2.0 build 9', system: '2.0'}": Beyond,
		"model: QX # GUESS\ninstalled: {main: '2.0'}":                  Unknown,
		"group: stack\nmembers: [{name: a, model: Q1, installed: {main: '2.0', boot: '3.0'}}, {name: b, model: Q1, installed: {main: '1.0', boot: '3.0'}}]": Below,
	} {
		d, err := device.Read("d.yaml", []byte("kind: device\nname: box\n"+dev+"\n"))
		require.NoError(t, err)
		res := Judge(d, func(m string) *rulebook.Rulebook {
			if _, ok := rb.FindModel(m); ok {
				return rb
			}
			return nil
		}, set)
		assert.Equal(t, want, res.State, dev)
	}
}
