package archive

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
)

// gzip (RFC 1952): members one after another, each with a CRC-32 and the
// length of what it holds.

func isGzip(head []byte) bool {
	return len(head) > 10 && head[0] == 0x1f && head[1] == 0x8b && head[2] == 8 && head[3]&0xe0 == 0
}

func isGzipError(err error) string {
	var corrupt flate.CorruptInputError
	switch {
	case errors.Is(err, gzip.ErrChecksum):
		return "damaged: the CRC-32 or length that the gzip stream gives does not match its content"
	case errors.Is(err, gzip.ErrHeader):
		return "damaged: its gzip header makes no sense"
	case errors.As(err, &corrupt):
		return fmt.Sprintf("damaged: the compressed data makes no sense at byte %d of it", int64(corrupt))
	}
	return ""
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

func (w *walker) gzip(p *pass) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	src := bufio.NewReaderSize(p, 64<<10)
	z, err := gzip.NewReader(src)
	if err != nil {
		return p.failed(err)
	}
	z.Multistream(false)
	m := &members{src: src, z: z}
	inflated := &reader{w: w, item: p.it.Address, r: m, packed: func() int64 { return p.n }}
	inner := bufio.NewReaderSize(inflated, 4<<10)
	head, err := inner.Peek(512)
	if err != nil && err != io.EOF {
		return p.failed(err)
	}
	if IsTar(head) {
		if err := w.tar(p, inner, 2); err != nil {
			return err
		}
		// What follows the end of the tar still belongs to the checksum.
		if _, err := io.Copy(io.Discard, inner); err != nil {
			return p.failed(err)
		}
	} else if err := w.item(p.it.child(innerName(p.it.Name, z.Name), -1, 1, 0), source{r: inner}); err != nil {
		return err
	}
	if m.trailing {
		p.problem(Note, "other data follows the gzip stream", "")
	}
	return nil
}

// innerName is the name of what a compressed file holds: the one its header
// gives, else its own without the suffix.
func innerName(name, given string) string {
	if given != "" {
		return path.Base(strings.ReplaceAll(given, `\`, "/"))
	}
	base := path.Base(name)
	for _, suffix := range []string{".gz", ".GZ", ".z"} {
		if s := strings.TrimSuffix(base, suffix); s != base && s != "" {
			return s
		}
	}
	if s := strings.TrimSuffix(base, ".tgz"); s != base {
		return s + ".tar"
	}
	return base + ".content"
}
