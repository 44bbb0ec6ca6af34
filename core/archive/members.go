package archive

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"strings"

	"github.com/blakesmith/ar"
	"github.com/bodgit/sevenzip"
	"github.com/cavaliergopher/cpio"
)

// cpio (SVR4, with and without checksums) and ar are streams of files, each
// behind a header.

func isCpio(head []byte) bool {
	return len(head) >= 110 && (string(head[:6]) == "070701" || string(head[:6]) == "070702") && strings.Trim(string(head[6:110]), "0123456789abcdefABCDEF") == ""
}

func (w *walker) cpio(p *pass, r io.Reader, levels int) error {
	if err := w.enter(p.it, levels); err != nil {
		return err
	}
	br := bufio.NewReaderSize(r, 32<<10)
	head, _ := br.Peek(6)
	head = bytes.Clone(head)
	recent := &tail{r: br}
	cr := cpio.NewReader(recent)
	for i := 0; ; i++ {
		h, err := cr.Next()
		if err == io.EOF && bytes.Contains(recent.last, []byte("TRAILER!!!")) {
			return nil
		}
		if err != nil {
			return p.failed(err)
		}
		it := p.it.child(h.Name, h.Size, levels, i)
		it.Mode = fs.FileMode(h.Mode.Perm())
		switch {
		case h.Mode.IsDir():
		case h.Mode.IsRegular():
			var r io.Reader = &exact{r: cr, left: h.Size}
			if string(head) == "070702" {
				r = &cpioSum{r: r, want: h.Checksum}
			}
			if err := w.item(it, source{r: r}); err != nil {
				return err
			}
		default:
			what := "something that is not a file"
			if h.Linkname != "" || h.Mode&0o170000 == 0o120000 {
				what = "a symbolic link"
			} else if h.Mode&0o170000 == 0o020000 || h.Mode&0o170000 == 0o060000 {
				what = "a device"
			}
			w.visitor.Report(Problem{it.Address, Unsafe, what, "it is not followed and will not be unpacked"})
		}
	}
}

// tail keeps the last bytes that were read: what a library read and does not
// tell.
type tail struct {
	r    io.Reader
	last []byte // at most 32
}

func (t *tail) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.last = append(t.last, p[max(0, n-32):n]...)
	t.last = append(t.last[:0], t.last[max(0, len(t.last)-32):]...)
	return n, err
}

// exact is a member that has to be as long as its header says.
type exact struct {
	r     io.Reader
	left  int64
	short bool // it ended too early
}

func (e *exact) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	if e.left -= int64(n); err == io.EOF && e.left > 0 {
		e.short = true
		err = io.ErrUnexpectedEOF
	}
	return n, err
}

// cpioSum adds up the bytes of a file, and says so when they are not what its
// header gives.
type cpioSum struct {
	r         io.Reader // ends where the header says, or with an error
	sum, want uint32
}

var errCpioSum = errors.New("cpio checksum")

func (c *cpioSum) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	for _, b := range p[:n] {
		c.sum += uint32(b)
	}
	if err == io.EOF && c.sum != c.want {
		err = errCpioSum
	}
	return n, err
}

func isAr(head []byte) bool { return strings.HasPrefix(string(head[:min(8, len(head))]), "!<arch>\n") }

func (w *walker) ar(p *pass) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	recent := &tail{r: p}
	ar := ar.NewReader(recent)
	for i := 0; ; i++ {
		var name string
		var size int64
		var mode fs.FileMode
		err := guard(func() error {
			h, err := ar.Next()
			if err == nil {
				name, size = strings.TrimSuffix(h.Name, "/"), h.Size
				mode = fs.FileMode(h.Mode).Perm()
			}
			return err
		})
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return p.failed(err)
		}
		if !bytes.HasSuffix(recent.last, []byte("`\n")) || size < 0 {
			p.problem(Damaged, fmt.Sprintf("the header of its member %d makes no sense", i+1), "download the package again")
			return nil
		}
		if name == "" || name == "/" { // the table of symbols, of long names
			continue
		}
		member := &exact{r: ar, left: size}
		it := p.it.child(name, size, 1, i)
		it.Mode = mode
		if err := w.item(it, source{r: member}); err != nil {
			return err
		}
		if member.short {
			return p.failed(io.ErrUnexpectedEOF)
		}
	}
}

