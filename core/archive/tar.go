package archive

import (
	"archive/tar"
	"bytes"
	"io"
	"io/fs"
	"strconv"
	"strings"

	"fitcheck/core/wording"
)

// A tar (POSIX.1-2017 pax, ustar, GNU) is a stream of 512-byte headers, each
// followed by its file. A header is known by its own checksum, so old tars
// without the "ustar" magic are recognised, too. A library reads it; what it does
// not tell, and programs read differently, is read once more here: see tarWatch.

const tarBlock = 512

func init() {
	registerKind(&kind{name: Tar, rank: 7, tells: IsTar, open: func(w *walker, p *pass, head []byte) error { return w.tarItem(p, head) }})
}

// IsTar tells a tar by the checksum of its first header.
func IsTar(head []byte) bool {
	if len(head) < tarBlock || head[0] == 0 {
		return false
	}
	field := strings.Trim(string(head[148:156]), " \x00")
	want, err := strconv.ParseInt(field, 8, 64)
	if err != nil {
		return false
	}
	var unsigned, signed int64
	for i, b := range head[:tarBlock] {
		if i >= 148 && i < 156 {
			b = ' '
		}
		unsigned += int64(b)
		signed += int64(int8(b))
	}
	return want == unsigned || want == signed
}

// tarItem opens an item that is a tar: one of files that are items, or the files of a system.
func (w *walker) tarItem(p *pass, head []byte) error {
	if p.at != nil && p.it.Size >= 0 && p.quick() { // what lies between the headers is not read
		p.passOver()
		return w.tar(p, io.NewSectionReader(p.at, 0, p.it.Size), 1)
	}
	if !p.mayBeRoot(head) {
		return w.tar(p, p, 1)
	}
	return w.random(p, func(at io.ReaderAt, size int64) error {
		if !tarIsRoot(at, size) {
			return w.tar(p, io.NewSectionReader(at, 0, size), 1)
		}
		l := w.listing(p, 1)
		err := w.tarMembers(p, io.NewSectionReader(at, 0, size), l, 1)
		l.told.end()
		return err
	})
}

// mayBeRoot tells whether it is worth listing a tar to know whether it holds the files of a
// system. Those of a package that is installed over a system lie in an ar archive, and are
// that package's.
func (p *pass) mayBeRoot(head []byte) bool {
	return p.lister() != nil && p.it.In != Ar && tarHints(head)
}

// tarMember takes the members of a tar as they come.
type tarMember interface {
	tar(h *tar.Header, data io.Reader, i int) error
}

// tar reads the files of a tar from r, which may be the item itself or what a
// compressed item holds. levels is how deep its files lie below the item.
func (w *walker) tar(p *pass, r io.Reader, levels int) error {
	if err := w.enter(p.it, levels); err != nil {
		return err
	}
	t := &tarItems{aside: aside{w: w}, p: p, levels: levels}
	err := t.wait(w.tarMembers(p, r, t, levels))
	t.all.judge(p, false)
	return err
}

// tarItems makes items of the members of a tar.
type tarItems struct {
	aside
	p      *pass
	levels int
	all    nameIndex
}

func (t *tarItems) tar(h *tar.Header, data io.Reader, i int) error {
	it := t.p.it.child(h.Name, h.Size, t.levels, i)
	mode := h.FileInfo().Mode()
	it.Mode = mode.Perm()
	switch h.Typeflag {
	case tar.TypeReg, tar.TypeGNUSparse:
		if err := t.item(t.p, it, data); err != nil {
			return err
		}
		t.all.file(it, "")
	case tar.TypeDir:
		t.all.folder(h.Name)
	case tar.TypeLink:
		t.all.link(it, h.Linkname, true)
	default:
		if !t.all.modeMember(it, mode, h.Linkname) {
			t.all.special(it, "an entry of the unknown type "+strconv.QuoteRune(rune(h.Typeflag)))
		}
	}
	return nil
}

func (l *listing) tar(h *tar.Header, data io.Reader, _ int) error {
	if h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeGNUSparse {
		data = nil
	}
	f := ofTar(h)
	if f.Mode&fs.ModeIrregular != 0 {
		l.tell(Unsafe, notUnderThisName, "%s: an entry of the unknown type %s", h.Name, strconv.QuoteRune(rune(h.Typeflag)))
	}
	return l.show(f, data)
}

