package archive

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"math"
	"runtime"
)

// Content gives random access to the bytes of an item, or of something inside
// it. Whatever is read or inflated through it is booked against the bounds of
// the walk, so that following an image's parts is bounded like the rest.
type Content struct {
	w       *walker
	address string
	at      io.ReaderAt
	size    int64
	depth   int
	close   func() error
	skipped bool
	unread  bool
	unsized bool // only its beginning was read, and how long it is, is not known
	cut     bool // it ends where a stream was found to end
	guess   bool // that it is a stream is a guess
}

// Memory is the content of a file that lies in memory, under the default
// bounds.
func Memory(name string, data []byte) *Content { return MemoryWithin(name, data, DefaultLimits()) }

// MemoryWithin is Memory with bounds of one's own.
func MemoryWithin(name string, data []byte, l Limits) *Content {
	w := &walker{ctx: context.Background(), limits: l, slots: make(chan struct{}, runtime.GOMAXPROCS(0))}
	w.packed.Store(int64(len(data)))
	return &Content{w: w, address: name, at: bytes.NewReader(data), size: int64(len(data))}
}

// Size is the number of bytes.
func (c *Content) Size() int64 { return c.size }

// Unsized tells content of which only the beginning was read, and whose size nobody knows: its size
// is that of the beginning.
func (c *Content) Unsized() bool { return c.unsized }

// Depth counts the archives, compressed layers and parts around it.
func (c *Content) Depth() int { return c.depth }

// Count books parts that lie in the content, and are known without being entered.
func (c *Content) Count(parts int64) error {
	if c.w.items.Add(parts) > c.w.limits.Items {
		return &BoundError{c.address, BoundItems, c.w.limits.Items}
	}
	return nil
}

// Address is that of the item, with the names of the parts that were entered.
func (c *Content) Address() string { return c.address }

// Skipped tells whether the sink did without the content, but for the first
// bytes.
func (c *Content) Skipped() bool { return c.skipped }

// Unread tells whether nothing of the content could be read.
func (c *Content) Unread() bool { return c.unread }

// Readable tells whether the content was kept for random access.
func (c *Content) Readable() bool { return c.at != nil }

// ReadAt implements io.ReaderAt. Bytes past the end are io.EOF; a bound that
// is passed is a *BoundError.
func (c *Content) ReadAt(p []byte, off int64) (int, error) {
	switch {
	case c.at == nil || off < 0:
		return 0, errors.New("the content was not kept")
	case off >= c.size:
		return 0, io.EOF
	}
	if err := c.w.ctx.Err(); err != nil {
		return 0, err
	}
	short := int64(len(p)) > c.size-off
	if short {
		p = p[:c.size-off]
	}
	n, err := c.at.ReadAt(p, off)
	if c.w.bytes.Add(int64(n)) > c.w.limits.Bytes {
		return n, &BoundError{c.address, BoundBytes, c.w.limits.Bytes}
	}
	if n == len(p) {
		err = nil
		if short {
			err = io.EOF
		}
	}
	return n, err
}

// Reader reads a stretch in order; it ends early where the content does.
func (c *Content) Reader(offset, size int64) io.Reader {
	return io.NewSectionReader(c, offset, min(size, max(0, c.size-offset)))
}

// Part enters a stretch of the content: one level deeper, and one item more.
func (c *Content) Part(name string, offset, size int64) (*Content, error) {
	p := &Content{w: c.w, address: c.address + "::" + printable(name), size: size, depth: c.depth + 1}
	if err := p.entered(); err != nil {
		return nil, err
	}
	if offset < 0 || size < 0 || offset > c.size || size > c.size-offset {
		return nil, damagedf("it reaches past the end of the image around it")
	}
	p.at = io.NewSectionReader(c.at, offset, size)
	return p, nil
}

func (c *Content) entered() error {
	if err := c.w.countItem(c.address); err != nil {
		return err
	}
	return c.w.enter(&Item{Address: c.address, Depth: c.depth}, 0)
}

// Section is a stretch of the content that is looked at without being entered.
func (c *Content) Section(offset, size int64) *Content {
	return &Content{w: c.w, address: c.address, at: io.NewSectionReader(c.at, offset, size), size: size, depth: c.depth}
}

// Of is what a member of the content holds, looked at without being entered.
func (c *Content) Of(m Member) *Content {
	return &Content{w: c.w, address: c.address, at: m.At, size: m.Size, depth: c.depth}
}

// Wrong is what is wrong with a stream.
type Wrong struct {
	Class        Class // Damaged or Unreadable
	What, Advice string
}

func wrongWith(err error) *Wrong {
	c, what, advice := wrong(err)
	return &Wrong{c, what, advice}
}

