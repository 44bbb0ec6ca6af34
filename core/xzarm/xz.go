// Package xzarm reads xz streams that use the filter for ARM64 code, which the library does
// not know (The .xz File Format 1.2.1, sections 2 to 5; the filter as in the XZ Utils'
// documentation of 5.4). What such a stream holds is LZMA2, turned back by the filter, and
// held against the check of its block.
package xzarm

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"hash/crc64"
	"io"
	"math"

	"github.com/ulikunitz/xz/lzma"
)

// Errors of a stream.
var (
	ErrData        = errors.New("the xz stream makes no sense")
	ErrCheck       = errors.New("a checksum of the xz stream does not match")
	ErrUnsupported = errors.New("a filter or check that is not known")
	// ErrMemory says that the stream asks for more memory than it may.
	ErrMemory = errors.New("the xz stream asks for too much memory")
)

const (
	magic       = "\xfd7zXZ\x00"
	footerMagic = "YZ"
	headSize    = 12
	filterLZMA2 = 0x21
	filterARM64 = 0x0a
)

// Needed tells, by the first bytes of a stream, whether its first block uses the filter.
func Needed(head []byte) bool {
	if len(head) < headSize+1 || !bytes.HasPrefix(head, []byte(magic)) {
		return false
	}
	size := (int(head[headSize]) + 1) * 4
	if head[headSize] == 0 || len(head) < headSize+size {
		return false
	}
	b, err := readBlock(head[headSize : headSize+size])
	return err == nil && b.arm
}

// block is what a block's header says.
type block struct {
	arm   bool
	start uint32 // of the code, for the filter
	dict  int64
	// packed and unpacked are the sizes that the header gives of the data; -1 where it gives none.
	packed, unpacked int64
}

// dictionary is the memory that a code asks for (The .xz File Format 1.2.0, section 5.3.1).
func dictionary(code byte) int64 {
	if code == 40 {
		return 1<<32 - 1
	}
	return (2 | int64(code&1)) << (code/2 + 11)
}

// readBlock reads the header of a block: size 1, flags 1, sizes, filters, padding, CRC-32.
func readBlock(b []byte) (out block, err error) {
	n := len(b) - 4
	if n < 4 || crc32.ChecksumIEEE(b[:n]) != binary.LittleEndian.Uint32(b[n:]) {
		return out, ErrData
	}
	r := bytes.NewReader(b[2:n])
	number := func() uint64 {
		v, bad := binary.ReadUvarint(r)
		if bad != nil || v > math.MaxInt64 { // The .xz File Format 1.2.0, section 1.2: 63 bits
			err = ErrData
		}
		return v
	}
	out.packed, out.unpacked = -1, -1
	for i, size := range []*int64{&out.packed, &out.unpacked} {
		if b[1]&(0x40<<i) != 0 {
			*size = int64(number())
		}
	}
	filters := int(b[1]&3) + 1
	for i := range filters {
		id, size := number(), number()
		if err != nil || size > uint64(r.Len()) {
			return out, ErrData
		}
		props := make([]byte, size)
		r.Read(props)
		last := i == filters-1
		switch {
		case id == filterLZMA2 && last && size == 1 && props[0] <= 40:
			out.dict = dictionary(props[0])
		case id == filterARM64 && !last && i == 0 && (size == 0 || size == 4):
			if out.arm = true; size == 4 {
				out.start = binary.LittleEndian.Uint32(props)
			}
		default:
			return out, ErrUnsupported
		}
	}
	return out, nil
}

// Reader reads what a stream holds, and what the streams hold that follow it at once.
type Reader struct {
	r      *bufio.Reader
	window int64
	n      int64 // packed bytes read in all
	check  byte
	data   io.Reader // of the block that is read
	sum    hash.Hash
	block  block // that is read, whose packed bytes began at from
	from   int64
	head   int64   // bytes of the block's header
	given  int64   // unpacked bytes of the block
	listed records // of the stream's blocks, as its index has to list them
	one    bool
	err    error
}

// records are the sizes of blocks, two numbers for each. Only a sum of them is kept, for a stream may have any number of
// blocks.
type records struct {
	blocks uint64
	sum    hash.Hash
}

func newRecords() records { return records{sum: sha256.New()} }

func (r *records) add(unpadded, unpacked uint64) {
	r.blocks++
	r.sum.Write(binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(nil, unpadded), unpacked))
}

