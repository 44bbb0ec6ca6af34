package pagetest

import (
	"fmt"
	"hash/crc32"
	"math/rand/v2"
	"slices"
	"strings"
)

// Turned tells what comes of data of which one bit is another, a row of eight letters for each byte: "=" for what comes of
// the sound data, "-" for an error, "*" for something else; then what comes of it where it is cut short, and a sum
// over all that came.
func Turned(b *strings.Builder, name string, data []byte, read func(data []byte) (string, error)) {
	said := func(data []byte) string {
		s, err := read(data)
		if err != nil {
			return "error: " + err.Error()
		}
		return s
	}
	sound := said(data)
	fmt.Fprintf(b, "## %s: %d bytes, %s\n", name, len(data), Cut(fmt.Sprintf("%q", sound), 100))
	sum := crc32.NewIEEE()
	letter := func(s string) byte {
		fmt.Fprintln(sum, s)
		switch {
		case s == sound:
			return '='
		case strings.HasPrefix(s, "error: "):
			return '-'
		}
		return '*'
	}
	var row []byte
	end := func() {
		if len(row) > 0 {
			fmt.Fprintln(b, string(row))
		}
		row = row[:0]
	}
	for at := range data {
		if at%8 == 0 {
			end()
		}
		for bit := range 8 {
			other := slices.Clone(data)
			other[at] ^= 1 << bit
			row = append(row, letter(said(other)))
		}
		row = append(row, ' ')
	}
	end()
	for n := range data {
		row = append(row, letter(said(data[:n])))
	}
	fmt.Fprintf(b, "cut short: %s\nsum %08x\n", row, sum.Sum32())
}

// Random tells of what comes of data that is put together of parts at random: how often each error, how often
// something, and a sum over all that came.
func Random(b *strings.Builder, name string, times int, parts [][]byte, read func(data []byte) (string, error)) {
	r := rand.New(rand.NewPCG(uint64(times), uint64(len(parts))))
	sum := crc32.NewIEEE()
	count := map[string]int{}
	for range times {
		var data []byte
		for range 1 + r.IntN(12) {
			if r.IntN(3) == 0 {
				data = append(data, byte(r.Uint32()))
				continue
			}
			data = append(data, parts[r.IntN(len(parts))]...)
		}
		s, err := read(data)
		what := "something"
		if err != nil {
			s, what = "", "error: "+err.Error()
		}
		fmt.Fprintln(sum, what, s)
		count[what]++
	}
	fmt.Fprintf(b, "## %s, %d times at random: sum %08x\n", name, times, sum.Sum32())
	var lines []string
	for what, n := range count {
		lines = append(lines, fmt.Sprintf("%d %s\n", n, what))
	}
	slices.Sort(lines)
	b.WriteString(strings.Join(lines, ""))
}
