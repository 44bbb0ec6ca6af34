package archive

import (
	"bytes"
	"errors"
	"io"
	"slices"
)

// Equal files are worked on once. Files of one archive or folder whose packed bytes may be equal
// (by method, sizes and checksum) form a group; once the first of it has been visited, the packed
// bytes of the others are compared with its own, and the visitor is shown that they are the same.

// Sharer is a Visitor that can take for visited what equals an item that was.
type Sharer interface {
	// Share shows an item whose content is, byte for byte, that of one that was visited, and
	// tells how many items lie in it. ok is false where the visitor has to see the content
	// itself, because its name or place makes a difference.
	Share(it, of *Item) (items int64, ok bool)
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
func (it *Item) lead() { it.above, it.leader = it.leader, it }

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
