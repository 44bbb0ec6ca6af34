package digest

import (
	"encoding/binary"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The check values of published CRC catalogues for the text "123456789", and
// sums that can be done by hand.
func TestChecksums(t *testing.T) {
	zero := uint32(0)
	for _, c := range []struct {
		a    Algorithm
		o    Options
		data string
		want string
	}{
		{CRC32, Options{}, "123456789", "cbf43926"},
		{CRC32, Options{Invert: true}, "123456789", "340bc6d9"},              // as kept by DFU, TRX, UBI
		{CRC32, Options{Init: &zero, Invert: true}, "123456789", "2dfd2d88"}, // as kept by JFFS2
		{CRC32C, Options{}, "123456789", "e3069283"},
		{CCITT, Options{}, "123456789", "29b1"},
		{CCITT, Options{Init: &zero}, "123456789", "31c3"},
		{Modbus, Options{}, "123456789", "4b37"},
		{Adler32, Options{}, "123456789", "091e01de"},
		{Sum8, Options{}, "\x01\x02\xff", "02"},
		{Sum16, Options{}, "\x01\x02\xff", "0102"},
		{Sum16, Options{Unit: 16}, "\x01\x02\x03\x04\x05", "0906"},
		{Sum32, Options{Unit: 16, Order: binary.LittleEndian}, "\x01\x02\x03\x04", "00000604"},
		{Sum32, Options{Unit: 32}, "\x00\x00\x00\x01\xff\xff\xff\xff", "00000000"},
		{Sum8, Options{Invert: true}, "\x01", "fe"},
		{Xor8, Options{}, "\x0f\xf0\x01", "fe"},
		{SHA1, Options{}, "abc", "a9993e364706816aba3e25717850c26c9cd0d89d"},
	} {
		for _, step := range []int{1, 2, 100} { // however the bytes come
			h, err := NewWith(c.a, c.o)
			require.NoError(t, err)
			for d := []byte(c.data); len(d) > 0; d = d[min(step, len(d)):] {
				h.Write(d[:min(step, len(d))])
			}
			assert.Equal(t, c.want, hex.EncodeToString(h.Sum(nil)), "%s %+v", c.a, c.o)
		}
	}
	_, err := NewWith("crc64", Options{})
	assert.Error(t, err)
	_, err = NewWith(SHA256, Options{Init: &zero})
	assert.Error(t, err)
}
