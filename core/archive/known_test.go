package archive

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

// TestWhatThingsAreKnownBy changes each byte at the beginning of streams and archives, and cuts them short, and holds
// what they are taken for then against testdata/known.txt.
func TestWhatThingsAreKnownBy(t *testing.T) {
	var b strings.Builder
	all := samples(t)
	for name, data := range pagetest.Images(t, ".") {
		if strings.HasPrefix(name, "rpm") || strings.HasPrefix(name, "tar") || strings.HasPrefix(name, "cpio") {
			all[name] = data
		}
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		head := all[name][:min(len(all[name]), 700)]
		fmt.Fprintf(&b, "## %s: %s\n", name, takenFor(head))
		last, from := "", 0
		for n := range len(head) + 1 {
			if now := takenFor(head[:n]); now != last {
				fmt.Fprintf(&b, "of %d bytes: %s\n", n, now)
				last = now
			}
		}
		last = ""
		for at := range head {
			var other []string
			for label, v := range map[string]byte{"00": 0, "01": 1, "20": 0x20, "2f": 0x2f, "30": 0x30, "39": 0x39, "3a": 0x3a, "7f": 0x7f, "80": 0x80, "ff": 0xff, "less": head[at] - 1, "more": head[at] + 1, "case": head[at] ^ 0x20} {
				changed := bytes.Clone(head)
				changed[at] = v
				if now := takenFor(changed); now != takenFor(head) {
					other = append(other, label+" "+now)
				}
			}
			slices.Sort(other)
			if said := strings.Join(other, ", "); said != last {
				if last != "" {
					fmt.Fprintf(&b, "%d to %d: %s\n", from, at-1, last)
				}
				last, from = said, at
			}
		}
		if last != "" {
			fmt.Fprintf(&b, "%d to %d: %s\n", from, len(head)-1, last)
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "known.txt"), b.String())
}

// takenFor is what something is taken for by its first bytes.
func takenFor(head []byte) string {
	c := recognise(head)
	switch {
	case c == "":
		return "nothing"
	case string(c) == string(CompressionOf(head)) && BeginsAs(Compression(c), head):
		return "surely " + string(c)
	}
	return string(c)
}
