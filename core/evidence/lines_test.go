package evidence

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// Around a line stand its neighbours; of a line that is not there nothing is shown.
func TestNeighbours(t *testing.T) {
	text := func(n int) []byte {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, "line %d\r\n", i+1)
		}
		return []byte(b.String())
	}
	shown := func(data []byte, line int) string {
		var out []string
		for _, l := range neighbours(data, line) {
			mark := ""
			if l.Cited {
				mark = "*"
			}
			out = append(out, fmt.Sprintf("%d%s %s", l.Number, mark, l.Text))
		}
		return strings.Join(out, ", ")
	}
	assert.Equal(t, "1* line 1, 2 line 2, 3 line 3", shown(text(9), 1))
	assert.Equal(t, "3 line 3, 4 line 4, 5* line 5, 6 line 6, 7 line 7", shown(text(9), 5))
	assert.Equal(t, "7 line 7, 8 line 8, 9* line 9", shown(text(9), 9))
	assert.Empty(t, shown(text(9), 10), "the neighbours alone would be no evidence")
	assert.Empty(t, shown(text(9), 11))
	assert.Empty(t, shown(text(9), 0))
	assert.Empty(t, shown(nil, 1))
	assert.Equal(t, "1* "+strings.Repeat("x", longest), shown([]byte(strings.Repeat("x", longest)+"\n"), 1))
	assert.Equal(t, "1* "+strings.Repeat("x", longest)+" …", shown([]byte(strings.Repeat("x", longest+1)), 1))
}
