package archive

import (
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"

	"github.com/maruel/natural"
)

// folder walks a package that was unpacked earlier. Links in it are reported,
// never followed: os.Root keeps every access inside.
//
// In one piece: one loop over what lies in the folder, with what each entry may be.
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
		f.it.Order[len(f.it.Order)-1], f.it.Streamed = i, false
	}
	names := make([]string, len(files))
	items := make([]*Item, len(files))
	for i, f := range files {
		names[i], items[i] = f.path, f.it
	}
	return w.folderFiles(root, names, items)
}

// folderFiles visits the files of a folder; those of one size are compared.
func (w *walker) folderFiles(root *os.Root, names []string, items []*Item) error {
	others := map[int][]int{}
	if w.sharer() != nil {
		seed := maphash.MakeSeed()
		others = groups(len(items), func(i int) (uint64, bool) { return sample(root, names[i], items[i].Size, seed) })
	}
	follows := map[int]bool{}
	for _, all := range others {
		for _, i := range all {
			follows[i] = true
		}
	}
	visit := func(i, of int, leads bool) error {
		f, err := root.Open(names[i])
		if err != nil {
			w.denied(items[i], err)
			return nil
		}
		defer f.Close()
		info, err := f.Stat()
		if err != nil || !info.Mode().IsRegular() {
			w.visitor.Report(Problem{items[i].Address, Unsafe, "not a file any more", "try again when nothing changes the folder"})
			return nil
		}
		items[i].Size, items[i].Mode = info.Size(), info.Mode().Perm()
		if of >= 0 && items[of].Size == info.Size() {
			if o, err := root.Open(names[of]); err == nil {
				defer o.Close()
				shared, err := w.share(items[i], items[of], io.NewSectionReader(f, 0, info.Size()), io.NewSectionReader(o, 0, info.Size()))
				if shared || err != nil {
					return err
				}
			}
		}
		if leads {
			items[i].lead()
		}
		visit := func() error { return w.file(items[i], f, info) }
		if s := w.sharer(); s != nil && s.Across() {
			return w.once(items[i], io.NewSectionReader(f, 0, info.Size()), packedAs{}, visit)
		}
		return visit()
	}
	return w.inOrder(len(items), func(i int) int64 { return items[i].Size }, nil, func(i int) error {
		if follows[i] {
			return nil
		}
		err := visit(i, -1, len(others[i]) > 0)
		for _, o := range others[i] {
			if err == nil {
				err = visit(o, i, false)
			}
		}
		return err
	})
}

// sample sums the size of a file, and its bytes at the beginning, in the middle and at the end, so
// that of files of one size, as images often are, those are compared that may be equal.
func sample(root *os.Root, name string, size int64, seed maphash.Seed) (sum uint64, ok bool) {
	if size < shareFrom {
		return 0, false
	}
	f, err := root.Open(name)
	if err != nil {
		return 0, false
	}
	defer f.Close()
	var h maphash.Hash
	h.SetSeed(seed)
	fmt.Fprint(&h, size)
	b := make([]byte, 4<<10)
	for _, at := range []int64{0, size / 2, size - int64(len(b))} {
		n, err := f.ReadAt(b, at)
		if err != nil && err != io.EOF {
			return 0, false
		}
		h.Write(b[:n])
	}
	return h.Sum64(), true
}

func (w *walker) denied(it *Item, err error) {
	w.visitor.Report(Problem{it.Address, Denied, (&OpenError{Path: path.Base(it.Name), Err: err}).Error(), "make it readable, or survey a copy"})
}
