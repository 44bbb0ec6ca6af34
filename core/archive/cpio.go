package archive

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strconv"
	"strings"
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

const (
	cpioTrailer = "TRAILER!!!"
	// maxCpioName is the longest name that is read; the kernel takes 4096 bytes.
	maxCpioName = 64 << 10
)

// isCpio: the magic of the binary form is short, so that the name behind its header must
// end where it says.
func isCpio(head []byte) bool {
	h, n, err := cpioHeader(head)
	if err != nil || h.pad == 4 {
		return err == nil
	}
	end := int64(n) + h.nameSize
	return h.nameSize > 1 && end <= int64(len(head)) && bytes.IndexByte(head[n:end], 0) == int(h.nameSize)-1
}

// cpioMember is the header of one member.
type cpioMember struct {
	ino, dev       uint64
	mode           uint32
	links          uint32
	size, nameSize int64
	sum            uint32
	summed         bool  // sum is given
	pad            int64 // bytes that name and content are padded to
}

// cpioHeader reads a header, and tells its length. The error says that none is there.
func cpioHeader(b []byte) (h cpioMember, n int, err error) {
	switch {
	case len(b) >= 110 && (string(b[:6]) == "070701" || string(b[:6]) == "070702"):
		var f [13]uint64
		for i := range f {
			if f[i], err = strconv.ParseUint(string(b[6+8*i:14+8*i]), 16, 32); err != nil {
				return h, 0, errNoCpio
			}
		}
		h = cpioMember{ino: f[0], mode: uint32(f[1]), links: uint32(f[4]), size: int64(f[6]), dev: f[7]<<32 | f[8], nameSize: int64(f[11]), sum: uint32(f[12]), summed: b[5] == '2', pad: 4}
		return h, 110, nil
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
		dev, ino, mode := octal(6), octal(6), octal(6)
		octal(12) // uid, gid
		links := octal(6)
		octal(17) // device, time
		name, size := octal(6), octal(11)
		h = cpioMember{dev: dev, ino: ino, mode: uint32(mode), links: uint32(links), nameSize: int64(name), size: int64(size), pad: 1}
		return h, 76, err
	case len(b) >= 26 && (b[0] == 0xc7 && b[1] == 0x71 || b[0] == 0x71 && b[1] == 0xc7):
		var order binary.ByteOrder = binary.LittleEndian
		if b[0] == 0x71 {
			order = binary.BigEndian
		}
		u := func(i int) uint64 { return uint64(order.Uint16(b[2*i:])) }
		h = cpioMember{dev: u(1), ino: u(2), mode: uint32(u(3)), links: uint32(u(6)), nameSize: int64(u(10)), size: int64(u(11)<<16 | u(12)), pad: 2}
		return h, 26, nil
	}
	return h, 0, errNoCpio
}

var errNoCpio = errors.New("no cpio header")

// cpioStream reads the bytes of a cpio and counts them, since padding goes by the
// place in the archive.
type cpioStream struct {
	r *bufio.Reader
	n int64
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
	b, err := c.r.Peek(110)
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
	case bad != nil && len(b) < 110:
		return h, "", io.ErrUnexpectedEOF
	case bad != nil:
		return h, "", damagedf("at byte %d of the cpio archive, where a header belongs, there is none", c.n)
	case h.nameSize <= 0 || h.nameSize > maxCpioName:
		return h, "", damagedf("a header of the cpio archive, at byte %d, announces a name of %d bytes", c.n, h.nameSize)
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
		return h, "", damagedf("a name in the cpio archive, before byte %d, does not end where its header says", c.n)
	}
	return h, string(text[:len(text)-1]), c.pad(h)
}

func (c *cpioStream) pad(h cpioMember) error {
	return c.skip((h.pad - c.n%h.pad) % h.pad)
}

func (w *walker) cpio(p *pass, r io.Reader, levels int) error {
	if err := w.enter(p.it, levels); err != nil {
		return err
	}
	c := &cpioStream{r: bufio.NewReaderSize(r, 32<<10)}
	all := &roster{}
	err := w.cpioMembers(p, c, all, levels)
	all.judge(p, true)
	return err
}

