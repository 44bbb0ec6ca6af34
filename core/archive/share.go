package archive

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"

	"golang.org/x/crypto/blake2b"
)

// Equal content is worked on once. Files of one zip or folder whose packed bytes may be equal
// (by method, sizes and checksum) form a group; once the first of it has been visited, the packed
// bytes of the others are compared with its own, and the visitor is shown that they are the same.
// What lies elsewhere, such as the payload of images whose headers differ, a member of a stream or an
// entry of another package, is known again by a digest of its bytes.

// Sharer is a Visitor that can take for visited what equals an item that was.
type Sharer interface {
	// Share shows an item whose content is, byte for byte, that of one that was visited, and
	// tells how many items lie in it. ok is false where the visitor has to see the content
	// itself, because its name or place makes a difference.
	Share(it, of *Item) (items int64, ok bool)
	// Across tells whether other packages are looked at as well, so that what lies in this one is
	// worth a digest.
	Across() bool
	// Known gives the item that was kept under a key, which may be of another package; nil for none.
	Known(Key) *Item
	// Keep takes what a visited item was found to be, to be known by a key.
	Keep(Key, *Item)
}

// Key names content that was looked into: the digest of its bytes as they lie there, of what they are
// inflated by, and what of its place makes a difference to what is found in it.
type Key struct {
	sum                    [blake2b.Size256]byte
	size                   int64
	depth                  int
	in                     Container
	part, within, streamed bool
}

// packedAs is how the bytes of a zip's entry are inflated, as far as that is not in the bytes.
type packedAs struct {
	method uint16
	crc    uint32
}

// shareFrom is from how many packed bytes on a file is worth comparing.
const shareFrom = 64 << 10

// Leaders lists the items at or above this one that may be shared, the nearest first.
func (it *Item) Leaders() []*Item {
	var out []*Item
	for l := it.leader; l != nil; l = l.above {
		out = append(out, l)
	}
	return out
}

// lead marks an item that others may equal.
func (it *Item) lead() {
	if it.leader != it {
		it.above, it.leader = it.leader, it
	}
}

// NameUnder is the item's name in what bears another name than its container does: the file in a
// compressed stream is named after it.
func (it *Item) NameUnder(container string) string {
	if it.derive == nil {
		return it.Name
	}
	return printable(it.derive(container))
}

// Under is the item as it lies in one that equals of, in a container of another address and name.
func (it *Item) Under(other, of *Item, container, name string) *Item {
	out := *it
	out.Name = it.NameUnder(name)
	out.Address = container + "::" + out.Name
	out.Order = append(slices.Clip(other.Order), it.Order[len(of.Order):]...)
	out.leader, out.above = other.leader, nil
	return &out
}

// groups finds the files that may be equal: of each group the first, with the others. key is "" for
// those that equal nothing.
func groups[K comparable](n int, key func(i int) (K, bool)) (others map[int][]int) {
	first := map[K]int{}
	others = map[int][]int{}
	for i := range n {
		k, ok := key(i)
		if !ok {
			continue
		}
		if f, again := first[k]; again {
			others[f] = append(others[f], i)
		} else {
			first[k] = i
		}
	}
	return others
}

// sharer is the visitor, where it can share and a whole look is taken.
func (w *walker) sharer() Sharer {
	s, _ := w.visitor.(Sharer)
	return s
}

// share shows an item as one that equals another, whose bytes are given with its own. It tells
// whether that was done; the error ends the walk.
func (w *walker) share(it, of *Item, mine, others *io.SectionReader) (bool, error) {
	if of == nil || mine.Size() != others.Size() || of.passedOver {
		return false, nil
	}
	same, err := w.equal(it, mine, others)
	if err != nil || !same {
		return false, err
	}
	return w.takeOver(it, of)
}

// takeOver shows an item as one whose content is that of another, and tells whether that was done.
func (w *walker) takeOver(it, of *Item) (bool, error) {
	it.Container = of.Container
	n, ok := w.sharer().Share(it, of)
	if !ok {
		it.Container = None
		return false, nil
	}
	it.sum = of.sum
	if w.items.Add(n) > w.limits.Items {
		return false, &BoundError{it.Address, BoundItems, w.limits.Items}
	}
	return true, nil
}

// equal compares two stretches of the package. What cannot be read is not equal.
func (w *walker) equal(it *Item, mine, others *io.SectionReader) (bool, error) {
	one, two := buffers.Get().(*[]byte), buffers.Get().(*[]byte)
	defer buffers.Put(one)
	defer buffers.Put(two)
	r := &reader{w: w, item: it.Address, r: mine}
	for {
		n, err := io.ReadFull(r, *one)
		m, err2 := io.ReadFull(others, (*two)[:max(1, n)])
		switch {
		case err != nil && fatal(err):
			return false, err
		case n == 0 && errors.Is(err, io.EOF):
			return errors.Is(err2, io.EOF), nil
		case n != m || !bytes.Equal((*one)[:n], (*two)[:m]):
			return false, nil
		case err != nil && !errors.Is(err, io.ErrUnexpectedEOF):
			return false, nil
		}
	}
}

// across tells whether what is equal may lie in another package that is looked at as well.
func (w *walker) across(p *pass) bool {
	s := w.sharer()
	return s != nil && s.Across() && !p.quick()
}

// once visits an item, unless its equal was visited before, here or in another package. data are its bytes
// as they lie there, nil where they cannot be had twice; as tells how they are inflated.
func (w *walker) once(it *Item, data *io.SectionReader, as packedAs, visit func() error) error {
	s := w.sharer()
	if s == nil || data == nil || data.Size() < shareFrom || it.Twin {
		return visit()
	}
	key, ok, err := w.key(it, data, as)
	if err != nil {
		return err
	}
	if !ok {
		return visit()
	}
	if of := s.Known(key); of != nil {
		if w.bytes.Add(data.Size()) > w.limits.Bytes { // those that the digest was taken of
			return &BoundError{it.Address, BoundBytes, w.limits.Bytes}
		}
		if taken, err := w.takeOver(it, of); taken || err != nil {
			return err
		}
	}
	it.lead()
	if err := visit(); err != nil {
		return err
	}
	if !it.passedOver {
		s.Keep(key, it)
	}
	return nil
}

// key names the content of an item; false where it cannot be read, which whoever visits it will tell.
func (w *walker) key(it *Item, data *io.SectionReader, as packedAs) (Key, bool, error) {
	k := Key{size: it.Size, depth: it.Depth, in: it.In, part: it.Part, within: it.Within, streamed: it.Streamed}
	h, _ := blake2b.New256(nil) // only a secret that is too long makes it fail
	fmt.Fprintf(h, "%d %08x\n", as.method, as.crc)
	buf := buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	for at := int64(0); at < data.Size(); {
		if err := w.ctx.Err(); err != nil {
			return k, false, err
		}
		n, err := data.ReadAt((*buf)[:min(int64(len(*buf)), data.Size()-at)], at)
		h.Write((*buf)[:n])
		if at += int64(n); err != nil && at < data.Size() {
			return k, false, nil
		}
	}
	h.Sum(k.sum[:0])
	return k, true, nil
}
