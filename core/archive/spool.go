package archive

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"sync"
)

// inMemory is how much of an item is kept in memory before it goes to a
// temporary file.
const inMemory = 1 << 20

// tempDir is made when the first spool needs it.
type tempDir struct {
	once sync.Once
	path string
	err  error
}

func (t *tempDir) make() (string, error) {
	t.once.Do(func() { t.path, t.err = os.MkdirTemp("", "fitcheck-") })
	return t.path, t.err
}

func (w *walker) cleanUp() {
	if w.temp.path != "" {
		os.RemoveAll(w.temp.path)
	}
}

// spool holds the content of an item that must be read at random but comes as
// a stream.
type spool struct {
	io.ReaderAt
	size int64
	file *os.File
}

func (s *spool) Close() error {
	if s.file == nil {
		return nil
	}
	err := s.file.Close()
	os.Remove(s.file.Name())
	return err
}

// spool reads the pass to its end and keeps what passed. Damage of the pass
// is told already when it comes up.
func (w *walker) spool(p *pass) (*spool, error) {
	s, _, err := w.spoolFrom(p)
	return s, err
}

// spoolFrom reads a stream to its end and keeps it: in memory while it is
// small, then in a temporary file. damage is what the stream ended with before
// its time; err ends the walk.
func (w *walker) spoolFrom(r io.Reader) (s *spool, damage, err error) {
	var mem bytes.Buffer
	n, err := io.CopyN(&mem, r, inMemory)
	switch {
	case err == io.EOF:
		return &spool{ReaderAt: bytes.NewReader(mem.Bytes()), size: n}, nil, nil
	case err != nil && fatal(err):
		return nil, nil, err
	case err != nil:
		return &spool{ReaderAt: bytes.NewReader(mem.Bytes()), size: n}, err, nil
	}
	dir, err := w.temp.make()
	if err != nil {
		return nil, nil, &OpenError{Path: os.TempDir(), Err: err}
	}
	f, err := os.CreateTemp(dir, "item-")
	if err != nil {
		return nil, nil, &OpenError{Path: dir, Err: err}
	}
	s = &spool{ReaderAt: &disk{f, f.Name(), &w.failure}, size: n, file: f}
	out := &tempWriter{f}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	if _, err = out.Write(mem.Bytes()); err == nil {
		n, err = io.CopyBuffer(onlyWriter{out}, onlyReader{r}, *buf)
		s.size += n
	}
	if err != nil && fatal(err) {
		s.Close()
		return nil, nil, err
	}
	return s, err, nil
}

// onlyReader and onlyWriter keep io.CopyBuffer to the buffer it is given.
type onlyReader struct{ io.Reader }
type onlyWriter struct{ io.Writer }

// tempWriter turns a failed write, such as on a full disk, into an error that
// names the temporary folder and ends the walk.
type tempWriter struct{ f *os.File }

func (t *tempWriter) Write(b []byte) (int, error) {
	n, err := t.f.Write(b)
	if err != nil {
		err = &OpenError{Path: t.f.Name(), Err: fmt.Errorf("writing a temporary file: %w; free some space or set TMPDIR to another folder", err)}
	}
	return n, err
}
