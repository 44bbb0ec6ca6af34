package digest

import (
	"encoding/hex"
	"hash"
)

// Stretch is a run of bytes of a file: from From up to, not including, To.
type Stretch struct {
	From, To int64
}

// Between is the stretch from the byte at from up to the byte in front of to.
func Between(from, to int64) Stretch { return Stretch{From: from, To: to} }

// Partial is a checksum that a header carries over a stretch of its file.
type Partial struct {
	Algorithm Algorithm
	Options   Options
	Over      Stretch
	// Zeroed are stretches whose bytes count as zero, such as the place of
	// the checksum itself.
	Zeroed []Stretch
}

// Stretches computes partial sums while the bytes of a file pass by in order.
type Stretches struct {
	parts []Partial
	sums  []hash.Hash
	pos   int64
}

// NewStretches prepares the sums.
func NewStretches(parts []Partial) *Stretches {
	s := &Stretches{parts: parts}
	for _, p := range parts {
		h, err := NewWith(p.Algorithm, p.Options)
		if err != nil {
			panic(err) // a fault of this program: layouts are checked before they are used
		}
		s.sums = append(s.sums, h)
	}
	return s
}

// Write takes the next bytes of the file; it never fails.
func (s *Stretches) Write(p []byte) (int, error) {
	end := s.pos + int64(len(p))
	for i, part := range s.parts {
		from, to := max(part.Over.From, s.pos), min(part.Over.To, end)
		if from >= to {
			continue
		}
		for _, z := range part.Zeroed {
			zf, zt := max(z.From, from), min(z.To, to)
			if zf >= zt {
				continue
			}
			s.sums[i].Write(p[from-s.pos : zf-s.pos])
			s.sums[i].Write(make([]byte, zt-zf))
			from = zt
		}
		s.sums[i].Write(p[from-s.pos : to-s.pos])
	}
	s.pos = end
	return len(p), nil
}

// Result is the outcome of one partial sum.
type Result struct {
	Hex     string
	Missing int64 // bytes of the stretch beyond the end of the file
}

// Results returns the sums in the order of the parts, once all bytes have
// passed.
func (s *Stretches) Results() []Result {
	out := make([]Result, len(s.parts))
	for i, p := range s.parts {
		out[i] = Result{Hex: hex.EncodeToString(s.sums[i].Sum(nil)), Missing: max(0, p.Over.To-max(s.pos, p.Over.From))}
	}
	return out
}
