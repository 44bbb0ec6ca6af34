package content

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

// cpio is a stream of files, each behind a header. Four forms are in use:
//
//	"070701"  new ASCII (SVR4): 13 fields of 8 hexadecimal digits; name and content
//	          are padded to 4 bytes (Linux Documentation/driver-api/early-userspace)
//	"070702"  the same with a sum of the content's bytes
//	"070707"  portable (POSIX.1-1988 10.1.5): octal digits, no padding
//	0o070707  binary, as a 16-bit number of either byte order: words of 16 bits,
//	          32-bit numbers with the more significant word first; padded to 2 bytes
//
// An archive ends with a member of the name TRAILER!!!. Further archives may follow,
// after zeros, and are unpacked over the ones before; so a RAM disk is put together.
//
// Of the new forms, a file of several names has its content with one of them, most often
// the last; the others are empty.

func init() {
	register(Kind{Name: "cpio", Title: "cpio archive", Open: OpenCpio, From: "Linux, early-userspace/buffer-format.rst",
		Reads: "new, checksummed, portable and binary form of either byte order, several names of one file, archives that follow each other"})
}

const (
	cpioTrailer = "TRAILER!!!"
	// maxCpioName is the longest name that is read; the kernel takes 4096 bytes.
	maxCpioName = 64 << 10
	cpioLongest = 110 // header
)

// IsCpio tells a cpio by its first bytes. The magic of the binary form is short, so that
// the name behind its header must end where it says.
func IsCpio(head []byte) bool {
	h, n, err := cpioHeader(head)
	if err != nil || h.pad == 4 {
		return err == nil
	}
	end := int64(n) + h.nameSize
	return h.nameSize > 1 && end <= int64(len(head)) && bytes.IndexByte(head[n:end], 0) == int(h.nameSize)-1
}

// CpioNames lists the names of a cpio, and whether each is a file's, as far as its first
// bytes reach.
func CpioNames(head []byte, visit func(name string, file bool)) {
	c := &cpioStream{r: bufio.NewReader(bytes.NewReader(head))}
	for {
		h, name, err := c.next()
		if err != nil || name == cpioTrailer {
			return
		}
		visit(name, cpioMode(h.mode).IsRegular())
		if c.skip(h.size) != nil || c.pad(h) != nil {
			return
		}
	}
}

// cpioMember is the header of one member.
type cpioMember struct {
	ino, dev       uint64
	mode           uint32
	uid, gid       uint32
	major, minor   uint32
	links          uint32
	modified       int64
	size, nameSize int64
	sum            uint32
	summed         bool  // sum is given
	pad            int64 // bytes that name and content are padded to
}

// cpioHeader reads a header, and tells its length. The error says that none is there.
func cpioHeader(b []byte) (h cpioMember, n int, err error) {
	switch {
	case len(b) >= cpioLongest && (string(b[:6]) == "070701" || string(b[:6]) == "070702"):
		var f [13]uint64
		for i := range f {
			if f[i], err = strconv.ParseUint(string(b[6+8*i:14+8*i]), 16, 32); err != nil {
				return h, 0, errNoCpio
			}
		}
		h = cpioMember{ino: f[0], mode: uint32(f[1]), uid: uint32(f[2]), gid: uint32(f[3]), links: uint32(f[4]), modified: int64(f[5]), size: int64(f[6]),
			dev: f[7]<<32 | f[8], major: uint32(f[9]), minor: uint32(f[10]), nameSize: int64(f[11]), sum: uint32(f[12]), summed: b[5] == '2', pad: 4}
		return h, cpioLongest, nil
	case len(b) >= 76 && string(b[:6]) == "070707":
		at := 6
		octal := func(width int) (v uint64) {
			t := string(b[at : at+width])
			at += width
			v, bad := strconv.ParseUint(t, 8, 64)
			if bad != nil {
				err = errNoCpio
			}
			return v
		}
		dev, ino, mode, uid, gid, links, rdev := octal(6), octal(6), octal(6), octal(6), octal(6), octal(6), octal(6)
		modified, name, size := octal(11), octal(6), octal(11)
		h = cpioMember{dev: dev, ino: ino, mode: uint32(mode), uid: uint32(uid), gid: uint32(gid), links: uint32(links), major: uint32(rdev) >> 8, minor: uint32(rdev) & 0xff,
			modified: int64(modified), nameSize: int64(name), size: int64(size), pad: 1}
		return h, 76, err
	case len(b) >= 26 && (b[0] == 0xc7 && b[1] == 0x71 || b[0] == 0x71 && b[1] == 0xc7):
		var order binary.ByteOrder = binary.LittleEndian
		if b[0] == 0x71 {
			order = binary.BigEndian
		}
		u := func(i int) uint64 { return uint64(order.Uint16(b[2*i:])) }
		h = cpioMember{dev: u(1), ino: u(2), mode: uint32(u(3)), uid: uint32(u(4)), gid: uint32(u(5)), links: uint32(u(6)), major: uint32(u(7)) >> 8, minor: uint32(u(7)) & 0xff,
			modified: int64(u(8)<<16 | u(9)), nameSize: int64(u(10)), size: int64(u(11)<<16 | u(12)), pad: 2}
		return h, 26, nil
	}
	return h, 0, errNoCpio
}

