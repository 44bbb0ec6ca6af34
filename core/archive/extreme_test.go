package archive

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// extremes are numbers of 16 and 32 bits at which sizes and offsets turn over, in either byte order.
var extremes = [][]byte{{0, 0, 0, 0}, {0xff, 0xff, 0xff, 0xff}, {0x7f, 0xff, 0xff, 0xff}, {0xff, 0xff, 0xff, 0x7f}, {0, 0}, {0xff, 0xff}, {0, 1}, {1, 0}}

// Whatever number stands anywhere in an archive, a walk ends within its bounds, and in words.
func TestExtremeNumbers(t *testing.T) {
	l := DefaultLimits()
	l.Bytes, l.Items, l.ItemFree, l.TotalFree = 8<<20, 500, 1<<20, 4<<20
	dir := t.TempDir()
	for kind, encode := range encoders {
		data := encode(entry{"a.img", "one", ""}, entry{"b/c.img", "two two two", ""})
		p := filepath.Join(dir, "p."+kind)
		step := max(2, len(data)/600&^1)
		for at := 0; at < len(data); at += step {
			for _, number := range extremes {
				other := bytes.Clone(data)
				copy(other[at:], number)
				if bytes.Equal(other, data) {
					continue
				}
				require.NoError(t, os.WriteFile(p, other, 0o644))
				n := &notes{content: map[string]string{}}
				err := Walk(context.Background(), p, l, n)
				var bound *BoundError
				var open *OpenError
				require.True(t, err == nil || errors.As(err, &bound) || errors.As(err, &open), "%s, %x at %d: %v", kind, number, at, err)
				if err == nil {
					require.Equal(t, string(other), n.content[NameOf(p)], "%s, %x at %d", kind, number, at)
				}
				for _, problem := range n.problems {
					require.NotContains(t, problem.What, "runtime error", "%s, %x at %d", kind, number, at)
				}
			}
		}
	}
}
