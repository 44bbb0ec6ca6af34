package survey

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/image/format"
	"fitcheck/demo"
)

// A quick look inflates the beginning of a stream: what lies there is told, what lies behind is
// told not to be listed, and neither is called damaged.
func TestQuickReadsHeads(t *testing.T) {
	noise := make([]byte, 4<<20)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	var packed, plain bytes.Buffer
	z := gzip.NewWriter(&packed)
	for _, w := range []*tar.Writer{tar.NewWriter(z), tar.NewWriter(&plain)} {
		for _, f := range []struct {
			name string
			data []byte
		}{{"first.img", demo.UImage(5, 2, 2, "KX-2 1.0.0", noise[:1000])}, {"disk.gz", gz(t, noise)}, {"last.img", demo.UImage(5, 2, 2, "KX-2 1.0.1", noise[:1000])}} {
			require.NoError(t, w.WriteHeader(&tar.Header{Name: f.name, Size: int64(len(f.data)), Mode: 0o644, Typeflag: tar.TypeReg}))
			_, err := w.Write(f.data)
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
	}
	require.NoError(t, z.Close())
	dir := t.TempDir()
	quick := func(name string, data []byte) (kinds map[string]string, notes []archive.Problem) {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, data, 0o644))
		s, err := Run(context.Background(), path, Options{Limits: archive.DefaultLimits(), Formats: format.Builtin(), Quick: true})
		require.NoError(t, err)
		kinds = map[string]string{}
		for _, it := range s.Items {
			kinds[it.Name] = it.Kind
			assert.True(t, it.Quick, it.Address)
			assert.Empty(t, it.Digests, it.Address)
		}
		for _, p := range s.Problems {
			assert.Equal(t, archive.Note, p.Class, "%s: %s", p.Item, p.What)
		}
		return kinds, s.Problems
	}
	kinds, notes := quick("p.tar.gz", packed.Bytes())
	assert.Equal(t, "uimage", kinds["first.img"])
	assert.NotContains(t, kinds, "last.img")
	require.Len(t, notes, 1)
	assert.Contains(t, notes[0].What, "what lies behind its first 1024 KiB is not listed")

	kinds, notes = quick("p.tar", plain.Bytes())
	assert.Equal(t, map[string]string{"p.tar": "tar", "first.img": "uimage", "disk.gz": "gzip", "disk": "unknown", "last.img": "uimage"}, kinds)
	assert.Empty(t, notes)
}
