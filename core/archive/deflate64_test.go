package archive

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// bitWriter writes a stream of Deflate64 with the fixed codes of RFC 1951, section 3.2.6.
type bitWriter struct {
	b    []byte
	bits uint64
	n    uint
}

func (w *bitWriter) put(v uint64, n uint) {
	w.bits |= v << w.n
	for w.n += n; w.n >= 8; w.n -= 8 {
		w.b = append(w.b, byte(w.bits))
		w.bits >>= 8
	}
}

// code writes a Huffman code, the highest bit first.
func (w *bitWriter) code(v uint64, n uint) {
	for i := range n {
		w.put(v>>(n-1-i)&1, 1)
	}
}

func (w *bitWriter) symbol(c int) {
	switch {
	case c < 144:
		w.code(uint64(0x30+c), 8)
	case c < 256:
		w.code(uint64(0x190+c-144), 9)
	case c < 280:
		w.code(uint64(c-256), 7)
	default:
		w.code(uint64(0xc0+c-280), 8)
	}
}

// copy writes a match by the code of long lengths.
func (w *bitWriter) copy(length, distance int) {
	w.symbol(285)
	w.put(uint64(length-3), 16)
	for code, base := 0, 1; code < 32; code++ {
		bits := uint(0)
		if code > 3 {
			bits = uint(code/2 - 1)
		}
		if distance < base+1<<bits {
			w.code(uint64(code), 5)
			w.put(uint64(distance-base), bits)
			return
		}
		base += 1 << bits
	}
	panic("no such distance")
}

func (w *bitWriter) end() []byte {
	w.symbol(256)
	w.put(0, 7)
	return w.b
}

func TestDeflate64(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	noise := make([]byte, 60000)
	for i := range noise {
		noise[i] = byte(random.Uint32())
	}
	w := &bitWriter{}
	w.put(3, 3) // the last block, fixed codes
	for _, c := range noise {
		w.symbol(int(c))
	}
	want := bytes.Clone(noise)
	for _, m := range [][2]int{{3, 1}, {258, 60000}, {65538, 50000}, {20000, 7}, {300, 65536}, {40000, 49153}} {
		w.copy(m[0], m[1])
		for range m[0] {
			want = append(want, want[len(want)-m[1]])
		}
	}
	packed := w.end()
	got, err := io.ReadAll(newDeflate64(bytes.NewReader(packed)))
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, got))

	// In a zip it is inflated, and held against the CRC-32 of the directory.
	pack := func(sum uint32) []byte {
		var b bytes.Buffer
		z := zip.NewWriter(&b)
		e, err := z.CreateRaw(&zip.FileHeader{Name: "main.img", Method: methodDeflate64, CRC32: sum, CompressedSize64: uint64(len(packed)), UncompressedSize64: uint64(len(want))})
		require.NoError(t, err)
		e.Write(packed)
		require.NoError(t, z.Close())
		return b.Bytes()
	}
	n, err := walk(t, "p.zip", pack(crc32.ChecksumIEEE(want)), DefaultLimits())
	require.NoError(t, err)
	assert.Empty(t, n.problems)
	assert.True(t, string(want) == n.content["p.zip::main.img"])
	n, err = walk(t, "p.zip", pack(1), DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "main.img", "CRC-32"))
}

// Without long matches it is what Deflate is: stored blocks, and codes of their own.
func TestDeflate64AsDeflate(t *testing.T) {
	text := bytes.Repeat([]byte("some text, and more of it; "), 9000)
	even := make([]byte, 60_000) // codes of one length, which the stream tells by repeating
	r := rand.New(rand.NewPCG(3, 3))
	for i := range even {
		even[i] = byte(r.IntN(64)) + byte(r.IntN(2))*128
	}
	for _, c := range []struct {
		level int
		text  []byte
	}{{flate.HuffmanOnly, text}, {flate.NoCompression, text}, {flate.HuffmanOnly, even}, {flate.HuffmanOnly, even[:50]}} {
		level, text := c.level, c.text
		var b bytes.Buffer
		w, err := flate.NewWriter(&b, level)
		require.NoError(t, err)
		w.Write(text)
		w.Close()
		got, err := io.ReadAll(newDeflate64(bytes.NewReader(b.Bytes())))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(text, got), "level %d", level)
		for _, cut := range []int{0, 1, 5, b.Len() / 2, b.Len() - 1} {
			_, err := io.ReadAll(newDeflate64(bytes.NewReader(b.Bytes()[:cut])))
			assert.Error(t, err, "cut at %d", cut)
		}
	}
	w := &bitWriter{}
	w.put(3, 3)
	w.symbol('a')
	w.copy(5, 2)
	_, err := io.ReadAll(newDeflate64(bytes.NewReader(w.end())))
	assert.ErrorContains(t, err, "Deflate64", "a distance that leads before the beginning")
}

func FuzzDeflate64(f *testing.F) {
	w := &bitWriter{}
	w.put(3, 3)
	w.symbol('a')
	w.copy(500, 1)
	f.Add(w.end())
	f.Add([]byte{5, 0xc0, 0x81, 8, 0, 0, 0, 0, 0x20, 0x7f, 0xeb, 0x0b})
	f.Fuzz(func(t *testing.T, data []byte) {
		n, err := io.Copy(io.Discard, io.LimitReader(newDeflate64(bytes.NewReader(data)), 8<<20))
		if err == nil && n > int64(len(data))*70000+10 {
			t.Fatal("more than it can hold")
		}
	})
}
