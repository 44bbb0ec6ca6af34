package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
)

// A zip file (APPNOTE.TXT 6.3) is a run of entries, each with a local header,
// and a directory at the end that lists them. The directory is what is read;
// a zip without one has been cut off.

func isZip(head []byte) bool {
	return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06"))
}

func isZipError(err error) string {
	var corrupt flate.CorruptInputError
	switch {
	case errors.Is(err, zip.ErrChecksum):
		return "damaged: the CRC-32 that the zip gives for it does not match its content"
	case errors.Is(err, zip.ErrFormat):
		return "damaged: its zip structure contradicts itself"
	case errors.As(err, &corrupt):
		return fmt.Sprintf("damaged: the compressed data makes no sense at byte %d of it", int64(corrupt))
	}
	return ""
}

func (w *walker) zip(p *pass) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	at, hash := p.at, func() error { return w.hash(p) }
	if at == nil { // not directly on disk: keep the content while it passes
		s, err := w.spool(p)
		if err != nil {
			return err
		}
		defer s.Close()
		at, hash = s, func() error { return nil }
	} else {
		at = w.counted(p)
	}
	size := p.n
	if p.at != nil {
		size = p.it.Size
	}
	damaged := func() error {
		if err := hash(); err != nil {
			return err
		}
		if !p.broken {
			p.problem(Damaged, "truncated or damaged: the directory that a zip has at its end is missing or makes no sense", "download the package again")
		}
		return nil
	}
	dir, err := zipDirectory(at, size, w.limits.Items-w.items.Load())
	switch {
	case errors.Is(err, errTooManyEntries):
		return &BoundError{p.it.Address, BoundItems, w.limits.Items}
	case err != nil:
		return damaged()
	}
	zr, err := zip.NewReader(at, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return damaged()
	}
	w.zipStructure(p, at, zr.File, dir)
	zr.RegisterDecompressor(zip.Deflate, inflater)

	// The largest first, so that the cores end together; the zip's own bytes
	// are hashed alongside.
	order := make([]int, len(zr.File))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Compare(zr.File[b].UncompressedSize64, zr.File[a].UncompressedSize64)
	})
	return w.each(len(order)+1, func(i int) error {
		if i == 0 {
			return hash()
		}
		return w.zipEntry(p.it, at, zr.File[order[i-1]], order[i-1])
	})
}

// twins lists names that several entries bear with different contents.
func twins(files []*zip.File) []string {
	seen := map[string]*zip.File{}
	var out []string
	for _, f := range files {
		if g, ok := seen[f.Name]; ok && (f.CRC32 != g.CRC32 || f.UncompressedSize64 != g.UncompressedSize64) {
			out = append(out, f.Name)
		}
		seen[f.Name] = f
	}
	return out
}

// inflater reads deflated data through a large buffer: the package is on disk,
// and each read of it is a call of the system.
func inflater(r io.Reader) io.ReadCloser {
	br := packedBuffers.Get().(*bufio.Reader)
	br.Reset(r)
	return &pooledInflater{flate.NewReader(br), br}
}

var packedBuffers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 256<<10) }}

type pooledInflater struct {
	io.ReadCloser
	br *bufio.Reader
}

func (p *pooledInflater) Close() error {
	err := p.ReadCloser.Close()
	if p.br != nil {
		p.br.Reset(nil)
		packedBuffers.Put(p.br)
		p.br = nil
	}
	return err
}

func (w *walker) zipEntry(parent *Item, at io.ReaderAt, f *zip.File, index int) error {
	if strings.HasSuffix(f.Name, "/") && f.UncompressedSize64 == 0 {
		return nil
	}
	it := parent.child(f.Name, int64(f.UncompressedSize64), 1, index)
	it.Mode = f.Mode().Perm()
	if special := specialMode(f.Mode()); special != "" {
		w.visitor.Report(Problem{it.Address, Unsafe, special, "it is not followed and will not be unpacked"})
		return nil
	}
	if f.Flags&1 != 0 {
		w.visitor.Report(Problem{it.Address, Unreadable, "encrypted: its content cannot be checked", "decrypt the package with its maker's tool, then survey the result"})
		return nil
	}
	rc, err := f.Open()
	if errors.Is(err, zip.ErrAlgorithm) {
		w.visitor.Report(Problem{it.Address, Unreadable, fmt.Sprintf("packed by method %d, which cannot be read", f.Method), "unpack it with its maker's tool, then survey the folder"})
		return nil
	}
	if err != nil {
		w.visitor.Report(Problem{it.Address, Damaged, describe(err), "download the package again"})
		return nil
	}
	defer rc.Close()
	src := source{r: &reader{w: w, item: it.Address, r: rc, packed: func() int64 { return int64(f.CompressedSize64) }}}
	if off, err := f.DataOffset(); err == nil && f.Method == zip.Store {
		src.at = io.NewSectionReader(at, off, int64(f.CompressedSize64))
	}
	return w.item(it, src)
}

// specialMode names what is neither a file nor a folder.
func specialMode(m fs.FileMode) string {
	switch {
	case m&fs.ModeSymlink != 0:
		return "a symbolic link"
	case m&fs.ModeDevice != 0:
		return "a device"
	case m&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case m&fs.ModeSocket != 0:
		return "a socket"
	case m&fs.ModeIrregular != 0:
		return "something that is not a file"
	}
	return ""
}
