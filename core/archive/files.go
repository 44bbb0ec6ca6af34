package archive

import (
	"archive/tar"
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"sync"

	"fitcheck/core/content"
)

// Lister is a Sink that takes the files of a file system. They are content of their item
// and no items, but those that the sink asks for.
type Lister interface {
	// Kind is the format of the item as far as its first bytes tell.
	Kind() string
	// Promote tells whether the file of an address is to be an item.
	Promote(address string) bool
	// File takes a file or folder, a link or device. data is nil but for a regular file under
	// the first of its names; what is left of it is read afterwards. It is called from several
	// goroutines at once. An error ends the walk.
	File(f *content.File, data io.Reader) error
}

// lister is the sink of a pass, where it takes files and the content is wanted.
func (p *pass) lister() Lister {
	l, ok := p.sink.(Lister)
	if s, can := p.sink.(Skipper); !ok || can && s.Skip() {
		return nil
	}
	return l
}

// lists tells whether the item is a file system whose files are content.
func (p *pass) lists() bool {
	l := p.lister()
	return l != nil && p.it.Container == None && content.Knows(l.Kind())
}

// listing shows the files of one file system.
type listing struct {
	w      *walker
	p      *pass
	to     Lister
	levels int
	// packed is how many bytes the files come from, for those that are inflated; nil where
	// their bytes are booked already.
	packed func() int64
	// later says that a later file is meant to replace an earlier one of its name, as the
	// archives of a RAM disk are unpacked one over another.
	later bool

	mu    sync.Mutex
	told  *reporter
	seed  maphash.Seed
	all   *nameIndex        // of what is no system as it runs, its names are held against each other
	twice []string          // names that two files bear
	seen  map[uint64]uint64 // of a name: what bears it
	first map[uint64]string // name of a file with several, by node
	items int
}

func (w *walker) listing(p *pass, levels int) *listing {
	return &listing{w: w, p: p, to: p.lister(), levels: levels, told: &reporter{p: p}, seed: maphash.MakeSeed(), seen: map[uint64]uint64{}, first: map[uint64]string{}}
}

// list shows the files of an item that is a file system. What it keeps of the content is the
// caller's to close.
func (w *walker) list(p *pass, c *Content) (*spool, error) {
	if err := w.enter(p.it, 1); err != nil {
		return nil, err
	}
	l := w.listing(p, 1)
	kind := l.to.Kind()
	keeper, ok := p.sink.(Keeper)
	if kind == "cpio" && p.at == nil && !(ok && keeper.Keep()) {
		return nil, l.cpio()
	}
	var kept *spool
	at, size := c.at, p.it.Size
	if at != nil {
		if err := w.hash(p); err != nil {
			return nil, err
		}
	} else {
		var err error
		if kept, err = w.spool(p); err != nil {
			return nil, err
		}
		c.at, at, size = kept, kept, p.n.Load()
	}
	if p.broken {
		return kept, nil
	}
	fsys, err := content.Open(kind, &meteredAt{w, p.it.Address, at}, size)
	if err != nil {
		return kept, p.failed(err)
	}
	return kept, l.walk(fsys, kind == "cpio")
}

// meteredAt counts what is read of a file system.
type meteredAt struct {
	w    *walker
	item string
	at   io.ReaderAt
}

func (b *meteredAt) ReadAt(p []byte, off int64) (int, error) {
	if err := b.w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := b.at.ReadAt(p, off)
	if b.w.bytes.Add(int64(n)) > b.w.limits.Bytes {
		return n, &BoundError{b.item, BoundBytes, b.w.limits.Bytes}
	}
	return n, err
}

func (l *listing) walk(fsys content.FileSystem, later bool) error {
	if l.later = later; later {
		l.all = &nameIndex{}
	}
	l.packed = func() int64 { return max(1, l.p.n.Load()) }
	err := fsys.Walk(l.w.ctx, func(f *content.File) error {
		var data io.Reader
		if f.Mode.IsRegular() {
			data = f.Open()
		}
		return l.show(f, data)
	})
	l.end()
	if err != nil {
		return l.p.failed(err)
	}
	return nil
}

// end tells what is wrong with the names together.
func (l *listing) end() {
	if l.all != nil && len(l.all.members) < maxHeld && !l.all.rootFileSystem() {
		l.all.names(l.told, exactKey, func(*member) bool { return false })
	} else {
		for _, name := range l.twice {
			l.told.note("%s stands there twice; the later one replaces the earlier", name)
		}
	}
	l.told.end()
}

// maxHeld is how many names of a RAM disk are held against each other. One that holds more
// is a system's.
const maxHeld = 100_000

func (l *listing) cpio() error {
	l.later, l.all = true, &nameIndex{}
	found, err := content.ReadCpio(l.p, func(f *content.File, data io.Reader) error {
		if err := l.show(f, data); err != nil {
			return err
		}
		if l.p.broken {
			return io.ErrUnexpectedEOF
		}
		return nil
	})
	l.end()
	if err != nil {
		return l.p.failed(err)
	}
	l.p.afterCpio(found)
	return nil
}

