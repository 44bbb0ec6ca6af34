package archive

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of every kind of fault, those beyond the bound are counted; none drops out.
func TestTellerCountsEveryClass(t *testing.T) {
	for _, c := range []Class{Damaged, Unreadable, Unsafe, Denied, Note} {
		p := &pass{it: &Item{Address: "a"}}
		told := &reporter{p: p}
		for range maxTold + 3 {
			told.tell(c, "", "a fault")
		}
		told.end()
		require.Len(t, p.problems, maxTold+1, c)
		assert.Equal(t, c, p.problems[maxTold].Class)
		assert.Equal(t, "and 3 more of the kind", p.problems[maxTold].What)
	}
}
