package archive

import (
	"bytes"
	"compress/flate"
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatEachBitBrings holds what comes of the streams that are inflated here when a bit of them is another, or they are
// put together at random, against testdata/bits.txt.
func TestWhatEachBitBrings(t *testing.T) {
	var b strings.Builder
	wide := func(data []byte) (string, error) {
		got, err := io.ReadAll(io.LimitReader(newDeflate64(bytes.NewReader(data)), 1<<20))
		return fmt.Sprintf("%d %x", len(got), got[:min(len(got), 64)]), err
	}
	packed := func(level int, text string) []byte {
		var b bytes.Buffer
		w, err := flate.NewWriter(&b, level)
		require.NoError(t, err)
		_, err = w.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	pagetest.Turned(&b, "Deflate64, stored", packed(flate.NoCompression, "some text"), wide)
	pagetest.Turned(&b, "Deflate64, with codes of its own", packed(flate.HuffmanOnly, "aaaaabbbbccdd, and so on, aaaaaaaaaa; eeeeeee ffffff"), wide)
	w := &bitWriter{}
	w.put(2, 3) // a block that is not the last
	w.symbol('a')
	w.copy(3, 1)
	w.symbol('b')
	w.copy(10, 5)
	w.copy(258, 15)
	w.copy(65538, 200)
	w.copy(4, 50000)
	w.symbol(256)
	w.put(3, 3)
	for _, c := range []int{'c', 200, 257, 262, 264, 280, 284} { // matches of short lengths, each with its distance
		w.symbol(c)
		if c > 256 {
			if extra := (c - 261) / 4; c < 285 && extra > 0 {
				w.put(uint64(c)&(1<<extra-1), uint(extra))
			}
			w.code(uint64(c%8), 5)
			if extra := c%8/2 - 1; extra > 0 {
				w.put(1, uint(extra))
			}
		}
	}
	pagetest.Turned(&b, "Deflate64, matches", w.end(), wide)
	pagetest.Random(&b, "Deflate64", 3000, [][]byte{{3}, {5}, {1, 3, 0, 0xfc, 0xff, 'a', 'b', 'c'}, {0x4b, 0x4c, 0x4a}, {0xff, 0xff}, {0}, {0x05, 0xc0, 0x81, 8}}, wide)

	for _, length := range []uint32{0, 1, 10, 11, 37, 38, 2879, 2880, 2881} {
		got, err := unpackLZO(append([]byte("\x15abcd\x3f\x0c\x00"), 0x11, 0, 0), length)
		fmt.Fprintf(&b, "LZO of %d bytes: %q, %v\n", length, got, err)
	}
	for _, flags := range []uint32{0x0303, 0x1041} {
		stream, _ := lzopOf(flags)
		pagetest.Turned(&b, fmt.Sprintf("lzop, flags %#x", flags), stream, func(data []byte) (string, error) {
			r, err := newLzop(bytes.NewReader(data))
			if err != nil {
				return "", err
			}
			got, err := io.ReadAll(r)
			return string(got), err
		})
	}

	pagetest.Random(&b, "numbers of a tar", 3000, [][]byte{[]byte("0000644\x00"), []byte("  17 "), {0x80, 0, 0, 0}, {0xff, 0xff}, []byte("777"), {' '}, {0}, []byte("8"), {0, 0, 0, 0, 0, 0, 1}, []byte("-1")}, func(data []byte) (string, error) {
		n, ok := tarNumber(data)
		return fmt.Sprint(n, ok), nil
	})
	for _, s := range []string{"0000644\x00", "     17 ", "17", "\x80\x00\x00\x00\x00\x00\x00\x11", "\x80\x40\x00\x00\x00\x00\x00\x00\x00", "\xff\xff\xff\xff", "\x80\xff\xff\xff\xff\xff\xff\xff\xff", "8", " ", "7 7", "7\x007", "77777777777"} {
		n, ok := tarNumber([]byte(s))
		fmt.Fprintf(&b, "%q: %d %v\n", s, n, ok)
	}
	pagetest.Random(&b, "records of pax", 3000, [][]byte{[]byte("11 path=ab\n"), []byte("6 a=b\n"), []byte("5 a=\n"), []byte("4 =\n"), []byte("9"), []byte(" "), []byte("\n"), []byte("size=12"), []byte("020 x=y\n"), []byte("6 a b\n")}, func(data []byte) (string, error) {
		return fmt.Sprintf("%q", paxRecords(data)), nil
	})
	pagetest.Hold(t, filepath.Join("testdata", "bits.txt"), b.String())
}
