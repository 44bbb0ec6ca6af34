package serving

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Parts that meet or lie over each other count once, in whatever order they were fetched.
func TestPartsThatAreOver(t *testing.T) {
	for _, c := range []struct {
		parts []stretch
		over  int64
		left  []stretch
	}{
		{[]stretch{{0, 10}}, 10, []stretch{{0, 10}}},
		{[]stretch{{0, 10}, {10, 20}}, 20, []stretch{{0, 20}}},
		{[]stretch{{10, 20}, {0, 10}}, 20, []stretch{{0, 20}}},
		{[]stretch{{0, 10}, {5, 15}}, 15, []stretch{{0, 15}}},
		{[]stretch{{0, 30}, {5, 15}}, 30, []stretch{{0, 30}}},
		{[]stretch{{5, 15}, {0, 30}}, 30, []stretch{{0, 30}}},
		{[]stretch{{0, 10}, {11, 20}}, 19, []stretch{{0, 10}, {11, 20}}},
		{[]stretch{{20, 30}, {0, 10}, {9, 21}}, 30, []stretch{{0, 30}}},
		{[]stretch{{0, 10}, {0, 10}, {0, 10}}, 10, []stretch{{0, 10}}},
		{[]stretch{{0, 4}, {8, 12}, {16, 20}, {2, 9}}, 16, []stretch{{0, 12}, {16, 20}}},
	} {
		var f Fetch
		for _, p := range c.parts {
			f.add(p)
		}
		assert.Equal(t, c.over, f.over(), "%v", c.parts)
		assert.Equal(t, c.left, f.parts, "%v", c.parts)
	}
}
