package archive

import (
	"archive/zip"
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"

	"fitcheck/core/content"
)

// A zip file (APPNOTE.TXT 6.3) is a run of entries, each with a local header,
// and a directory at the end that lists them. The directory is what is read;
// a zip without one has been cut off.

func init() {
	registerKind(&kind{name: Zip, rank: 1, tells: isZip, sum: "CRC-32", open: func(w *walker, p *pass, _ []byte) error { return w.zip(p) }})
}

func isZip(head []byte) bool {
	return bytes.HasPrefix(head, []byte("PK\x03\x04")) || bytes.HasPrefix(head, []byte("PK\x05\x06"))
}

// zip opens a zip. stub says that it begins with something else, such as the program
// that unpacks it.
//
// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
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
	size := p.n.Load()
	if p.at != nil {
		size = p.it.Size
	}
	damaged := func() error {
		if err := hash(); err != nil {
			return err
		}
		if !p.broken {
			p.problem(Damaged, "truncated or damaged: the directory that a zip has at its end is missing or makes no sense", downloadAgain)
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
	// The library would choose for itself where the directory begins; what it is
	// shown holds one only.
	zr, err := zip.NewReader(&shiftedZip{at, dir}, size-dir.base)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return damaged()
	}
	for _, method := range []uint16{zip.Deflate, methodDeflate64, methodBzip2, methodLzma, methodXz, methodZstd} {
		zr.RegisterDecompressor(method, zipInflater(method))
	}
	if err := w.announced(p, zr.File); err != nil {
		return err
	}
	w.zipStructure(p, at, size, zr.File, dir)

	sizeOf := func(i int) int64 { return int64(zr.File[i].UncompressedSize64) }
	if p.lister() != nil && zipIsRoot(zr.File) {
		l := w.listing(p, 1)
		err = w.inOrder(len(zr.File), sizeOf, hash, func(i int) error { return l.zip(at, dir.base, zr.File[i]) })
		l.told.end()
		return err
	}
	members := make([]nameIndex, len(zr.File))
	z := &zipItems{w: w, p: p, at: at, base: dir.base, files: zr.File, members: members, twins: namedTwice(zr.File)}
	z.others = map[int][]int{}
	if w.sharer() != nil && !p.quick() {
		z.others = groups(len(zr.File), z.key)
	}
	follows := map[int]bool{}
	for _, all := range z.others {
		for _, i := range all {
			follows[i] = true
		}
	}
	err = w.inOrder(len(zr.File), sizeOf, hash, func(i int) error {
		if follows[i] {
			return nil
		}
		return z.group(i)
	})
	all := &nameIndex{}
	for i := range members { // in the order of the directory
		all.members = append(all.members, members[i].members...)
	}
	all.judge(p, false)
	return err
}

// namedTwice counts the entries of each name, as some program or other takes it.
func namedTwice(files []*zip.File) map[string]int {
	out := make(map[string]int, len(files))
	for _, f := range files {
		out[sameKey(zipName(f))]++
	}
	return out
}

// announced refuses at once what the directory already says is too much.
func (w *walker) announced(p *pass, files []*zip.File) error {
	total := uint64(w.bytes.Load())
	for _, f := range files {
		if total += f.UncompressedSize64; f.UncompressedSize64 > uint64(w.limits.Bytes) || total > uint64(w.limits.Bytes) {
			return &BoundError{p.it.Address + "::" + printable(f.Name), BoundBytes, w.limits.Bytes}
		}
	}
	return nil
}

// The methods that are inflated besides deflate (APPNOTE.TXT 6.3.10, section 4.4.5).
const (
	methodDeflate64 = 9
	methodBzip2     = 12
	methodLzma      = 14
	methodZstd      = 93
	methodXz        = 95
)

// zipInflater makes the reader of a method. Packed data is read through a large
// buffer: the package is on disk, and each read of it is a call of the system.
func zipInflater(method uint16) zip.Decompressor {
	return func(r io.Reader) io.ReadCloser {
		br := packedBuffers.Get().(*bufio.Reader)
		br.Reset(r)
		var z io.ReadCloser
		var err error
		switch method {
		case zip.Deflate:
			z = flateReader(br)
		case methodDeflate64:
			z = newDeflate64(br)
		case methodBzip2:
			z, err = Inflater(Bzip2Stream, br)
		case methodZstd:
			z, err = Inflater(ZstdStream, br)
		case methodXz:
			z, err = Inflater(XzStream, br)
		case methodLzma:
			z, err = zipLzma(br)
		}
		switch {
		case err != nil:
			z = io.NopCloser(failing{err})
		case method != zip.Deflate:
			z = struct {
				io.Reader
				io.Closer
			}{guardedReader{z}, z}
		}
		return &pooledInflater{z, br}
	}
}

