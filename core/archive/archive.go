// Package archive opens a package, whatever it is made of, as a tree of items.
//
// A package is a file or a folder. A file that is an archive (recognised by
// its content, never by its suffix) holds items, which may be archives again.
// Walk visits every item once: the visitor is told of it with the first bytes
// of its content and answers with a Sink, which then gets every byte in order
// while the walk goes on into the item. So hashing, header reading and
// unpacking of nested archives all ride on one pass over the bytes.
//
// Items of a zip and of a folder are worked on in parallel; a tar is a stream.
// Everything is hostile until checked: Limits bounds what may be read, names
// are reported when they would lead astray, links and devices are not
// followed.
package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync/atomic"
)

// HeadSize is how many bytes of its beginning an item shows before its
// content passes.
const HeadSize = 64 << 10

// Container is what an item is as an archive.
type Container string

// The archives that are entered. None is a file that is not entered.
const (
	None     Container = ""
	Zip      Container = "zip"
	Tar      Container = "tar"
	Cpio     Container = "cpio"
	Ar       Container = "ar"
	SevenZip Container = "7z"
	ISO      Container = "iso9660"
	FAT      Container = "fat"
	Shell    Container = "shell"
	Gzip               = Container(GzipStream)
	Bzip2              = Container(Bzip2Stream)
	Xz                 = Container(XzStream)
	Lzma               = Container(LzmaStream)
	Lz4                = Container(Lz4Stream)
	Zstd               = Container(ZstdStream)
)

// Item is one file of a package.
type Item struct {
	// Address joins the levels with "::", beginning with the package's name.
	Address string
	// Name is the last level of the address: the path within its archive.
	Name string
	// Size in bytes as its container tells it; -1 when it does not.
	Size int64
	// Recoded: the name was in a broken encoding.
	Recoded bool
	// Mode is the permission bits that its container gives; 0 for none.
	Mode fs.FileMode
	// Container tells how the item is entered.
	Container Container
	// Depth counts the archives and compressed layers around it.
	Depth int
	// Order sorts items as their containers list them, see Before.
	Order []int

	// In is what it lies in directly.
	In Container
	// Twin: its container holds another item of the same name. Streamed: what lies behind it in
	// its container is not known yet.
	Twin, Streamed bool

	// Part: it lies inside an image, as a part of it; Within: in something that does.
	Part, Within bool

	sum string // what its sink made of its content, see Summer
	// leader is the nearest item at or above it that others may equal; of such a one, above is
	// the next. derive names what is named after its container, nil where a name is given.
	leader, above *Item
	derive        func(container string) string
	// passedOver: a quick look wanted no more of it than its beginning.
	passedOver bool
}

// Before tells whether a stands before b in the listing.
func (a *Item) Before(b *Item) bool {
	for i := 0; i < len(a.Order) && i < len(b.Order); i++ {
		if a.Order[i] != b.Order[i] {
			return a.Order[i] < b.Order[i]
		}
	}
	return len(a.Order) < len(b.Order)
}

// Class sorts problems by what they do to a verdict.
type Class string

// The classes of problem.
const (
	Damaged    Class = "damaged"    // truncated, wrong checksum, contradictory structure
	Unreadable Class = "unreadable" // this program cannot read it, which says nothing of the content
	Unsafe     Class = "unsafe"     // a name, link or device that is never followed or written
	Denied     Class = "denied"     // the system would not open it
	Note       Class = "note"       // worth knowing, nothing wrong
)

// Problem is something wrong with an item, in words.
type Problem struct {
	Item   string
	Class  Class
	What   string
	Advice string
}

// Sink takes the content of one item.
type Sink interface {
	io.Writer
	// End is called once, after the last byte that could be read, with what
	// was found wrong. The content tells its size, and can be read at random
	// during the call when the sink is a Keeper. An error ends the walk.
	End(c *Content, problems []Problem) error
}

// Skipper is a Sink that may do without its item's content, having seen the
// first bytes. It is asked before the first byte passes.
type Skipper interface {
	Skip() bool
}