var errNoCpio = errors.New("no cpio header")

// cpioStream reads the bytes of a cpio and counts them, since padding goes by the
// place in the archive.
type cpioStream struct {
	r    *bufio.Reader
	n    int64 // since the first header of this archive
	base int64 // of that in the stream
}

func (c *cpioStream) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *cpioStream) skip(n int64) error {
	got, err := io.CopyN(io.Discard, c, n)
	if err == io.EOF && got < n {
		err = io.ErrUnexpectedEOF
	}
	return err
}

// zeros passes over zeros between two archives; io.EOF when nothing else follows.
func (c *cpioStream) zeros() error {
	for {
		b, err := c.r.Peek(1)
		if err != nil {
			return err
		}
		if b[0] != 0 {
			return nil
		}
		if _, err := c.Read(b[:1:1]); err != nil {
			return err
		}
	}
}

// next reads the header and the name of the next member.
func (c *cpioStream) next() (h cpioMember, name string, err error) {
	b, err := c.r.Peek(cpioLongest)
	if len(b) == 0 {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF // the trailer has not come yet
		}
		return h, "", err
	}
	if err != nil && err != io.EOF {
		return h, "", err
	}
	h, n, bad := cpioHeader(b)
	switch {
	case bad != nil && len(b) < cpioLongest:
		return h, "", io.ErrUnexpectedEOF
	case bad != nil:
		return h, "", damaged("at byte %d of the cpio archive, where a header belongs, there is none", c.n)
	case h.nameSize <= 0 || h.nameSize > maxCpioName:
		return h, "", damaged("a header of the cpio archive, at byte %d, announces a name of %d bytes", c.n, h.nameSize)
	}
	if err := c.skip(int64(n)); err != nil {
		return h, "", err
	}
	text := make([]byte, h.nameSize)
	if _, err := io.ReadFull(c, text); err != nil {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return h, "", err
	}
	if text[len(text)-1] != 0 || strings.IndexByte(string(text), 0) != len(text)-1 {
		return h, "", damaged("a name in the cpio archive, before byte %d, does not end where its header says", c.n)
	}
	return h, string(text[:len(text)-1]), c.pad(h)
}

func (c *cpioStream) pad(h cpioMember) error {
	return c.skip((h.pad - c.n%h.pad) % h.pad)
}

// cpioMode is the mode of a member, whose upper bits tell its kind as in <sys/stat.h>.
func cpioMode(m uint32) fs.FileMode {
	if m>>12 == 0 { // some writers leave the kind out
		m |= 0o100000
	}
	return unixType(m) | unixMode(m)
}

// Cpio is what was found around the files of a cpio stream.
type Cpio struct {
	// Trailing is how many bytes that are no cpio follow the last archive.
	Trailing int64
}

// ReadCpio shows the files of a cpio stream, of all archives in it, as they come. What visit
// leaves of a file's content is passed over. A further name of a file comes after the name
// that the content comes with, has the same Node, and a nil content, like all that is no
// file. The error is visit's, the stream's, or says where the archive makes no sense.
func ReadCpio(r io.Reader, visit func(f *File, content io.Reader) error) (Cpio, error) {
	return readCpio(r, func(f *File, content io.Reader, _ int64) error { return visit(f, content) })
}

// readCpio is ReadCpio, and tells where in the stream the content begins.
//
// In one piece: the fields follow each other as they lie on the disk.
func readCpio(r io.Reader, visit func(f *File, content io.Reader, at int64) error) (Cpio, error) {
	c := &cpioStream{r: bufio.NewReaderSize(r, 32<<10)}
	links := &cpioLinks{visit: visit, waiting: map[cpioInode][]*File{}, held: map[cpioInode]*File{}}
	for {
		h, name, err := c.next()
		if err != nil {
			return Cpio{}, err
		}
		if name == cpioTrailer && h.size == 0 {
			if err := links.end(); err != nil {
				return Cpio{}, err
			}
			if err := c.zeros(); err == io.EOF {
				return Cpio{}, nil
			} else if err != nil {
				return Cpio{}, err
			}
			if b, _ := c.r.Peek(512); !IsCpio(b) {
				n, err := io.Copy(io.Discard, c)
				return Cpio{n}, err
			}
			c.base += c.n
			c.n = 0 // a new archive; what lies in front of it ends at a multiple of 4
			continue
		}
		f := &File{Path: name, Mode: cpioMode(h.mode), UID: h.uid, GID: h.gid, Modified: time.Unix(h.modified, 0).UTC(), Links: int(h.links)}
		data := Exactly(c, h.size)
		end, at := c.n+h.size, c.base+c.n
		switch {
		case f.Mode.IsRegular():
			f.Size = h.size
			var content io.Reader = data
			if h.summed {
				content = &cpioSum{r: data, want: h.sum}
			}
			err = links.file(f, h, content, at)
		case f.Mode&fs.ModeSymlink != 0 && h.size <= maxCpioName:
			var target []byte
			if target, err = io.ReadAll(data); err == nil {
				f.Target = strings.TrimRight(string(target), "\x00")
				err = visit(f, nil, 0)
			}
		default:
			if f.Mode&fs.ModeDevice != 0 {
				f.Major, f.Minor = h.major, h.minor
			}
			err = visit(f, nil, 0)
		}
		if err != nil && err != fs.SkipDir {
			return Cpio{}, err
		}
		if data.Short {
			return Cpio{}, io.ErrUnexpectedEOF
		}
		if err := c.skip(end - c.n); err != nil {
			return Cpio{}, err
		}
		if err := c.pad(h); err != nil {
			return Cpio{}, err
		}
	}
}

