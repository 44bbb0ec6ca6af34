package image

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"fitcheck/core/archive"
)

// Source is the content that a format reads: the first bytes of a file while
// it passes by, or all of it.
type Source struct {
	head   []byte
	size   int64 // -1: not known
	c      *archive.Content
	beyond bool
	fatal  error
}

// errBeyond: the bytes asked for have not passed yet.
var ErrBeyond = errors.New("beyond the first bytes")

// Size is the number of bytes of the file; -1 while it is not known.
func (s *Source) Size() int64 { return s.size }

// Bytes returns n bytes from offset on, in a slice of their own.
func (s *Source) Bytes(offset int64, n int) ([]byte, error) {
	b, err := s.UpTo(offset, n)
	if err == nil && (len(b) < n || s.size >= 0 && offset > s.size) {
		return nil, fmt.Errorf("truncated: %d bytes from 0x%x on belong there, and the file ends after %d", n, offset, s.size)
	}
	return b, err
}

// UpTo returns as many of n bytes from offset on as there are.
func (s *Source) UpTo(offset int64, n int) ([]byte, error) {
	switch {
	case offset < 0 || n < 0 || n > 16<<20:
		return nil, fmt.Errorf("its header leads to %d bytes from %d on, which makes no sense", n, offset)
	case offset+int64(n) <= int64(len(s.head)):
		return bytes.Clone(s.head[offset : offset+int64(n)]), nil
	case s.size == int64(len(s.head)):
		return bytes.Clone(s.head[min(offset, s.size):]), nil
	case s.c == nil:
		s.beyond = true
		return nil, ErrBeyond
	}
	b := make([]byte, max(0, min(int64(n), s.size-offset)))
	got, err := s.c.ReadAt(b, offset)
	if err != nil && err != io.EOF {
		s.fatal = fatalOf(s.fatal, err)
		return nil, err
	}
	return b[:got], nil
}

// Reader reads from offset on to the end.
func (s *Source) Reader(offset int64) (io.Reader, error) {
	switch {
	case s.size == int64(len(s.head)):
		return bytes.NewReader(s.head[min(offset, s.size):]), nil
	case s.c == nil:
		s.beyond = true
		return nil, ErrBeyond
	}
	return &sourceReader{s, s.c.Reader(offset, s.size)}, nil
}

// sourceReader remembers an error that ends the walk, whatever the format makes of it.
type sourceReader struct {
	s *Source
	r io.Reader
}

func (r *sourceReader) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	r.s.fatal = fatalOf(r.s.fatal, err)
	return n, err
}

// Whole tells whether all of the content is at hand. Where it is not, Read
// comes to be called again.
func (s *Source) Whole() bool {
	if s.c == nil && s.size != int64(len(s.head)) {
		s.beyond = true
		return false
	}
	return true
}

func fatalOf(have, err error) error {
	if have == nil && archive.Fatal(err) {
		return err
	}
	return have
}

// ReadAt implements io.ReaderAt over the whole content.
func (s *Source) ReadAt(p []byte, off int64) (int, error) {
	if s.size == int64(len(s.head)) {
		return bytes.NewReader(s.head).ReadAt(p, off)
	}
	if s.c == nil {
		s.beyond = true
		return 0, ErrBeyond
	}
	n, err := s.c.ReadAt(p, off)
	s.fatal = fatalOf(s.fatal, err)
	return n, err
}
