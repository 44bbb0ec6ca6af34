package archive

import (
	"cmp"
	"io/fs"
	"os"
	"path"
	"slices"

	"github.com/maruel/natural"
)

// folder walks a package that was unpacked earlier. Links in it are reported,
// never followed: os.Root keeps every access inside.
func (w *walker) folder(dir, name string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return &OpenError{Path: dir, Err: err}
	}
	defer root.Close()
	if _, err := fs.ReadDir(root.FS(), "."); err != nil {
		return &OpenError{Path: dir, Err: err}
	}
	type file struct {
		it   *Item
		path string
	}
	var files []file
	parent := &Item{Address: name}
	err = fs.WalkDir(root.FS(), ".", func(p string, d fs.DirEntry, err error) error {
		if ctxErr := w.ctx.Err(); ctxErr != nil {
			return ctxErr
		}
		it := parent.child(p, -1, 0, len(files))
		if err != nil {
			w.denied(it, err)
			if d != nil && d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.IsDir() {
			return nil
		}
		if special := specialMode(d.Type()); special != "" {
			w.visitor.Report(Problem{it.Address, Unsafe, special, "it is not followed"})
			return nil
		}
		if int64(len(files)) >= w.limits.Items {
			return &BoundError{it.Address, BoundItems, w.limits.Items}
		}
		if info, err := d.Info(); err == nil {
			it.Size = info.Size()
			if w.packed.Add(info.Size()) > w.limits.Bytes { // before a byte of it is read
				return &BoundError{it.Address, BoundBytes, w.limits.Bytes}
			}
			w.progress.expect(info.Size())
		}
		files = append(files, file{it, p})
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortStableFunc(files, func(a, b file) int { return natural.Compare(a.path, b.path) })
	for i, f := range files {
		f.it.Order[len(f.it.Order)-1] = i
	}
	order := slices.Clone(files)
	slices.SortStableFunc(order, func(a, b file) int { return cmp.Compare(b.it.Size, a.it.Size) })
	return w.each(len(order), func(i int) error {
		f, err := root.Open(order[i].path)
		if err != nil {
			w.denied(order[i].it, err)
			return nil
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil || !info.Mode().IsRegular() {
			w.visitor.Report(Problem{order[i].it.Address, Unsafe, "not a file any more", "try again when nothing changes the folder"})
			return nil
		}
		order[i].it.Size, order[i].it.Mode = info.Size(), info.Mode().Perm()
		return w.file(order[i].it, f, info)
	})
}

func (w *walker) denied(it *Item, err error) {
	w.visitor.Report(Problem{it.Address, Denied, (&OpenError{Path: path.Base(it.Name), Err: err}).Error(), "make it readable, or survey a copy"})
}
