package archive

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds what is found in packages of every kind, and what is said of them when a byte is another or
// they are cut short, against testdata/said.txt, so that a change of what is said is seen. What is said of many such bytes
// is told of the first, and counted.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	all := samples(t)
	l := DefaultLimits()
	l.Bytes, l.Items, l.Window = 64<<20, 1000, 16<<20
	made := pagetest.Images(t, ".")
	for name := range made {
		all[name] = made[name]
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		data := all[name]
		if strings.HasSuffix(name, ".tar.zst") || strings.HasSuffix(name, ".tar.xz") || strings.HasSuffix(name, ".tar.lz4") || strings.HasSuffix(name, ".tar.lzma") {
			continue // what differs is in the streams of texts
		}
		fmt.Fprintf(&b, "## %s, %d bytes\n", name, len(data))
		told := map[string]int{}
		var lines, alikes []string
		var sum pagetest.Sum
		say := func(what, text string) {
			sum.Add("%s: %s", what, text)
			alike := numbers.ReplaceAllString(names.ReplaceAllString(text, "…"), "…")
			if told[alike]++; told[alike] == 1 {
				lines, alikes = append(lines, what+": "+text), append(alikes, alike)
			}
		}
		look := func(what string, data []byte) {
			n, err := walk(t, name, data, l)
			if err != nil {
				say(what, "refused: "+err.Error())
				return
			}
			slices.SortFunc(n.items, func(a, b *Item) int {
				if a.Before(b) {
					return -1
				}
				return 1
			})
			var items []string
			for _, it := range n.items {
				items = append(items, fmt.Sprintf("%q %s %d of %d", it.Address, it.Container, len(n.content[it.Address]), it.Size))
				sum.Add("%v %v %s", items[len(items)-1], it.Mode, n.content[it.Address])
			}
			if what == "sound" {
				for i, it := range n.items {
					fmt.Fprintf(&b, "%s, %v, in %s at %d %v, content %08x%s\n", items[i], it.Mode, it.In, it.Depth, it.Order, crc32.ChecksumIEEE([]byte(n.content[it.Address])), marks(it))
				}
			}
			slices.SortFunc(n.problems, func(a, b Problem) int { return strings.Compare(fmt.Sprint(a), fmt.Sprint(b)) })
			for _, p := range n.problems {
				say(what, fmt.Sprintf("%q %s: %s; %s", p.Item, p.Class, p.What, p.Advice))
			}
			if len(n.problems) == 0 && what != "sound" {
				say(what, fmt.Sprintf("nothing is wrong, %d items", len(items)))
			}
		}
		look("sound", data)
		step := max(1, len(data)/700)
		if made[name] != nil {
			step = max(1, len(bytes.TrimRight(data, "\x00"))/50)
		}
		for at := 0; at < len(data); at += step {
			if len(data) > 8<<10 && bytes.Count(data[at:min(len(data), at+step)], []byte{0}) == min(len(data)-at, step) {
				continue
			}
			for _, turn := range []byte{0x01, 0x80} {
				other := bytes.Clone(data)
				other[at] ^= turn
				look(fmt.Sprintf("byte %d ^%02x", at, turn), other)
			}
		}
		for _, at := range []int{len(data) / 8, len(data) / 2, len(data) * 7 / 8, len(data) - 1} {
			look(fmt.Sprintf("cut at %d", at), data[:at])
		}
		look("with bytes behind it", append(bytes.Clone(data), "tramway tramway tramway"...))
		look("with zeros behind it", append(bytes.Clone(data), make([]byte, 1000)...))
		look("twice", append(bytes.Clone(data), data...))
		for i, line := range lines {
			if n := told[alikes[i]]; n > 1 {
				line += fmt.Sprintf(" [%d times]", n)
			}
			b.WriteString(line + "\n")
		}
		fmt.Fprintf(&b, "in all %s\n\n", &sum)
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// marks are what else is known of an item.
func marks(it *Item) string {
	out := ""
	for _, m := range []struct {
		name string
		set  bool
	}{{"recoded", it.Recoded}, {"a twin", it.Twin}, {"streamed", it.Streamed}, {"a part", it.Part}, {"within", it.Within}} {
		if m.set {
			out += ", " + m.name
		}
	}
	return out
}

// What is found in a damaged stream does not hang on which of two goroutines is faster: what came before the damage is
// visited, and told.
func TestDamageIsToldAlike(t *testing.T) {
	big := strings.Repeat("tramway ", asideFrom/8+1)
	for name, data := range map[string][]byte{"p.cpio": cpioOf(false, file{"a", big}, file{"b", big}), "p.tar": tarOf(file{"a", big}, file{"b", big}), "p.ar": arOf(file{"a", big}, file{"b", big})} {
		for _, cut := range []int{len(data) / 4, len(data) * 3 / 4, len(data) * 9 / 10} {
			first := ""
			for range 30 {
				n, err := walk(t, name, data[:cut], DefaultLimits())
				require.NoError(t, err)
				var lines []string
				for _, it := range n.items {
					lines = append(lines, it.Address)
				}
				for _, p := range n.problems {
					lines = append(lines, fmt.Sprint(p))
				}
				slices.Sort(lines)
				if found := strings.Join(lines, "\n"); first == "" {
					first = found
				} else {
					require.Equal(t, first, found, "%s cut at %d", name, cut)
				}
			}
		}
	}
}

// numbers and names are left out of account where what is said is told once.
var (
	names   = regexp.MustCompile(`"[^"]*"|(bears the name|local header of|the data of) [^;]*?( disagrees|;)|refused: [^:]*`)
	numbers = regexp.MustCompile(`[0-9a-f]{2,}|[0-9]+`)
)
