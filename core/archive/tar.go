package archive

import (
	"archive/tar"
	"io"
	"strconv"
	"strings"
)

// A tar (POSIX.1-2017 pax, ustar, GNU) is a stream of 512-byte headers, each
// followed by its file. A header is known by its own checksum, so old tars
// without the "ustar" magic are recognised, too.

// IsTar tells a tar by the checksum of its first header.
func IsTar(head []byte) bool {
	if len(head) < 512 || head[0] == 0 {
		return false
	}
	field := strings.Trim(string(head[148:156]), " \x00")
	want, err := strconv.ParseInt(field, 8, 64)
	if err != nil {
		return false
	}
	var unsigned, signed int64
	for i, b := range head[:512] {
		if i >= 148 && i < 156 {
			b = ' '
		}
		unsigned += int64(b)
		signed += int64(int8(b))
	}
	return want == unsigned || want == signed
}

// tar reads the files of a tar from r, which may be the item itself or what a
// compressed item holds. levels is how deep its files lie below the item.
func (w *walker) tar(p *pass, r io.Reader, levels int) error {
	if err := w.enter(p.it, levels); err != nil {
		return err
	}
	end := &lastBlock{r: r}
	tr := tar.NewReader(end)
	for i := 0; ; i++ {
		h, err := tr.Next()
		if err == io.EOF {
			if !end.zero() {
				p.problem(Note, "it ends without the zero blocks that end a tar: it may be cut short", "compare its digest with a published one")
			}
			return nil
		}
		if err != nil && err != tar.ErrInsecurePath {
			return p.failed(err)
		}
		it := p.it.child(h.Name, h.Size, levels, i)
		it.Mode = h.FileInfo().Mode().Perm()
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse:
			if err := w.item(it, source{r: tr}); err != nil {
				return err
			}
		case tar.TypeDir, tar.TypeXGlobalHeader:
		default:
			what := "an entry of the unknown type " + strconv.QuoteRune(rune(h.Typeflag))
			if h.Typeflag == tar.TypeLink {
				what = "a hard link"
			} else if s := specialMode(h.FileInfo().Mode()); s != "" {
				what = s
			}
			w.visitor.Report(Problem{it.Address, Unsafe, what, "it is not followed and will not be unpacked"})
		}
	}
}

// lastBlock keeps what a stream delivered last.
type lastBlock struct {
	r    io.Reader
	last [512]byte
	n    int
}

func (l *lastBlock) Read(p []byte) (int, error) {
	n, err := l.r.Read(p)
	if n >= len(l.last) {
		l.n = copy(l.last[:], p[n-len(l.last):n])
	} else if n > 0 {
		keep := copy(l.last[:], l.last[max(0, l.n-(len(l.last)-n)):l.n])
		l.n = keep + copy(l.last[keep:], p[:n])
	}
	return n, err
}

// zero tells whether the last block is one that ends a tar.
func (l *lastBlock) zero() bool {
	for _, b := range l.last[:l.n] {
		if b != 0 {
			return false
		}
	}
	return l.n > 0
}
