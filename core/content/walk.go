package content

import (
	"context"
	"errors"
	"io/fs"
)

// entry is one line of a folder's list: a name, and a reference to what it names.
type entry struct {
	name string
	ref  uint64
}

// node is what a reference leads to.
type node struct {
	file File
	// folder is what no other folder has in common with this one.
	folder uint64
	// list reads what a folder lists; with an error, what comes before it.
	list func() ([]entry, error)
}

// walk visits all below a root, as FileSystem says, of a file system that resolves
// references. A folder that is listed twice is entered once.
func walk(ctx context.Context, root uint64, resolve func(ref uint64) (node, error), visit func(*File) error) error {
	n, err := resolve(root)
	if err != nil {
		return within(err, "its root folder")
	}
	if n.list == nil {
		return damaged("its root is no folder")
	}
	w := &walker{ctx, resolve, visit, map[uint64]bool{n.folder: true}}
	list, err := n.list()
	if err := w.folder("", list, 1); err != nil {
		return err
	}
	return within(err, "its root folder")
}

type walker struct {
	ctx     context.Context
	resolve func(ref uint64) (node, error)
	visit   func(*File) error
	seen    map[uint64]bool // folders
}

func (w *walker) folder(path string, list []entry, depth int) error {
	for _, e := range list {
		if err := w.ctx.Err(); err != nil {
			return err
		}
		n, err := w.resolve(e.ref)
		if err != nil {
			if fatal(err) {
				return err
			}
			n = node{file: File{Mode: fs.ModeIrregular, Err: err}}
		}
		f := n.file
		f.Path = e.name
		if path != "" {
			f.Path = path + "/" + e.name
		}
		var inner []entry
		switch {
		case n.list == nil:
		case w.seen[n.folder]:
			f.Err = damaged("the folder is listed twice, or lies in itself")
		case depth > maxDepth:
			f.Err = damaged("its folders lie more than %d deep in each other", maxDepth)
		default:
			w.seen[n.folder] = true
			if inner, f.Err = n.list(); fatal(f.Err) {
				return f.Err
			}
		}
		switch err := w.visit(&f); {
		case err == fs.SkipDir && f.Mode.IsDir():
			continue
		case err != nil:
			return err
		}
		if err := w.folder(f.Path, inner, depth+1); err != nil {
			return err
		}
	}
	return nil
}

// fatal tells an error that is neither of the file system nor of what this program
// serves: of the disk, or of a bound.
func fatal(err error) bool {
	var d *Damage
	var u *Unsupported
	return err != nil && !errors.As(err, &d) && !errors.As(err, &u)
}

// within says of damage where it is.
func within(err error, format string, args ...any) error {
	var d *Damage
	if errors.As(err, &d) {
		return damaged(format+": %s", append(args, d.What)...)
	}
	return err
}
