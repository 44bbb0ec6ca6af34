package archive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"

	"github.com/bodgit/sevenzip"
	"github.com/therootcompany/xz"
)

// The library that reads 7z archives inflates LZMA2 at a third of the speed of the one that reads
// xz streams. That one takes whole xz streams only (The .xz File Format 1.2.0), so that the beginning
// of one is put in front of the data: a header without a check, and a block with one filter.

func init() { sevenzip.RegisterDecompressor([]byte{0x21}, lzma2Reader) }

// lzma2Reader inflates size bytes of one LZMA2 stream. properties are one byte, which tells the
// size of the dictionary.
func lzma2Reader(properties []byte, size uint64, readers []io.ReadCloser) (io.ReadCloser, error) {
	if len(properties) != 1 || len(readers) != 1 {
		return nil, errors.New("the properties of its LZMA2 stream make no sense")
	}
	begin := []byte("\xfd7zXZ\x00\x00\x00")
	begin = binary.LittleEndian.AppendUint32(begin, crc32.ChecksumIEEE(begin[6:]))
	block := []byte{2, 0, 0x21, 1, properties[0], 0, 0, 0} // 12 bytes, one filter, its properties, padding
	block = binary.LittleEndian.AppendUint32(block, crc32.ChecksumIEEE(block))
	z, err := xz.NewReader(io.MultiReader(bytes.NewReader(append(begin, block...)), readers[0]), uint32(DefaultLimits().Window))
	if err != nil {
		return nil, err
	}
	return &lzma2{z, int64(min(size, 1<<62)), readers[0]}, nil
}

// lzma2 ends where the archive says that the stream does: what would follow in an xz stream is
// not there.
type lzma2 struct {
	z    *xz.Reader
	left int64
	io.Closer
}

func (l *lzma2) Read(p []byte) (int, error) {
	if l.left <= 0 {
		return 0, io.EOF
	}
	n, err := l.z.Read(p[:min(int64(len(p)), l.left)])
	l.left -= int64(n)
	switch {
	case l.left <= 0:
		err = nil
	case err == io.EOF || errors.Is(err, xz.ErrBuf):
		err = io.ErrUnexpectedEOF
	}
	return n, err
}
