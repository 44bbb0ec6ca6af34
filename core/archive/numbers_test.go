package archive

import (
	"encoding/binary"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatEachNumberMayBe puts numbers around powers of two into words of archives, and holds what is said then against
// testdata/numbers.txt.
func TestWhatEachNumberMayBe(t *testing.T) {
	var b strings.Builder
	all := samples(t)
	made := pagetest.Images(t, ".")
	l := DefaultLimits()
	l.Bytes, l.Items, l.Window = 64<<20, 1000, 16<<20
	for name, from := range map[string]string{"zip-large": "zip-large", "zip-streamed": "zip-streamed"} {
		all[name] = made[from]
	}
	for _, name := range []string{"p.zip", "zip-large", "zip-streamed", "p.7z", "p.iso", "p.ar"} {
		data := slices.Clone(all[name])
		fmt.Fprintf(&b, "## %s\n", name)
		words := wordsOf(name, data)
		sound := outcomeOf(t, name, data, l)
		for _, at := range words {
			was := slices.Clone(data[at : at+4])
			for _, size := range []int{2, 4} {
				last, from, before := "", uint32(0), uint32(0)
				end := func() {
					if last != "" && last != sound {
						fmt.Fprintf(&b, "%d, %d bytes, from %d to %d: %s\n", at, size, from, before, last)
					}
				}
				for _, n := range numbersAround(size) {
					copy(data[at:], was)
					if binary.LittleEndian.PutUint16(data[at:], uint16(n)); size == 4 {
						binary.LittleEndian.PutUint32(data[at:], n)
					}
					said := outcomeOf(t, name, data, l)
					if said != last {
						end()
						last, from = said, n
					}
					before = n
				}
				end()
				copy(data[at:], was)
			}
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "numbers.txt"), b.String())
}

// wordsOf are the places of the words that are tried: those of the records that an archive is read by.
func wordsOf(name string, data []byte) []int {
	var out []int
	add := func(from, size, step int) {
		for at := from; at < from+size && at+4 <= len(data); at += step {
			out = append(out, at)
		}
	}
	switch {
	case strings.Contains(name, "zip"):
		for _, magic := range []string{"PK\x01\x02", "PK\x05\x06", "PK\x06\x06", "PK\x06\x07", "PK\x07\x08", "PK\x03\x04"} {
			if at := strings.Index(string(data), magic); at >= 0 {
				add(at+4, 28, 2)
			}
		}
	case strings.Contains(name, "iso"):
		add(16*2048+80, 8, 4)
		add(16*2048+128, 4, 2)
		add(16*2048+156, 34, 2)
	case strings.Contains(name, "7z"):
		add(8, 24, 4)
		add(32, len(data)-36, 2)
	default:
		add(8, 60, 2)
	}
	return out
}

// outcomeOf is what is found in an archive and said of it, without names and numbers.
func outcomeOf(t *testing.T, name string, data []byte, l Limits) string {
	n, err := walk(t, name, data, l)
	if err != nil {
		return "refused: " + numbers.ReplaceAllString(names.ReplaceAllString(err.Error(), "…"), "…")
	}
	said := []string{fmt.Sprintf("%d items", len(n.items))}
	for _, p := range n.problems {
		if text := fmt.Sprintf("%s: %s", p.Class, numbers.ReplaceAllString(names.ReplaceAllString(p.What, "…"), "…")); !slices.Contains(said, text) {
			said = append(said, text)
		}
	}
	slices.Sort(said)
	return strings.Join(said, "; ")
}

// numbersAround are the numbers that are tried in a word of some bytes.
func numbersAround(size int) []uint32 {
	out := []uint32{0}
	for _, bit := range []int{0, 1, 3, 8, 16, 31} {
		if bit < 8*size {
			out = append(out, 1<<bit-1, 1<<bit, 1<<bit+1)
		}
	}
	out = append(out, 1<<(8*size)-1, 1<<(8*size)-2)
	slices.Sort(out)
	return slices.Compact(out)
}
