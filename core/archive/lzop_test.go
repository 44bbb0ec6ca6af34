package archive

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lzopOf makes a stream of two blocks, one packed and one that is not, and what they hold.
func lzopOf(flags uint32) (stream, content []byte) {
	be := binary.BigEndian
	put := func(b []byte, sums uint32, packed bool, of []byte) []byte {
		adler, crc := uint32(0x0001), uint32(0x0100)
		if packed {
			adler, crc = 0x0002, 0x0200
		}
		if sums&adler != 0 {
			b = be.AppendUint32(b, adler32.Checksum(of))
		}
		if sums&crc != 0 {
			b = be.AppendUint32(b, crc32.ChecksumIEEE(of))
		}
		return b
	}
	head := []byte{0x10, 0x40, 0x20, 0xa0, 0x09, 0x40, 1, 5}
	head = be.AppendUint32(head, flags)
	head = append(head, make([]byte, 12)...)
	head = append(append(head, 4), "name"...)
	stream = append([]byte(LzopMagic), head...)
	if flags&0x1000 != 0 {
		stream = be.AppendUint32(stream, crc32.ChecksumIEEE(head))
	} else {
		stream = be.AppendUint32(stream, adler32.Checksum(head))
	}
	if flags&0x40 != 0 {
		stream = append(be.AppendUint32(stream, 3), "abcsums"...)
	}
	// Four literals, 33 bytes from four back, the end.
	src, dst := append([]byte("\x15abcd\x3f\x0c\x00"), 0x11, 0, 0), []byte(strings.Repeat("abcd", 9)+"a")
	stream = be.AppendUint32(be.AppendUint32(stream, uint32(len(dst))), uint32(len(src)))
	stream = put(put(stream, flags, false, dst), flags, true, src)
	stream = append(stream, src...)
	plain := []byte("not packed")
	stream = be.AppendUint32(be.AppendUint32(stream, uint32(len(plain))), uint32(len(plain)))
	stream = append(put(stream, flags, false, plain), plain...)
	return be.AppendUint32(stream, 0), append(dst, plain...)
}

// A stream of LZO blocks is read whatever checksums it has; and neither a flipped bit nor a cut makes other content of it.
func TestLzop(t *testing.T) {
	read := func(stream []byte) ([]byte, error) {
		r, err := newLzop(bytes.NewReader(stream))
		if err != nil {
			return nil, err
		}
		defer r.Close()
		return io.ReadAll(r)
	}
	for _, flags := range []uint32{0x0001, 0x0003, 0x0100, 0x0300, 0x0303, 0x1001, 0x0041, 0x0101} {
		t.Run(fmt.Sprintf("%#04x", flags), func(t *testing.T) {
			stream, want := lzopOf(flags)
			got, err := read(append(stream, "what follows"...))
			require.NoError(t, err)
			assert.Equal(t, want, got)
			extra := 0
			if flags&0x40 != 0 {
				extra = 11
			}
			for bit := range len(stream) * 8 {
				at := bit / 8
				if from := 42; at >= from && at < from+extra {
					continue
				}
				spoiled := bytes.Clone(stream)
				spoiled[at] ^= 1 << (bit % 8)
				got, err := read(spoiled)
				if flags&0x0202 == 0 && bytes.Equal(got, want) {
					continue // a bit of the packed bytes that says nothing, and no checksum of them
				}
				assert.Error(t, err, "bit %d of byte %d: %q", bit%8, at, got)
			}
			for n := range stream {
				_, err := read(stream[:n])
				assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "cut at %d", n)
			}
		})
	}
	stream, _ := lzopOf(0x0000)
	_, err := read(stream)
	require.NoError(t, err)
	stream, _ = lzopOf(0x0801)
	_, err = read(stream)
	assert.ErrorContains(t, err, "filter")
}