// zipLzma reads the LZMA of a zip (section 5.8.8): version, 2 bytes; size of the
// properties, 2 bytes; the properties; the data, ended by a mark or by the size.
func zipLzma(r io.Reader) (io.ReadCloser, error) {
	head := make([]byte, 9)
	if _, err := io.ReadFull(r, head); err != nil {
		return nil, io.ErrUnexpectedEOF
	}
	if binary.LittleEndian.Uint16(head[2:]) != 5 {
		return nil, damagedf("the properties of its LZMA stream make no sense")
	}
	unknown := bytes.Repeat([]byte{0xff}, 8)
	return Inflater(LzmaStream, io.MultiReader(bytes.NewReader(head[4:]), bytes.NewReader(unknown), r))
}

// eof is at its end, so that what is kept holds on to nothing.
type eof struct{}

func (eof) Read([]byte) (int, error) { return 0, io.EOF }
func (eof) ReadByte() (byte, error)  { return 0, io.EOF }

// failing gives an error in place of content.
type failing struct{ err error }

func (f failing) Read([]byte) (int, error) { return 0, f.err }

// flateReaders are kept, since each has a window of 32 KiB.
var flateReaders = sync.Pool{New: func() any { return flate.NewReader(nil) }}

func flateReader(r io.Reader) io.ReadCloser {
	z := flateReaders.Get().(io.ReadCloser)
	_ = z.(flate.Resetter).Reset(r, nil) // it gives no error
	return z
}

var packedBuffers = sync.Pool{New: func() any { return bufio.NewReaderSize(nil, 256<<10) }}

type pooledInflater struct {
	io.ReadCloser
	br *bufio.Reader
}

func (p *pooledInflater) Close() error {
	err := p.ReadCloser.Close()
	if p.br != nil {
		if z, ok := p.ReadCloser.(flate.Resetter); ok {
			_ = z.Reset(eof{}, nil)
			flateReaders.Put(p.ReadCloser)
			p.ReadCloser = io.NopCloser(failing{io.ErrClosedPipe})
		}
		p.br.Reset(nil)
		packedBuffers.Put(p.br)
		p.br = nil
	}
	return err
}

// zipItems makes items of the entries of a zip.
type zipItems struct {
	w       *walker
	p       *pass
	at      io.ReaderAt
	base    int64
	files   []*zip.File
	twins   map[string]int
	members []nameIndex
	others  map[int][]int // entries that may equal an earlier one
}

// packedKey is what the directory gives of an entry's bytes.
type packedKey struct {
	method           uint16
	crc              uint32
	packed, unpacked uint64
}

// key is what equal entries have in common.
func (z *zipItems) key(i int) (packedKey, bool) {
	f := z.files[i]
	return packedKey{f.Method, f.CRC32, f.CompressedSize64, f.UncompressedSize64}, f.CompressedSize64 >= shareFrom && f.Flags&1 == 0 && specialMode(f.Mode()) == ""
}

// group visits an entry, and those that may equal it.
func (z *zipItems) group(i int) error {
	others := z.others[i]
	first, err := z.entry(i, nil, nil, len(others) > 0)
	for _, o := range others {
		if err != nil {
			return err
		}
		_, err = z.entry(o, first, z.files[i], false)
	}
	return err
}

// packed are the bytes of an entry as they lie in the zip.
func (z *zipItems) packed(f *zip.File) *io.SectionReader {
	off, err := f.DataOffset()
	if err != nil {
		return io.NewSectionReader(z.at, 0, 0)
	}
	return io.NewSectionReader(z.at, z.base+off, int64(f.CompressedSize64))
}

