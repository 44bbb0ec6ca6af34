package archive

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/klauspost/compress/gzip"

	"fitcheck/core/content"
)

// A file that is one compressed stream, or several one after another, holds
// one file; a tar or cpio in it is entered at once.

func isGzip(head []byte) bool {
	return len(head) > 10 && head[0] == 0x1f && head[1] == 0x8b && head[2] == 8 && head[3]&0xe0 == 0
}

// members reads the gzip members of a stream as one, and stops where
// something else follows them.
type members struct {
	src      *bufio.Reader
	z        *gzip.Reader
	trailing bool
}

func (m *members) Read(b []byte) (int, error) {
	for {
		n, err := m.z.Read(b)
		if err != io.EOF || n > 0 {
			if err == io.EOF {
				err = nil
			}
			return n, err
		}
		next, _ := m.src.Peek(3)
		if len(next) == 0 {
			return 0, io.EOF
		}
		if !bytes.Equal(next, []byte{0x1f, 0x8b, 8}) {
			m.trailing = true
			return 0, io.EOF
		}
		if err := m.z.Reset(m.src); err != nil {
			return 0, err
		}
		m.z.Multistream(false)
	}
}

func (m *members) Close() error { return m.z.Close() }
func (m *members) taken() int64 {
	if m.trailing {
		return 1
	}
	return 0
}

// inflated opens all streams of a compressed file.
func inflated(method Compression, src *bufio.Reader, window int64) (io.ReadCloser, error) {
	switch method {
	case GzipStream:
		z, err := gzip.NewReader(src)
		if err != nil {
			return nil, err
		}
		z.Multistream(false)
		return &members{src: src, z: z}, nil
	case XzStream:
		return xzReader(src, window, false)
	}
	return inflaterWithin(method, src, window)
}

func (w *walker) stream(p *pass) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	method := Compression(p.it.Container)
	src := bufio.NewReaderSize(p, 64<<10)
	z, err := inflated(method, src, w.limits.Window)
	if err != nil {
		return p.failed(bounded(p.it.Address, w.limits, err))
	}
	defer z.Close()
	r := &reader{w: w, item: p.it.Address, r: guardedReader{z}, packed: func() int64 { return p.n.Load() }}
	given := ""
	if m, ok := z.(*members); ok {
		given = m.z.Name
	}
	inner := heads.Get().(*bufio.Reader)
	inner.Reset(r)
	if a := w.ahead(p, r); a != nil {
		defer a.stop()
		inner.Reset(a)
	}
	if p.quick() {
		inner.Reset(&quickReader{r: r, all: methodOf(method).look()})
	}
	defer func() { inner.Reset(nil); heads.Put(inner) }()
	head, err := inner.Peek(tarBlock)
	if err != nil && err != io.EOF {
		return p.failed(err)
	}
	tar := IsTar(head)
	if tar || content.IsCpio(head) {
		head, _ = inner.Peek(HeadSize) // damage comes again when the pass gets there
	}
	switch {
	case tar && p.mayBeRoot(head):
		err = w.streamedTar(p, z, inner, given)
	case tar:
		err = w.tar(p, inner, 2)
	case content.IsCpio(head) && isDelivery(head):
		err = w.cpio(p, inner, 2)
	default:
		return w.inner(p, z, inner, source{r: inner}, given)
	}
	if err != nil {
		return err
	}
	// What follows the end of the archive still belongs to the checksum.
	if p.skipped {
		return nil
	}
	if _, err := io.Copy(io.Discard, inner); err != nil {
		return p.failed(err)
	}
	p.trailing(z)
	return nil
}

// streamedTar opens a tar that may hold the files of a system, which is to be known before.
func (w *walker) streamedTar(p *pass, z, packed io.Reader, given string) error {
	s, damage, err := w.spoolFrom(packed)
	if err != nil {
		return err
	}
	defer s.Close()
	if damage != nil {
		err = p.failed(damage)
	} else if tarIsRoot(s, s.size) {
		return w.inner(p, z, packed, source{r: io.NewSectionReader(s, 0, s.size), at: s}, given)
	}
	if err != nil {
		return err
	}
	return w.tar(p, io.NewSectionReader(s, 0, s.size), 2)
}

// inner visits the one file that a stream holds.
func (w *walker) inner(p *pass, z, rest io.Reader, src source, given string) error {
	size := int64(-1)
	if s, ok := src.at.(*spool); ok {
		size = s.size
	}
	it := p.it.child(innerName(p.it.Name, given), size, 1, 0)
	if innerName("", given) == innerName("x", given) {
		it.Streamed = false // it is alone
	} else {
		it.derive = func(container string) string { return innerName(container, "") }
	}
	if err := w.item(it, src); err != nil {
		return err
	}
	if it.passedOver { // and so is what it came from
		p.passOver()
		return nil
	}
	if _, err := io.Copy(io.Discard, rest); err != nil {
		return p.failed(err)
	}
	p.trailing(z)
	return nil
}

func (p *pass) trailing(z io.Reader) {
	if a, ok := z.(ahead); ok && a.taken() > 0 {
		p.problem(Note, "other data follows the compressed stream", "")
	}
}

// streamSuffixes are those that compressed files bear, and what is left of
// the name inside.
var streamSuffixes = []struct{ suffix, rest string }{
	{".tgz", ".tar"}, {".tbz2", ".tar"}, {".tbz", ".tar"}, {".txz", ".tar"}, {".tzst", ".tar"}, {".tlz", ".tar"},
	{".gz", ""}, {".z", ""}, {".bz2", ""}, {".xz", ""}, {".lzma", ""}, {".lz4", ""}, {".zst", ""}, {".zstd", ""},
}

// innerName is the name of what a compressed file holds: the last level of the one that
// its header gives (RFC 1952 section 2.3.1), where files may be named so, else its own
// without the suffix.
func innerName(name, given string) string {
	if clean, why := SafeName(path.Base(strings.ReplaceAll(given, `\`, "/"))); given != "" && why == "" {
		return clean
	}
	base := path.Base(name)
	for _, s := range streamSuffixes {
		if n := len(base) - len(s.suffix); n > 0 && strings.EqualFold(base[n:], s.suffix) {
			return base[:n] + s.rest
		}
	}
	return base + ".content"
}

// A shell archive is a script with a payload behind its last line: an archive
// or a compressed stream that begins with a line of its own.

// shellPayload finds where the payload begins; 0 when there is none.
func shellPayload(head []byte) int {
	if !bytes.HasPrefix(head, []byte("#!")) {
		return 0
	}
	for at := 0; ; {
		i := bytes.IndexByte(head[at:], '\n')
		if i < 0 {
			return 0
		}
		at += i + 1
		rest := head[at:]
		if len(rest) == 0 {
			return 0
		}
		if c := recognise(rest); c != None && c != Shell && c != Lzma {
			return at
		}
		for _, b := range rest[:min(len(rest), 64)] { // past the script nothing is looked for
			if b == '\n' {
				break
			}
			if b == 0 {
				return 0
			}
		}
	}
}

func (w *walker) shell(p *pass, at int) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	if _, err := io.CopyN(io.Discard, p, int64(at)); err != nil {
		return p.failed(err)
	}
	p.problem(Note, fmt.Sprintf("a script with a payload from byte %d on", at), "")
	payload := func(container string) string { return path.Base(container) + ".payload" }
	it := p.it.child(payload(p.it.Name), -1, 1, 0)
	it.derive = payload
	return w.item(it, source{r: p})
}