// show passes a file on.
func (l *listing) show(f *content.File, data io.Reader) error {
	if l.w.files.Add(1) > l.w.limits.Files {
		return &BoundError{l.p.it.Address, BoundFiles, l.w.limits.Files}
	}
	if f.Err != nil {
		if fatal(f.Err) {
			return f.Err
		}
		class, what, advice := wrong(f.Err)
		l.tell(class, advice, "%s: %s", f.Path, what)
	}
	if f.Path = printable(l.name(f.Path)); f.Path == "" || f.Mode&fs.ModeIrregular != 0 {
		return nil // the root itself; what cannot be read is told
	}
	l.mu.Lock()
	if f.Links > 1 && f.Node != 0 && f.Mode.IsRegular() {
		if first, again := l.first[f.Node]; again {
			f.Same, data = first, nil
		} else {
			l.first[f.Node] = f.Path
		}
	}
	l.mu.Unlock()
	var sum maphash.Hash
	sum.SetSeed(l.seed)
	fmt.Fprint(&sum, f.Mode.Type(), f.Size, f.Target, f.Same)
	if data == nil {
		if err := l.to.File(f, nil); err != nil {
			return byVisitor(err)
		}
		l.named(f, sum.Sum64())
		return nil
	}
	if l.packed != nil {
		data = &reader{w: l.w, item: l.p.it.Address + "::" + f.Path, r: data, packed: l.packed}
	}
	watched := &watched{r: io.TeeReader(data, &sum)}
	if err := l.pass(f, watched); err != nil {
		return err
	}
	if watched.err != nil {
		if fatal(watched.err) {
			return watched.err
		}
		if !l.p.broken {
			class, what, advice := wrong(watched.err)
			l.tell(class, advice, "%s: %s", f.Path, what)
		}
	}
	l.named(f, sum.Sum64())
	return nil
}

// pass gives a file's content to the sink, or to an item's of its own.
func (l *listing) pass(f *content.File, data *watched) error {
	address := l.p.it.Address + "::" + f.Path
	if l.to.Promote(address) {
		l.mu.Lock()
		i := l.items
		l.items++
		l.mu.Unlock()
		it := l.p.it.child(f.Path, f.Size, l.levels, i)
		it.Mode = f.Mode.Perm()
		if err := l.to.File(f, nil); err != nil {
			return byVisitor(err)
		}
		err := l.w.item(it, source{r: data})
		data.err = nil // the item's, which says so
		return err
	}
	if err := l.to.File(f, data); err != nil {
		return byVisitor(err)
	}
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	for data.err == nil && !data.end {
		data.Read(*buf)
	}
	return nil
}

// watched keeps the error that its content ends with.
type watched struct {
	r   io.Reader
	err error
	end bool
}

func (w *watched) Read(p []byte) (int, error) {
	if w.err != nil {
		return 0, w.err
	}
	n, err := w.r.Read(p)
	if w.end = err == io.EOF; err != nil && !w.end {
		w.err = err
	}
	return n, err
}

// name is a path below the root. One that climbs is told, and shown as it is.
func (l *listing) name(p string) string {
	for level := range strings.SplitSeq(p, "/") {
		if level == ".." {
			l.tell(Unsafe, notUnderThisName, "%s: its name climbs out of the file system (..)", p)
			return p
		}
	}
	return path.Clean("/" + p)[1:]
}

func (l *listing) tell(c Class, advice, format string, args ...any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.told.tell(c, advice, format, args...)
}

// named notes what bears a name, and tells of two that do and differ.
func (l *listing) named(f *content.File, sum uint64) {
	key := maphash.String(l.seed, f.Path)
	l.mu.Lock()
	before, twice := l.seen[key]
	l.seen[key] = sum
	if l.all != nil && len(l.all.members) < maxHeld {
		l.all.add(ofFile(f, sum))
	}
	l.mu.Unlock()
	switch {
	case !twice || f.Mode.IsDir() || before == sum:
	case l.later:
		l.mu.Lock()
		l.twice = append(l.twice, f.Path)
		l.mu.Unlock()
	default:
		l.tell(Damaged, compareSources, "two entries bear the name %s and differ", f.Path)
	}
}

// ofFile makes a line of a directory of a file.
func ofFile(f *content.File, sum uint64) *member {
	m := &member{name: f.Path, size: f.Size, check: strconv.FormatUint(sum, 16)}
	switch {
	case f.Mode.IsDir():
		m.kind = folderMember
	case f.Same != "":
		m.kind, m.target, m.what, m.hard = linkMember, f.Same, "a hard link", true
	case f.Mode&fs.ModeSymlink != 0:
		m.kind, m.target, m.what = linkMember, f.Target, "a symbolic link"
	case !f.Mode.IsRegular():
		m.kind, m.what = specialMember, specialMode(f.Mode)
	}
	return m
}