// Summer is a Sink that tells, after its end, a digest of the content, so that two
// members of one name can be told apart; "" when it has none.
type Summer interface {
	Sum() string
}

// Member is a part of an image that is opened like a member of an archive.
type Member struct {
	Name string
	At   io.ReaderAt
	Size int64
}

// Opener is a Sink whose item may turn out, at its end, to be an image that holds others. It
// is asked after End; what the members read may come from the content that End was given.
type Opener interface {
	Members() []Member
}

// Keeper is a Sink that may need its item's content for random access at the
// end. It is asked before the first byte passes.
type Keeper interface {
	Keep() bool
}

// Visitor is told of each item. Its methods are called from several
// goroutines at once.
type Visitor interface {
	// Begin is called when an item is reached. head is valid during the call.
	Begin(it *Item, head []byte) Sink
	// Report tells of something that is not an item: a link, a file that the
	// system does not open.
	Report(p Problem)
}

// Limits bounds a walk. A bound that is passed ends it with a *BoundError.
type Limits struct {
	Depth      int   // archives, compressed layers and image parts entered
	Items      int64 // items, and the parts inside images
	Files      int64 // files of file systems, which are no items
	Bytes      int64 // bytes read and inflated in all
	ItemRatio  int64 // inflated to packed of one item, once past ItemFree
	ItemFree   int64
	TotalRatio int64 // the same for the whole package, once past TotalFree
	TotalFree  int64
	// Window bounds the memory that one compressed stream asks for to be inflated.
	Window int64
	// Text bounds one manifest, list or note; Records, Values and Facts what one of them
	// expands to: its records, the values of one list, and all that is said. They are for
	// those who read them.
	Text                   int64
	Records, Values, Facts int
}

// DefaultLimits returns the bounds that hold when nothing else is asked for.
func DefaultLimits() Limits {
	return Limits{Depth: 8, Items: 100_000, Files: 1_000_000, Bytes: 16 << 30, ItemRatio: 1000, ItemFree: 64 << 20, TotalRatio: 200, TotalFree: 1 << 30, Window: 128 << 20, Text: 16 << 20, Records: 100_000, Values: 10_000, Facts: 300_000}
}

// The names of the bounds.
const (
	BoundDepth      = "depth"
	BoundItems      = "items"
	BoundFiles      = "files of file systems"
	BoundBytes      = "bytes in all"
	BoundItemRatio  = "ratio of inflated to packed bytes of one item"
	BoundTotalRatio = "ratio of inflated to packed bytes in all"
	BoundText       = "bytes of one text"
	BoundRecords    = "records of one manifest"
	BoundValues     = "values of one list"
	BoundFacts      = "facts that one text expands to"
	BoundWindow     = "memory that one compressed stream asks for"
)

// BoundError says which bound an item passed.
type BoundError struct {
	Item, Bound string
	Limit       int64
}

func (e *BoundError) Error() string {
	return fmt.Sprintf("%s: refused, because it passes the bound on the %s (%d)", e.Item, e.Bound, e.Limit)
}

// OpenError says that the system would not open or read the package itself.
type OpenError struct {
	Path string
	Err  error
	// Write: it was to be written.
	Write bool
}

func (e *OpenError) Error() string {
	reason := e.Err
	if pe, ok := e.Err.(*os.PathError); ok { // the path is told already; a wrapped one says more
		reason = pe.Err
	}
	switch {
	case e.Write && errors.Is(e.Err, os.ErrPermission):
		return fmt.Sprintf("%s: the system does not let you write it; give another folder, or change its permissions", e.Path)
	case e.Write:
		return fmt.Sprintf("%s: it cannot be written: %v; free some space, or give another folder", e.Path, reason)
	case errors.Is(e.Err, os.ErrPermission):
		return fmt.Sprintf("%s: the system does not let you read it (%v); change its permissions or run as a user who may", e.Path, reason)
	case errors.Is(e.Err, os.ErrNotExist):
		return fmt.Sprintf("%s: there is no such file or folder; check the path", e.Path)
	}
	return fmt.Sprintf("%s: %v", e.Path, reason)
}

