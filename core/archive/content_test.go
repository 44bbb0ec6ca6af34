package archive

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func allOf(t *testing.T, c *Content) string {
	t.Helper()
	data, err := io.ReadAll(c.Reader(0, c.Size()))
	require.NoError(t, err)
	return string(data)
}

// What an image holds is inflated with what stands behind it left alone, and
// how much of it the stream took is told: padding of flash may follow.
func TestInflate(t *testing.T) {
	plain := strings.Repeat("Brackwater Tramway ", 9000)
	for name, method := range map[string]Compression{"gz": GzipStream, "xz": XzStream, "lzma": LzmaStream, "lz4": Lz4Stream, "zst": ZstdStream} {
		packed := streamOf(t, name, []byte(plain))
		for what, behind := range map[string][]byte{"nothing": nil, "erased flash": bytes.Repeat([]byte{0xff}, 5000), "zeros": make([]byte, 5000)} {
			c := Memory("f", append(bytes.Clone(packed), behind...))
			inner, took, problem, err := c.InflateCounted(method)
			require.NoError(t, err, "%s before %s", name, what)
			require.NotNil(t, inner, "%s before %s: %s", name, what, problem)
			assert.Equal(t, plain, allOf(t, inner), "%s before %s", name, what)
			assert.LessOrEqual(t, took, int64(len(packed)+len(behind)))
			if what == "nothing" {
				assert.Empty(t, problem, name)
				assert.EqualValues(t, len(packed), took, name)
			}
			require.NoError(t, inner.Close())
		}
		inner, problem, err := Memory("f", packed[:len(packed)*2/3]).Inflate(method)
		require.NoError(t, err)
		assert.NotEmpty(t, problem, "%s cut short", name)
		inner.Close()
	}
	inner, problem, err := Memory("f", []byte("no stream at all, just words")).Inflate(GzipStream)
	require.NoError(t, err)
	assert.Nil(t, inner)
	assert.NotEmpty(t, problem)
	require.NoError(t, inner.Close(), "closing nothing is no fault")
}

func TestInflateIsBounded(t *testing.T) {
	bomb := gzOf("", make([]byte, 32<<20))
	for bound, set := range map[string]func(*Limits){
		BoundBytes: func(l *Limits) { l.Bytes = 1 << 20 },
		BoundDepth: func(l *Limits) { l.Depth = 0 },
		"ratio":    func(l *Limits) { l.ItemFree, l.ItemRatio = 1<<20, 10 },
	} {
		l := DefaultLimits()
		set(&l)
		_, _, err := MemoryWithin("f", bomb, l).Inflate(GzipStream)
		var b *BoundError
		require.ErrorAs(t, err, &b, bound)
		assert.Contains(t, b.Bound, bound)
	}
}

func TestPart(t *testing.T) {
	c := Memory("f.img", []byte("0123456789"))
	p, err := c.Part("kernel\x1b", 3, 4)
	require.NoError(t, err)
	assert.Equal(t, "3456", allOf(t, p))
	assert.NotContains(t, p.Address(), "\xff")
	deeper, err := p.Part("dtb", 1, 2)
	require.NoError(t, err)
	assert.Equal(t, "45", allOf(t, deeper))
	assert.True(t, strings.HasSuffix(deeper.Address(), "::dtb"))
	for _, out := range [][2]int64{{0, 11}, {10, 1}, {-1, 2}, {2, -1}, {1 << 62, 1 << 62}} {
		_, err := c.Part("x", out[0], out[1])
		assert.ErrorContains(t, err, "reaches past the end", "%v", out)
	}
	assert.Equal(t, "89", allOf(t, c.Section(8, 2)))
	buf := make([]byte, 4)
	n, err := c.ReadAt(buf, 8)
	assert.Equal(t, 2, n)
	assert.Equal(t, io.EOF, err)
	_, err = c.ReadAt(buf, 10)
	assert.Equal(t, io.EOF, err)
	_, err = c.ReadAt(buf, -1)
	assert.Error(t, err)
}

// Names of items in another encoding than UTF-8 stay apart from each other.
func TestPrintable(t *testing.T) {
	assert.Equal(t, "ger%E4t.img", printable("ger\xe4t.img"))
	assert.Equal(t, "gerät.img", printable("gerät.img"))
	assert.NotEqual(t, printable("a\xe4"), printable("a\xf6"))
}
