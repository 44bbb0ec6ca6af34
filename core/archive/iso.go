package archive

import (
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"unicode/utf16"

	"fitcheck/core/content"
)

// ISO 9660 (ECMA-119) is a tree of folders in blocks of 2048 bytes. Its names are short;
// longer ones stand in the same records (Rock Ridge, IEEE P1282 with SUSP P1281) or in a
// second tree (Joliet). A record of a folder:
//
//	 0 length, 1 length of extended attributes, 2 block (both byte orders), 10 size (both),
//	25 flags (2 folder, 0x80 goes on in the next record), 32 length of the name, 33 name;
//	then, from an even offset on, the entries of Rock Ridge
const (
	isoBlock       = 2048
	isoFirst       = 16 // block of the first volume descriptor
	isoRecord      = 33
	isoMaxFolder   = 64 << 20
	maxDirs        = 64 // how deep folders may lie in each other
	isoMaxVolumes  = 64
	isoMaxContinue = 64 // areas in which the entries of one record go on
)

func init() {
	registerKind(&kind{name: ISO, rank: 6, tells: isISO, open: func(w *walker, p *pass, _ []byte) error { return w.iso(p) }})
}

func isISO(head []byte) bool { return len(head) > 0x8006 && string(head[0x8001:0x8006]) == "CD001" }

// isoFile is one record.
type isoFile struct {
	name    string
	mode    fs.FileMode
	target  string
	extents []isoExtent
	packed  bool // by zisofs
}

type isoExtent struct{ at, size int64 }

func (f *isoFile) size() (n int64) {
	for _, e := range f.extents {
		n += e.size
	}
	return n
}

// isoTree reads one tree.
type isoTree struct {
	at     io.ReaderAt
	length int64
	joliet bool
	rock   bool
	skip   int64 // bytes in front of the entries of Rock Ridge
	problem
	seen map[int64]bool
}

type problem func(c Class, what, advice string)

// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
func (w *walker) iso(p *pass) error {
	return w.random(p, func(at io.ReaderAt, size int64) error {
		trees, roots := isoVolumes(p, at, size)
		if len(trees) == 0 {
			p.problem(Damaged, "truncated or damaged: it has no volume descriptor that lists files", downloadAgain)
			return nil
		}
		chosen := isoBest(trees, roots)
		var l *listing
		if p.lister() != nil && trees[chosen].top(roots[chosen]).root() {
			l = w.listing(p, 1)
			l.packed = func() int64 { return size }
		}
		listed := make([]map[string]isoExtent, len(trees)) // folders differ from tree to tree
		all, members := &nameIndex{}, &aside{w: w}
		before, bound, most := w.items.Load(), BoundItems, w.limits.Items
		if l != nil {
			before, bound, most = w.files.Load(), BoundFiles, w.limits.Files
		}
		listing := int64(0) // entries of all trees
		for i, t := range trees {
			listed[i] = map[string]isoExtent{}
			list := func(name string, f *isoFile) {
				e := isoExtent{first(f.extents).at, f.size()}
				if f.mode.IsDir() || e.size == 0 {
					e = isoExtent{size: int64(f.mode & fs.ModeDir)}
				}
				listed[i][sameKey(name)] = e
			}
			visit := func(name string, f *isoFile) error {
				list(name, f)
				return nil
			}
			if i == chosen {
				n := 0
				visit = func(name string, f *isoFile) error {
					list(name, f)
					n++
					if l != nil {
						return l.show(f.file(at, name))
					}
					return w.isoFile(p, at, name, f, n-1, all, members)
				}
			} else {
				t.problem = func(Class, string, string) {}
			}
			entries := before // the trees hold the same files; two are usual, and of more no more is listed
			err := t.folder(roots[i], "", 0, func() error {
				entries, listing = entries+1, listing+1
				if entries > most || listing > 2*(most-before) {
					return &BoundError{p.it.Address, bound, most}
				}
				return w.ctx.Err()
			}, visit)
			if err != nil {
				return members.wait(err)
			}
		}
		if err := members.wait(nil); err != nil {
			return err
		}
		sameFiles(p, listed, chosen)
		if l != nil {
			l.told.end()
			return nil
		}
		all.judge(p, false)
		return nil
	})
}

