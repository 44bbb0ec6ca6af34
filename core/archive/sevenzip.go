package archive

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"strings"

	"fitcheck/core/content"

	"github.com/bodgit/sevenzip"
)

// A 7z archive (7zFormat.txt) has its directory at the end. It may be packed
// as one stream of several files, so that they are read in its order. A library reads
// it; before it does, the counts of the directory are held against its length, since
// the library makes room for as many as are announced.

func init() {
	registerKind(&kind{name: SevenZip, rank: 2, tells: is7z, sum: "CRC-32", open: func(w *walker, p *pass, _ []byte) error { return w.sevenZip(p) }})
}

func is7z(head []byte) bool {
	return strings.HasPrefix(string(head[:min(6, len(head))]), "7z\xbc\xaf\x27\x1c")
}

// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
func (w *walker) sevenZip(p *pass) error {
	return w.random(p, func(at io.ReaderAt, size int64) error {
		var r *sevenzip.Reader
		err := sevenZipDirectory(at, size)
		if err == nil {
			err = guard(func() (err error) {
				r, err = sevenzip.NewReader(at, size)
				return err
			})
		}
		var read *sevenzip.ReadError
		var cannot *cannotRead
		var own *damage
		switch {
		case err != nil && fatal(err):
			return err
		case errors.As(err, &read) && read.Encrypted:
			p.problem(Unreadable, "encrypted: not even its list of files can be read", decryptFirst)
			return nil
		case errors.As(err, &cannot), errors.As(err, &own):
			return p.failed(err)
		case err != nil && strings.Contains(err.Error(), "unsupported"):
			p.problem(Unreadable, "its list of files cannot be read: it is packed by a method that fitcheck does not know", unpackElsewhere)
			return nil
		case err != nil:
			p.problem(Damaged, "truncated or damaged: its directory cannot be read", downloadAgain)
			return nil
		}
		if left := w.limits.Items - w.items.Load(); int64(len(r.File)) > left {
			return &BoundError{p.it.Address, BoundItems, w.limits.Items}
		}
		total := uint64(w.bytes.Load())
		for _, f := range r.File {
			if total += f.UncompressedSize; f.UncompressedSize > uint64(w.limits.Bytes) || total > uint64(w.limits.Bytes) {
				return &BoundError{p.it.Address + "::" + printable(f.Name), BoundBytes, w.limits.Bytes}
			}
		}
		all, members := &nameIndex{}, &aside{w: w}
		before := map[int]uint64{} // what lies in front of a file in its stream
		for i, f := range r.File {
			from := before[f.Stream]
			before[f.Stream] += f.UncompressedSize
			if from > QuickBytes && p.quick() && !f.FileInfo().IsDir() {
				it := p.it.child(f.Name, int64(f.UncompressedSize), 1, i)
				if err := w.passOver(it); err != nil {
					return members.wait(err)
				}
				all.file(it, "")
				continue
			}
			if err := w.sevenZipFile(p, f, i, size, all, members); err != nil {
				return members.wait(err)
			}
		}
		if err := members.wait(nil); err != nil {
			return err
		}
		all.judge(p, false)
		return nil
	})
}

func (w *walker) sevenZipFile(p *pass, f *sevenzip.File, index int, packed int64, all *nameIndex, members *aside) error {
	mode := f.Mode()
	if f.FileInfo().IsDir() {
		all.folder(f.Name)
		return nil
	}
	it := p.it.child(f.Name, int64(f.UncompressedSize), 1, index)
	it.Mode = mode.Perm()
	var rc io.ReadCloser
	err := guard(func() (err error) {
		rc, err = f.Open()
		return err
	})
	var read *sevenzip.ReadError
	switch {
	case err != nil && fatal(err):
		return err
	case errors.As(err, &read) && read.Encrypted:
		err = errEncrypted
	case err != nil:
		err = &cannotRead{"it is packed in a way that fitcheck cannot read", unpackElsewhere}
	}
	if err != nil {
		if !all.modeMember(it, mode, "") {
			all.file(it, "")
			return w.unread(it, err)
		}
		return nil
	}
	defer rc.Close()
	var data io.Reader = content.Exactly(&reader{w: w, item: it.Address, r: sevenZipReader{guardedReader{rc}}, packed: func() int64 { return packed }}, it.Size)
	check := ""
	if f.CRC32 != 0 { // 0 is what the library gives for none
		check = fmt.Sprintf("%08x", f.CRC32)
		data = &crcReader{r: data, sum: crc32.NewIEEE(), want: f.CRC32, of: "7z archive"}
	}
	if specialMode(mode) != "" {
		target, err := readTarget(data)
		all.modeMember(it, mode, target)
		return w.damagedLink(it, err)
	}
	if check == "" && it.Size > 0 {
		w.visitor.Report(Problem{it.Address, Note, "the archive gives no checksum for it", ""})
	}
	all.file(it, check)
	return members.item(p, it, data)
}

