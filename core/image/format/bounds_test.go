package format_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatEachNumberMayBe puts numbers around every power of two, and around those that were there, into each field of
// each sample, and holds what is said against it then against the page testdata/bounds.txt.
func TestWhatEachNumberMayBe(t *testing.T) {
	var b strings.Builder
	for _, s := range turnable() {
		m := readSample(t, s.data)
		fmt.Fprintf(&b, "## %s\n", s.name)
		sound := outline(t, s.data)
		tried := map[int64]bool{}
		var all pagetest.Sum
		for _, f := range m.Fields {
			size := len(f.Raw)
			if size > 8 || size&(size-1) != 0 || size == 0 || f.Offset+int64(size) > int64(len(s.data)) || tried[f.Offset] {
				continue
			}
			tried[f.Offset] = true
			order := orderOf(f.Raw, f.Value)
			last, from, before := "", uint64(0), uint64(0)
			end := func() {
				if last != "" {
					fmt.Fprintf(&b, "%s from %d to %d: %s\n", f.Name, from, before, last)
				}
			}
			for _, n := range around(size, number(order, f.Raw)) {
				other := bytes.Clone(s.data)
				put(order, other[f.Offset:f.Offset+int64(size)], n)
				now := outline(t, other)
				all.Add("%q", now)
				said := against(sound, now)
				if said != last {
					end()
					last, from = said, n
				}
				before = n
			}
			end()
		}
		fmt.Fprintf(&b, "in all %s\n\n", &all)
	}
	pagetest.Hold(t, filepath.Join("testdata", "bounds.txt"), b.String())
}

// around are the numbers that are tried in a field of some bytes.
func around(size int, was uint64) []uint64 {
	out := []uint64{0, was - 1, was + 1}
	for bit := range 8 * size {
		if bit < 22 || bit > 29 && bit < 34 || bit == 8*size-1 {
			out = append(out, 1<<bit-1, 1<<bit, 1<<bit+1)
		}
	}
	if size < 8 {
		for i := range out {
			out[i] &= 1<<(8*size) - 1
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// orderOf tells by how a number is shown in which order its bytes are.
func orderOf(raw []byte, shown string) binary.ByteOrder {
	var n uint64
	if _, err := fmt.Sscanf(shown, "0x%x", &n); err != nil {
		fmt.Sscanf(shown, "%d", &n)
	}
	if len(raw) > 1 && number(binary.BigEndian, raw) == n {
		return binary.BigEndian
	}
	return binary.LittleEndian
}

func number(order binary.ByteOrder, raw []byte) uint64 {
	var wide [8]byte
	if order == binary.BigEndian {
		copy(wide[8-len(raw):], raw)
	} else {
		copy(wide[:], raw)
	}
	return order.Uint64(wide[:])
}

func put(order binary.ByteOrder, raw []byte, n uint64) {
	var wide [8]byte
	order.PutUint64(wide[:], n)
	if order == binary.BigEndian {
		copy(raw, wide[8-len(raw):])
	} else {
		copy(raw, wide[:])
	}
}

// against is what is said against an image and not against the sound one, or what it is instead.
func against(sound, now outlined) string {
	var out []string
	if now.kind != sound.kind {
		out = append(out, now.kind)
	}
	for _, a := range now.against {
		if !slices.Contains(sound.against, a) && !strings.Contains(a, "does not match") {
			out = append(out, a)
		}
	}
	if len(out) == 0 {
		return "nothing"
	}
	return strings.Join(out, "; ")
}
