// Package digest computes sums: whole-file digests and the checksums that
// image headers carry over stretches of a file, all on one pass over the bytes.
package digest

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"hash"
	"hash/crc32"
	"slices"
	"strings"
)

// Algorithm names a sum as it is written in manifests and headers.
type Algorithm string

// The digests of whole files.
const (
	MD5    Algorithm = "md5"
	SHA1   Algorithm = "sha1"
	SHA256 Algorithm = "sha256"
	SHA384 Algorithm = "sha384"
	SHA512 Algorithm = "sha512"
	CRC32  Algorithm = "crc32" // IEEE 802.3, reflected, as in gzip and zip
)

var makers = map[Algorithm]func() hash.Hash{
	MD5: md5.New, SHA1: sha1.New, SHA256: sha256.New, SHA384: sha512.New384, SHA512: sha512.New,
	CRC32: func() hash.Hash { return crc32.NewIEEE() },
}

// Weak tells whether a digest shows that a file is whole, and not that it is
// genuine: somebody can make another file with the same one.
func (a Algorithm) Weak() bool { return a == MD5 || a == SHA1 || a == CRC32 }

// Known tells whether there is an algorithm of that name.
func Known(a Algorithm) bool { return makers[a] != nil }

// Algorithms lists the names of all algorithms.
func Algorithms() []Algorithm {
	return []Algorithm{CRC32, MD5, SHA1, SHA256, SHA384, SHA512}
}

// New makes a hash for the algorithm, or nil when there is none of that name.
func New(a Algorithm) hash.Hash {
	if mk := makers[a]; mk != nil {
		return mk()
	}
	return nil
}

// Sum is one digest value in lower-case hexadecimal.
type Sum struct {
	Algorithm Algorithm
	Hex       string
}

func (s Sum) String() string { return string(s.Algorithm) + ":" + s.Hex }

// Parse reads "sha256:HEX". The whole value is wanted: a beginning or an end
// that looks the same proves nothing.
func Parse(text string) (Sum, error) {
	name, value, ok := strings.Cut(strings.TrimSpace(text), ":")
	if !ok {
		return Sum{}, fmt.Errorf("%q is not a digest; write ALGORITHM:HEX, for example sha256:9f86d0…", text)
	}
	a := Algorithm(strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), "-", ""))
	if !Known(a) {
		return Sum{}, fmt.Errorf("the digest algorithm %q is not known; known are %v", name, Algorithms())
	}
	return Check(a, value)
}

// Check reads the hexadecimal value of a digest and its length.
func Check(a Algorithm, value string) (Sum, error) {
	value = strings.ToLower(strings.TrimSpace(value))
	b, err := hex.DecodeString(value)
	if want := New(a).Size(); err != nil || len(b) != want {
		return Sum{}, fmt.Errorf("a %s value has %d hexadecimal digits; %q has %d characters", a, 2*want, value, len(value))
	}
	return Sum{a, value}, nil
}

// Multi computes several digests of one stream.
type Multi struct {
	names  []Algorithm
	hashes []hash.Hash
}

// NewMulti makes hashes for the algorithms; one named twice counts once.
func NewMulti(names ...Algorithm) *Multi {
	m := &Multi{}
	for _, n := range names {
		if h := New(n); h != nil && !slices.Contains(m.names, n) {
			m.names = append(m.names, n)
			m.hashes = append(m.hashes, h)
		}
	}
	return m
}

// Write implements io.Writer; it never fails.
func (m *Multi) Write(p []byte) (int, error) {
	for _, h := range m.hashes {
		h.Write(p)
	}
	return len(p), nil
}

// Sums returns the digests of what was written so far.
func (m *Multi) Sums() Set {
	out := make(Set, len(m.names))
	for i, n := range m.names {
		out[i] = Sum{n, hex.EncodeToString(m.hashes[i].Sum(nil))}
	}
	return out
}

// Set are digests of one content, one of an algorithm. There are a few at most, of very
// many contents.
type Set []Sum

// Of is the digest of an algorithm; "" for none.
func (s Set) Of(a Algorithm) string {
	for _, sum := range s {
		if sum.Algorithm == a {
			return sum.Hex
		}
	}
	return ""
}

// MarshalJSON writes an object of algorithms and digests.
func (s Set) MarshalJSON() ([]byte, error) {
	out := make(map[Algorithm]string, len(s))
	for _, sum := range s {
		out[sum.Algorithm] = sum.Hex
	}
	return json.Marshal(out)
}
