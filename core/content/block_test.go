package content

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"crypto/sha256"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"

	"fitcheck/internal/pagetest"
)

// TestWhatPackedBlocksHold holds what comes of blocks that are sound, cut, longer or shorter than they ought to be, or packed in ways
// that are not read, against testdata/blocks.txt. One inflater takes them all, as that of a file system does.
func TestWhatPackedBlocksHold(t *testing.T) {
	text := []byte(strings.Repeat("8.4.2 of the tram line\n", 200))
	blocks := packedBlocks(t, text)
	var b strings.Builder
	one := &inflater{}
	for _, name := range slices.Sorted(maps.Keys(blocks)) {
		method, src := strings.Fields(name)[0], blocks[name]
		fmt.Fprintf(&b, "## %s\n", name)
		told := func(what string, room int, data []byte) {
			for _, how := range []string{"", "begun "} {
				dst := make([]byte, room)
				read := one.inflate
				if how != "" {
					if read = one.begin; method != "deflate" && method != "zstd" {
						continue
					}
				}
				n, err := read(method, dst, data)
				if err != nil {
					fmt.Fprintf(&b, "%s%s into %d: %v\n", how, what, room, err)
					continue
				}
				is := "other bytes"
				if bytes.HasPrefix(text, dst[:n]) {
					is = "its bytes"
				}
				fmt.Fprintf(&b, "%s%s into %d: %d of %s\n", how, what, room, n, is)
			}
		}
		for _, room := range []int{0, 1, len(text) - 1, len(text), len(text) + 1, 8192} {
			told("whole", room, src)
		}
		for _, n := range []int{0, 1, 2, 4, 5, 12, 13, 14, len(src) / 2, len(src) - 1} {
			if n <= len(src) {
				told(fmt.Sprintf("%d bytes of it", n), len(text), src[:n])
			}
		}
		told("with bytes behind it", len(text), append(slices.Clone(src), "behind"...))
		told("nonsense", len(text), bytes.Repeat([]byte{0xa5}, 64))
		told("whole once more", len(text), src)
		all := sha256.New()
		for i := range src {
			other := bytes.Clone(src)
			other[i] ^= 0x10
			dst := make([]byte, len(text))
			n, err := one.inflate(method, dst, other)
			fmt.Fprintln(all, i, n, err, bytes.HasPrefix(text, dst[:n]))
		}
		fmt.Fprintf(&b, "each byte another: in all %.4x\n\n", all.Sum(nil))
	}
	pagetest.Hold(t, filepath.Join("testdata", "blocks.txt"), b.String())
}

// packedBlocks packs a text by every method, under names that begin with the method's.
func packedBlocks(t *testing.T, text []byte) map[string][]byte {
	written := func(make func(w io.Writer) (io.WriteCloser, error)) []byte {
		var b bytes.Buffer
		w, err := make(&b)
		require.NoError(t, err)
		_, err = w.Write(text)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	byXz := func(c xz.WriterConfig) []byte {
		return written(func(w io.Writer) (io.WriteCloser, error) { return c.NewWriter(w) })
	}
	out := map[string][]byte{
		"gzip":    written(func(w io.Writer) (io.WriteCloser, error) { return zlib.NewWriter(w), nil }),
		"deflate": written(func(w io.Writer) (io.WriteCloser, error) { return flate.NewWriter(w, 9) }),
		"lzma": written(func(w io.Writer) (io.WriteCloser, error) {
			return lzma.WriterConfig{SizeInHeader: true, Size: int64(len(text))}.NewWriter(w)
		}),
		"lzma to a mark":         written(func(w io.Writer) (io.WriteCloser, error) { return lzma.WriterConfig{EOSMarker: true}.NewWriter(w) }),
		"xz":                     byXz(xz.WriterConfig{}),
		"xz with CRC-32":         byXz(xz.WriterConfig{CheckSum: xz.CRC32}),
		"xz with SHA-256":        byXz(xz.WriterConfig{CheckSum: xz.SHA256}),
		"xz without check":       byXz(xz.WriterConfig{NoCheckSum: true}),
		"xz of 16 MiB":           byXz(xz.WriterConfig{DictCap: 16 << 20}),
		"xz of 64 MiB":           byXz(xz.WriterConfig{DictCap: 64 << 20}),
		"zstd":                   written(func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w) }),
		"zstd with check":        written(func(w io.Writer) (io.WriteCloser, error) { return zstd.NewWriter(w, zstd.WithEncoderCRC(true)) }),
		"zstd of 32 MiB":         {0x28, 0xb5, 0x2f, 0xfd, 0x00, 15 << 3, 1, 0, 0},
		"zstd by a dictionary":   {0x28, 0xb5, 0x2f, 0xfd, 0x21, 7, 0, 1, 0, 0},
		"zstd without any bytes": {0x28, 0xb5, 0x2f, 0xfd, 0x20, 0, 1, 0, 0},
		"lzo":                    append([]byte{17 + 22}, append(bytes.Clone(text[:22]), 0x11, 0, 0)...),
		"brotli":                 text[:40],
	}
	packed := make([]byte, 8192)
	n, err := new(lz4.Compressor).CompressBlock(text, packed)
	require.NoError(t, err)
	out["lz4"] = packed[:n]
	return out
}
