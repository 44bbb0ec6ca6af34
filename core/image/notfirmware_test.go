package image

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A binary signature is told by the length that its packet gives, and by its version.
func TestSignaturePackets(t *testing.T) {
	packet := func(size int, head ...byte) []byte {
		return append(head, make([]byte, size-len(head))...)
	}
	for name, c := range map[string]struct {
		data []byte
		want bool
	}{
		"old, length in one byte":           {packet(102, 0x88, 100, 4), true},
		"old, length in two bytes":          {packet(303, 0x89, 1, 44, 4), true},
		"new, length in one byte":           {packet(102, 0xc2, 100, 4), true},
		"new, the longest in one byte":      {packet(193, 0xc2, 191, 4), true},
		"new, the shortest in two bytes":    {packet(195, 0xc2, 192, 0, 4), true},
		"new, length in two bytes":          {packet(503, 0xc2, 193, 52, 4), true},
		"version 3":                         {packet(102, 0x88, 100, 3), true},
		"version 6":                         {packet(102, 0x88, 100, 6), true},
		"version 2":                         {packet(102, 0x88, 100, 2), false},
		"version 7":                         {packet(102, 0x88, 100, 7), false},
		"two bytes, version 2":              {packet(303, 0x89, 1, 44, 2), false},
		"two bytes, version 7":              {packet(303, 0x89, 1, 44, 7), false},
		"new, version 2":                    {packet(102, 0xc2, 100, 2), false},
		"new, version 7":                    {packet(102, 0xc2, 100, 7), false},
		"new, two bytes, version 2":         {packet(503, 0xc2, 193, 52, 2), false},
		"new, two bytes, version 7":         {packet(503, 0xc2, 193, 52, 7), false},
		"one byte more":                     {packet(103, 0x88, 100, 4), false},
		"one byte less":                     {packet(101, 0x88, 100, 4), false},
		"two bytes, one more":               {packet(304, 0x89, 1, 44, 4), false},
		"new, one byte more":                {packet(103, 0xc2, 100, 4), false},
		"new, two bytes, one more":          {packet(504, 0xc2, 193, 52, 4), false},
		"another packet":                    {packet(102, 0x98, 100, 4), false},
		"the shortest":                      {packet(12, 0x88, 10, 4), true},
		"too short":                         {packet(11, 0x88, 9, 4), false},
		"the longest":                       {packet(4096, 0x89, 0x0f, 0xfd, 4), true},
		"too long":                          {packet(4097, 0x89, 0x0f, 0xfe, 4), false},
		"a length that is still to be told": {packet(300, 0xc2, 224, 0, 4), false},
	} {
		assert.Equal(t, c.want, isPGPSignature(c.data), name)
	}
	oid := []byte{0x06, 0x09, 0x2a, 0x86, 0x48, 0x86, 0xf7, 0x0d, 0x01, 0x07, 0x02}
	signed := append([]byte{0x30, 0x82, 1, 0}, oid...)
	assert.True(t, isCMS(packet(30, signed...)))
	assert.True(t, isCMS(packet(21, signed...)))
	assert.False(t, isCMS(packet(20, signed...)))
	assert.False(t, isCMS(packet(30, append([]byte{0x31, 0x82, 1, 0}, oid...)...)))
	assert.False(t, isCMS(packet(30, append([]byte{0x30, 0x7f, 1, 0}, oid...)...)))
	assert.False(t, isCMS(packet(30, append([]byte{0x30, 0x85, 1, 0}, oid...)...)))
	assert.True(t, isCMS(packet(30, append([]byte{0x30, 0x80}, oid...)...)))
	assert.True(t, isCMS(packet(30, append([]byte{0x30, 0x84, 1, 2, 3, 4}, oid...)...)))
}