// isoVolumes finds the trees of files: of the primary volume, and by Joliet; roots are the records of their roots.
func isoVolumes(p *pass, at io.ReaderAt, size int64) (trees []*isoTree, roots [][]byte) {
	for i := range int64(isoMaxVolumes) {
		b := make([]byte, isoBlock)
		if n, err := at.ReadAt(b, (isoFirst+i)*isoBlock); n < len(b) || err != nil && err != io.EOF || string(b[1:6]) != "CD001" || b[0] == 255 {
			break
		}
		joliet := b[0] == 2 && b[88] == '%' && b[89] == '/' && (b[90] == '@' || b[90] == 'C' || b[90] == 'E')
		if b[0] != 1 && !joliet {
			continue
		}
		t := &isoTree{at: at, length: size, joliet: joliet, problem: p.problem, seen: map[int64]bool{}}
		trees, roots = append(trees, t), append(roots, b[156:190])
	}
	return trees, roots
}

// isoBest chooses the tree by whose names the files are told: one by Joliet, unless Rock Ridge tells more.
func isoBest(trees []*isoTree, roots [][]byte) int {
	chosen := 0
	for i, t := range trees {
		if !t.joliet {
			t.findRock(roots[i])
		}
		if t.joliet && !trees[chosen].rock {
			chosen = i
		}
	}
	return chosen
}

// sameFiles holds the trees against each other; folders differ from tree to tree.
func sameFiles(p *pass, listed []map[string]isoExtent, chosen int) {
	told := &reporter{p: p}
	for i := range listed {
		for name, e := range listed[i] {
			if o, ok := listed[chosen][name]; i != chosen && ok && o != e {
				told.damaged("its two trees hold different files of the name %s", name)
			}
		}
	}
	told.end()
}

// top lists what the root of the tree holds.
func (t *isoTree) top(root []byte) *top {
	out := &top{}
	look := *t
	look.problem, look.seen = func(Class, string, string) {}, map[int64]bool{}
	_ = look.folder(root, "", maxDirs, func() error { return nil }, func(name string, f *isoFile) error {
		out.add(name, f.mode.IsRegular())
		return nil
	})
	return out
}

// file is the record as a file of a file system, and its content.
func (f *isoFile) file(at io.ReaderAt, name string) (*content.File, io.Reader) {
	out := &content.File{Path: name, Mode: f.mode, Target: f.target, Links: 1}
	if !f.mode.IsRegular() {
		return out, nil
	}
	out.Size = f.size()
	if f.packed {
		return out, failing{&cannotRead{"packed by zisofs, which cannot be read", unpackElsewhere}}
	}
	return out, f.open(at)
}

func (f *isoFile) open(at io.ReaderAt) io.Reader {
	var readers []io.Reader
	for _, e := range f.extents {
		readers = append(readers, io.NewSectionReader(at, e.at, e.size))
	}
	return content.Exactly(io.MultiReader(readers...), f.size())
}

func first(all []isoExtent) isoExtent {
	if len(all) == 0 {
		return isoExtent{}
	}
	return all[0]
}

// isoFile visits one file of the tree.
func (w *walker) isoFile(p *pass, at io.ReaderAt, name string, f *isoFile, index int, all *nameIndex, members *aside) error {
	if f.mode.IsDir() {
		all.folder(name)
		return w.countItem(p.it.Address + "::" + printable(name))
	}
	it := p.it.child(name, f.size(), 1, index)
	it.Mode = f.mode.Perm()
	if all.modeMember(it, f.mode, f.target) {
		return nil
	}
	all.file(it, "")
	if f.packed {
		return w.unread(it, &cannotRead{"packed by zisofs, which cannot be read", unpackElsewhere})
	}
	src := source{r: &reader{w: w, item: it.Address, r: f.open(at), packed: func() int64 { return p.it.Size }}}
	if len(f.extents) == 1 && f.extents[0].at+f.extents[0].size <= p.n.Load() {
		src.at = io.NewSectionReader(at, f.extents[0].at, f.extents[0].size)
	}
	return members.visit(p, it, src, false)
}

// findRock looks into the first record of the root for the mark of SUSP.
func (t *isoTree) findRock(root []byte) {
	b := make([]byte, isoBlock)
	if n, _ := t.at.ReadAt(b, int64(binary.LittleEndian.Uint32(root[2:]))*isoBlock); n < isoRecord+8 {
		return
	}
	length, name := int(b[0]), int(b[32])
	from := isoRecord + name + (name+1)%2
	if length > from+7 && length <= len(b) && string(b[from:from+2]) == "SP" && b[from+4] == 0xbe && b[from+5] == 0xef {
		t.rock, t.skip = true, int64(b[from+6])
	}
}