// sevenZipReader tells an encrypted file from a damaged one.
type sevenZipReader struct{ r io.Reader }

func (s sevenZipReader) Read(p []byte) (int, error) {
	n, err := s.r.Read(p)
	var read *sevenzip.ReadError
	if errors.As(err, &read) && read.Encrypted {
		err = errEncrypted
	}
	return n, err
}

// The properties of a 7z directory.
const (
	sevenEnd          = 0x00
	sevenHeader       = 0x01
	sevenArchiveProps = 0x02
	sevenAdditional   = 0x03
	sevenMainStreams  = 0x04
	sevenFiles        = 0x05
	sevenPackInfo     = 0x06
	sevenUnpackInfo   = 0x07
	sevenSubStreams   = 0x08
	sevenSize         = 0x09
	sevenCRC          = 0x0a
	sevenFolder       = 0x0b
	sevenUnpackSize   = 0x0c
	sevenNumUnpack    = 0x0d
	sevenEncoded      = 0x17

	sevenStart   = 32
	maxDirectory = 64 << 20 // bytes of a directory
)

// sevenZipDirectory holds the counts of a directory against its length. It tells of
// nothing else: what makes no sense is left to the library.
func sevenZipDirectory(at io.ReaderAt, size int64) error {
	start := make([]byte, sevenStart)
	if n, _ := at.ReadAt(start, 0); n < len(start) {
		return io.ErrUnexpectedEOF
	}
	le := binary.LittleEndian
	offset, length := le.Uint64(start[12:]), le.Uint64(start[20:])
	if crc32.ChecksumIEEE(start[12:32]) != le.Uint32(start[8:]) || offset > uint64(size) || length > uint64(size) || sevenStart+offset+length > uint64(size) {
		return io.ErrUnexpectedEOF
	}
	if length > maxDirectory {
		return &cannotRead{"its directory is longer than fitcheck reads", unpackElsewhere}
	}
	b := make([]byte, length)
	if _, err := at.ReadAt(b, sevenStart+int64(offset)); err != nil && err != io.EOF {
		return err
	}
	for layer := 0; layer < 4; layer++ {
		d := &sevenDirectory{b: b, bound: uint64(len(b)) * 8}
		id := d.byte()
		if id == sevenHeader {
			d.header()
			if d.over {
				return damagedf("its directory announces more than it holds")
			}
			return nil
		}
		if id != sevenEncoded {
			return nil
		}
		d.streams()
		if d.over {
			return damagedf("its directory announces more than it holds")
		}
		if d.method == "" || d.bad || d.unpacked > maxDirectory {
			if d.unpacked > maxDirectory {
				return &cannotRead{"its directory is longer than fitcheck reads", unpackElsewhere}
			}
			return nil
		}
		next, ok := d.decode(at, size)
		if !ok {
			return nil
		}
		b = next
	}
	return damagedf("its directory is packed many times over")
}

// sevenDirectory reads numbers of a directory. over says that a count is more than the
// bytes of the directory can tell of.
type sevenDirectory struct {
	b         []byte
	bound     uint64
	bad, over bool

	packAt, packSize uint64
	method           string // of the first coder of the first folder
	props            []byte
	unpacked         uint64
}

func (d *sevenDirectory) byte() byte {
	if len(d.b) == 0 {
		d.bad = true
		return 0
	}
	c := d.b[0]
	d.b = d.b[1:]
	return c
}

// number reads a number whose first byte tells how many bytes follow.
func (d *sevenDirectory) number() uint64 {
	first := d.byte()
	var n uint64
	mask := byte(0x80)
	for i := 0; i < 8; i++ {
		if first&mask == 0 {
			return n | uint64(first&(mask-1))<<(8*i)
		}
		n |= uint64(d.byte()) << (8 * i)
		mask >>= 1
	}
	return n
}

func (d *sevenDirectory) count() uint64 {
	n := d.number()
	if n > d.bound {
		d.over, d.bad = true, true
		return 0
	}
	return n
}

func (d *sevenDirectory) skip(n uint64) []byte {
	if n > uint64(len(d.b)) {
		d.bad = true
		return nil
	}
	out := d.b[:n]
	d.b = d.b[n:]
	return out
}

// crcs passes over sums, and tells which of n there are.
func (d *sevenDirectory) crcs(n uint64) []bool {
	defined := make([]bool, n) // at most bound
	if d.byte() != 0 {
		for i := range defined {
			defined[i] = true
		}
		d.skip(4 * n)
		return defined
	}
	bits, there := d.skip((n+7)/8), uint64(0)
	if d.bad {
		return defined
	}
	for i := range defined {
		if defined[i] = bits[i/8]&(0x80>>(i%8)) != 0; defined[i] {
			there++
		}
	}
	d.skip(4 * there)
	return defined
}