// Guess is the content where that it holds a compressed stream is a guess: what such a
// stream asks for is then no reason to refuse the package.
func (c *Content) Guess() *Content {
	g := *c
	g.guess, g.close = true, nil
	return &g
}

// InflateCounted is Inflate, and tells how many packed bytes the stream took,
// which is exact up to what the method reads ahead.
func (c *Content) InflateCounted(method Compression) (inner *Content, packed int64, problem *Wrong, err error) {
	count := &byteCounter{r: bufio.NewReaderSize(c.Reader(0, math.MaxInt64), 64<<10)}
	inner, problem, err = c.inflate(method, count)
	packed = min(count.n, c.size)
	if end := c.xzEnd(packed); method == XzStream && end > 0 {
		packed = end // its reader reads ahead
	}
	return inner, packed, problem, err
}

// byteCounter counts what is taken from it; as an io.ByteReader it is not
// read ahead of.
type byteCounter struct {
	r *bufio.Reader
	n int64
}

func (b *byteCounter) Read(p []byte) (int, error) {
	n, err := b.r.Read(p)
	b.n += int64(n)
	return n, err
}

func (b *byteCounter) ReadByte() (byte, error) {
	c, err := b.r.ReadByte()
	if err == nil {
		b.n++
	}
	return c, err
}

// Inflate enters the content as one compressed stream. What is wrong with the
// stream itself comes back as problem, together with what could be inflated;
// err ends the walk. The caller closes what it gets.
func (c *Content) Inflate(method Compression) (inner *Content, problem *Wrong, err error) {
	return c.inflate(method, c.Reader(0, math.MaxInt64))
}

func (c *Content) inflate(method Compression, from io.Reader) (inner *Content, problem *Wrong, err error) {
	inner = &Content{w: c.w, address: c.address, depth: c.depth + 1}
	if err := inner.entered(); err != nil {
		return nil, nil, err
	}
	var taken func() int64
	if b, ok := from.(*byteCounter); ok {
		taken = func() int64 { return b.n }
	} else {
		count := &counter{r: from}
		from, taken = count, func() int64 { return count.n }
	}
	z, err := inflaterWithin(method, from, c.w.limits.Window)
	if err != nil {
		if method != LzmaStream && !c.guess { // LZMA has no magic: it may be something else
			err = bounded(c.address, c.w.limits, err)
		}
		if fatal(err) {
			return nil, nil, err
		}
		return nil, wrongWith(err), nil
	}
	defer z.Close()
	s, damage, err := c.w.spoolFrom(&reader{w: c.w, item: c.address, r: guardedReader{z}, packed: taken, guess: c.guess || method == LzmaStream})
	if err != nil {
		return nil, nil, err
	}
	if a, ok := z.(ahead); ok {
		if b, ok := from.(*byteCounter); ok {
			b.n -= a.taken()
		}
	}
	inner.at, inner.size, inner.close = s, s.size, s.Close
	if damage == nil {
		return inner, nil, nil
	}
	if end := c.xzEnd(taken()); method == XzStream && !c.cut && end > 0 && end < c.size {
		// What follows the stream may have been taken for its padding.
		s.Close()
		stream := c.Section(0, end)
		stream.cut = true
		return stream.Inflate(method)
	}
	return inner, wrongWith(damage), nil
}

// xzEnd finds the footer that ends an xz stream (The .xz File Format 1.2.0,
// section 2.1.2) at or before the place up to which it was read; 0 when there
// is none.
func (c *Content) xzEnd(read int64) int64 {
	const ahead = 128 << 10
	read = min(read, c.size)
	from := max(12, (read-ahead)&^3)
	if from >= read {
		return 0
	}
	b := make([]byte, read-from)
	if _, err := c.ReadAt(b, from); err != nil && err != io.EOF {
		return 0
	}
	for i := 0; i+12 <= len(b); i += 4 {
		if b[i+10] == 'Y' && b[i+11] == 'Z' && binary.LittleEndian.Uint32(b[i:]) == crc32.ChecksumIEEE(b[i+4:i+10]) {
			return from + int64(i) + 12
		}
	}
	return 0
}

// Close lets go of what was inflated.
func (c *Content) Close() error {
	if c == nil || c.close == nil {
		return nil
	}
	return c.close()
}

// Fatal tells errors that end the walk from those that are about the content.
func Fatal(err error) bool { return err != nil && fatal(err) }

// OnlyFatal is the error, where it ends the walk; nil for one that is about the content.
func OnlyFatal(err error) error {
	if Fatal(err) {
		return err
	}
	return nil
}

type counter struct {
	r io.Reader
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}
