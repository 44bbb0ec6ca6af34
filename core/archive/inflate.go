package archive

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	txz "github.com/therootcompany/xz"
	"github.com/ulikunitz/xz/lzma"

	"fitcheck/core/xzarm"
)

// Compression is a method of compressing a stream, by its name in JSON.
type Compression string

// The methods that are inflated.
const (
	GzipStream  Compression = "gzip"  // RFC 1952
	Bzip2Stream Compression = "bzip2" // bzip2 1.0
	XzStream    Compression = "xz"    // the .xz file format 1.2
	LzmaStream  Compression = "lzma"  // the .lzma file format
	Lz4Stream   Compression = "lz4"   // LZ4 frame format 1.6, and its legacy frame
	ZstdStream  Compression = "zstd"  // RFC 8878
)

// windowError says how much memory a stream asks for to be inflated.
type windowError struct{ asks int64 }

func (e *windowError) Error() string {
	return fmt.Sprintf("the stream asks for %d bytes of memory", e.asks)
}

// bounded makes a refusal of the error of a stream that asks for too much memory.
func bounded(item string, l Limits, err error) error {
	var asks *windowError
	if errors.Is(err, txz.ErrMemlimit) || errors.Is(err, xzarm.ErrMemory) || errors.Is(err, zstd.ErrWindowSizeExceeded) || errors.As(err, &asks) {
		return &BoundError{item, BoundWindow, l.Window}
	}
	return err
}

func init() {
	registerMethod(&method{name: GzipStream, rank: 1, tells: isGzip, sum: "CRC-32", sure: func(head []byte) bool {
		return head[8] == 0 || head[8] == 2 || head[8] == 4 // how hard it was packed
	}, inflate: func(r io.Reader, _ int64) (io.ReadCloser, error) {
		z, err := gzip.NewReader(r)
		if err != nil {
			return nil, err
		}
		z.Multistream(false)
		return z, nil
	}})
	registerMethod(&method{name: Bzip2Stream, rank: 2, slow: true, tells: isBzip2, sum: "CRC-32", inflate: func(r io.Reader, _ int64) (io.ReadCloser, error) {
		return &bzip2Reader{bzip2.NewReader(r), 0}, nil
	}})
	registerMethod(&method{name: XzStream, rank: 3, slow: true, tells: begins("\xfd7zXZ\x00"), sum: "checksum", sure: func(head []byte) bool { // a checksum over its flags
		return len(head) > 12 && crc32.ChecksumIEEE(head[6:8]) == binary.LittleEndian.Uint32(head[8:])
	}, inflate: func(r io.Reader, window int64) (io.ReadCloser, error) { return xzReader(r, window, true) }})
	registerMethod(&method{name: ZstdStream, rank: 4, tells: begins("\x28\xb5\x2f\xfd"), sure: func(head []byte) bool { return len(head) > 5 && head[4]&0x08 == 0 },
		inflate: func(r io.Reader, window int64) (io.ReadCloser, error) {
			z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(uint64(max(1<<10, window))))
			if err != nil {
				return nil, err
			}
			return &zstdReader{z, 0}, nil
		}})
	registerMethod(&method{name: Lz4Stream, rank: 5, tells: func(head []byte) bool {
		return begins("\x04\x22\x4d\x18")(head) || begins("\x02\x21\x4c\x18")(head)
	}, sure: func(head []byte) bool { return len(head) > 12 },
		inflate: func(r io.Reader, _ int64) (io.ReadCloser, error) { return &lz4Reader{lz4.NewReader(r), 0, 0}, nil }})
	registerMethod(&method{name: LzmaStream, rank: 9, slow: true, tells: isLzma, inflate: lzmaReader})
}

// begins tells what begins with a magic.
func begins(magic string) func(head []byte) bool {
	return func(head []byte) bool { return bytes.HasPrefix(head, []byte(magic)) }
}

func isBzip2(head []byte) bool {
	return len(head) > 10 && bytes.HasPrefix(head, []byte("BZh")) && head[3] >= '1' && head[3] <= '9' &&
		(bytes.Equal(head[4:10], []byte{0x31, 0x41, 0x59, 0x26, 0x53, 0x59}) || bytes.Equal(head[4:10], []byte{0x17, 0x72, 0x45, 0x38, 0x50, 0x90}))
}

// isLzma: the format has no magic, so its fields must make sense: the
// properties, a dictionary of 2^n or 2^n+2^(n-1) bytes, a size that is
// unknown or below 256 GiB, and a first byte of range-coded data that is zero.
func isLzma(head []byte) bool {
	if len(head) < 18 || head[0] >= 9*5*5 || head[13] != 0 {
		return false
	}
	dict, size := binary.LittleEndian.Uint32(head[1:]), binary.LittleEndian.Uint64(head[5:])
	if size != 1<<64-1 && size>>38 != 0 || size == 0 {
		return false
	}
	for n := uint(12); n < 31; n++ {
		if dict == 1<<n || dict == 1<<n+1<<(n-1) {
			return inflatesAsLzma(head)
		}
	}
	return false
}

