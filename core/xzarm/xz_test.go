package xzarm

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// code is what ARM64 code looks like to the filter: calls and addresses among other words.
func code(n int) []byte {
	r := rand.New(rand.NewPCG(5, 6))
	var b []byte
	for range n {
		v := r.Uint32()
		switch r.IntN(4) {
		case 0:
			v = 0x94000000 | v&0x03ffffff
		case 1:
			v = 0x90000000 | v&0x60ffffff
		case 2:
			v = 0xd503201f
		}
		b = binary.LittleEndian.AppendUint32(b, v)
	}
	return append(b, 1, 2, 3)
}

func packed(t testing.TB, data []byte, options ...string) []byte {
	t.Helper()
	cmd := exec.Command("xz", append(options, "-c")...)
	cmd.Stdin = bytes.NewReader(data)
	out, err := cmd.Output()
	if err != nil {
		t.Skipf("xz %v: %v", options, err)
	}
	return out
}

// What xz packs with the filter comes out as it was, by every check, in several blocks and
// streams.
func TestReader(t *testing.T) {
	data := code(50000)
	for _, options := range [][]string{{"--arm64", "--lzma2"}, {"--arm64=start=4096", "--lzma2=dict=1MiB"}, {"-C", "crc32", "--arm64", "--lzma2"}, {"-C", "sha256", "--arm64", "--lzma2"}, {"-C", "none", "--arm64", "--lzma2"}, {"--block-size=30000", "--arm64", "--lzma2"}} {
		p := packed(t, data, options...)
		require.True(t, Needed(p), options)
		z, err := NewReader(bufio.NewReader(bytes.NewReader(append(bytes.Clone(p), p...))), 128<<20, false)
		require.NoError(t, err)
		got, err := io.ReadAll(z)
		require.NoError(t, err, options)
		assert.True(t, bytes.Equal(append(bytes.Clone(data), data...), got), options)

		// One stream alone leaves what follows it.
		r := bufio.NewReader(bytes.NewReader(append(bytes.Clone(p), "behind"...)))
		z, err = NewReader(r, 128<<20, true)
		require.NoError(t, err)
		got, err = io.ReadAll(z)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(data, got))
		rest, _ := io.ReadAll(r)
		assert.Equal(t, "behind", string(rest), options)
	}
	assert.False(t, Needed(packed(t, data, "--x86", "--lzma2")))
	_, err := io.ReadAll(mustRead(t, packed(t, data, "--arm64", "--lzma2=dict=64MiB"), 1<<20))
	assert.ErrorIs(t, err, ErrMemory)
}

func mustRead(t testing.TB, p []byte, window int64) io.Reader {
	z, err := NewReader(bufio.NewReader(bytes.NewReader(p)), window, false)
	require.NoError(t, err)
	return z
}

// A byte that is changed anywhere, and an end before its time, are noticed.
func TestDamage(t *testing.T) {
	data := code(2000)
	p := packed(t, data, "--arm64", "--lzma2=dict=64KiB")
	read := func(b []byte) (got []byte, err error) {
		z, err := NewReader(bufio.NewReader(bytes.NewReader(b)), 128<<20, false)
		if err == nil {
			got, err = io.ReadAll(z)
		}
		return got, err
	}
	_, err := read(p)
	require.NoError(t, err)
	for i := 0; i < len(p); i += 7 {
		bad := bytes.Clone(p)
		bad[i] ^= 0x20
		got, err := read(bad)
		assert.True(t, err != nil || bytes.Equal(data, got), "byte %d", i) // a bit that says the same twice changes nothing
		_, err = read(p[:i])
		assert.Error(t, err, "cut at %d", i)
	}
}

// What stands around the data says nothing twice: each bit of the headers, of the index and of the footer counts. The
// packed size of a chunk (two bytes) does not: the library goes by where the chunk's data end.
func TestDamageAround(t *testing.T) {
	data := code(2000)
	p := packed(t, data, "-C", "crc32", "--arm64", "--lzma2=dict=64KiB")
	for i := range p {
		if i > 36 && i < len(p)-64 || i == 27 || i == 28 {
			continue
		}
		for bit := range 8 {
			bad := bytes.Clone(p)
			bad[i] ^= 1 << bit
			z, err := NewReader(bufio.NewReader(bytes.NewReader(bad)), 128<<20, false)
			if err == nil {
				_, err = io.ReadAll(z)
			}
			assert.Error(t, err, "bit %d of byte %d of %d", bit, i, len(p))
		}
	}
}

