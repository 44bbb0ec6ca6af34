package format_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
)

// quick reads no more of a file than its first bytes.
type quick struct {
	t    *testing.T
	kind string
	m    *image.Image
	n    int
}

type quickSink struct {
	q *quick
	r *image.Reading
}

func (q *quick) Report(archive.Problem) {}
func (q *quick) Begin(it *archive.Item, head []byte) archive.Sink {
	return &quickSink{q, image.Begin(format.Builtin(), head, it.Size, it.Container != archive.None)}
}

func (s *quickSink) Skip() bool { return true }
func (s *quickSink) Keep() bool { return false }
func (s *quickSink) Write(p []byte) (int, error) {
	s.q.n += len(p)
	return s.r.Write(p)
}

func (s *quickSink) End(c *archive.Content, _ []archive.Problem) (err error) {
	s.q.kind, s.q.m, err = s.r.End(c)
	return err
}

// What was not read is neither called whole nor damaged: its checksums are
// marked as left out.
func TestQuickReading(t *testing.T) {
	big := uimage(5, 2, 2, 0, "QM-8T 8.4.2", bytes.Repeat([]byte("payload "), 64<<10))
	for _, flip := range []int{-1, 40, len(big) - 5} {
		data := bytes.Clone(big)
		if flip >= 0 {
			data[flip] ^= 1
		}
		p := filepath.Join(t.TempDir(), "a.img")
		require.NoError(t, os.WriteFile(p, data, 0o644))
		q := &quick{t: t}
		require.NoError(t, archive.Walk(context.Background(), p, archive.DefaultLimits(), q))
		require.Equal(t, "uimage", q.kind)
		require.NotNil(t, q.m)
		assert.Less(t, q.n, len(big), "it is not read to its end")
		require.Len(t, q.m.Sums, 2)
		assert.Equal(t, flip != 40, q.m.Sums[0].OK, "what lies in the first bytes is still checked")
		assert.True(t, q.m.Sums[1].Skipped)
		assert.False(t, q.m.Sums[1].OK, "never said to hold")
		assert.Equal(t, flip == 40, len(q.m.Damaged()) > 0)
	}
}
