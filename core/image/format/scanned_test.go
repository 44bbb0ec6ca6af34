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

// TestWhatIsFoundInNoise puts each sample, whole and cut, and images that tools made, between bytes that are none, and holds
// where they are found, and how long, against the page testdata/scanned.txt.
func TestWhatIsFoundInNoise(t *testing.T) {
	var b strings.Builder
	look := func(name string, data []byte) {
		fmt.Fprintf(&b, "## %s, %d bytes\n", name, len(data))
		for _, c := range []struct {
			how    string
			before int
			data   []byte
			behind []byte
		}{{"whole", 4096, data, []byte{0xff}}, {"at an odd place", 1237, data, []byte{0xff}}, {"cut", 4096, data[:len(data)*3/4], []byte{0xff}}, {"before other bytes", 4096, data, []byte("\xff\x00\xff\xff\x01")},
			{"twice, with little between", 4096, append(append(bytes.Clone(data), 0xff, 0, 0xff, 0xff), data...), []byte{0xff}}} {
			flash := append(bytes.Repeat([]byte{0xff}, c.before), c.data...)
			flash = append(flash, bytes.Repeat(c.behind, 3000/len(c.behind))...)
			var found []string
			for _, r := range scan(t, flash) {
				if r.From > 0 {
					found = append(found, fmt.Sprintf("%s %d to %d", r.Kind, r.From-int64(c.before), r.To-int64(c.before)))
				}
			}
			fmt.Fprintf(&b, "%s: %s\n", c.how, strings.Join(found, ", "))
		}
	}
	for _, s := range turnable() {
		if len(s.data) < 1<<20 {
			look(s.name, s.data)
		}
	}
	for _, of := range []string{"content", "archive"} {
		made := pagetest.Images(t, filepath.Join("..", "..", of))
		for _, name := range slices.Sorted(maps.Keys(made)) {
			if data := made[name]; len(data) < 1<<20 {
				look(name, data)
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "scanned.txt"), b.String())
}