// resummed gives the part of a stream whose last four bytes are its CRC-32 the right one.
func resummed(b []byte, from, to int) []byte {
	binary.LittleEndian.PutUint32(b[to-4:], crc32.ChecksumIEEE(b[from:to-4]))
	return b
}

// What the headers of a block, the index and the footer say of the data is held against the data, even where their own
// checksums are right.
func TestContradictions(t *testing.T) {
	p := packed(t, code(50000), "-T2", "--block-size=60000", "-C", "crc32", "--arm64", "--lzma2=dict=64KiB")
	read := func(b []byte) error {
		_, err := io.ReadAll(mustRead(t, b, 128<<20))
		return err
	}
	require.NoError(t, read(p))
	head := 12 + (int(p[12])+1)*4
	require.Equal(t, byte(0xc0), p[13]&0xc0, "both sizes are given")
	_, first := binary.Uvarint(p[14:])
	for _, at := range []int{14, 14 + first} {
		bad := bytes.Clone(p)
		bad[at] ^= 1
		assert.ErrorIs(t, read(resummed(bad, 12, head)), ErrData, "size at byte %d", at)
	}
	footer := len(p) - 12
	index := footer - (int(binary.LittleEndian.Uint32(p[footer+4:]))+1)*4
	for at := index + 1; at < footer-4; at++ {
		bad := bytes.Clone(p)
		bad[at] ^= 1
		assert.Error(t, read(resummed(bad, index, footer)), "index, byte %d of %d", at-index, footer-index)
	}
	for at := footer + 4; at < footer+10; at++ {
		bad := bytes.Clone(p)
		bad[at] ^= 2
		binary.LittleEndian.PutUint32(bad[footer:], crc32.ChecksumIEEE(bad[footer+4:footer+10]))
		assert.ErrorIs(t, read(bad), ErrData, "footer, byte %d", at-footer)
	}
	bad := bytes.Clone(p)
	bad[6] = 1
	binary.LittleEndian.PutUint32(bad[8:], crc32.ChecksumIEEE(bad[6:8]))
	_, err := NewReader(bufio.NewReader(bytes.NewReader(bad)), 128<<20, false)
	assert.ErrorIs(t, err, ErrUnsupported)
}

// The memory that a block asks for is told by one byte: The .xz File Format 1.2.0, section 5.3.1.
func TestDictionaries(t *testing.T) {
	for code, want := range map[byte]int64{0: 4 << 10, 1: 6 << 10, 2: 8 << 10, 3: 12 << 10, 16: 1 << 20, 17: 3 << 19, 38: 2 << 30, 39: 3 << 30, 40: 1<<32 - 1, 41: -1} {
		b := []byte{2, 0, filterLZMA2, 1, code, 0, 0, 0, 0, 0, 0, 0}
		got, err := readBlock(resummed(b, 0, len(b)))
		if want < 0 {
			assert.ErrorIs(t, err, ErrUnsupported)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, block{dict: want, packed: -1, unpacked: -1}, got, code)
	}
}

func FuzzReader(f *testing.F) {
	if _, err := exec.LookPath("xz"); err == nil {
		f.Add(packed(f, code(100), "--arm64", "--lzma2=dict=1MiB"))
	}
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, data []byte) {
		Needed(data)
		if z, err := NewReader(bufio.NewReader(bytes.NewReader(data)), 8<<20, false); err == nil {
			io.Copy(io.Discard, io.LimitReader(z, 16<<20))
		}
	})
}

// A size beyond what can be counted is damage, and not a size that is not given.
func TestSizesBeyondMeasure(t *testing.T) {
	for flag, data := range map[byte]string{0x40: "packed", 0x80: "unpacked"} {
		b := append([]byte{5, flag}, binary.AppendUvarint(nil, 1<<63)...)
		b = append(b, filterLZMA2, 1, 8)
		b = append(b, make([]byte, 24-len(b))...)
		_, err := readBlock(resummed(b, 0, len(b)))
		assert.ErrorIs(t, err, ErrData, data)
	}
}
