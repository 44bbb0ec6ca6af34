package image

import (
	"io"
	"strings"
	"sync"

	"github.com/hashicorp/golang-lru/v2/simplelru"
	"golang.org/x/crypto/blake2b"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
)

// Known keeps what compressed parts of images were found to hold, by a digest of their packed bytes, so that
// one payload under the headers of many boards is inflated once. It may serve several surveys at once.
type Known struct {
	mu    sync.Mutex
	parts *simplelru.LRU[partKey, *knownPart]
	taken int
}

// Taken is how often a part was known.
func (k *Known) Taken() int {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.taken
}

const (
	maxKnown      = 1000     // parts that are kept
	maxKnownParts = 100      // that lie inside one of them
	knownFrom     = 64 << 10 // how many packed bytes are worth a digest
)

// NewKnown makes an empty one.
func NewKnown() *Known {
	parts, _ := simplelru.NewLRU[partKey, *knownPart](maxKnown, nil) // it fails on a size that is none
	return &Known{parts: parts}
}

// Knowing is the set, with what parts were found to hold.
func (s *Set) Knowing(k *Known) *Set {
	out := *s
	out.known = k
	return &out
}

// partKey is the content of a part, and what else makes a difference to what is said of it.
type partKey struct {
	sum                               [blake2b.Size256]byte
	size                              int64
	depth                             int
	name                              string
	starts, guess, scattered, covered bool
}

// knownPart is a part, and what was told of the image around it on its account.
type knownPart struct {
	Part
	told    Image
	address string
	inside  int64 // parts that lie in it
}

// key names the content of a part; false where it is not worth while, or nothing is kept.
func (s *Set) key(p *Part, c *archive.Content, covered bool) (k partKey, ok bool, err error) {
	if s.known == nil || c.Size() < knownFrom {
		return k, false, nil
	}
	h, err := blake2b.New256(nil)
	if err != nil {
		return k, false, err
	}
	n, err := io.Copy(h, c.Reader(0, c.Size()))
	if err != nil && archive.Fatal(err) {
		return k, false, err
	}
	k = partKey{size: c.Size(), depth: c.Depth(), name: p.Name, starts: p.Starts, guess: p.Guess, scattered: p.Scattered, covered: covered}
	h.Sum(k.sum[:0])
	return k, err == nil && n == c.Size(), nil
}

// find gives the part that was kept under a key.
func (k *Known) find(key partKey) *knownPart {
	k.mu.Lock()
	defer k.mu.Unlock()
	found, ok := k.parts.Get(key)
	if ok {
		k.taken++
	}
	return found
}

// keep takes what a part was found to hold.
func (k *Known) keep(key partKey, p *Part, told *Image, address string) {
	kept := &knownPart{Part: *p, told: *told, address: address, inside: p.Image.partsWithin()}
	if kept.inside > maxKnownParts {
		return
	}
	kept.Image = p.Image.Moved(func(a string) string { return a })
	k.mu.Lock()
	defer k.mu.Unlock()
	k.parts.Add(key, kept)
}

// tell makes of p, a part of m at another address, what was found of its equal.
func (k *knownPart) tell(p *Part, m *Image, c *archive.Content) error {
	if err := c.Count(k.inside); err != nil {
		return err
	}
	p.Compression, p.Unpacked, p.Kind, p.Packed, p.Check = k.Compression, k.Unpacked, k.Kind, k.Packed, k.Check
	p.checked = append([]digest.Stretch(nil), k.checked...)
	p.Image = k.Image.Moved(func(a string) string {
		if rest, ok := strings.CutPrefix(a, k.address); ok {
			return c.Address() + rest
		}
		return a
	})
	m.take(&k.told)
	return nil
}

// take adds what was told on account of a part.
func (m *Image) take(told *Image) {
	m.Problems = append(m.Problems, told.Problems...)
	m.Unread = append(m.Unread, told.Unread...)
	m.Notes = append(m.Notes, told.Notes...)
}

// partsWithin counts the parts of an image, and those that lie in them.
func (m *Image) partsWithin() int64 {
	if m == nil {
		return 0
	}
	n := int64(len(m.Parts))
	for _, p := range m.Parts {
		n += p.Image.partsWithin()
	}
	return n
}
