package plan

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/rulebook"
)

// A hop leads down where its version is older, by the scheme of the family's main image; into another family it is
// another software, whose versions say nothing.
func TestDownward(t *testing.T) {
	rb, err := rulebook.Read("r.yaml", []byte("kind: rulebook\ntitle: t\nmodels: {Q1: {families: [f, g]}}\nfamilies: {f: {components: {main: {}}}, g: {components: {main: {}}}}\nversions: {default: {pattern: '^(?P<a>\\d+)\\.(?P<b>\\d+)$', order: [a, b]}}\nreleases: [{version: '1.0'}]\n"))
	require.NoError(t, err)
	d, err := device.Read("d.yaml", []byte("kind: device\nname: d\nmodel: Q1\n"))
	require.NoError(t, err)
	w := &writer{t: &Target{Device: d, Rules: func(string) *rulebook.Rulebook { return rb }}}
	for _, c := range []struct {
		from, to, fromFamily, family string
		want                         bool
	}{
		{"2.0", "1.0", "f", "f", true}, {"2.10", "2.9", "f", "F", true}, {"2.0", "1.0", "", "", true}, {"2.9", "2.10", "f", "f", false}, {"2.0", "2.0", "f", "f", false},
		{"2.0", "1.0", "f", "g", false}, {"2.0", "1.0", "f", "", true}, {"old", "1.0", "f", "f", false}, {"2.0", "new", "f", "f", false}, {"", "1.0", "f", "f", false},
	} {
		st := &Step{}
		st.From, st.To, st.FromFamily, st.Family = c.from, c.to, c.fromFamily, c.family
		assert.Equal(t, c.want, w.downward(st, d), "%+v", c)
	}
}
