package content

import (
	"encoding/binary"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// wordsTried is how many numbers of a little file system are tried.
const wordsTried = 300

// TestWhatEachNumberMayBe puts numbers around every power of two into the words of the little file systems that are
// not zero, as halves of them and whole, and holds what is said then against testdata/bounds.txt.
func TestWhatEachNumberMayBe(t *testing.T) {
	var b strings.Builder
	for _, kind := range slices.Sorted(maps.Keys(littles)) {
		data := littles[kind](t)
		sound, err := summary(kind, data)
		require.NoError(t, err)
		fmt.Fprintf(&b, "## %s\n", kind)
		tried := 0
		for at := 0; at+4 <= len(data) && tried < wordsTried; at += 2 {
			size := 4 - at&2
			was := slices.Clone(data[at : at+size])
			if !slices.ContainsFunc(was, func(c byte) bool { return c != 0 }) {
				continue
			}
			tried++
			last, from, before := "", uint32(0), uint32(0)
			end := func() {
				if last != "the same" && last != "" {
					fmt.Fprintf(&b, "%d, %d bytes, from %d to %d: %s\n", at, size, from, before, last)
				}
			}
			for _, n := range around(size) {
				if binary.LittleEndian.PutUint16(data[at:], uint16(n)); size == 4 {
					binary.LittleEndian.PutUint32(data[at:], n)
				}
				said := "the same"
				if found, err := summary(kind, data); err != nil {
					said = numbers.ReplaceAllString(err.Error(), "N")
				} else if found != sound {
					said = "something else"
				}
				if said != last {
					end()
					last, from = said, n
				}
				before = n
			}
			end()
			copy(data[at:], was)
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "bounds.txt"), b.String())
}

// around are the numbers that are tried in a word of some bytes.
func around(size int) []uint32 {
	var out []uint32
	for bit := range 8 * size {
		if bit < 21 || bit == 31 {
			out = append(out, 1<<bit-1, 1<<bit, 1<<bit+1)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
