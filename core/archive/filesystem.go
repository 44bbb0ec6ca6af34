package archive

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"

	"github.com/diskfs/go-diskfs/backend"
	"github.com/diskfs/go-diskfs/filesystem/squashfs"
)

// SquashFS is opened as folders, by a library.

// FileSystem is a file system inside a file. Paths are those of io/fs.
type FileSystem interface {
	ReadDir(dir string) ([]fs.DirEntry, error)
	Open(name string) (fs.File, error)
}

// cacheSize is how much of a file system's blocks is kept in memory.
const cacheSize = 4 << 20

// OpenSquashFS opens a SquashFS of version 4.
func OpenSquashFS(at io.ReaderAt, size int64) (FileSystem, error) {
	head := make([]byte, 96)
	if _, err := at.ReadAt(head, 0); err != nil {
		return nil, err
	}
	if head[0] != 'h' {
		return nil, &cannotRead{"of a SquashFS of version 3, only the header is read", unpackElsewhere}
	}
	le32 := func(at int) int64 {
		return int64(head[at]) | int64(head[at+1])<<8 | int64(head[at+2])<<16 | int64(head[at+3])<<24
	}
	if head[20] == 3 && head[21] == 0 {
		return nil, &cannotRead{"its files cannot be listed: they are packed by LZO, which fitcheck does not inflate", unpackElsewhere}
	}
	if n := le32(16); n > size {
		return nil, damagedf("it announces %d fragments", n)
	}
	var fsys *squashfs.FileSystem
	err := guard(func() (err error) {
		fsys, err = squashfs.Read(storage{io.NewSectionReader(at, 0, size)}, size, 0, le32(12))
		return err
	})
	if err != nil {
		return nil, err
	}
	fsys.SetCacheSize(cacheSize)
	return guarded{fsys}, nil
}

type guarded struct{ fsys FileSystem }

func (g guarded) ReadDir(dir string) (list []fs.DirEntry, err error) {
	err = guard(func() (err error) {
		list, err = g.fsys.ReadDir(dir)
		return err
	})
	return list, err
}

func (g guarded) Open(name string) (f fs.File, err error) {
	err = guard(func() (err error) {
		f, err = g.fsys.Open(name)
		return err
	})
	if err != nil || f == nil {
		return nil, errors.Join(err, errIf(f == nil && err == nil, "it cannot be opened"))
	}
	return guardedFile{f}, nil
}

func errIf(is bool, what string) error {
	if is {
		return errors.New(what)
	}
	return nil
}

type guardedFile struct{ fs.File }

// Read sorts what the library says: of an error that it does not name, nobody knows
// whether the content or the library is at fault.
func (f guardedFile) Read(p []byte) (n int, err error) {
	n, err = guardedReader{f.File}.Read(p)
	if err != nil && err != io.EOF && !fatal(err) {
		if c, what, _ := wrong(err); c == Damaged && what == unnamed {
			err = &cannotRead{"it cannot be read: its blocks are packed in a way that fitcheck does not follow, or are damaged", unpackElsewhere}
		}
	}
	return n, err
}

// storage shows a file to the library.
type storage struct{ *io.SectionReader }

func (s storage) Close() error               { return nil }
func (s storage) Stat() (fs.FileInfo, error) { return nil, fs.ErrInvalid }
func (s storage) Path() string               { return "" }
func (s storage) Sys() (*os.File, error)     { return nil, fs.ErrInvalid }
func (s storage) Writable() (backend.WritableFile, error) {
	return nil, backend.ErrIncorrectOpenMode
}

// fileSystem visits the files of a file system. What cannot be listed is a
// note: the image itself may be sound, and only the library not know it.
func (w *walker) fileSystem(p *pass, open func(io.ReaderAt, int64) (FileSystem, error)) error {
	return w.random(p, func(at io.ReaderAt, size int64) error {
		fsys, err := open(at, size)
		if err != nil {
			if fatal(err) {
				return err
			}
			class, what, advice := wrong(err)
			if class == Damaged {
				class, what = Unreadable, "its files cannot be listed: its structure is none that fitcheck follows, or is damaged"
				advice = unpackElsewhere
			}
			p.problem(class, what, advice)
			return nil
		}
		v := &fsVisit{w: w, p: p, fsys: fsys}
		return v.dir(".", 0)
	})
}

type fsVisit struct {
	w     *walker
	p     *pass
	fsys  FileSystem
	files int
}

func (v *fsVisit) dir(dir string, depth int) error {
	if err := v.w.ctx.Err(); err != nil {
		return err
	}
	list, err := v.fsys.ReadDir(dir)
	switch {
	case err != nil && fatal(err):
		return err
	case err != nil:
		v.p.problem(Unreadable, fmt.Sprintf("the folder %s in it cannot be listed: its structure is none that fitcheck follows, or is damaged", printable(dir)), unpackElsewhere)
		return nil
	case depth > maxDirs:
		v.p.problem(Damaged, fmt.Sprintf("its folders lie more than %d deep in each other", maxDirs), "get it from its maker again")
		return nil
	}
	slices.SortStableFunc(list, func(a, b fs.DirEntry) int { return strings.Compare(a.Name(), b.Name()) })
	for _, e := range list {
		name := e.Name()
		if name == "." || name == ".." || name == "" {
			continue
		}
		full := path.Join(dir, name)
		if strings.ContainsAny(name, "/\x00") {
			full = dir + "/" + name // reported as an unsafe name, and opened by no one
		}
		it := v.p.it.child(full, -1, 1, v.files)
		v.files++
		if e.IsDir() {
			if err := v.w.countItem(it.Address); err != nil { // or a circle of folders would never end
				return err
			}
			if err := v.dir(full, depth+1); err != nil {
				return err
			}
			continue
		}
		if special := specialMode(e.Type()); special != "" {
			v.w.visitor.Report(Problem{it.Address, Note, special, ""})
			continue
		}
		if err := v.file(it, full, e); err != nil {
			return err
		}
	}
	return nil
}

func (v *fsVisit) file(it *Item, name string, e fs.DirEntry) error {
	if info, err := e.Info(); err == nil {
		it.Size = info.Size()
		it.Mode = info.Mode().Perm()
	}
	f, err := v.fsys.Open(name)
	if err != nil {
		if fatal(err) {
			return err
		}
		return v.w.unread(it, &cannotRead{"it cannot be opened: its structure is none that fitcheck follows, or is damaged", unpackElsewhere})
	}
	defer f.Close()
	return v.w.item(it, source{r: &reader{w: v.w, item: it.Address, r: f, packed: func() int64 { return v.p.it.Size }}})
}

// random gives an item's content for random access, and hashes the item
// alongside.
func (w *walker) random(p *pass, do func(at io.ReaderAt, size int64) error) error {
	if err := w.enter(p.it, 1); err != nil {
		return err
	}
	if p.at != nil {
		if err := w.hash(p); err != nil {
			return err
		}
		return do(w.counted(p), p.it.Size)
	}
	s, err := w.spool(p)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s, p.n)
}
