package truth

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is not known decides nothing, and is decided by nothing but the other
// side: each value stands for the set of answers that are still possible.
func TestTables(t *testing.T) {
	possible := map[Truth][]bool{Unknown: {false, true}, Yes: {true}, No: {false}}
	both := func(a, b Truth, of func(x, y bool) bool) Truth {
		seen := map[bool]bool{}
		for _, x := range possible[a] {
			for _, y := range possible[b] {
				seen[of(x, y)] = true
			}
		}
		if len(seen) == 2 {
			return Unknown
		}
		return Of(seen[true])
	}
	for a := range possible {
		for b := range possible {
			assert.Equal(t, both(a, b, func(x, y bool) bool { return x && y }), a.And(b), "%s and %s", a, b)
			assert.Equal(t, both(a, b, func(x, y bool) bool { return x || y }), a.Or(b), "%s or %s", a, b)
		}
		assert.Equal(t, a, a.Not().Not())
	}
	assert.Equal(t, Unknown, *new(Truth), "what nobody set is not known")
}
