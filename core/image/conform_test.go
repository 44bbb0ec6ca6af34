package image_test

import (
	"testing"

	"fitcheck/core/image"
	"fitcheck/core/image/imagetest"
)

// TestConformance is what each format of this package passes.
func TestConformance(t *testing.T) {
	s := imagetest.Suite{Set: image.Builtin(), Tests: ".", Docs: "../../docs/formats.md"}
	for _, one := range image.ConformanceSamples() {
		c := imagetest.Sample{Name: one.Name, Kind: one.Kind, Data: one.Data, Facts: one.Facts, Sums: one.Sums, Parts: one.Parts, Open: one.Open, Loose: one.Loose, Whole: one.Whole}
		for _, p := range one.Patches {
			c.Patches = append(c.Patches, imagetest.Patch(p))
		}
		s.Samples = append(s.Samples, c)
	}
	imagetest.Conform(t, s)
}
