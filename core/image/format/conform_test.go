package format_test

import (
	"testing"

	"fitcheck/core/image/format"
	"fitcheck/core/image/imagetest"
)

// TestConformance is what each registered format passes.
func TestConformance(t *testing.T) {
	s := imagetest.Suite{Set: format.Builtin(), Tests: "."}
	for _, one := range samples() {
		c := imagetest.Sample{Name: one.name, Kind: one.kind, Data: one.data, Facts: one.facts, Sums: one.sums, Parts: one.parts, Open: one.open, Loose: one.loose, Whole: one.whole}
		for _, p := range one.patches {
			c.Patches = append(c.Patches, imagetest.Patch{What: p.what, At: p.at, Bytes: p.bytes, Says: p.says})
		}
		s.Samples = append(s.Samples, c)
	}
	imagetest.Conform(t, s)
}