// A 7z archive (7zFormat.txt) has its directory at the end. It may be packed
// as one stream of several files, so that they are read in its order.

func is7z(head []byte) bool {
	return strings.HasPrefix(string(head[:min(6, len(head))]), "7z\xbc\xaf\x27\x1c")
}

func (w *walker) sevenZip(p *pass) error {
	return w.random(p, func(at io.ReaderAt, size int64) error {
		var r *sevenzip.Reader
		err := guard(func() (err error) {
			r, err = sevenzip.NewReader(at, size)
			return err
		})
		var read *sevenzip.ReadError
		switch {
		case err != nil && fatal(err):
			return err
		case errors.As(err, &read) && read.Encrypted:
			p.problem(Unreadable, "encrypted: not even its list of files can be read", "decrypt the package with its maker's tool, then survey the result")
			return nil
		case err != nil:
			p.problem(Damaged, "truncated or damaged: its directory cannot be read ("+err.Error()+")", "download the package again")
			return nil
		}
		if left := w.limits.Items - w.items.Load(); int64(len(r.File)) > left {
			return &BoundError{p.it.Address, BoundItems, w.limits.Items}
		}
		for i, f := range r.File {
			if err := w.sevenZipFile(p, f, i, size); err != nil {
				return err
			}
		}
		return nil
	})
}

func (w *walker) sevenZipFile(p *pass, f *sevenzip.File, index int, packed int64) error {
	if f.FileInfo().IsDir() {
		return nil
	}
	it := p.it.child(f.Name, int64(f.UncompressedSize), 1, index)
	it.Mode = f.Mode().Perm()
	if special := specialMode(f.Mode()); special != "" {
		w.visitor.Report(Problem{it.Address, Unsafe, special, "it is not followed and will not be unpacked"})
		return nil
	}
	var rc io.ReadCloser
	err := guard(func() (err error) {
		rc, err = f.Open()
		return err
	})
	var read *sevenzip.ReadError
	switch {
	case err != nil && fatal(err):
		return err
	case errors.As(err, &read) && read.Encrypted:
		w.visitor.Report(Problem{it.Address, Unreadable, "encrypted: its content cannot be checked", "decrypt the package with its maker's tool, then survey the result"})
		return nil
	case err != nil:
		w.visitor.Report(Problem{it.Address, Unreadable, "it cannot be unpacked: " + err.Error(), "unpack it with its maker's tool, then survey the folder"})
		return nil
	}
	defer rc.Close()
	var content io.Reader = &exact{r: &reader{w: w, item: it.Address, r: guardedReader{rc}, packed: func() int64 { return packed }}, left: it.Size}
	if f.CRC32 != 0 { // 0 is what the library gives for none
		content = &crcReader{r: content, sum: crc32.NewIEEE(), want: f.CRC32}
	} else if it.Size > 0 {
		w.visitor.Report(Problem{it.Address, Note, "the archive gives no checksum for it", ""})
	}
	return w.item(it, source{r: content})
}

// crcReader holds the bytes of a file against the CRC-32 that the directory
// of a 7z archive gives, which the library does not.
type crcReader struct {
	r    io.Reader
	sum  hash.Hash32
	want uint32
}

var errCRC = errors.New("CRC-32 of a 7z archive")

func (c *crcReader) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.sum.Write(p[:n])
	if err == io.EOF && c.sum.Sum32() != c.want {
		err = errCRC
	}
	return n, err
}

type guardedReader struct{ io.Reader }

// errEncrypted: the content cannot be read without a key.
var errEncrypted = errors.New("encrypted: its content cannot be checked")

func (g guardedReader) Read(p []byte) (n int, err error) {
	err = guard(func() (err error) {
		n, err = g.Reader.Read(p)
		return err
	})
	var read *sevenzip.ReadError
	if errors.As(err, &read) && read.Encrypted {
		err = errEncrypted
	}
	return n, err
}
