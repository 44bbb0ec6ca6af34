package content

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"

	"github.com/anchore/go-lzo"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/therootcompany/xz"
	"github.com/ulikunitz/xz/lzma"

	"fitcheck/core/fault"
	"fitcheck/core/xzarm"
)

// inflater inflates blocks that file systems pack one by one, each of a known most
// length. It is one goroutine's.
type inflater struct {
	zlib io.ReadCloser
	// deflate is without a header
	deflate io.ReadCloser
	zstd    *zstd.Decoder
	in      bytes.Reader
}

// maxWindow is the largest dictionary of a packed block: the largest block is 1 MiB, and
// some packers write a larger dictionary than they need.
const maxWindow = 16 << 20

const lzmaHead = 13

// inflate inflates a block into dst, and returns how much of it is filled.
func (f *inflater) inflate(method string, dst, src []byte) (n int, err error) {
	err = fault.Do(func() (err error) {
		n, err = f.by(method, dst, src)
		return err
	})
	var own *fault.Error
	var no *Unsupported
	switch {
	case err == nil:
		return n, nil
	case errors.As(err, &own): // of a library: it says nothing of the content
		return 0, unsupported("its blocks cannot be inflated (%s)", method)
	case errors.As(err, &no):
		return 0, err
	}
	return 0, damaged("it does not inflate (%s)", method)
}

// begin inflates the beginning of a block, as much as dst takes.
func (f *inflater) begin(method string, dst, src []byte) (n int, err error) {
	err = fault.Do(func() (err error) {
		f.in.Reset(src)
		switch method {
		case "deflate":
			n, err = io.ReadFull(flate.NewReader(&f.in), dst)
		case "zstd":
			z, bad := zstd.NewReader(&f.in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(maxWindow))
			if bad != nil {
				return bad
			}
			defer z.Close()
			n, err = io.ReadFull(z, dst)
			err = zstdRefusal(err)
		}
		return err
	})
	var no *Unsupported
	switch {
	case err == io.EOF || err == io.ErrUnexpectedEOF:
		return n, nil
	case errors.As(err, &no):
		return 0, err
	case err != nil:
		return n, damaged("it does not inflate (%s)", method)
	}
	return n, nil
}

var errTooLong = errors.New("more than a block holds")

func (f *inflater) by(method string, dst, src []byte) (int, error) {
	switch method {
	case "gzip":
		return f.byZlib(dst, src)
	case "deflate":
		return f.byDeflate(dst, src)
	case "lzma":
		return f.byLZMA(dst, src)
	case "xz":
		return f.byXz(dst, src)
	case "lzo":
		return lzo.Decompress(src, dst)
	case "lz4":
		return lz4.UncompressBlock(src, dst)
	case "zstd":
		return f.byZstd(dst, src)
	}
	return 0, unsupported("its blocks are packed in a way that fitcheck does not know")
}

func (f *inflater) byZlib(dst, src []byte) (int, error) {
	f.in.Reset(src)
	if f.zlib == nil {
		z, err := zlib.NewReader(&f.in)
		if err != nil {
			return 0, err
		}
		f.zlib = z
	} else if err := f.zlib.(zlib.Resetter).Reset(&f.in, nil); err != nil {
		return 0, err
	}
	return fill(f.zlib, dst)
}

func (f *inflater) byDeflate(dst, src []byte) (int, error) {
	f.in.Reset(src)
	if f.deflate == nil {
		f.deflate = flate.NewReader(&f.in)
	} else if err := f.deflate.(flate.Resetter).Reset(&f.in, nil); err != nil {
		return 0, err
	}
	return fill(f.deflate, dst)
}

func (f *inflater) byLZMA(dst, src []byte) (int, error) {
	// LZMA alone: 0 properties, 1 size of the dictionary, 5 length, 13 data. None needs a
	// dictionary beyond the block, whatever its header asks for.
	if len(src) < lzmaHead {
		return 0, io.ErrUnexpectedEOF
	}
	head := bytes.Clone(src[:lzmaHead])
	binary.LittleEndian.PutUint32(head[1:], uint32(max(len(dst), lzma.MinDictCap)))
	f.in.Reset(src[lzmaHead:])
	z, err := lzma.NewReader(io.MultiReader(bytes.NewReader(head), &f.in))
	if err != nil {
		return 0, err
	}
	return fill(z, dst)
}

func (f *inflater) byXz(dst, src []byte) (int, error) {
	if xzarm.Needed(src[:min(len(src), 1<<10)]) {
		f.in.Reset(src)
		z, err := xzarm.NewReader(bufio.NewReader(&f.in), maxWindow, true)
		if err != nil {
			return 0, err
		}
		return fill(z, dst)
	}
	f.in.Reset(src)
	z, err := xz.NewReader(&f.in, maxWindow)
	if err == nil {
		var n int
		if n, err = fill(z, dst); err == nil {
			return n, nil
		}
	}
	if errors.Is(err, xz.ErrOptions) || errors.Is(err, xz.ErrUnsupportedCheck) || errors.Is(err, xz.ErrMemlimit) {
		return 0, unsupported("its xz blocks use a filter, a check or a dictionary that fitcheck does not know")
	}
	return 0, err
}

func (f *inflater) byZstd(dst, src []byte) (int, error) {
	if f.zstd == nil {
		z, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(maxWindow))
		if err != nil {
			return 0, err
		}
		f.zstd = z
	}
	out, err := f.zstd.DecodeAll(src, dst[:0])
	if err == nil && len(out) > len(dst) {
		err = errTooLong
	}
	return copy(dst, out), zstdRefusal(err) // most often onto itself
}

// zstdRefusal tells what the block asks for and fitcheck does not have from what is wrong with it.
func zstdRefusal(err error) error {
	if errors.Is(err, zstd.ErrWindowSizeExceeded) || errors.Is(err, zstd.ErrUnknownDictionary) {
		return unsupported("its zstd blocks need a window or a dictionary that fitcheck does not have")
	}
	return err
}

// fill reads all that a stream holds, which is to fit.
func fill(r io.Reader, dst []byte) (int, error) {
	n, idle := 0, 0
	for {
		var more [1]byte
		to := dst[n:]
		if len(to) == 0 {
			to = more[:]
		}
		k, err := r.Read(to)
		switch {
		case len(dst) == n && k > 0:
			return n, errTooLong
		case err == io.EOF:
			return n + k, nil
		case err != nil:
			return n + k, err
		}
		if n += k; k > 0 {
			idle = 0
		} else if idle++; idle > 100 {
			return n, io.ErrNoProgress
		}
	}
}
