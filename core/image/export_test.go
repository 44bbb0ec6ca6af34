package image

import "fitcheck/core/fact"

// ConformanceSample is a sample in a form that the conformance test can take: that one imports this
// package, so that this package's tests cannot import it.
type ConformanceSample struct {
	Name, Kind  string
	Data        []byte
	Facts       map[fact.Name]string
	Sums        int
	Parts       []string
	Open, Loose bool
	Whole       []int
	Patches     []ConformancePatch
}

// ConformancePatch is a broken field in such a form.
type ConformancePatch struct {
	What  string
	At    int
	Bytes string
	Says  string
}

// ConformanceSamples are the samples of this package's formats.
func ConformanceSamples() []ConformanceSample {
	var out []ConformanceSample
	for _, s := range samples() {
		c := ConformanceSample{s.name, s.kind, s.data, s.facts, s.sums, s.parts, s.open, s.loose, s.whole, nil}
		for _, p := range s.patches {
			c.Patches = append(c.Patches, ConformancePatch{p.what, p.at, p.bytes, p.says})
		}
		out = append(out, c)
	}
	return out
}
