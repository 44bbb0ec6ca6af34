package rulebook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const recoveryRules = `kind: rulebook
title: t
maker: m
models:
  R1: {families: [f], revisions: {v1: {arch: mips}, v2: {arch: mips}, v3: {arch: mips}}}
  R2: {families: [f]}
families: {f: {components: {main: {}}}}
recovery:
  - models: [R1]
    revisions: [v2-v3]
    signs: {ping_ttl: 200, lamp: blinks}
    network: {device: 10.0.0.1, host: 10.0.0.2/24}
    transfer: {protocol: tftp, direction: serve, file: r1.img, within: 20s, blocksize: true}
    accepts: {formats: [trx], largest: 8MiB, wrapped: true}
    afterwards: {wait: 1m30s}
  - {models: [R1], revisions: [v1], transfer: {protocol: tftp}}
procedure:
  backup: 'save to {{.Server}}/{{.Device}}'
  transfer: |
    get {{.File}}{{if .Slot}} slot {{.Slot}}{{end}}
    size {{.Size}}
`

func TestRecoveryFor(t *testing.T) {
	r, err := Read("r.yaml", []byte(recoveryRules))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		model, revision string
		want            int // index, -1 for none
		unsure          bool
	}{
		"by its revision":     {"r1", "v2", 0, false},
		"within a range":      {"R1", "v3", 0, false},
		"the other entry":     {"R1", "v1", 1, false},
		"revision not known":  {"R1", "", -1, true},
		"revision of no rule": {"R1", "v9", -1, true},
		"another model":       {"R2", "", -1, false},
	} {
		got, unsure := r.RecoveryFor(c.model, c.revision)
		assert.Equal(t, c.unsure, unsure, name)
		if c.want < 0 {
			assert.Nil(t, got, name)
		} else {
			assert.Same(t, &r.Recovery[c.want], got, name)
		}
	}
	e := r.Recovery[0]
	assert.Equal(t, 20*time.Second, e.Transfer.Within.Time)
	assert.Equal(t, 90*time.Second, e.Afterwards.Wait.Time)
	assert.True(t, *e.Accepts.Wrapped)
	assert.Nil(t, r.Recovery[1].Accepts.Wrapped, "not said is neither")
	var none *Rulebook
	got, unsure := none.RecoveryFor("R1", "v1")
	assert.Nil(t, got)
	assert.False(t, unsure)
}

func TestSay(t *testing.T) {
	r, err := Read("r.yaml", []byte(recoveryRules))
	require.NoError(t, err)
	text, ok := r.Say("backup", Wording{Server: "192.0.2.1", Device: "cab"})
	assert.True(t, ok)
	assert.Equal(t, "save to 192.0.2.1/cab", text)
	text, _ = r.Say("transfer", Wording{File: "a.img", Size: 7})
	assert.Equal(t, "get a.img\nsize 7\n", text)
	text, _ = r.Say("transfer", Wording{File: "a.img", Slot: "B"})
	assert.Equal(t, "get a.img slot B\nsize 0\n", text)
	_, ok = r.Say("restart", Wording{})
	assert.False(t, ok, "not given")
}