// entry visits one entry: by its content, or as one that equals that of another entry.
func (z *zipItems) entry(i int, of *Item, ofFile *zip.File, leads bool) (*Item, error) {
	f, all := z.files[i], &z.members[i]
	name := zipName(f)
	if strings.HasSuffix(name, "/") && f.UncompressedSize64 == 0 {
		all.folder(name)
		return nil, nil
	}
	it := z.p.it.child(name, int64(f.UncompressedSize64), 1, i)
	it.Mode, it.Twin, it.Streamed = f.Mode().Perm(), z.twins[sameKey(name)] > 1, false
	if specialMode(f.Mode()) != "" {
		target, err := zipTarget(f)
		all.modeMember(it, f.Mode(), target)
		return nil, z.w.damagedLink(it, err)
	}
	defer all.file(it, fmt.Sprintf("%08x", f.CRC32))
	if of != nil {
		if shared, err := z.w.share(it, of, z.packed(f), z.packed(ofFile)); shared || err != nil {
			return it, err
		}
	}
	if leads {
		it.lead()
	}
	visit := func() error { return z.visit(it, f) }
	if _, ok := z.key(i); ok && z.w.across(z.p) {
		return it, z.w.once(it, z.packed(f), packedAs{f.Method, f.CRC32}, visit)
	}
	return it, visit()
}

// visit visits an entry by its content.
func (z *zipItems) visit(it *Item, f *zip.File) error {
	data, err := openZip(f)
	if err != nil {
		return z.w.unread(it, err)
	}
	defer data.Close()
	src := source{r: &reader{w: z.w, item: it.Address, r: data, packed: func() int64 { return int64(f.CompressedSize64) }}}
	if f.Method == zip.Store {
		src.at = z.packed(f)
	}
	return z.w.item(it, src)
}

// zipTarget is where a symbolic link leads; "" where that cannot be read. Its error is damage.
func zipTarget(f *zip.File) (string, error) {
	if f.Mode()&fs.ModeSymlink == 0 || f.UncompressedSize64 > maxTarget {
		return "", nil
	}
	rc, err := openZip(f)
	if err != nil {
		return "", damageOnly(err)
	}
	defer rc.Close()
	return readTarget(rc)
}

// openZip reads the content of an entry.
func openZip(f *zip.File) (io.ReadCloser, error) {
	if f.Flags&1 != 0 {
		return nil, errEncrypted
	}
	rc, err := f.Open()
	if errors.Is(err, zip.ErrAlgorithm) {
		return nil, &cannotRead{fmt.Sprintf("packed by method %d, which cannot be read", f.Method), unpackElsewhere}
	}
	if err != nil || f.CRC32 != 0 {
		return rc, err
	}
	return struct { // which the library takes for none
		io.Reader
		io.Closer
	}{&crcReader{r: rc, sum: crc32.NewIEEE(), want: 0, of: "zip"}, rc}, nil
}

// zipIsRoot tells by the names in it whether a zip holds the files of a system.
func zipIsRoot(files []*zip.File) bool {
	var t top
	for _, f := range files {
		t.add(zipName(f), f.Mode().IsRegular() && !strings.HasSuffix(f.Name, "/"))
	}
	return t.root()
}

// zip shows an entry as a file of a root file system.
func (l *listing) zip(at io.ReaderAt, base int64, entry *zip.File) error {
	f := &content.File{Path: zipName(entry), Mode: entry.Mode(), Modified: entry.Modified, Links: 1}
	if strings.HasSuffix(f.Path, "/") && entry.UncompressedSize64 == 0 {
		f.Mode |= fs.ModeDir
	}
	if f.Mode&fs.ModeSymlink != 0 {
		f.Target, f.Err = zipTarget(entry)
	}
	if !f.Mode.IsRegular() {
		return l.show(f, nil)
	}
	f.Size = int64(entry.UncompressedSize64)
	data, err := openZip(entry)
	if err != nil {
		return l.show(f, failing{err})
	}
	defer data.Close()
	return l.show(f, &reader{w: l.w, item: l.p.it.Address + "::" + printable(f.Path), r: data, packed: func() int64 { return int64(entry.CompressedSize64) }})
}

// crcReader holds the bytes of a file against the CRC-32 that the directory of an
// archive gives, where the library does not.
type crcReader struct {
	r    io.Reader
	sum  hash.Hash32
	want uint32
	of   string
}

func (c *crcReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.sum.Write(p[:n])
	if err == io.EOF && c.sum.Sum32() != c.want {
		err = damagedf("the CRC-32 that the %s gives for it does not match its content", c.of)
	}
	return n, err
}
