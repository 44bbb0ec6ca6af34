package digest

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCoverage(t *testing.T) {
	c := func(from, to int64, by Proof, holds bool) Cover {
		return Cover{Stretch: Stretch{from, to}, By: by, Of: by.String(), Holds: holds}
	}
	pad := Cover{Stretch: Stretch{90, 100}, By: ByStructure, Of: "padding", Holds: true, Padding: true}
	got := Coverage(100, []Cover{c(0, 100, ByArchive, true), c(0, 80, ByStructure, true), c(10, 60, ByChecksum, true), c(20, 30, ByChecksum, false), pad})
	assert.Equal(t, []Cover{c(0, 10, ByStructure, true), c(10, 20, ByChecksum, true), c(20, 30, ByChecksum, false), c(30, 60, ByChecksum, true), c(60, 80, ByStructure, true), c(80, 90, ByArchive, true), pad}, got)
	w, ok := Weakest(got)
	assert.True(t, ok)
	assert.Equal(t, c(20, 30, ByChecksum, false), w, "what does not hold is the weakest")
	w, _ = Weakest(Coverage(100, []Cover{c(0, 90, ByChecksum, true), pad}))
	assert.Equal(t, ByChecksum, w.By, "padding needs no proof")
	_, ok = Weakest(Coverage(0, nil))
	assert.False(t, ok)
	assert.Len(t, Proofs(), int(BySignature)+1)
}

// Byte by byte, each stretch of a coverage has the strongest of the proofs that were
// given for it; the stretches follow each other from the first byte to the last.
func TestCoverageByByte(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	for range 500 {
		const size = 60
		var all []Cover
		for range r.IntN(12) {
			from := r.Int64N(size + 5)
			all = append(all, Cover{Stretch: Stretch{from, from + r.Int64N(30)}, By: Proof(r.IntN(len(proofNames))), Holds: r.IntN(6) > 0, Padding: r.IntN(8) == 0})
		}
		got := Coverage(size, all)
		at := int64(0)
		for _, c := range got {
			assert.Equal(t, at, c.From)
			assert.Less(t, c.From, c.To)
			at = c.To
			for b := c.From; b < c.To; b++ {
				best := Cover{Holds: true}
				for _, o := range all {
					if o.From <= b && b < o.To && o.rank() > best.rank() {
						best = o
					}
				}
				assert.Equal(t, best.rank(), c.rank(), "byte %d of %v", b, all)
			}
		}
		assert.EqualValues(t, size, at)
	}
}