// folder lists a folder, and those in it. count is called for each record.
//
// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
func (t *isoTree) folder(record []byte, dir string, depth int, count func() error, visit func(string, *isoFile) error) error {
	b, err := t.readFolder(record, dir, depth)
	if err != nil || b == nil {
		return err
	}
	var going *isoFile
	for i := 0; len(b) > 0; i++ {
		n := int(b[0])
		if n == 0 { // the rest of a block
			b = b[min(int64(len(b)), max(1, int64(len(b))%isoBlock)):]
			continue
		}
		if n < isoRecord+1 || n > len(b) || isoRecord+int(b[32]) > n {
			t.problem(Damaged, fmt.Sprintf("a record of %s makes no sense", shownFolder(dir)), downloadAgain)
			return nil
		}
		r := b[:n]
		b = b[n:]
		if name := r[isoRecord : isoRecord+int(r[32])]; len(name) == 1 && name[0] < 2 { // itself and the one around it
			continue
		}
		if err := count(); err != nil {
			return err
		}
		le, be := binary.LittleEndian, binary.BigEndian
		if le.Uint32(r[2:]) != be.Uint32(r[6:]) || le.Uint32(r[10:]) != be.Uint32(r[14:]) {
			t.problem(Damaged, fmt.Sprintf("a record of %s says two things in its two byte orders", shownFolder(dir)), compareSources)
		}
		f, child, err := t.record(r)
		if err != nil {
			return err
		}
		if f == nil {
			continue
		}
		switch {
		case going == nil:
		case going.name == f.name:
			going.extents = append(going.extents, f.extents...)
			f = going
		default:
			if err := t.unended(dir, going, visit); err != nil {
				return err
			}
		}
		if going = nil; r[25]&0x80 != 0 {
			going = f
			continue
		}
		full := f.in(dir)
		if err := visit(full, f); err != nil {
			return err
		}
		if f.mode.IsDir() {
			if err := t.folder(child, full, depth+1, count, visit); err != nil {
				return err
			}
		}
	}
	if going != nil {
		return t.unended(dir, going, visit)
	}
	return nil
}

// in is the name of a file of a folder; one that is not safe is told as it is.
func (f *isoFile) in(dir string) string {
	if strings.ContainsAny(f.name, "/\x00") || f.name == ".." || f.name == "." {
		return dir + "/" + f.name
	}
	return path.Join(dir, f.name)
}

// unended tells of a file that is said to go on in a further record, which is not there.
func (t *isoTree) unended(dir string, f *isoFile, visit func(string, *isoFile) error) error {
	t.problem(Damaged, fmt.Sprintf("%s is said to go on, and no further part of it follows", f.in(dir)), downloadAgain)
	return visit(f.in(dir), f)
}

// readFolder reads the records of a folder; nil for one that cannot be listed, which is told.
func (t *isoTree) readFolder(record []byte, dir string, depth int) ([]byte, error) {
	block, size := int64(binary.LittleEndian.Uint32(record[2:])), int64(binary.LittleEndian.Uint32(record[10:]))
	shown := shownFolder(dir)
	switch {
	case t.seen[block]:
		t.problem(Damaged, fmt.Sprintf("%s leads back to one around it", shown), downloadAgain)
		return nil, nil
	case depth > maxDirs:
		t.problem(Damaged, fmt.Sprintf("its folders lie more than %d deep in each other", maxDirs), downloadAgain)
		return nil, nil
	case block*isoBlock+size > t.length:
		t.problem(Damaged, fmt.Sprintf("truncated: %s lies at byte %d, %d bytes long, and the file ends at %d", shown, block*isoBlock, size, t.length), downloadAgain)
		return nil, nil
	case size > isoMaxFolder:
		t.problem(Unreadable, fmt.Sprintf("%s cannot be listed: it is longer than fitcheck reads", shown), unpackElsewhere)
		return nil, nil
	}
	t.seen[block] = true
	b := make([]byte, size)
	if _, err := t.at.ReadAt(b, block*isoBlock); err != nil && err != io.EOF {
		if fatal(err) {
			return nil, err
		}
		t.problem(Damaged, fmt.Sprintf("%s cannot be read", shown), downloadAgain)
		return nil, nil
	}
	return b, nil
}

