package archive

import (
	"io"
	"io/fs"

	"fitcheck/core/content"
)

// fileSystem visits the files of a file system as items.
func (w *walker) fileSystem(p *pass, open func(io.ReaderAt, int64) (content.FileSystem, error)) error {
	return w.random(p, func(at io.ReaderAt, size int64) error {
		fsys, err := open(at, size)
		if err != nil {
			return p.failed(err)
		}
		all, told := &roster{}, &teller{p: p}
		err = fsys.Walk(w.ctx, w.visitFile(p, all, told))
		told.end()
		all.judge(p, false)
		if err != nil {
			return p.failed(err)
		}
		return nil
	})
}

// visitFile makes items of files, and lists everything in the roster.
func (w *walker) visitFile(p *pass, all *roster, told *teller) func(*content.File) error {
	i := 0
	return func(f *content.File) error {
		it := p.it.child(f.Path, -1, 1, i)
		i++
		if f.Err != nil {
			if fatal(f.Err) {
				return f.Err
			}
			class, what, advice := wrong(f.Err)
			told.tell(class, advice, "%s: %s", f.Path, what)
		}
		switch {
		case f.Mode&fs.ModeIrregular != 0: // told
			return nil
		case f.Mode.IsDir():
			all.folder(f.Path)
			return w.countItem(it.Address) // or folders alone would pass every bound
		case all.modeMember(it, f.Mode, f.Target):
			return w.countItem(it.Address)
		}
		it.Size, it.Mode = f.Size, f.Mode.Perm()
		all.file(it, "")
		return w.item(it, source{r: &reader{w: w, item: it.Address, r: f.Open(), packed: func() int64 { return p.it.Size }}})
	}
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