// inflatesAsLzma tries whether the first bytes inflate. Random data soon
// leads back to before its beginning, which the decoder notices.
func inflatesAsLzma(head []byte) bool {
	const tried = 512
	b := bytes.Clone(head[:min(len(head), 4<<10)])
	binary.LittleEndian.PutUint32(b[1:], 64<<10) // so little cannot reach back further
	z, err := lzma.NewReader(bytes.NewReader(b))
	if err != nil {
		return false
	}
	_, err = io.ReadFull(z, make([]byte, tried))
	return err == nil || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

// Inflater reads what one compressed stream holds, within the default bounds. Data
// behind the stream is left alone.
func Inflater(method Compression, r io.Reader) (io.ReadCloser, error) {
	return inflaterWithin(method, r, DefaultLimits().Window)
}

// inflaterWithin is Inflater with a bound of one's own on the memory that a stream may
// ask for.
func inflaterWithin(name Compression, r io.Reader, window int64) (io.ReadCloser, error) {
	if m := methodOf(name); m != nil {
		return m.inflate(r, window)
	}
	return nil, &cannotRead{fmt.Sprintf("the compression %q is not one that fitcheck inflates", name), unpackElsewhere}
}

// lzmaReader reads a stream in the .lzma file format: its header tells the size of the dictionary.
func lzmaReader(r io.Reader, window int64) (io.ReadCloser, error) {
	head := make([]byte, 13)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, io.ErrUnexpectedEOF
	}
	if d := int64(binary.LittleEndian.Uint32(head[1:])); d > window {
		return nil, &windowError{d}
	}
	z, err := lzma.NewReader(io.MultiReader(bytes.NewReader(head), r))
	if err != nil {
		return nil, err
	}
	return io.NopCloser(z), nil
}

// xzReader reads a stream of xz, and, unless one alone is wanted, those that follow it.
func xzReader(r io.Reader, window int64, one bool) (io.ReadCloser, error) {
	const header = 1 << 10 // that of a stream and of its first block are shorter
	var br *bufio.Reader
	switch from := r.(type) {
	case *bufio.Reader:
		br = from
	case *byteCounter: // whose reader is asked, so that it counts what is taken only
		br = from.r
	default:
		br = bufio.NewReaderSize(r, 64<<10)
		r = br
	}
	if head, _ := br.Peek(header); xzarm.Needed(head) {
		if c, ok := r.(*byteCounter); ok { // it counts what passes it
			br = bufio.NewReaderSize(c, header)
		}
		z, err := xzarm.NewReader(br, window, one)
		if err != nil {
			return nil, err
		}
		return io.NopCloser(z), nil
	}
	z, err := txz.NewReader(r, uint32(min(window, 1<<32-1)))
	if err != nil {
		return nil, err
	}
	if one {
		z.Multistream(false)
	}
	return io.NopCloser(z), nil
}

// ahead is implemented by readers that have taken bytes of what follows their
// stream when they find that it is no further one.
type ahead interface{ taken() int64 }

// bzip2Reader ends where something that is no further stream follows.
type bzip2Reader struct {
	io.Reader
	over int64
}

func (b *bzip2Reader) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	var s bzip2.StructuralError
	if errors.As(err, &s) && strings.Contains(string(s), "continuation") {
		b.over, err = 2, io.EOF
	}
	return n, err
}

func (b *bzip2Reader) Close() error { return nil }
func (b *bzip2Reader) taken() int64 { return b.over }

// zstdReader ends where something that is no further frame follows.
type zstdReader struct {
	z    *zstd.Decoder
	over int64
}

func (z *zstdReader) Read(p []byte) (int, error) {
	n, err := z.z.Read(p)
	if errors.Is(err, zstd.ErrMagicMismatch) {
		z.over, err = 4, io.EOF
	}
	return n, err
}

func (z *zstdReader) Close() error {
	z.z.Close()
	return nil
}
func (z *zstdReader) taken() int64 { return z.over }

// lz4Reader ends where something that is no further frame follows.
type lz4Reader struct {
	z       *lz4.Reader
	n, over int64
}

func (l *lz4Reader) Read(p []byte) (int, error) {
	n, err := l.z.Read(p)
	if l.n += int64(n); l.n > 0 && errors.Is(err, lz4.ErrInvalidFrame) {
		l.over, err = 4, io.EOF
	}
	return n, err
}

func (l *lz4Reader) Close() error { return nil }
func (l *lz4Reader) taken() int64 { return l.over }
