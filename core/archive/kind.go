package archive

import (
	"cmp"
	"slices"
)

// kind is one kind of archive. The file that reads it registers it; nothing else lists the kinds.
type kind struct {
	name Container
	// rank orders kinds that the same bytes may suit: lower is asked first.
	rank int
	// tells by the first bytes, never by a name.
	tells func(head []byte) bool
	// open visits what is in it. The pass is its own bytes; what is left of them when open
	// returns is read for it.
	open func(w *walker, p *pass, head []byte) error
	// sum names the checksum that it carries of each file in it, and that is held against the
	// content when it is read; "" for none.
	sum string
}

var kinds []*kind

func registerKind(k *kind) {
	i, _ := slices.BinarySearchFunc(kinds, k, func(a, b *kind) int { return cmp.Or(a.rank-b.rank, cmp.Compare(a.name, b.name)) })
	kinds = slices.Insert(kinds, i, k)
}

func kindOf(c Container) *kind {
	i := slices.IndexFunc(kinds, func(k *kind) bool { return k.name == c })
	if i < 0 {
		return nil
	}
	return kinds[i]
}

// recognise tells an archive, or a compressed stream, by its content.
func recognise(head []byte) Container {
	for _, k := range kinds {
		if k.tells(head) {
			return k.name
		}
	}
	return Container(CompressionOf(head))
}

// Containers lists the kinds of archive and of compressed stream.
func Containers() []Container {
	var out []Container
	for _, k := range kinds {
		out = append(out, k.name)
	}
	for _, m := range methods {
		out = append(out, Container(m.name))
	}
	return out
}

// SumOf names the checksum that a container carries of what is in it; "" for none.
func SumOf(c Container) string {
	if k := kindOf(c); k != nil {
		return k.sum
	}
	if m := methodOf(Compression(c)); m != nil {
		return m.sum
	}
	return ""
}
