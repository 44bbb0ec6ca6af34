package digest

import (
	"cmp"
	"slices"
)

// Proof is what a byte of an image is proven by, from the weakest to the strongest: how
// hard it is to change the byte so that nobody notices, and whose word that is.
type Proof int

// The kinds of proof.
const (
	Unproven    Proof = iota // nothing
	ByArchive                // the checksum of an archive around it
	ByStructure              // its format has no checksum; it was read in full, and all announced sizes agree
	ByListInside
	ByChecksum // the checksum of its own format
	ByManifest
	ByListBeside
	ByGiven    // a digest that the user gave
	ByRulebook // a digest in the rulebook
	BySignature
)

var proofNames = []string{"none", "archive", "structure", "list-inside", "checksum", "manifest", "list-beside", "digest-given", "by_digest", "signature"}

func (p Proof) String() string { return proofNames[p] }

// Proofs lists the names of all proofs, the weakest first.
func Proofs() []string { return proofNames }

// Cover is a stretch of an image and what proves it.
type Cover struct {
	Stretch
	By Proof
	// Of is what it is, for people: "payload crc32", "SHA256SUMS:3".
	Of string
	// Holds: the checksum, digest or signature is that of the bytes.
	Holds bool
	// Padding: all bytes are 00 or all are FF, and need no proof.
	Padding bool
}

// Coverage cuts the bytes from 0 to size into stretches, each with its strongest proof.
// A proof that does not hold goes before all others; padding goes before what proves
// nothing more than the archive.
func Coverage(size int64, all []Cover) []Cover {
	all = slices.DeleteFunc(slices.Clone(all), func(c Cover) bool { return c.From >= c.To || c.Holds && !c.Padding && c.By == Unproven })
	slices.SortStableFunc(all, func(a, b Cover) int {
		return cmp.Or(b.rank()-a.rank(), cmp.Compare(a.From, b.From), cmp.Compare(b.To, a.To))
	})
	gaps := []Stretch{{0, size}}
	var out []Cover
	for len(all) > 0 { // those of one rank at a time, by their place
		n := 1
		for n < len(all) && all[n].rank() == all[0].rank() {
			n++
		}
		gaps, out = fill(gaps, all[:n], out)
		all = all[n:]
	}
	for _, g := range gaps {
		if g.From < g.To {
			out = append(out, Cover{Stretch: g, By: Unproven, Holds: true})
		}
	}
	slices.SortFunc(out, func(a, b Cover) int { return cmp.Compare(a.From, b.From) })
	return joined(out)
}

func (c Cover) rank() int {
	switch {
	case !c.Holds:
		return 2*int(BySignature) + 1
	case c.Padding:
		return 2*int(ByArchive) + 1
	}
	return 2 * int(c.By)
}

// fill gives to covers, which are in the order of their places, what they cover of the
// gaps, and returns the gaps that are left.
func fill(gaps []Stretch, covers []Cover, out []Cover) ([]Stretch, []Cover) {
	var left []Stretch
	i := 0
	for _, g := range gaps {
		for g.From < g.To {
			for i < len(covers) && covers[i].To <= g.From {
				i++
			}
			if i == len(covers) || covers[i].From >= g.To {
				left = append(left, g)
				break
			}
			c := covers[i]
			if c.From > g.From {
				left = append(left, Stretch{g.From, c.From})
				g.From = c.From
			}
			c.From, c.To = g.From, min(c.To, g.To)
			out = append(out, c)
			g.From = c.To
		}
	}
	return left, out
}

// joined joins neighbours that one thing proves.
func joined(all []Cover) []Cover {
	var out []Cover
	for _, c := range all {
		if n := len(out); n > 0 && out[n-1].To == c.From && out[n-1].By == c.By && out[n-1].Of == c.Of && out[n-1].Holds == c.Holds && out[n-1].Padding == c.Padding {
			out[n-1].To = c.To
			continue
		}
		out = append(out, c)
	}
	return out
}

// Weakest finds the stretch of a coverage with the weakest proof; padding aside. ok is
// false when there is none.
func Weakest(coverage []Cover) (weakest Cover, ok bool) {
	for _, c := range coverage {
		switch {
		case c.Padding:
		case !ok, weakest.Holds && !c.Holds, weakest.Holds == c.Holds && c.By < weakest.By:
			weakest, ok = c, true
		}
	}
	return weakest, ok
}
