package format_test

import (
	"bytes"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatImagesHold reads file systems and archives that Debian's tools made, turns bytes of them, and holds what
// comes of it against the page testdata/images.txt.
func TestWhatImagesHold(t *testing.T) {
	var b strings.Builder
	for _, of := range []string{"content", "archive"} {
		made := pagetest.Images(t, filepath.Join("..", "..", of))
		for _, name := range slices.Sorted(maps.Keys(made)) {
			turnImage(t, &b, name, made[name])
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "images.txt"), b.String())
}

// turnImage tells what is read of an image, and in what that differs when a byte of it is another: of those that
// are not zero every one at the beginning, and some of the others.
// zeros are the first bytes of an image, of which those that are zero are turned, too.
const zeros = 160

func turnImage(t *testing.T, b *strings.Builder, name string, data []byte) {
	fmt.Fprintf(b, "## %s, %d bytes\n", name, len(data))
	sound := outline(t, data)
	fmt.Fprintf(b, "%s\n%s\n", sound.kind, strings.Join(append(sound.read, sound.against...), "\n"))
	const all, few = 500, 24
	step := max(1, (len(data)-bytes.Count(data, []byte{0}))/few)
	told, seen := map[string]int{}, 0
	var lines []string
	var sum pagetest.Sum
	for at, c := range data {
		if c == 0 && at >= zeros {
			continue
		}
		if seen++; at >= all && seen%step != 0 {
			continue
		}
		turn := byte(0x04)
		if c == 0 {
			turn = 0x01 // the first of what a number may be
		}
		data[at] ^= turn
		now := outline(t, data)
		sum.Add("%q", now)
		said := outcome(sound, now)
		data[at] ^= turn
		if told[said]++; told[said] == 1 {
			lines = append(lines, fmt.Sprintf("turned %d", at)+"\x00"+said)
		}
	}
	for _, line := range lines {
		place, said, _ := strings.Cut(line, "\x00")
		fmt.Fprintf(b, "%s: %s [%d]\n", place, said, told[said])
	}
	fmt.Fprintf(b, "in all %s\n\n", &sum)
}