func (w *walker) cpioMembers(p *pass, c *cpioStream, all *roster, levels int) error {
	type node struct{ dev, ino uint64 }
	waiting := map[node][]*Item{} // names of a file whose content comes with its last name
	held := map[node]*Item{}
	for i := 0; ; i++ {
		h, name, err := c.next()
		if err != nil {
			return p.failed(err)
		}
		if name == cpioTrailer && h.size == 0 {
			for _, names := range waiting { // files that are empty under all their names
				if err := w.item(names[0], source{r: strings.NewReader("")}); err != nil {
					return err
				}
				all.file(names[0], "")
				for _, other := range names[1:] {
					all.link(other, names[0].Name, true)
				}
			}
			clear(waiting)
			clear(held)
			err := c.zeros()
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return p.failed(err)
			}
			if b, _ := c.r.Peek(512); !isCpio(b) {
				return p.afterCpio(c)
			}
			c.n = 0 // a new archive; what lies in front of it ends at a multiple of 4
			continue
		}
		it := p.it.child(name, h.size, levels, i)
		mode := cpioMode(h.mode)
		it.Mode = mode.Perm()
		content := &exact{r: io.LimitReader(c, h.size), left: h.size}
		end := c.n + h.size
		switch {
		case mode.IsDir():
			all.folder(name)
		case mode.IsRegular() && h.links > 1 && held[node{h.dev, h.ino}] != nil:
			all.link(it, held[node{h.dev, h.ino}].Name, true)
		case mode.IsRegular() && h.links > 1 && h.size == 0 && h.pad == 4:
			waiting[node{h.dev, h.ino}] = append(waiting[node{h.dev, h.ino}], it)
		case mode.IsRegular():
			var r io.Reader = content
			if h.summed {
				r = &cpioSum{r: content, want: h.sum}
			}
			if err := w.item(it, source{r: r}); err != nil {
				return err
			}
			all.file(it, "")
			if h.links > 1 {
				at := node{h.dev, h.ino}
				held[at] = it
				for _, other := range waiting[at] {
					all.link(other, it.Name, true)
				}
				delete(waiting, at)
			}
		case mode&fs.ModeSymlink != 0 && h.size <= maxCpioName:
			target, err := io.ReadAll(content)
			if err != nil {
				return p.failed(err)
			}
			all.link(it, strings.TrimRight(string(target), "\x00"), false)
		default:
			all.special(it, specialMode(mode))
		}
		if content.short || p.broken {
			return p.failed(io.ErrUnexpectedEOF)
		}
		if err := c.skip(end - c.n); err != nil {
			return p.failed(err)
		}
		if err := c.pad(h); err != nil {
			return p.failed(err)
		}
	}
}

// EachCpio shows the files of a cpio stream, of all archives in it, in their order. What
// visit leaves of a file is passed over. The error is visit's, one that ends the walk, or
// says where the stream makes no sense.
func EachCpio(r io.Reader, visit func(name string, mode fs.FileMode, content io.Reader) error) error {
	c := &cpioStream{r: bufio.NewReaderSize(r, 32<<10)}
	for {
		h, name, err := c.next()
		if err != nil {
			return err
		}
		if name == cpioTrailer && h.size == 0 {
			if err := c.zeros(); err != nil {
				if err == io.EOF {
					err = nil
				}
				return err
			}
			if b, _ := c.r.Peek(512); !isCpio(b) {
				return nil
			}
			c.n = 0
			continue
		}
		end := c.n + h.size
		if err := visit(name, cpioMode(h.mode), io.LimitReader(c, h.size)); err != nil {
			return err
		}
		if err := c.skip(end - c.n); err != nil {
			return err
		}
		if err := c.pad(h); err != nil {
			return err
		}
	}
}

// Describe puts an error of content into words that are nobody else's.
func Describe(err error) string {
	_, what, _ := wrong(err)
	return what
}

// afterCpio tells what follows the last archive.
func (p *pass) afterCpio(c *cpioStream) error {
	at := c.n
	if _, err := io.Copy(io.Discard, c); err != nil {
		return p.failed(err)
	}
	p.problem(Note, fmt.Sprintf("%d bytes that are no cpio archive follow its end", c.n-at), "")
	return nil
}

// cpioMode is the mode of a member, whose upper bits tell its kind as in <sys/stat.h>.
func cpioMode(m uint32) fs.FileMode {
	mode := fs.FileMode(m & 0o777)
	switch m >> 12 {
	case 4:
		mode |= fs.ModeDir
	case 10:
		mode |= fs.ModeSymlink
	case 2, 6:
		mode |= fs.ModeDevice
	case 1:
		mode |= fs.ModeNamedPipe
	case 12:
		mode |= fs.ModeSocket
	case 8, 0: // some writers leave the kind out
	default:
		mode |= fs.ModeIrregular
	}
	return mode
}

// exact is a member that has to be as long as its header says.
type exact struct {
	r     io.Reader
	left  int64
	short bool // it ended too early
}

func (e *exact) Read(p []byte) (int, error) {
	n, err := e.r.Read(p)
	if e.left -= int64(n); err == io.EOF && e.left > 0 {
		e.short = true
		err = io.ErrUnexpectedEOF
	}
	return n, err
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
		err = damagedf("the checksum that the cpio archive gives for it does not match its content")
	}
	return n, err
}