func (w *walker) tarMembers(p *pass, r io.Reader, to tarMember, levels int) error {
	watch := &tarWatch{r: r}
	tr := tar.NewReader(watch)
	at, canSeek := r.(*io.SectionReader)
	quick := canSeek && p.quick()
	if quick {
		tr = tar.NewReader(&seekingTar{watch, at})
	}
	for i := 0; ; i++ {
		watch.begin()
		var h *tar.Header
		err := guard(func() (err error) {
			h, err = tr.Next()
			return err
		})
		watch.on = false
		if err == io.EOF {
			if !watch.zero() {
				p.problem(Note, "it ends without the zero blocks that end a tar: it may be cut short", "compare its digest with a published one")
			}
			return p.afterTar(r)
		}
		if err != nil && err != tar.ErrInsecurePath {
			return p.failed(tarError(err))
		}
		if what := watch.disagrees(); what != "" {
			p.problem(Damaged, "programs read the header of "+printable(h.Name)+" differently: "+what, compareSources)
		}
		if h.Typeflag == tar.TypeXGlobalHeader {
			if what := globalNames(h.PAXRecords); what != "" {
				p.problem(Damaged, "a header for all that follows gives them "+what+", which programs read differently", compareSources)
			}
			continue
		}
		if h.Typeflag == tarLabel && h.Size == 0 {
			p.problem(Note, "its volume is called "+printable(h.Name), "")
			continue
		}
		var content io.Reader = tr
		if sparse(h) { // holes take no bytes of the package
			address := p.it.Address + "::" + printable(h.Name)
			if h.Size > w.limits.Bytes {
				return &BoundError{address, BoundBytes, w.limits.Bytes}
			}
			content = &reader{w: w, item: address, r: tr, packed: func() int64 { return p.n.Load() }}
		}
		if err := to.tar(h, content, i); err != nil {
			return err
		}
		if quick {
			continue
		}
		if _, err := io.Copy(io.Discard, tr); err != nil { // what a sink did without
			return p.failed(tarError(err))
		}
	}
}

// tarLabel is the type of the entry by which GNU tar names a volume (GNU tar manual, "Extensions to the archive format"); there is no
// file to it.
const tarLabel = 'V'

// sparse tells whether a file has holes, which take no bytes of the archive.
func sparse(h *tar.Header) bool {
	if h.Typeflag == tar.TypeGNUSparse {
		return true
	}
	for key := range h.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return true
		}
	}
	return false
}

func tarError(err error) error {
	if err == tar.ErrHeader {
		return damagedf("a header of the tar makes no sense")
	}
	if err == tar.ErrFieldTooLong {
		return damagedf("a header of the tar is longer than one may be")
	}
	return err
}

// globalNames tells which keys of a global pax header would change what files are
// called or how long they are.
func globalNames(records map[string]string) string {
	for _, key := range []string{"path", "linkpath", "size"} {
		if _, ok := records[key]; ok {
			return "one " + key
		}
	}
	return ""
}

// afterTar reads what follows the end of a tar. A further tar in it is found by
// programs that do not stop at the zero blocks.
func (p *pass) afterTar(r io.Reader) error {
	var n int64
	more, other := false, false
	block := make([]byte, tarBlock)
	zero := make([]byte, tarBlock)
	for {
		got, err := io.ReadFull(r, block)
		n += int64(got)
		if !bytes.Equal(block[:got], zero[:got]) {
			other = true
			more = more || IsTar(block[:got])
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			break
		}
		if err != nil {
			return p.failed(err)
		}
	}
	switch {
	case more:
		p.problem(Damaged, "a further tar follows its end: some programs unpack it, too", compareSources)
	case other:
		p.problem(Note, "its end is followed by "+wording.Count(n, "byte"), "")
	}
	return nil
}

// tarWatch keeps the blocks that the library reads as it goes from one file to the
// next: the headers, as they lie there.
type tarWatch struct {
	r      io.Reader
	n      int64 // bytes read in all
	on     bool
	from   int64 // where the recording began
	record []byte
	last   [tarBlock]byte
	lastN  int
}

// seekingTar passes over what lies between the headers.
type seekingTar struct {
	*tarWatch
	at *io.SectionReader
}

func (t *seekingTar) Seek(offset int64, whence int) (int64, error) {
	n, err := t.at.Seek(offset, whence)
	if err == nil {
		t.n, t.lastN = n, 0
	}
	return n, err
}

// maxTarRecord is how much is kept of the headers of one file.
const maxTarRecord = 4 << 20

