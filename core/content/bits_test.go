package content

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatEachBitBrings holds what comes of the packed data that is inflated here when a bit of it is another, or it is
// put together at random, against testdata/bits.txt.
func TestWhatEachBitBrings(t *testing.T) {
	var b strings.Builder
	for _, length := range []int{1, 12, 40} {
		repeated := func(data []byte) (string, error) {
			dst := make([]byte, length)
			n, err := rtime(dst, data)
			return fmt.Sprintf("%d %q", n, dst), err
		}
		pagetest.Turned(&b, fmt.Sprintf("rtime, %d bytes", length), []byte("a\x00b\x01a\x02b\x03c\x00"), repeated)
		pagetest.Random(&b, fmt.Sprintf("rtime, %d bytes", length), 2000, [][]byte{{'a', 0}, {'b', 1}, {'a', 5}, {'c', 2}, {'b', 0}}, repeated)
		first := func(data []byte) (string, error) {
			dst := make([]byte, length)
			n, err := lz4Begin(dst, data)
			return fmt.Sprintf("%d %q", n, dst[:min(max(n, 0), length)]), err
		}
		pagetest.Turned(&b, fmt.Sprintf("LZ4, first %d bytes", length), []byte("\x41abcd\x04\x00\x20xy\x02\x00\x0f\x01\x00\x03\x50vwxyz"), first)
		pagetest.Random(&b, fmt.Sprintf("LZ4, first %d bytes", length), 3000, [][]byte{[]byte("\x41abcd\x04\x00"), []byte("\x20xy\x02\x00"), {0x0f, 1, 0, 3}, {0x1f, 'z', 1, 0, 255, 0}, {0xf0, 1}, []byte("\x50vwxyz"), {0x00, 2, 0}, {0xf0, 255, 0}}, first)
	}
	list := func(data []byte) (string, error) {
		out, err := entries(nil, data)
		return fmt.Sprint(out), err
	}
	pagetest.Turned(&b, "entries of ext", []byte("\x0b\x00\x00\x00\x0c\x00\x01\x02.\x00\x00\x00\x0d\x00\x00\x00\x10\x00\x05\x01a.img\x00\x00\x00\x00\x00\x00\x00\x08\x00\x00\x00"), list)
	pagetest.Random(&b, "entries of ext", 3000, [][]byte{{11, 0, 0, 0}, {12, 0}, {16, 0}, {8, 0}, {0, 0}, {255, 255}, {1, 2}, []byte("a\x00\x00\x00"), {5, 1}, []byte("a.img\x00\x00\x00"), {0, 0, 0, 0}}, list)
	name := func(data []byte) (string, error) {
		n, err := ubifsNameOf(data)
		return fmt.Sprintf("%+v", n), err
	}
	pagetest.Turned(&b, "an entry of UBIFS", append(make([]byte, ubifsNameHead-6), 5, 0, 0, 0, 0, 0, 'a', '.', 'i', 'm', 'g'), name)
	header := func(data []byte) (string, error) {
		h, n, err := cpioHeader(data)
		return fmt.Sprintf("%d %+v", n, h), err
	}
	pagetest.Turned(&b, "cpio, odc", []byte("0707070000010000020100644000003000004000001000005"+"00000000006"+"000006"+"00000000007"), header)
	pagetest.Turned(&b, "cpio, binary", []byte("\xc7\x71\x01\x00\x02\x00\xa4\x81\x03\x00\x04\x00\x01\x00\x05\x01\x01\x00\x02\x00\x06\x00\x01\x00\x07\x00"), header)
	pagetest.Turned(&b, "cpio, newc", []byte("070702"+"0000000a"+"000081a4"+"00000003"+"00000004"+"00000001"+"6ab13b80"+"00000007"+"00000008"+"00000001"+"00000103"+"00000005"+"00000006"+"deadbeef"), header)
	r := rand.New(rand.NewPCG(8, 8))
	for range 40 { // nodes of a file in the order of their versions
		var nodes []jffs2Node
		for range r.IntN(6) {
			nodes = append(nodes, jffs2Node{offset: r.Uint32N(12), length: r.Uint32N(8)})
		}
		var parts []string
		for _, n := range nodes {
			parts = append(parts, fmt.Sprintf("%d+%d", n.offset, n.length))
		}
		var now []string
		for _, p := range newestOf(nodes, 14) {
			now = append(now, fmt.Sprintf("%d–%d of %d+%d", p.from, p.to, p.node.offset, p.node.length))
		}
		fmt.Fprintf(&b, "JFFS2, %v: %v\n", parts, now)
	}
	for _, mode := range []uint32{0o100644, 0o104755, 0o102755, 0o101777, 0o040755, 0o120777, 0o060600, 0o020600, 0o010644, 0o140755, 0, 0o170000, 0o7777, 0o30000, 0xffffffff} {
		fmt.Fprintf(&b, "mode %#o: %v, of cpio %v\n", mode, UnixMode(mode), cpioMode(mode))
	}
	for _, dev := range []uint32{0, 1, 0x0105, 0x0801, 0x10305, 0xfffff, 0x100000, 0x12345678, 0xffffffff} {
		major, minor := deviceNumbers(dev)
		fmt.Fprintf(&b, "device %#x: %d:%d\n", dev, major, minor)
	}
	for _, clusters := range []int64{0, 1, 4084, 4085, 4086, 65524, 65525, 65526, 1 << 28} {
		fmt.Fprintf(&b, "%d clusters: FAT%d, of wide tables FAT%d\n", clusters, FATBits(clusters, false), FATBits(clusters, true))
	}
	for _, n := range []int64{-1, 0, 1, 1 << 40, 1<<62 - 1, 1 << 62, 1<<63 - 1} {
		fmt.Fprintf(&b, "a file of %d bytes: %v\n", n, tooLong(n))
	}
	for _, pack := range []int64{0, 1, 2, 3, 4, 5, 8, 16, 1 << 20} {
		fmt.Fprintf(&b, "packed size of %d: %d\n", pack, packSize(pack))
	}
	for _, s := range []string{"", "\x05ABC", "ABC     ", "A\x80\xff", "\x00", "a b", "\xe5X"} {
		fmt.Fprintf(&b, "old letters of %q: %q\n", s, oldLetters([]byte(s)))
	}
	pagetest.Hold(t, filepath.Join("testdata", "bits.txt"), b.String())
}
