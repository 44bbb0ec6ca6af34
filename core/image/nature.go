package image

import (
	"fmt"
	"math"
)

// nature gathers what can be said of a file of no known format: whether all
// its bytes are one, and how random they are.
type nature struct {
	same    bool
	fill    byte
	counts  [256]int64
	sampled int64
	at      int64
}

// A sample is taken at the beginning of every stride.
const (
	sampleSize   = 4 << 10
	sampleStride = 64 << 10
)

func (n *nature) begin(head []byte) {
	if len(head) > 0 {
		n.same, n.fill = head[0] == 0 || head[0] == 0xff, head[0]
	}
}

// write takes the bytes that stand at offset at.
func (n *nature) write(p []byte, at int64) {
	if n.same {
		for _, b := range p {
			if b != n.fill {
				n.same = false
				break
			}
		}
	}
	for i := int64(0); i < int64(len(p)); {
		inStride := (at + i) % sampleStride
		if inStride >= sampleSize {
			i += sampleStride - inStride
			continue
		}
		end := min(int64(len(p)), i+sampleSize-inStride)
		for _, b := range p[i:end] {
			n.counts[b]++
		}
		n.sampled += end - i
		i = end
	}
}

// Write implements io.Writer.
func (n *nature) Write(p []byte) (int, error) {
	n.write(p, n.at)
	n.at += int64(len(p))
	return len(p), nil
}

// uniform names a file whose bytes are all FF or all zero.
func (n *nature) uniform() string {
	switch {
	case !n.same:
		return ""
	case n.fill == 0:
		return "zeros"
	}
	return "blank"
}

// words says so when the bytes are as good as random.
func (n *nature) words() string {
	if n.sampled < 1<<10 {
		return ""
	}
	e := entropy(&n.counts, n.sampled)
	if randomLooking(e, n.sampled) {
		return fmt.Sprintf("its bytes look random (%.2f bits of entropy in a byte): it is encrypted, or compressed in a way that fitcheck does not know", e)
	}
	return ""
}

// entropy in bits per byte (Shannon).
func entropy(counts *[256]int64, total int64) float64 {
	e := 0.0
	for _, c := range counts {
		if c > 0 {
			p := float64(c) / float64(total)
			e -= p * math.Log2(p)
		}
	}
	return e
}

// randomLooking: uniformly random bytes have, in a sample of n, an entropy of
// about 8 - 255/(2 n ln 2) bits; compressed data stays a little below.
func randomLooking(e float64, n int64) bool {
	expected := 8 - 255/(2*float64(n)*math.Ln2)
	return e > expected-0.06
}

// AllOf tells whether all bytes are one.
func AllOf(b []byte, v byte) bool {
	for _, c := range b {
		if c != v {
			return false
		}
	}
	return true
}
