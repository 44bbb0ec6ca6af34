package archive

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"

	"fitcheck/core/content"
)

// An RPM package (Linux Standard Base 5.0, Core, "Package File Format") is a lead of 96 bytes,
// a header with signatures, padded to 8 bytes, a header that tells of the package, and a cpio
// archive, compressed or not. A header, big-endian:
//
//	0 magic 8e ad e8, 3 version, 8 entries of the index, 12 bytes of the store; then the index, 16 bytes an entry, and the store
const (
	rpmLead  = 96
	rpmHead  = 16
	rpmIndex = 16
	// rpmLongest is how long a header may be.
	rpmLongest = 64 << 20
)

// RPM is the container of its files.
const RPM Container = "rpm"

func init() {
	registerKind(&kind{name: RPM, rank: 4, tells: IsRPM, open: func(w *walker, p *pass, _ []byte) error { return w.rpm(p) }})
}

// IsRPM tells an RPM package by its first bytes.
func IsRPM(head []byte) bool {
	return len(head) >= rpmLead+rpmHead && bytes.HasPrefix(head, []byte{0xed, 0xab, 0xee, 0xdb}) && bytes.HasPrefix(head[rpmLead:], []byte{0x8e, 0xad, 0xe8})
}

// RPMHeaderSize is the length of the header that begins with b; 0 when it makes no sense.
func RPMHeaderSize(b []byte) int64 {
	if len(b) < rpmHead || !bytes.HasPrefix(b, []byte{0x8e, 0xad, 0xe8}) {
		return 0
	}
	n := rpmHead + int64(binary.BigEndian.Uint32(b[8:]))*rpmIndex + int64(binary.BigEndian.Uint32(b[12:]))
	if n > rpmLongest {
		return 0
	}
	return n
}

// rpm visits the files of an RPM package.
func (w *walker) rpm(p *pass) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	if _, err := io.CopyN(io.Discard, p, rpmLead); err != nil {
		return p.failed(err)
	}
	for i := range 2 {
		head := make([]byte, rpmHead)
		if _, err := io.ReadFull(p, head); err != nil {
			return p.failed(err)
		}
		size := RPMHeaderSize(head)
		if size == 0 {
			return p.failed(damagedf("its header %d, at byte %d, makes no sense", i+1, p.n.Load()-rpmHead))
		}
		rest := size - rpmHead
		if i == 0 {
			rest += (8 - size%8) % 8
		}
		if _, err := io.CopyN(io.Discard, p, rest); err != nil {
			return p.failed(err)
		}
	}
	src := bufio.NewReaderSize(p, 64<<10)
	head, err := src.Peek(512)
	if err != nil && err != io.EOF {
		return p.failed(err)
	}
	method := CompressionOf(head)
	if method == "" {
		return w.rpmFiles(p, src, head)
	}
	z, err := inflated(method, src, w.limits.Window)
	if err != nil {
		return p.failed(bounded(p.it.Address, w.limits, err))
	}
	defer z.Close()
	inner := bufio.NewReaderSize(&reader{w: w, item: p.it.Address, r: guardedReader{z}, packed: func() int64 { return p.n.Load() }}, 64<<10)
	if head, err = inner.Peek(512); err != nil && err != io.EOF {
		return p.failed(err)
	}
	if err := w.rpmFiles(p, inner, head); err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, inner); err != nil {
		return p.failed(err)
	}
	return nil
}

func (w *walker) rpmFiles(p *pass, r io.Reader, head []byte) error {
	if !content.IsCpio(head) {
		return p.failed(&cannotRead{fmt.Sprintf("its payload, from byte %d on, is no cpio archive", p.n.Load()), unpackElsewhere})
	}
	return w.cpio(p, r, 1)
}
