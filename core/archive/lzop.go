package archive

import (
	"encoding/binary"
	"hash/adler32"
	"hash/crc32"
	"io"

	"github.com/anchore/go-lzo"
)

// LzopStream is the stream of LZO blocks that kernels are packed into (Linux kernel,
// lib/decompress_unlzo.c), big-endian:
//
//	0 magic of 9 bytes, 9 version, 11 of the library, 13 needed, 15 method, 16 level, 17 flags, 21 mode, 25 time, 33 length of
//	the name, 34 name, then the checksum of all from 9 on, Adler-32 or by a flag CRC-32
//	by a flag an extra field: 0 length, 4 data, then its checksum
//	block: 0 bytes (0: the end), 4 packed bytes, 8 their checksums by the flags (those of the packed bytes only where they are
//	fewer), then the data
const LzopStream Compression = "lzo"

// LzopMagic begins such a stream.
const LzopMagic = "\x89LZO\x00\r\n\x1a\n"

func init() {
	registerMethod(&method{name: LzopStream, rank: 6, tells: begins(LzopMagic), inflate: func(r io.Reader, _ int64) (io.ReadCloser, error) { return newLzop(r) }})
}

const (
	lzopExtra     = 0x0040
	lzopFilter    = 0x0800
	lzopHeaderCRC = 0x1000
	lzopMaxBlock  = 64 << 20
)

// lzopSums are the checksums that a block may have, in the order in which they are written.
var lzopSums = []struct {
	flag   uint32
	packed bool // of the packed bytes
	sum    func([]byte) uint32
}{{0x0001, false, adler32.Checksum}, {0x0100, false, crc32.ChecksumIEEE}, {0x0002, true, adler32.Checksum}, {0x0200, true, crc32.ChecksumIEEE}}

type lzop struct {
	r     io.Reader
	flags uint32
	rest  []byte
	err   error
}

func newLzop(r io.Reader) (io.ReadCloser, error) {
	h := make([]byte, 34)
	if _, err := io.ReadFull(r, h); err != nil {
		return nil, early(err)
	}
	be := binary.BigEndian
	if version := be.Uint16(h[9:]); string(h[:9]) != LzopMagic || version < 0x0940 {
		return nil, &cannotRead{"it cannot be read: its LZO stream is of an old version", unpackElsewhere}
	}
	z := &lzop{r: r, flags: be.Uint32(h[17:])}
	if z.flags&lzopFilter != 0 {
		return nil, &cannotRead{"it cannot be read: its LZO stream uses a filter", unpackElsewhere}
	}
	rest := make([]byte, int(h[33])+4)
	if _, err := io.ReadFull(r, rest); err != nil {
		return nil, early(err)
	}
	name, sum := rest[:h[33]], adler32.Checksum
	if z.flags&lzopHeaderCRC != 0 {
		sum = crc32.ChecksumIEEE
	}
	if sum(append(h[9:], name...)) != be.Uint32(rest[len(name):]) {
		return nil, damagedf("the checksum of the header of its LZO stream does not match")
	}
	if z.flags&lzopExtra != 0 {
		n, err := z.u32()
		if err != nil {
			return nil, err
		}
		if _, err := io.CopyN(io.Discard, r, int64(n)+4); err != nil {
			return nil, early(err)
		}
	}
	return z, nil
}

// early makes an end before the time of what should be there.
func early(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (z *lzop) Close() error { return nil }

func (z *lzop) Read(p []byte) (int, error) {
	for len(z.rest) == 0 && z.err == nil {
		z.rest, z.err = z.block()
	}
	if len(z.rest) == 0 {
		return 0, z.err
	}
	n := copy(p, z.rest)
	z.rest = z.rest[n:]
	return n, nil
}

// u32 reads a number; the end before its time is io.ErrUnexpectedEOF.
func (z *lzop) u32() (uint32, error) {
	var b [4]byte
	if _, err := io.ReadFull(z.r, b[:]); err != nil {
		return 0, early(err)
	}
	return binary.BigEndian.Uint32(b[:]), nil
}

func (z *lzop) block() ([]byte, error) {
	length, err := z.u32()
	if err != nil {
		return nil, err
	}
	if length == 0 {
		return nil, io.EOF
	}
	packed, err := z.u32()
	if err != nil {
		return nil, err
	}
	if packed == 0 || packed > length || length > lzopMaxBlock {
		return nil, damagedf("a block of its LZO stream announces %d bytes packed into %d", length, packed)
	}
	var want [4]uint32
	for i, c := range lzopSums {
		if !z.has(c.flag, c.packed, packed < length) {
			continue
		}
		if want[i], err = z.u32(); err != nil {
			return nil, err
		}
	}
	src, err := io.ReadAll(io.LimitReader(z.r, int64(packed))) // no more than is there
	if err != nil {
		return nil, err
	}
	if len(src) < int(packed) {
		return nil, io.ErrUnexpectedEOF
	}
	dst, err := unpackLZO(src, length)
	if err != nil {
		return nil, err
	}
	for i, c := range lzopSums {
		of := dst
		if c.packed {
			of = src
		}
		if z.has(c.flag, c.packed, packed < length) && c.sum(of) != want[i] {
			return nil, damagedf("the checksum of a block of its LZO stream does not match")
		}
	}
	return dst, nil
}

// has tells whether a block has a checksum; one that is not packed has none of its packed bytes.
func (z *lzop) has(flag uint32, ofPacked, packed bool) bool {
	return z.flags&flag != 0 && (!ofPacked || packed)
}

// unpackLZO inflates a block to its length; one of that length is not packed.
func unpackLZO(src []byte, length uint32) ([]byte, error) {
	if len(src) == int(length) {
		return src, nil
	}
	if int64(length) > 256*int64(len(src))+64 { // more than LZO can pack
		return nil, damagedf("a block of its LZO stream announces %d bytes packed into %d", length, len(src))
	}
	dst := make([]byte, length)
	if n, err := lzo.Decompress(src, dst); err != nil || n != int(length) {
		return nil, damagedf("a block of its LZO stream does not inflate")
	}
	return dst, nil
}
