package archive

import (
	"cmp"
	"io"
	"slices"
)

// method is one way of compressing a stream. The file that inflates it registers it; nothing else
// lists the methods.
type method struct {
	name Compression
	// rank orders methods that the same bytes may suit: lower is asked first.
	rank int
	// tells by the first bytes.
	tells func(head []byte) bool
	// sure tells, where the place of a stream is a guess, whether its header makes sense beyond its
	// magic; nil where there is nothing more to tell by.
	sure func(head []byte) bool
	// inflate reads one stream. window bounds the memory that it may ask for. What it reads ahead
	// of the end is lost, unless its reader is an ahead.
	inflate func(r io.Reader, window int64) (io.ReadCloser, error)
	// slow: it inflates a tenth as fast as the others.
	slow bool
	// sum names the checksum that a stream carries of what it holds; "" for none.
	sum string
}

// look is how much of a stream a quick look inflates.
func (m *method) look() int {
	if m.slow {
		return slowBytes
	}
	return QuickBytes
}

var methods []*method

func registerMethod(m *method) {
	i, _ := slices.BinarySearchFunc(methods, m, func(a, b *method) int { return cmp.Or(a.rank-b.rank, cmp.Compare(a.name, b.name)) })
	methods = slices.Insert(methods, i, m)
}

func methodOf(name Compression) *method {
	i := slices.IndexFunc(methods, func(m *method) bool { return m.name == name })
	if i < 0 {
		return nil
	}
	return methods[i]
}

// CompressionOf tells a compressed stream by its first bytes; "" when it is
// none.
func CompressionOf(head []byte) Compression {
	for _, m := range methods {
		if m.tells(head) {
			return m.name
		}
	}
	return ""
}

// CompressionNamed is the method of a name; "" for none.
func CompressionNamed(name string) Compression {
	if m := methodOf(Compression(name)); m != nil {
		return m.name
	}
	return ""
}

// BeginsAs tells, where the place of a stream is a guess, whether its header makes sense
// beyond its magic.
func BeginsAs(c Compression, head []byte) bool {
	m := methodOf(c)
	return m != nil && (m.sure == nil || m.sure(head))
}
