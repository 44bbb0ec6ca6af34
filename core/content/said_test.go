package content

import (
	"bytes"
	"fmt"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds what is read of little file systems, and what is said of them when a byte is another or they
// are cut short, against testdata/said.txt, so that a change of what is said is seen. What is said of many such bytes is
// told of the first, and counted.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(littles)) {
		turn(t, &b, name, name, littles[name](t), 40, func(data []byte, at int) bool {
			return at <= everyPlace || data[at] != 0 || at%max(1, len(data)/somePlaces) == 0
		})
	}
	made := pagetest.Images(t, ".")
	for _, name := range slices.Sorted(maps.Keys(made)) {
		data := made[name]
		kind, _, _ := strings.Cut(name, "-")
		filled := len(data) - bytes.Count(data, []byte{0})
		seen := 0
		turn(t, &b, name, kind, data, 10, func(data []byte, at int) bool {
			if data[at] == 0 {
				return false
			}
			seen++
			return seen%max(1, filled/placesOfImage) == 0
		})
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// placesOfImage are how many bytes of an image are tried.
const placesOfImage = 60

// turn tells what a file system holds, and what is said of it when a byte at a place that is chosen is another; most
// ways in which it then holds something else are told.
func turn(t *testing.T, b *strings.Builder, name, kind string, data []byte, most int, chosen func(data []byte, at int) bool) {
	fmt.Fprintf(b, "## %s, %d bytes\n", name, len(data))
	sound, err := summed(kind, data, true)
	require.NoError(t, err)
	b.WriteString(sound + "\n")
	told := map[string]int{}
	var all pagetest.Sum
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
		all.Add("%s %v %s", what, err, found)
		alike := numbers.ReplaceAllString(said, "…")
		if strings.HasPrefix(said, "it holds") && told["it holds"] >= most && told[alike] == 0 {
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
		if !chosen(data, at) {
			continue
		}
		for _, mask := range []byte{0x01, 0x80} {
			data[at] ^= mask
			look(fmt.Sprintf("byte %d ^%02x", at, mask), data)
			data[at] ^= mask
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
	fmt.Fprintf(b, "in all %s\n\n", &all)
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