func (t *tarWatch) begin() { t.on, t.from, t.record = true, t.n, t.record[:0] }

func (t *tarWatch) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	t.n += int64(n)
	if keep := min(n, maxTarRecord-len(t.record)); t.on && keep > 0 {
		t.record = append(t.record, p[:keep]...)
	}
	if n >= len(t.last) {
		t.lastN = copy(t.last[:], p[n-len(t.last):n])
	} else if n > 0 {
		keep := copy(t.last[:], t.last[max(0, t.lastN-(len(t.last)-n)):t.lastN])
		t.lastN = keep + copy(t.last[keep:], p[:n])
	}
	return n, err
}

// zero tells whether the last block is one that ends a tar.
func (t *tarWatch) zero() bool {
	for _, b := range t.last[:t.lastN] {
		if b != 0 {
			return false
		}
	}
	return t.lastN > 0
}

// disagrees tells what the headers of one file say twice and differently: a name by
// pax and by GNU's long names, a size by pax and by the header.
//
// In one piece: each field of the header in its turn.
func (t *tarWatch) disagrees() string {
	b := t.record
	if skip := (tarBlock - t.from%tarBlock) % tarBlock; skip <= int64(len(b)) {
		b = b[skip:]
	}
	names := map[byte][]string{}
	size := int64(-1)
	for len(b) >= tarBlock {
		head, kind := b[:tarBlock], b[156]
		b = b[tarBlock:]
		length, ok := tarNumber(head[124:136])
		switch kind {
		case 'x', 'L', 'K', 'X':
			if !ok || length < 0 || length > int64(len(b)) {
				return ""
			}
			data := b[:length]
			b = b[min(int64(len(b)), (length+tarBlock-1)/tarBlock*tarBlock):]
			switch kind {
			case 'L', 'K':
				names[kind] = append(names[kind], strings.TrimRight(string(data), "\x00"))
			default:
				for _, rec := range paxRecords(data) {
					switch rec[0] {
					case "path":
						names['x'] = append(names['x'], rec[1])
					case "linkpath":
						names['k'] = append(names['k'], rec[1])
					case "size":
						if n, err := strconv.ParseInt(rec[1], 10, 64); err == nil {
							if size >= 0 && size != n {
								return "its size is given twice"
							}
							size = n
						}
					}
				}
			}
		case 'g':
			b = b[min(int64(len(b)), (max(0, length)+tarBlock-1)/tarBlock*tarBlock):]
		default:
			const octalMost = 1<<33 - 1 // 11 octal digits
			if ok && size >= 0 && size != length && size <= octalMost && length != 0 {
				return "it gives the size of " + strconv.FormatInt(length, 10) + " bytes, and its pax record " + strconv.FormatInt(size, 10)
			}
			b = nil // the file's own header; what the library has read beyond is no header
		}
	}
	for _, pair := range [][2]byte{{'x', 'L'}, {'k', 'K'}} {
		var first string
		for i, name := range append(names[pair[0]], names[pair[1]]...) {
			if i > 0 && name != first {
				return "it bears the names " + printable(first) + " and " + printable(name)
			}
			first = name
		}
	}
	return ""
}

// tarNumber reads a number of a header: octal digits, or a binary one whose first bit
// is set (GNU).
func tarNumber(field []byte) (int64, bool) {
	if field[0]&0x80 != 0 {
		if field[0]&0x40 != 0 {
			return 0, false // below zero
		}
		n := int64(field[0] & 0x3f)
		for _, b := range field[1:] {
			if n > 1<<54 {
				return 0, false
			}
			n = n<<8 | int64(b)
		}
		return n, true
	}
	text := strings.Trim(string(field), " \x00")
	if text == "" {
		return 0, true
	}
	n, err := strconv.ParseInt(text, 8, 64)
	return n, err == nil
}

// paxRecords splits the records "LENGTH KEY=VALUE\n" of a pax header.
func paxRecords(b []byte) (out [][2]string) {
	for len(b) > 0 {
		digits, rest, ok := bytes.Cut(b, []byte{' '})
		n, err := strconv.Atoi(string(digits))
		if !ok || err != nil || n <= len(digits)+1 || n > len(b) {
			return out
		}
		key, value, _ := strings.Cut(string(rest[:n-len(digits)-1]), "=")
		out = append(out, [2]string{key, strings.TrimSuffix(value, "\n")})
		b = b[n:]
	}
	return out
}