// NewReader reads the stream that begins with the next byte of r. window bounds the memory
// that it may ask for; one says that what follows the stream is left alone.
func NewReader(r *bufio.Reader, window int64, one bool) (*Reader, error) {
	z := &Reader{r: r, window: window, one: one}
	return z, z.begin()
}

// counted counts what is taken, a byte at a time where that is asked for, so that nothing is
// read ahead.
type counted struct{ z *Reader }

func (c counted) Read(p []byte) (int, error) {
	n, err := c.z.r.Read(p)
	c.z.n += int64(n)
	return n, err
}

func (c counted) ReadByte() (byte, error) {
	b, err := c.z.r.ReadByte()
	if err == nil {
		c.z.n++
	}
	return b, err
}

func (z *Reader) full(n int) ([]byte, error) {
	b := make([]byte, n)
	if _, err := io.ReadFull(counted{z}, b); err != nil {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return nil, err
	}
	return b, nil
}

// begin reads the header of a stream.
func (z *Reader) begin() error {
	h, err := z.full(headSize)
	if err != nil {
		return err
	}
	if string(h[:6]) != magic || crc32.ChecksumIEEE(h[6:8]) != binary.LittleEndian.Uint32(h[8:]) {
		return ErrData
	}
	if h[6] != 0 {
		return ErrUnsupported
	}
	z.check, z.listed = h[7], newRecords()
	return nil
}

func (z *Reader) Read(p []byte) (int, error) {
	for z.err == nil {
		if z.data == nil {
			z.err = z.next() // which may have ended a stream only
			continue
		}
		n, err := z.data.Read(p)
		if n > 0 {
			if z.given += int64(n); z.sum != nil {
				z.sum.Write(p[:n])
			}
			if err != io.EOF {
				z.err = damage(err)
			}
			return n, nil
		}
		switch {
		case err == io.EOF:
			z.data = nil
			z.err = z.endBlock()
		case err != nil:
			z.err = damage(err)
		}
	}
	return 0, z.err
}

// damage is an error of the library, in place of its own.
func damage(err error) error {
	if err == nil || err == io.ErrUnexpectedEOF {
		return err
	}
	return fmt.Errorf("%w: %v", ErrData, err)
}

// next begins a block, or ends the stream.
func (z *Reader) next() error {
	size, err := counted{z}.ReadByte()
	if err != nil {
		return io.ErrUnexpectedEOF
	}
	if size == 0 {
		return z.end()
	}
	rest, err := z.full((int(size)+1)*4 - 1)
	if err != nil {
		return err
	}
	b, err := readBlock(append([]byte{size}, rest...))
	if err != nil {
		return err
	}
	if b.dict > z.window {
		return ErrMemory
	}
	switch z.check {
	case 0:
		z.sum = nil
	case 1:
		z.sum = crc32.NewIEEE()
	case 4:
		z.sum = crc64.New(crc64.MakeTable(crc64.ECMA))
	case 10:
		z.sum = sha256.New()
	default:
		return ErrUnsupported
	}
	z.block, z.head, z.from, z.given = b, int64(len(rest))+1, z.n, 0
	lz, err := lzma.Reader2Config{DictCap: int(max(b.dict, lzma.MinDictCap))}.NewReader2(counted{z})
	if err != nil {
		return damage(err)
	}
	if z.data = lz; b.arm {
		z.data = &arm64{r: lz, at: b.start}
	}
	return nil
}

// endBlock reads the padding and the check behind a block.
func (z *Reader) endBlock() error {
	packed := z.n - z.from
	if is := z.block; is.packed >= 0 && is.packed != packed || is.unpacked >= 0 && is.unpacked != z.given {
		return ErrData
	}
	check := 0
	if z.sum != nil {
		check = z.sum.Size()
	}
	z.listed.add(uint64(z.head+packed)+uint64(check), uint64(z.given))
	if pad := (4 - packed%4) % 4; pad > 0 {
		b, err := z.full(int(pad))
		if err != nil {
			return err
		}
		if !bytes.Equal(b, make([]byte, pad)) {
			return ErrData
		}
	}
	if z.sum == nil {
		return nil
	}
	want, err := z.full(z.sum.Size())
	if err != nil {
		return err
	}
	got := z.sum.Sum(nil)
	if z.check != 10 { // numbers stand there with the lowest byte first
		for i, j := 0, len(got)-1; i < j; i, j = i+1, j-1 {
			got[i], got[j] = got[j], got[i]
		}
	}
	if !bytes.Equal(want, got) {
		return ErrCheck
	}
	return nil
}

