package unpack

import (
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/content"
)

// contents are the files of one file system as they are written.
type contents struct {
	mu      sync.Mutex
	n       int
	first   map[string]*staged // by path in the file system
	skipped int                // links and devices
	unsafe  int
}

// Kind implements archive.Lister.
func (s *sink) Kind() string { return s.kind }

// Promote implements archive.Lister: the files of file systems are no items.
func (s *sink) Promote(string) bool { return false }

// File implements archive.Lister. Without Options.Contents a file system is one file, and what
// is in it is only read.
func (s *sink) File(f *content.File, data io.Reader) error {
	c := &s.contents
	c.mu.Lock()
	defer c.mu.Unlock()
	c.n++
	address := s.it.Address + "::" + f.Path
	switch {
	case !s.u.o.Contents || f.Mode.IsDir():
		return nil
	case !f.Mode.IsRegular():
		c.skipped++
		return nil
	case !s.u.wanted(address):
		return nil
	}
	target, ok := s.u.target(address)
	if !ok {
		if c.unsafe++; c.unsafe <= maxTold {
			_, why := archive.SafeName(f.Path)
			s.u.report(archive.Problem{Item: address, Class: archive.Unsafe, What: why, Advice: "it is not unpacked under this name"})
		}
		return nil
	}
	order := append(slices.Clone(s.it.Order), c.n)
	if first := c.first[f.Same]; f.Same != "" && first != nil {
		r, err := os.Open(filepath.Join(s.u.staging, first.temp))
		if err != nil {
			return &archive.OpenError{Path: first.temp, Err: err}
		}
		defer r.Close()
		data = r
	}
	if data == nil {
		return nil // its first name could not be read
	}
	temp, err := s.u.temp()
	if err != nil {
		return &archive.OpenError{Path: s.u.staging, Err: err, Write: true}
	}
	sum := sha256.New()
	w := &writing{w: io.MultiWriter(temp, sum)}
	n, err := io.Copy(w, data)
	if w.err != nil {
		temp.Close()
		return &archive.OpenError{Path: temp.Name(), Err: w.err, Write: true}
	}
	made, kept := s.u.keep(temp, sum, target, address, n, order, f.Mode, err != nil)
	if c.first == nil {
		c.first = map[string]*staged{}
	}
	if made != nil {
		c.first[f.Path] = made
	}
	return kept
}

// Members implements archive.Opener: what lies in images is looked through for file systems.
func (s *sink) Members() []archive.Member { return s.members }

// maxTold is how many files of one file system are told that cannot be written.
const maxTold = 8

// writing tells an error of writing from one of reading.
type writing struct {
	w   io.Writer
	err error
}

func (w *writing) Write(p []byte) (int, error) {
	n, err := w.w.Write(p)
	if err != nil {
		w.err = err
	}
	return n, err
}

// tellContents says what of a file system was not written.
func (s *sink) tellContents() {
	c := &s.contents
	add := func(class archive.Class, advice, format string, args ...any) {
		s.u.report(archive.Problem{Item: s.it.Address, Class: class, What: fmt.Sprintf(format, args...), Advice: advice})
	}
	switch {
	case c.n > 0 && !s.u.o.Contents && s.target == "":
		add(archive.Note, "unpack it with -contents to get its files", "it is a file system, and the one file that you have; nothing is written of it")
	case c.n > 0 && !s.u.o.Contents:
		add(archive.Note, "unpack it with -contents to get them", "a file system, written as the one file that it is; its files are not")
	case c.skipped > 0:
		add(archive.Note, "", "links, devices and pipes of the file system, which are not written: %d", c.skipped)
	}
	if more := c.unsafe - maxTold; more > 0 {
		add(archive.Unsafe, "they are not unpacked", "%d more names that are not safe to write", more)
	}
}
