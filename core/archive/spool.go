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

// spool reads the pass to its end and keeps what passed.
func (w *walker) spool(p *pass) (*spool, error) {
	var mem bytes.Buffer
	switch _, err := io.CopyN(&mem, p, inMemory); {
	case err == io.EOF || err != nil && p.broken:
		return &spool{ReaderAt: bytes.NewReader(mem.Bytes())}, nil
	case err != nil:
		return nil, err
	}
	dir, err := w.temp.make()
	if err != nil {
		return nil, &OpenError{os.TempDir(), err}
	}
	f, err := os.CreateTemp(dir, "item-")
	if err != nil {
		return nil, &OpenError{dir, err}
	}
	s := &spool{ReaderAt: f, file: f}
	out := &tempWriter{f}
	if _, err = out.Write(mem.Bytes()); err == nil {
		_, err = io.Copy(out, p)
	}
	if err != nil && !p.broken {
		s.Close()
		return nil, err
	}
	return s, nil
}

// tempWriter turns a failed write, such as on a full disk, into an error that
// names the temporary folder and ends the walk.
type tempWriter struct{ f *os.File }

func (t *tempWriter) Write(b []byte) (int, error) {
	n, err := t.f.Write(b)
	if err != nil {
		err = &OpenError{t.f.Name(), fmt.Errorf("writing a temporary file: %w; free some space or set TMPDIR to another folder", err)}
	}
	return n, err
}