type cpioInode struct{ dev, ino uint64 }

// cpioLinks brings the names of a file together, within one archive.
type cpioLinks struct {
	visit   func(f *File, content io.Reader, at int64) error
	waiting map[cpioInode][]*File // names whose content comes with a later one
	held    map[cpioInode]*File   // the name that was shown with the content
	nodes   uint64
}

func (l *cpioLinks) file(f *File, h cpioMember, content io.Reader, at int64) error {
	if h.links <= 1 {
		l.nodes++
		f.Node = l.nodes
		return l.visit(f, content, at)
	}
	inode := cpioInode{h.dev, h.ino}
	if first := l.held[inode]; first != nil {
		return l.again(f, first)
	}
	if h.size == 0 && h.pad == 4 {
		l.waiting[inode] = append(l.waiting[inode], f)
		return nil
	}
	return l.first(inode, f, content, at)
}

// first shows a name with its content, and those that waited for it.
func (l *cpioLinks) first(inode cpioInode, f *File, content io.Reader, at int64) error {
	l.nodes++
	f.Node = l.nodes
	l.held[inode] = f
	if err := l.visit(f, content, at); err != nil {
		return err
	}
	for _, other := range l.waiting[inode] {
		if err := l.again(other, f); err != nil {
			return err
		}
	}
	delete(l.waiting, inode)
	return nil
}

func (l *cpioLinks) again(f, first *File) error {
	f.Node, f.Size = first.Node, first.Size
	return l.visit(f, nil, 0)
}

// end shows the files that are empty under all their names.
func (l *cpioLinks) end() error {
	for inode, names := range l.waiting {
		l.waiting[inode] = names[1:]
		if err := l.first(inode, names[0], strings.NewReader(""), 0); err != nil {
			return err
		}
	}
	clear(l.held)
	return nil
}

// cpioSum adds up the bytes of a file, and says so when they are not what its
// header gives.
type cpioSum struct {
	r         io.Reader // ends where the header says, or with an error
	sum, want uint32
}

func (c *cpioSum) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	for _, b := range p[:n] {
		c.sum += uint32(b)
	}
	if err == io.EOF && c.sum != c.want {
		err = damaged("the checksum that the cpio archive gives for it does not match its content")
	}
	return n, err
}

// cpio is a stream of files whose content can be read again.
type cpio struct {
	at   io.ReaderAt
	size int64
}

// OpenCpio opens a cpio that takes up to size bytes.
func OpenCpio(at io.ReaderAt, size int64) (FileSystem, error) { return &cpio{at, size}, nil }

// Walk implements FileSystem.
func (c *cpio) Walk(ctx context.Context, visit func(*File) error) error {
	where := map[uint64]int64{} // of the content of files with several names
	_, err := readCpio(io.NewSectionReader(c.at, 0, c.size), func(f *File, content io.Reader, at int64) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if f.Mode.IsRegular() {
			if content == nil {
				at = where[f.Node]
			} else if f.Links > 1 {
				where[f.Node] = at
			}
			var sum *cpioSum
			if s, ok := content.(*cpioSum); ok {
				sum = s
			}
			f.open = func() io.Reader {
				var r io.Reader = Exactly(io.NewSectionReader(c.at, at, f.Size), f.Size)
				if sum != nil {
					r = &cpioSum{r: r, want: sum.want}
				}
				return r
			}
		}
		return visit(f)
	})
	if err == io.ErrUnexpectedEOF {
		err = damaged("it is cut short")
	}
	return err
}

// CpioLength is how many bytes of a stream the cpio archives at its beginning take, and how
// many members they have. The error says that they make no sense.
func CpioLength(r io.Reader) (n int64, members int, err error) {
	c := &cpioStream{r: bufio.NewReaderSize(r, 32<<10)}
	for {
		h, name, err := c.next()
		if err != nil {
			return n, members, err
		}
		if err := c.skip(h.size); err != nil {
			return n, members, err
		}
		if err := c.pad(h); err != nil {
			return n, members, err
		}
		if name != cpioTrailer || h.size != 0 {
			members++
			continue
		}
		n = c.base + c.n
		if c.zeros() != nil {
			return n, members, nil
		}
		if b, _ := c.r.Peek(512); !IsCpio(b) {
			return n, members, nil
		}
		c.base += c.n
		c.n = 0
	}
}
