package layout

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each kind of number is as long as its name says, and of the sign and byte order that it is given.
func TestNumbers(t *testing.T) {
	for _, c := range []struct {
		kind        string
		bytes       int
		full        string // of bytes FF
		big, little string // of bytes 01 02 03 …
	}{
		{"u8", 1, "255", "1", "1"}, {"i8", 1, "-1", "1", "1"},
		{"u16", 2, "65535", "258", "513"}, {"i16", 2, "-1", "258", "513"},
		{"u24", 3, "16777215", "66051", "197121"}, {"i24", 3, "-1", "66051", "197121"},
		{"u32", 4, "4294967295", "16909060", "67305985"}, {"i32", 4, "-1", "16909060", "67305985"},
		{"i64", 8, "-1", "72623859790382856", "578437695752307201"},
	} {
		for _, endian := range []string{"big", "little"} {
			text := fmt.Sprintf("kind: layout\nname: n\ntitle: numbers\nmagic: {at: 0, hex: '51 4D'}\nendian: %s\nfields:\n  - {name: value, at: 2, type: %s}\n  - {name: behind, at: %d, type: u8}\n", endian, c.kind, 2+c.bytes)
			counted := []byte("QM\x01\x02\x03\x04\x05\x06\x07\x08\x09")
			full := []byte("QM\xff\xff\xff\xff\xff\xff\xff\xff\x00")
			_, m := read(t, text, counted)
			require.Len(t, m.Fields, 3, c.kind)
			want := map[string]string{"big": c.big, "little": c.little}[endian]
			assert.Equal(t, want, m.Fields[1].Value, "%s, %s", c.kind, endian)
			assert.Equal(t, fmt.Sprint(c.bytes+1), m.Fields[2].Value, "%s: what follows it", c.kind)
			_, m = read(t, text, full)
			assert.Equal(t, c.full, m.Fields[1].Value, "%s, %s", c.kind, endian)
		}
	}
}
