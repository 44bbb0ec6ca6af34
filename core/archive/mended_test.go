package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaidBehindChecksums holds what is said of headers and directories of which a byte is another and whose checksum holds all
// the same, against testdata/mended.txt: a turned bit alone is told by the checksum, and nothing behind it is read.
func TestWhatIsSaidBehindChecksums(t *testing.T) {
	var b strings.Builder
	for _, name := range []string{"7z-apart", "7z-filtered", "7z-lzma", "7z-links", "7z-stored"} {
		data := pagetest.Image(t, ".", name)
		from := sevenStart + int(binary.LittleEndian.Uint64(data[12:]))
		tellMended(t, &b, name, data, within(from, from+int(binary.LittleEndian.Uint64(data[20:]))), mendSevenZip)
	}
	for _, made := range []struct {
		name string
		data []byte
	}{{"7z of streams apart", sevenZipOf(file{"a", "one"}, file{"b/c.img", "two"})}, {"7z of one stream", solidSevenZipOf(file{"a", "one"}, file{"b", "two"}, file{"c.img", "three"})}} {
		from := sevenStart + int(binary.LittleEndian.Uint64(made.data[12:]))
		tellMended(t, &b, made.name, made.data, within(from, len(made.data)), mendSevenZip)
	}
	for _, name := range []string{"tar-gnutar", "tar-pax", "tar-ustar", "tar-v7", "tar-gnusparse", "tar-paxsparse", "tar-numbers"} {
		data := pagetest.Image(t, ".", name)
		headers := tarHeaders(data)
		tellMended(t, &b, name, data, func(at int) bool { return slices.Contains(headers, at/512*512) }, func(data []byte) { mendTar(data, headers) })
	}
	pagetest.Hold(t, filepath.Join("testdata", "mended.txt"), b.String())
}

func within(from, to int) func(int) bool { return func(at int) bool { return at >= from && at < to } }

// placesBehind are how many bytes behind the checksums of a package are tried.
const placesBehind = 150

// tellMended turns chosen bytes, mends the checksums, and tells what is said then; of many alike the first, and a sum over all.
func tellMended(t *testing.T, b *strings.Builder, name string, data []byte, chosen func(at int) bool, mend func([]byte)) {
	fmt.Fprintf(b, "## %s\n", name)
	var all pagetest.Sum
	told := map[string]int{}
	var lines, alikes []string
	var places []int
	for at := range data {
		if chosen(at) {
			places = append(places, at)
		}
	}
	l := DefaultLimits()
	l.Bytes, l.Items, l.Window = 64<<20, 1000, 16<<20
	for i := 0; i < len(places); i += max(1, len(places)/placesBehind) {
		for _, mask := range []byte{0x01, 0x10, 0x80} {
			other := bytes.Clone(data)
			other[places[i]] ^= mask
			mend(other)
			n, err := walk(t, name, other, l)
			said := found(n)
			if err != nil {
				said = []string{"refused: " + err.Error()}
			}
			for _, s := range said {
				all.Add("%d %d %s", places[i], mask, s)
				alike := numbers.ReplaceAllString(names.ReplaceAllString(s, "…"), "…")
				if told[alike]++; told[alike] == 1 {
					lines, alikes = append(lines, fmt.Sprintf("byte %d ^%02x: %s", places[i], mask, s)), append(alikes, alike)
				}
			}
		}
	}
	for i, line := range lines {
		fmt.Fprintf(b, "%s [%d times]\n", pagetest.Cut(line, 200), told[alikes[i]])
	}
	fmt.Fprintf(b, "in all %s\n\n", &all)
}

// found are the items of a package and what is said of them, in order.
func found(n *notes) []string {
	var out []string
	for _, it := range n.items {
		out = append(out, fmt.Sprintf("%q %s %v, %08x, %d of %d", it.Address, it.Container, it.Mode, crc32.ChecksumIEEE([]byte(n.content[it.Address])), len(n.content[it.Address]), it.Size))
	}
	for _, p := range n.problems {
		out = append(out, fmt.Sprintf("%q %s: %s; %s", p.Item, p.Class, p.What, p.Advice))
	}
	slices.Sort(out)
	return out
}

// mendSevenZip sums up the directory, and the header that says where it is.
func mendSevenZip(data []byte) {
	le := binary.LittleEndian
	from, n := sevenStart+le.Uint64(data[12:]), le.Uint64(data[20:])
	le.PutUint32(data[28:], crc32.ChecksumIEEE(data[from:from+n]))
	le.PutUint32(data[8:], crc32.ChecksumIEEE(data[12:32]))
}

// tarHeaders are where headers whose checksum holds stand.
func tarHeaders(data []byte) (out []int) {
	for at := 0; at+512 <= len(data); at += 512 {
		was := bytes.Clone(data[at+148 : at+156])
		other := bytes.Clone(data[at : at+512])
		if bytes.Count(other, []byte{0}) == 512 {
			continue
		}
		sumTar(other)
		if strings.Trim(string(was), " \x00") == strings.Trim(string(other[148:156]), " \x00") {
			out = append(out, at)
		}
	}
	return out
}

func mendTar(data []byte, headers []int) {
	for _, at := range headers {
		sumTar(data[at : at+512])
	}
}

// sumTar writes the checksum of a header (POSIX.1-1988, ustar).
func sumTar(h []byte) {
	copy(h[148:156], "        ")
	sum := 0
	for _, c := range h {
		sum += int(c)
	}
	copy(h[148:156], fmt.Sprintf("%06o\x00 ", sum))
}