func (e *OpenError) Unwrap() error { return e.Err }

// NameOf is the name that a package's path gives to the first level of its
// addresses.
func NameOf(path string) string {
	if abs, err := filepath.Abs(path); err == nil {
		return printable(filepath.Base(abs))
	}
	return printable(filepath.Base(path))
}

// Walk visits every item of the package at path. Its error is an *OpenError,
// a *BoundError or the context's; what is wrong with single items goes to the
// visitor. Temporary files are removed before it returns.
func Walk(ctx context.Context, path string, limits Limits, v Visitor) error {
	return WalkShown(ctx, path, limits, v, nil)
}

// WalkShown is Walk, and lets others see how far it has come.
func WalkShown(ctx context.Context, path string, limits Limits, v Visitor, progress *Progress) error {
	info, err := os.Stat(path)
	if err != nil {
		return &OpenError{Path: path, Err: err}
	}
	w := &walker{ctx: ctx, limits: limits, visitor: v, root: path, progress: progress, slots: make(chan struct{}, max(0, runtime.GOMAXPROCS(0)-1))}
	w.aheads = make(chan struct{}, 2*cap(w.slots))
	w.packed.Store(info.Size())
	defer w.cleanUp()
	if info.Mode().IsRegular() && info.Size() > limits.Bytes { // before a byte of it is read
		return &BoundError{NameOf(path), BoundBytes, limits.Bytes}
	}
	switch {
	case info.IsDir():
		w.packed.Store(0) // grows by each file
		return w.folder(path, NameOf(path))
	case !info.Mode().IsRegular():
		return &OpenError{Path: path, Err: errors.New("it is a device, pipe or socket; give a file or a folder")}
	}
	f, err := os.Open(path)
	if err != nil {
		return &OpenError{Path: path, Err: err}
	}
	defer f.Close()
	progress.expect(info.Size())
	name := NameOf(path)
	return w.file(&Item{Address: name, Name: name, Size: info.Size()}, f, info)
}

// walker is the state of one Walk.
type walker struct {
	ctx     context.Context
	limits  Limits
	visitor Visitor
	root    string
	slots   chan struct{} // one for each further goroutine that may work
	aheads  chan struct{} // one for each that may inflate a stream ahead
	temp    tempDir

	progress *Progress
	failure  failure

	items  atomic.Int64
	files  atomic.Int64
	bytes  atomic.Int64
	packed atomic.Int64 // bytes of the package as it lies on disk
}

// source is where the content of an item comes from.
type source struct {
	r  io.Reader
	at io.ReaderAt // the same content for random access, where there is any
}

// failure is the first error of the system's when a file was read; who read it may have taken it for damage.
type failure struct{ first atomic.Pointer[OpenError] }

func (f *failure) note(path string, err error) error {
	failed := &OpenError{Path: path, Err: err}
	f.first.CompareAndSwap(nil, failed)
	return failed
}

// stored walks what lies on a disk, in a file with a path.
func (w *walker) stored(it *Item, f interface {
	io.Reader
	io.ReaderAt
}, path string) error {
	counted := &reader{w: w, item: it.Address, r: f, path: path}
	if err := w.item(it, source{counted, &disk{f, path, &w.failure}}); err != nil {
		return err
	}
	if failed := w.failure.first.Load(); failed != nil {
		return failed
	}
	return nil
}

// file walks a file that the system has opened.
func (w *walker) file(it *Item, f *os.File, before os.FileInfo) error {
	if err := w.stored(it, f, f.Name()); err != nil {
		return err
	}
	after, err := f.Stat()
	if err != nil {
		return &OpenError{Path: f.Name(), Err: err}
	}
	if after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return &OpenError{Path: f.Name(), Err: errors.New("it changed while it was read; wait until the download has ended, then try again")}
	}
	return nil
}
