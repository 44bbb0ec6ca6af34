package pagetest

import (
	"crypto/sha256"
	"fmt"
	"hash"
)

// Sum is taken over what a page leaves out for its length, so that a change of that changes the page, too. The zero value is
// ready.
type Sum struct{ h hash.Hash }

// Add takes a text.
func (s *Sum) Add(format string, args ...any) {
	if s.h == nil {
		s.h = sha256.New()
	}
	fmt.Fprintf(s.h, format+"\n", args...)
}

// String is the sum over all that was added since the last one.
func (s *Sum) String() string {
	if s.h == nil {
		return "nothing"
	}
	defer s.h.Reset()
	return fmt.Sprintf("%.4x", s.h.Sum(nil))
}
