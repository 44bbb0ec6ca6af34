package content

import (
	"bytes"
	"fitcheck/internal/pagetest"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatIsSaid holds what is read of little file systems, and what is said of them when a byte is another or they
// are cut short, against testdata/said.txt, so that a change of what is said is seen. What is said of many such bytes is
// told of the first, and counted.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	for _, kind := range slices.Sorted(maps.Keys(littles)) {
		data := littles[kind](t)
		fmt.Fprintf(&b, "## %s, %d bytes\n", kind, len(data))
		sound, err := summed(kind, data, true)
		require.NoError(t, err)
		b.WriteString(sound + "\n")
		told := map[string]int{}
		var lines, alikes []string
		look := func(what string, data []byte) {
			found, err := summed(kind, data, true)
			said := "the same"
			switch {
			case err != nil:
				said = err.Error()
			case found != sound:
				said = "it holds\n" + differing(sound, found)
			}
			alike := numbers.ReplaceAllString(said, "…")
			if strings.HasPrefix(said, "it holds") && told["it holds"] >= 40 && told[alike] == 0 {
				alike = "it holds something else again"
			}
			if told[alike]++; told[alike] > 1 {
				return
			}
			if strings.HasPrefix(said, "it holds") {
				told["it holds"]++
			}
			lines, alikes = append(lines, what+": "+said), append(alikes, alike)
		}
		for at := range data {
			if at > everyPlace && data[at] == 0 && at%max(1, len(data)/somePlaces) != 0 {
				continue
			}
			for _, mask := range []byte{0x01, 0x80} {
				other := bytes.Clone(data)
				other[at] ^= mask
				look(fmt.Sprintf("byte %d ^%02x", at, mask), other)
			}
		}
		for _, at := range []int{len(data) / 8, len(data) / 2, len(data) * 7 / 8, len(data) - 1} {
			look(fmt.Sprintf("cut at %d", at), data[:at])
		}
		for i, line := range lines {
			if n := told[alikes[i]]; n > 1 {
				line += fmt.Sprintf(" [%d times]", n)
			}
			b.WriteString(line + "\n")
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// numbers, names and digests are left out of account where what is said is told once.
var numbers = regexp.MustCompile(`[0-9a-f]{2,}|[0-9]+|[A-Z][a-z]+ it holds`)

// differing are the lines of what is found that are not in what was there.
func differing(was, found string) string {
	before := strings.Split(was, "\n")
	var out []string
	for _, l := range strings.Split(found, "\n") {
		if !slices.Contains(before, l) {
			out = append(out, fmt.Sprintf("  %q", l))
		}
	}
	return strings.Join(out, "\n")
}
