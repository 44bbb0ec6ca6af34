package tftp

import (
	"fmt"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatPacketsSay holds what packets are read as when a bit of them is another, or they are put together at random,
// against testdata/packets.txt.
func TestWhatPacketsSay(t *testing.T) {
	var b strings.Builder
	read := func(data []byte) (string, error) {
		p, err := parse(data)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%+v", *p), nil
	}
	for name, packet := range []([]byte){
		request(opRead, "image.bin", []option{{"blksize", "1428"}, {"TSize", "0"}}), request(opWrite, "a", nil), oack([]option{{"windowsize", "8"}}), ack(7), errorPacket(CodeFull, "no room"), append(start(opData), 0, 9, 'x'),
	} {
		pagetest.Turned(&b, fmt.Sprintf("packet %d", name), packet, read)
	}
	pagetest.Random(&b, "packets", 3000, [][]byte{{0, 1}, {0, 2}, {0, 3}, {0, 4}, {0, 5}, {0, 6}, {0, 7}, []byte("name\x00"), []byte("octet\x00"), []byte("NetASCII\x00"), []byte("blksize\x00512\x00"), {0}, []byte("x")}, read)
	for _, n := range []int{0, 1, 62, 63, 64, 65, 66} { // texts of a request
		_, err := parse(append(start(opRead), strings.Repeat("x\x00", n)...))
		fmt.Fprintf(&b, "%d texts: %v\n", n, err)
	}
	for _, n := range []int{0, 511, 512, 513} {
		p, err := parse(errorPacket(1, strings.Repeat("m", n)))
		fmt.Fprintf(&b, "a message of %d bytes: %d, %v\n", n, len(p.message), err)
	}
	for _, text := range []string{"", "0", "1", "8", "9", "65464", "65465", "-1", "+8", " 8", "8 ", "0x8", "99999999999999999999", "007"} {
		n, ok := number(text, 8, 65464)
		fmt.Fprintf(&b, "number %q: %d %v\n", text, n, ok)
	}
	ascii := func(data []byte) (string, error) {
		got, err := io.ReadAll(newNetascii(strings.NewReader(string(data))))
		return fmt.Sprintf("%q", got), err
	}
	pagetest.Random(&b, "netascii", 1000, [][]byte{{'\r'}, {'\n'}, {0}, []byte("ab"), []byte("\r\n"), []byte("\r\x00")}, ascii)
	for _, s := range []string{"", "a", "a\n", "\r", "\n\n", "a\rb\r\nc"} {
		got, err := ascii([]byte(s))
		fmt.Fprintf(&b, "%q: %s %v\n", s, got, err)
	}
	pagetest.Hold(t, filepath.Join("testdata", "packets.txt"), b.String())
}