// end reads the index, whose first byte is read already, and the footer; then the next
// stream begins, where there is one.
//
// In one piece: the fields follow each other as they lie in the stream.
func (z *Reader) end() error {
	start := z.n - 1
	index := []byte{0}
	number := func() (uint64, error) {
		var v uint64
		for shift := uint(0); shift < 63; shift += 7 {
			b, err := counted{z}.ReadByte()
			if err != nil {
				return 0, io.ErrUnexpectedEOF
			}
			if index = append(index, b); len(index) > 16<<20 {
				return 0, ErrData
			}
			v |= uint64(b&0x7f) << shift
			if b&0x80 == 0 {
				return v, nil
			}
		}
		return 0, ErrData
	}
	count, err := number()
	if err == nil && count != z.listed.blocks {
		return ErrData
	}
	there := newRecords()
	for i := uint64(0); i < count && err == nil; i++ {
		var unpadded, unpacked uint64
		if unpadded, err = number(); err == nil {
			unpacked, err = number()
		}
		there.add(unpadded, unpacked)
	}
	if err != nil {
		return err
	}
	if !bytes.Equal(there.sum.Sum(nil), z.listed.sum.Sum(nil)) {
		return ErrData
	}
	rest, err := z.full(int((4-(z.n-start)%4)%4) + 4)
	if err != nil {
		return err
	}
	padding := rest[:len(rest)-4]
	if index = append(index, padding...); !bytes.Equal(padding, make([]byte, len(padding))) {
		return ErrData
	}
	if crc32.ChecksumIEEE(index) != binary.LittleEndian.Uint32(rest[len(rest)-4:]) {
		return ErrCheck
	}
	f, err := z.full(headSize)
	if err != nil {
		return err
	}
	if string(f[8:]) != string([]byte{0, z.check})+footerMagic || crc32.ChecksumIEEE(f[4:10]) != binary.LittleEndian.Uint32(f) || (int64(binary.LittleEndian.Uint32(f[4:]))+1)*4 != int64(len(index))+4 {
		return ErrData
	}
	if z.one {
		return io.EOF
	}
	for {
		b, err := z.r.Peek(4)
		switch {
		case err == nil && bytes.Equal(b, make([]byte, 4)): // padding
			if _, err := z.full(4); err != nil {
				return err
			}
			continue
		case len(b) == 4 && string(b) == magic[:4]:
			return z.begin()
		}
		return io.EOF
	}
}

// arm64 turns absolute addresses back into distances: those of BL, and those of ADRP that
// lie within 512 MiB.
type arm64 struct {
	r    io.Reader
	at   uint32
	buf  [4096]byte
	n    int // bytes in buf
	done int // of them, those that are turned back and not yet given
	gave int
	err  error
}

func (a *arm64) Read(p []byte) (int, error) {
	for a.gave == a.done {
		if a.err != nil {
			return 0, a.err
		}
		a.n = copy(a.buf[:], a.buf[a.done:a.n])
		a.gave, a.done = 0, 0
		n, err := a.r.Read(a.buf[a.n:])
		a.n += n
		a.err = err
		whole := a.n &^ 3
		a.turn(a.buf[:whole])
		if a.done = whole; err != nil {
			a.done = a.n // what is left is shorter than an instruction
		}
	}
	n := copy(p, a.buf[a.gave:a.done])
	a.gave += n
	return n, nil
}

func (a *arm64) turn(b []byte) {
	le := binary.LittleEndian
	for i := 0; i < len(b); i += 4 {
		v := le.Uint32(b[i:])
		switch {
		case v>>26 == 0x25: // BL
			le.PutUint32(b[i:], 0x94000000|(v-a.at>>2)&0x03ffffff)
		case v&0x9f000000 == 0x90000000: // ADRP
			src := v>>29&3 | v>>3&0x001ffffc
			if (src+0x00020000)&0x001c0000 != 0 {
				break
			}
			to := src - a.at>>12
			le.PutUint32(b[i:], v&0x9000001f|to&3<<29|to&0x0003fffc<<3|(-(to&0x00020000))&0x00e00000)
		}
		a.at += 4
	}
}
