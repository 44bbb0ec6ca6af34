// Package content reads the files of file systems: what lies in the image of a root
// file system or RAM disk. One file of this package reads one file system; all of them
// are shown by one interface.
//
// A file system's own sizes never decide an allocation, and a walk takes time in
// proportion to what the file system holds.
package content

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"time"
)

// File is a file, folder, link or device of a file system.
type File struct {
	// Path goes from the root, with slashes between its levels and none in front. Its names
	// are as the file system holds them: what is hostile in them is the caller's to judge.
	Path string
	Mode fs.FileMode
	// Size is in bytes; 0 of anything but a file.
	Size     int64
	UID, GID uint32
	Modified time.Time
	// Target is where a symbolic link leads.
	Target string
	// Major and Minor number a device.
	Major, Minor uint32
	// Node is the same for all names of one file, and of no other.
	Node uint64
	// Links is how many names the file has.
	Links int
	// Same is the name under which the file was shown before, where it was.
	Same string
	// Err is what keeps a folder from being listed or an entry from being read. Its files
	// that could be listed follow all the same.
	Err error

	open func() io.Reader
}

// Open reads a file's content from its first byte on. Its reader is the caller's alone; a
// second one may be read beside it, though not from another goroutine. Damage is found
// as far as is read.
func (f *File) Open() io.Reader { return f.open() }

// FileSystem is an opened file system.
type FileSystem interface {
	// Walk visits every file and folder below the root, folders before what is in them, in
	// the order in which the file system lists them. What visit returns ends the walk, but
	// fs.SkipDir for a folder, which leaves its files out.
	Walk(ctx context.Context, visit func(*File) error) error
}

// Kind is one file system. The file that reads it registers it; nothing else lists them.
type Kind struct {
	// Name is that of its image format, as in JSON; Title is for people.
	Name, Title string
	// Magic is what stands at byte At of one, for a file system that package image tells by nothing
	// but that; "" for those whose headers are read there.
	Magic string
	At    int
	// Reads and Lacks are its row in docs/formats.md: what of it is read, and what is not; From is the
	// definition that the reader was written from.
	Reads, Lacks, From string
	// Open opens the file system that takes up to size bytes.
	Open func(at io.ReaderAt, size int64) (FileSystem, error)
}

var kinds = map[string]Kind{}

func register(k Kind) {
	if kinds[k.Name].Open != nil {
		panic("two readers of " + k.Name)
	}
	kinds[k.Name] = k
}

// Kinds lists the file systems that can be read, by their names.
func Kinds() []Kind {
	var out []Kind
	for _, name := range slices.Sorted(maps.Keys(kinds)) {
		out = append(out, kinds[name])
	}
	return out
}

// Knows tells whether the files of an image format can be read.
func Knows(format string) bool { return kinds[format].Open != nil }

// Open opens the file system of an image format that takes up to size bytes.
func Open(format string, at io.ReaderAt, size int64) (FileSystem, error) {
	if !Knows(format) {
		return nil, unsupported("the files of this file system are not read")
	}
	return kinds[format].Open(at, size)
}

// Damage is the error of a file system whose structure or data contradicts itself.
type Damage struct{ What string }

func (e *Damage) Error() string { return e.What }

func damaged(format string, args ...any) error { return &Damage{fmt.Sprintf(format, args...)} }

// Unsupported is the error of what this program does not serve: a version, a compression, a
// filter. It says nothing of the content.
type Unsupported struct{ What string }

func (e *Unsupported) Error() string { return e.What }

func unsupported(format string, args ...any) error { return &Unsupported{fmt.Sprintf(format, args...)} }

// maxDepth is how deep folders may lie in each other.
const maxDepth = 256

// maxFolder is how long the list of one folder may be in bytes: some 200 000 files.
const maxFolder = 6 << 20

func tooLong(n int64) error {
	return unsupported("a folder lists its files in %d bytes, and fitcheck reads at most %d", n, maxFolder)
}
