package content

import (
	"bytes"
	"encoding/binary"
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
		turning{name: name, kind: name, data: littles[name](t), most: 40, chosen: func(data []byte, at int) bool {
			return at <= everyPlace || data[at] != 0 || at%max(1, len(data)/somePlaces) == 0
		}}.turn(t, &b)
	}
	made := pagetest.Images(t, ".")
	for _, name := range slices.Sorted(maps.Keys(made)) {
		data := made[name]
		kind, _, _ := strings.Cut(name, "-")
		filled := len(data) - bytes.Count(data, []byte{0})
		seen := 0
		turning{name: name, kind: kind, data: data, most: 10, chosen: func(data []byte, at int) bool {
			if data[at] == 0 {
				return false
			}
			seen++
			return seen%max(1, filled/placesOfImage) == 0
		}}.turn(t, &b)
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// TestWhatIsSaidBehindChecksums is TestWhatIsSaid for what a checksum would tell before it is read: the checksums are mended, or
// the file system is said to have none. See testdata/mended.txt.
func TestWhatIsSaidBehindChecksums(t *testing.T) {
	var b strings.Builder
	for _, name := range []string{"ext-extents", "ext-indexed", "ext-inline", "erofs-compact", "erofs-full", "erofs-tails", "erofs-packed"} {
		data := pagetest.Image(t, ".", name)
		if kind, _, _ := strings.Cut(name, "-"); kind == "ext" {
			data[1024+101] &^= 0x04 // metadata_csum
		} else {
			data[1024+8] &^= 1 // sb_chksum
		}
		turning{name: name + " without checksums", kind: strings.SplitN(name, "-", 2)[0], data: data, most: 40, chosen: sampled(data, placesBehind, nil), unlisted: true}.turn(t, &b)
	}
	for _, c := range []struct {
		name  string
		nodes func([]byte) [][2]int // from where to where each reaches
		mend  func([]byte)
	}{{"ubifs-none", nodesOfUBIFS, mendUBIFS}, {"ubifs-rare", nodesOfUBIFS, mendUBIFS}, {"jffs2-zlib", nodesOfJFFS2, mendJFFS2}, {"jffs2-big", nodesOfJFFS2, mendJFFS2}, {"ubi-volumes", headersOfUBI, mendUBI}} {
		data := pagetest.Image(t, ".", c.name)
		kind, _, _ := strings.Cut(c.name, "-")
		turning{name: c.name + " with its checksums mended", kind: kind, data: data, most: 40, chosen: sampled(data, placesBehind, c.nodes(data)), mend: c.mend, unlisted: true}.turn(t, &b)
	}
	pagetest.Hold(t, filepath.Join("testdata", "mended.txt"), b.String())
}

// placesBehind are how many bytes behind the checksums of an image are tried.
const placesBehind = 200

// sampled chooses so many bytes that are not zero, or any of the first hundred bytes of stretches.
func sampled(data []byte, places int, stretches [][2]int) func([]byte, int) bool {
	in := make([]bool, len(data))
	all := 0
	for at := range data {
		if stretches == nil && data[at] != 0 {
			in[at] = true
			all++
		}
	}
	for _, s := range stretches {
		for at := s[0]; at < min(s[1], s[0]+100); at++ {
			in[at] = true
			all++
		}
	}
	seen := 0
	return func(_ []byte, at int) bool {
		if !in[at] {
			return false
		}
		seen++
		return seen%max(1, all/places) == 0
	}
}

// nodesOfUBIFS are the nodes of a UBIFS image, which stand at multiples of eight bytes.
func nodesOfUBIFS(data []byte) (out [][2]int) {
	for at := 0; at+24 <= len(data); {
		n := int(le.Uint32(data[at+16:]))
		if le.Uint32(data[at:]) != 0x06101831 || n < 24 || n > len(data)-at {
			at += 8
			continue
		}
		out = append(out, [2]int{at, at + n})
		at += (n + 7) / 8 * 8
	}
	return out
}

func mendUBIFS(data []byte) {
	for _, n := range nodesOfUBIFS(data) {
		le.PutUint32(data[n[0]+4:], ubifsSum(data[n[0]+8:n[1]]))
	}
}

var le = binary.LittleEndian

func orderOfJFFS2(data []byte) binary.ByteOrder {
	if data[0] == 0x19 {
		return binary.BigEndian
	}
	return le
}

// nodesOfJFFS2 are the nodes of a JFFS2 image, which stand at multiples of four bytes.
func nodesOfJFFS2(data []byte) (out [][2]int) {
	o := orderOfJFFS2(data)
	for at := 0; at+12 <= len(data); {
		n := int(o.Uint32(data[at+4:]))
		if o.Uint16(data[at:]) != 0x1985 || n < 12 || n > len(data)-at {
			at += 4
			continue
		}
		out = append(out, [2]int{at, at + n})
		at += (n + 3) / 4 * 4
	}
	return out
}

func mendJFFS2(data []byte) {
	o := orderOfJFFS2(data)
	for _, n := range nodesOfJFFS2(data) {
		b := data[n[0]:n[1]]
		o.PutUint32(b[8:], jffs2Sum(b[:8]))
		switch kind := o.Uint16(b[2:]) & 0x1fff; {
		case kind == 1 && len(b) >= 40: // an entry: over its head, and over its name
			o.PutUint32(b[32:], jffs2Sum(b[:32]))
			o.PutUint32(b[36:], jffs2Sum(b[40:min(len(b), 40+int(b[28]))]))
		case kind == 2 && len(b) >= 68: // an inode: over its head, and over its data
			o.PutUint32(b[64:], jffs2Sum(b[:60]))
			o.PutUint32(b[60:], jffs2Sum(b[68:min(len(b), 68+int(min(o.Uint32(b[48:]), 1<<20)))]))
		}
	}
}

// headersOfUBI are those of the erase counters and of the volumes.
func headersOfUBI(data []byte) (out [][2]int) {
	for at := 0; at+64 <= len(data); at += 64 {
		if m := string(data[at : at+4]); m == "UBI#" || m == "UBI!" {
			out = append(out, [2]int{at, at + 64})
		}
	}
	return out
}

func mendUBI(data []byte) {
	for _, h := range headersOfUBI(data) {
		binary.BigEndian.PutUint32(data[h[0]+60:], ubifsSum(data[h[0]:h[0]+60]))
	}
}

// placesOfImage are how many bytes of an image are tried.
const placesOfImage = 60

// turning is a file system of which bytes are changed.
type turning struct {
	name, kind string
	data       []byte
	most       int // ways in which it then holds something else that are told
	chosen     func(data []byte, at int) bool
	mend       func(data []byte) // makes its checksums right again; may be nil
	unlisted   bool              // what it holds is told elsewhere
}

// turn tells what a file system holds, and what is said of it when a byte at a place that is chosen is another; most
// ways in which it then holds something else are told.
func (x turning) turn(t *testing.T, b *strings.Builder) {
	data := x.data
	fmt.Fprintf(b, "## %s, %d bytes\n", x.name, len(data))
	sound, err := summed(x.kind, data, true)
	require.NoError(t, err)
	if !x.unlisted {
		b.WriteString(sound + "\n")
	}
	told := map[string]int{}
	var all pagetest.Sum
	var lines, alikes []string
	look := func(what string, data []byte) {
		found, err := summed(x.kind, data, true)
		said := "the same"
		switch {
		case err != nil:
			said = err.Error()
		case found != sound:
			said = "it holds\n" + differing(sound, found)
		}
		all.Add("%s %v %s", what, err, found)
		alike := numbers.ReplaceAllString(said, "…")
		if strings.HasPrefix(said, "it holds") && told["it holds"] >= x.most && told[alike] == 0 {
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
		if !x.chosen(data, at) {
			continue
		}
		for _, mask := range []byte{0x01, 0x80} {
			other := data
			if x.mend != nil {
				other = bytes.Clone(data)
			}
			other[at] ^= mask
			if x.mend != nil {
				x.mend(other)
			}
			look(fmt.Sprintf("byte %d ^%02x", at, mask), other)
			if x.mend == nil {
				data[at] ^= mask
			}
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