func (d *sevenDirectory) header() {
	for !d.bad {
		switch d.byte() {
		case sevenArchiveProps:
			for !d.bad && d.byte() != sevenEnd {
				d.skip(d.number())
			}
		case sevenAdditional, sevenMainStreams:
			d.streams()
		case sevenFiles:
			// Each file has at least the end of its name, two bytes.
			if n := d.number(); n > uint64(len(d.b)) {
				d.over = true
			}
			return
		default:
			return
		}
	}
}

func (d *sevenDirectory) streams() {
	var folders []bool
	for !d.bad {
		switch d.byte() {
		case sevenEnd:
			return
		case sevenPackInfo:
			d.packAt = d.number()
			n := d.count()
			for id := d.byte(); id != sevenEnd && !d.bad; id = d.byte() {
				if id == sevenSize {
					for i := range n {
						if size := d.number(); i == 0 {
							d.packSize = size
						}
						if d.bad {
							return
						}
					}
				} else {
					d.crcs(n)
				}
			}
		case sevenUnpackInfo:
			folders = d.folders()
		case sevenSubStreams:
			d.subStreams(folders)
		default:
			return
		}
	}
}

// subStreams passes over what tells how the streams of the folders are cut into files.
func (d *sevenDirectory) subStreams(folders []bool) {
	streams := make([]uint64, len(folders))
	for i := range streams {
		streams[i] = 1
	}
	id := d.byte()
	if id == sevenNumUnpack {
		total := uint64(0)
		for i := range streams {
			streams[i] = d.count()
			if total += streams[i]; total > d.bound {
				d.over, d.bad = true, true
			}
			if d.bad {
				return
			}
		}
		id = d.byte()
	}
	if id == sevenSize {
		for _, n := range streams {
			for range max(n, 1) - 1 {
				d.number()
				if d.bad {
					return
				}
			}
		}
		id = d.byte()
	}
	for ; id != sevenEnd && !d.bad; id = d.byte() {
		sums := uint64(0)
		for i, n := range streams {
			if n != 1 || !folders[i] {
				sums += n
			}
		}
		d.crcs(sums)
	}
}

// folders passes over the folders, and tells which of them have a sum.
//
// In one piece: the records follow each other as they lie in the file, and each depends on the one before.
func (d *sevenDirectory) folders() (summed []bool) {
	if d.byte() != sevenFolder {
		d.bad = true
	}
	folders := d.count()
	if d.byte() != 0 {
		d.bad = true
	}
	var outputs uint64
	for f := range folders {
		var in, out uint64
		coders := d.count()
		for c := range coders {
			flags := d.byte()
			method := d.skip(uint64(flags & 0x0f))
			i, o := uint64(1), uint64(1)
			if flags&0x10 != 0 {
				i, o = d.count(), d.count()
			}
			in, out = in+i, out+o
			var props []byte
			if flags&0x20 != 0 {
				props = d.skip(d.number())
			}
			if f == 0 && c == 0 && coders == 1 {
				d.method, d.props = string(method), props
			}
			if d.bad {
				return nil
			}
		}
		if in > d.bound || out > d.bound {
			d.over, d.bad = true, true
			return nil
		}
		for range max(out, 1) - 1 { // pairs that bind one coder to another
			d.number()
			d.number()
			if d.bad {
				return nil
			}
		}
		if packed := in - min(in, max(out, 1)-1); packed > 1 {
			for range packed {
				d.number()
				if d.bad {
					return nil
				}
			}
		}
		outputs += out
	}
	if d.byte() != sevenUnpackSize {
		d.bad = true
	}
	for i := range outputs {
		if size := d.number(); i == 0 {
			d.unpacked = size
		}
		if d.bad {
			return nil
		}
	}
	summed = make([]bool, folders)
	for id := d.byte(); id != sevenEnd && !d.bad; id = d.byte() {
		summed = d.crcs(folders)
	}
	return summed
}

// decode unpacks a directory that is packed by LZMA, or plain.
func (d *sevenDirectory) decode(at io.ReaderAt, size int64) ([]byte, bool) {
	if d.packAt > uint64(size) || d.packSize > uint64(size) {
		return nil, false
	}
	packed := io.NewSectionReader(at, sevenStart+int64(d.packAt), int64(d.packSize))
	var r io.Reader
	switch {
	case d.method == "\x00":
		r = packed
	case d.method == "\x03\x01\x01" && len(d.props) == 5:
		head := binary.LittleEndian.AppendUint64(bytes.Clone(d.props), d.unpacked)
		z, err := Inflater(LzmaStream, io.MultiReader(bytes.NewReader(head), packed))
		if err != nil {
			return nil, false
		}
		r = guardedReader{z}
	default:
		return nil, false
	}
	out, err := io.ReadAll(io.LimitReader(r, int64(d.unpacked)))
	return out, err == nil && uint64(len(out)) == d.unpacked
}
