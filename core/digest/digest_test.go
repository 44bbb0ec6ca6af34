package digest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Values for "abc" from RFC 1321, FIPS 180-4 and the CRC-32 of IEEE 802.3.
func TestMulti(t *testing.T) {
	m := NewMulti(SHA256, MD5, SHA1, CRC32, SHA256)
	fmt.Fprint(m, "a")
	fmt.Fprint(m, "bc")
	want := map[Algorithm]string{
		MD5:    "900150983cd24fb0d6963f7d28e17f72",
		SHA1:   "a9993e364706816aba3e25717850c26c9cd0d89d",
		SHA256: "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		CRC32:  "352441c2",
	}
	for a, hex := range want {
		assert.Equal(t, hex, m.Sums().Of(a))
	}
	assert.Len(t, m.Sums(), len(want), "one named twice counts once")
	assert.Empty(t, m.Sums().Of(SHA512))
	text, err := json.Marshal(m.Sums())
	assert.NoError(t, err)
	wanted, err := json.Marshal(want)
	assert.NoError(t, err)
	assert.JSONEq(t, string(wanted), string(text))
}

func TestParse(t *testing.T) {
	s, err := Parse("SHA-256:BA7816BF8F01CFEA414140DE5DAE2223B00361A396177A9CB410FF61F20015AD ")
	require.NoError(t, err)
	assert.Equal(t, "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad", s.String())
	for text, want := range map[string]string{
		"ba7816":        "write ALGORITHM:HEX",
		"sha257:00":     "not known",
		"sha256:ba78":   "64 hexadecimal digits",
		"md5:zz0150983": "32 hexadecimal digits",
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, want)
	}
}

// However the bytes are cut into writes, the sums of stretches are the same.
func TestStretches(t *testing.T) {
	data := bytes.Repeat([]byte("Brackwater "), 20)
	zeroed := bytes.Clone(data)
	clear(zeroed[5:9])
	clear(zeroed[30:40])
	parts := []Partial{
		{Algorithm: CRC32, Over: Stretch{0, 64}, Zeroed: []Stretch{{5, 9}, {30, 40}}},
		{Algorithm: CRC32, Over: Stretch{64, int64(len(data))}},
		{Algorithm: CRC32, Over: Stretch{100, int64(len(data)) + 7}},
		{Algorithm: CRC32, Over: Stretch{10, 10}},
		{Algorithm: CRC32, Over: Stretch{int64(len(data)) + 10, int64(len(data)) + 20}},
	}
	crc := func(b []byte) string { return fmt.Sprintf("%08x", crc32.ChecksumIEEE(b)) }
	want := []Result{{crc(zeroed[:64]), 0}, {crc(data[64:]), 0}, {crc(data[100:]), 7}, {crc(nil), 0}, {crc(nil), 10}}
	for _, step := range []int{1, 3, 7, 64, len(data)} {
		s := NewStretches(parts)
		for rest := data; len(rest) > 0; rest = rest[min(step, len(rest)):] {
			s.Write(rest[:min(step, len(rest))])
		}
		assert.Equal(t, want, s.Results(), "in writes of %d", step)
	}
}