func shownFolder(dir string) string {
	if dir == "" {
		return "its root folder"
	}
	return "the folder " + dir
}

// record reads one record, and the folder's own where it is one.
func (t *isoTree) record(r []byte) (f *isoFile, folder []byte, err error) {
	le := binary.LittleEndian
	n := int(r[32])
	raw := r[isoRecord : isoRecord+n]
	f = &isoFile{extents: []isoExtent{{int64(le.Uint32(r[2:])) * isoBlock, int64(le.Uint32(r[10:]))}}}
	if r[25]&2 != 0 {
		f.mode |= fs.ModeDir
	}
	if t.joliet {
		var u []uint16
		for i := 0; i+1 < len(raw); i += 2 {
			u = append(u, binary.BigEndian.Uint16(raw[i:]))
		}
		f.name = string(utf16.Decode(u))
	} else {
		f.name = string(raw)
	}
	name, _, _ := strings.Cut(f.name, ";")
	f.name = strings.TrimSuffix(name, ".")
	folder = r
	if !t.rock {
		return f, folder, nil
	}
	from := isoRecord + n + (n+1)%2 + int(t.skip)
	if from >= len(r) {
		return f, folder, nil
	}
	return t.rockRidge(f, r[from:], r)
}

// rockRidge reads the entries of Rock Ridge: signature 2, length 1, version 1, data.
//
// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
func (t *isoTree) rockRidge(f *isoFile, area, r []byte) (*isoFile, []byte, error) {
	var name strings.Builder
	var target isoLink
	folder := r
	for more := 0; area != nil && more < isoMaxContinue; more++ {
		var next []byte
		for len(area) >= 4 && int(area[2]) >= 4 && int(area[2]) <= len(area) {
			e := area[:area[2]]
			area = area[area[2]:]
			switch sig := string(e[:2]); {
			case sig == "ST":
				area = nil
			case sig == "RE":
				return nil, nil, nil // a folder that was moved here; where it belongs, CL says
			case sig == "NM" && len(e) >= 5 && e[4]&6 == 0:
				name.Write(e[5:])
			case sig == "PX" && len(e) >= 8:
				f.mode = content.UnixMode(binary.LittleEndian.Uint32(e[4:]))
			case sig == "SL" && len(e) >= 5:
				target.add(e[5:])
			case sig == "ZF":
				f.packed = true
			case sig == "CL" && len(e) >= 8:
				at := int64(binary.LittleEndian.Uint32(e[4:])) * isoBlock
				own := make([]byte, isoRecord+1)
				if n, err := t.at.ReadAt(own, at); n < len(own) {
					if err != nil && fatal(err) {
						return nil, nil, err
					}
					continue
				}
				folder, f.mode = own, fs.ModeDir|0o755
			case sig == "CE" && len(e) >= 28:
				le := binary.LittleEndian
				size := min(le.Uint32(e[20:]), 64<<10)
				next = make([]byte, size)
				n, err := t.at.ReadAt(next, int64(le.Uint32(e[4:]))*isoBlock+int64(le.Uint32(e[12:])))
				if err != nil && fatal(err) {
					return nil, nil, err
				}
				next = next[:n]
			}
		}
		area = next
	}
	if name.Len() > 0 {
		f.name = name.String()
	}
	if f.mode&fs.ModeSymlink != 0 {
		f.target = target.String()
	}
	return f, folder, nil
}

// isoLink is the target of a symbolic link, put together from its components.
type isoLink struct {
	strings.Builder
	open bool // the next component goes on with the last one
}

// add adds the components of one entry: flags 1, length 1, text.
func (l *isoLink) add(b []byte) {
	for len(b) >= 2 && 2+int(b[1]) <= len(b) {
		flags, text := b[0], string(b[2:2+int(b[1])])
		b = b[2+int(b[1]):]
		if l.Len() > 0 && !l.open && !strings.HasSuffix(l.String(), "/") {
			l.WriteString("/")
		}
		l.open = flags&1 != 0
		switch {
		case flags&8 != 0:
			text = "/"
		case flags&2 != 0:
			text = "."
		case flags&4 != 0:
			text = ".."
		}
		l.WriteString(text)
	}
}