// ofTar makes a file of a header of a tar.
func ofTar(h *tar.Header) *content.File {
	f := &content.File{Path: h.Name, Mode: h.FileInfo().Mode(), UID: uint32(h.Uid), GID: uint32(h.Gid), Modified: h.ModTime, Links: 1}
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeGNUSparse:
		f.Size = h.Size
	case tar.TypeLink:
		f.Mode, f.Links, f.Same = f.Mode&^fs.ModeType, 2, exactKey(h.Linkname)
	case tar.TypeSymlink:
		f.Target = h.Linkname
	case tar.TypeChar, tar.TypeBlock:
		f.Major, f.Minor = uint32(h.Devmajor), uint32(h.Devminor)
	case tar.TypeDir, tar.TypeFifo:
	default:
		f.Mode |= fs.ModeIrregular
	}
	return f
}

// tarIsRoot tells by the names in it whether a tar holds the files of a system.
func tarIsRoot(at io.ReaderAt, size int64) bool {
	var t top
	r := tar.NewReader(io.NewSectionReader(at, 0, size))
	_ = guard(func() error {
		for {
			h, err := r.Next()
			if err != nil && err != tar.ErrInsecurePath {
				return err
			}
			t.add(h.Name, h.Typeflag == tar.TypeReg)
		}
	})
	return t.root()
}

// tarHints tells whether the first bytes of a tar name a folder of a root file system, so
// that it is worth listing before it is opened.
func tarHints(head []byte) bool {
	var t top
	r := tar.NewReader(strings.NewReader(string(head)))
	_ = guard(func() error {
		for {
			h, err := r.Next()
			if err != nil && err != tar.ErrInsecurePath {
				return err
			}
			t.add(h.Name, h.Typeflag == tar.TypeReg)
		}
	})
	return t.hints()
}

func init() {
	registerKind(&kind{name: FAT, rank: 8, tells: content.IsFAT, open: func(w *walker, p *pass, _ []byte) error { return w.fat(p) }})
}

// fat opens a FAT file system: an archive of items, or the files of a system.
func (w *walker) fat(p *pass) error {
	return w.random(p, func(at io.ReaderAt, size int64) error {
		fsys, err := content.OpenFAT(&meteredAt{w, p.it.Address, at}, size)
		if err != nil {
			return p.failed(err)
		}
		if p.lister() != nil && topOf(w, fsys).root() {
			return w.listing(p, 1).walk(fsys, false)
		}
		return w.visitFiles(p, fsys)
	})
}

// visitFiles visits the files of a file system that is an archive as items.
func (w *walker) visitFiles(p *pass, fsys content.FileSystem) error {
	all, told, members := &nameIndex{}, &reporter{p: p}, &aside{w: w}
	i := 0
	err := fsys.Walk(w.ctx, func(f *content.File) error {
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
		return members.item(p, it, &reader{w: w, item: it.Address, r: f.Open(), packed: func() int64 { return max(1, p.n.Load()) }})
	})
	err = members.wait(err)
	told.end()
	all.judge(p, false)
	if err != nil {
		return p.failed(err)
	}
	return nil
}

// topOf lists what the top of a file system holds.
func topOf(w *walker, fsys content.FileSystem) *top {
	t := &top{}
	_ = fsys.Walk(w.ctx, func(f *content.File) error {
		t.add(f.Path, f.Mode.IsRegular())
		if f.Mode.IsDir() {
			return fs.SkipDir
		}
		return nil
	})
	return t
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
	return do(s, p.n.Load())
}

// Files lists the files of the file system, RAM disk or tar that the content is. open reads
// a file's content from its beginning, of a tar once and before visit returns. What is wrong
// with single files keeps none of the others from being listed; the error says what keeps the
// whole from it.
func (c *Content) Files(format string, visit func(f *content.File, open func() io.Reader) error) error {
	names := &listing{w: c.w, p: &pass{w: c.w, it: &Item{Address: c.address}}, first: map[uint64]string{}}
	names.told = &reporter{p: names.p}
	show := func(f *content.File, open func() io.Reader) error {
		if c.w.files.Add(1) > c.w.limits.Files {
			return &BoundError{c.address, BoundFiles, c.w.limits.Files}
		}
		if fatal(f.Err) && f.Err != nil {
			return f.Err
		}
		if f.Path = printable(names.name(f.Path)); f.Path == "" || f.Mode&fs.ModeIrregular != 0 {
			return nil
		}
		if first, again := names.first[f.Node]; again && f.Links > 1 && f.Mode.IsRegular() {
			f.Same = first
		} else if f.Links > 1 && f.Node != 0 {
			names.first[f.Node] = f.Path
		}
		return visit(f, open)
	}
	if format == "tar" {
		r := tar.NewReader(c.Reader(0, c.size))
		return guard(func() error {
			for {
				h, err := r.Next()
				if err == io.EOF {
					return nil
				}
				if err != nil && err != tar.ErrInsecurePath {
					return tarError(err)
				}
				if err := show(ofTar(h), func() io.Reader { return r }); err != nil {
					return err
				}
			}
		})
	}
	return guard(func() error {
		fsys, err := content.Open(format, c, c.size)
		if err != nil {
			return err
		}
		return fsys.Walk(c.w.ctx, func(f *content.File) error { return show(f, f.Open) })
	})
}
