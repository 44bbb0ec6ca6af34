package digest

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"fitcheck/internal/pagetest"
)

// Coverage of covers at random: every byte has one stretch, with the strongest of what is there; testdata/covered.txt
// holds how it is written.
func TestWhatIsCovered(t *testing.T) {
	var b strings.Builder
	r := rand.New(rand.NewPCG(4, 4))
	for i := range 300 {
		const size = 20
		var all []Cover
		for range r.IntN(6) {
			from := r.Int64N(size)
			all = append(all, Cover{Stretch: Stretch{from, from + r.Int64N(size+2-from)}, By: Proof(r.IntN(len(Proofs()))), Of: string(rune('a' + r.IntN(3))), Holds: r.IntN(5) > 0, Padding: r.IntN(6) == 0})
		}
		got := Coverage(size, all)
		at := int64(0)
		for _, c := range got {
			assert.Equal(t, at, c.From)
			at = c.To
			for _, other := range all {
				if other.From < other.To && other.From < c.To && other.To > c.From && !(other.Holds && !other.Padding && other.By == Unproven) {
					assert.LessOrEqual(t, other.rank(), c.rank(), "%v of %v", c, all)
				}
			}
		}
		assert.Equal(t, int64(size), at)
		weakest, ok := Weakest(got)
		if i < 60 {
			fmt.Fprintf(&b, "%v\n    %v, weakest %v %v\n", all, got, weakest, ok)
		}
	}
	for _, text := range []string{"", "sha256:", "sha256:00", "md5:d41d8cd98f00b204e9800998ecf8427e", "MD5:D41D8CD98F00B204E9800998ECF8427E", "d41d8cd98f00b204e9800998ecf8427e", strings.Repeat("a", 64), strings.Repeat("a", 63), strings.Repeat("g", 64), "crc32:12345678", "12345678", strings.Repeat("a", 40), strings.Repeat("a", 96), strings.Repeat("A", 128), "no:12", "sha1:" + strings.Repeat("0", 40), " md5:d41d8cd98f00b204e9800998ecf8427e "} {
		sum, err := Parse(text)
		fmt.Fprintf(&b, "%q: %v %v\n", text, sum, err)
	}
	pagetest.Hold(t, filepath.Join("testdata", "covered.txt"), b.String())
}
