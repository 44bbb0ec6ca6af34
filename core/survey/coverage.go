package survey

import (
	"fmt"
	"slices"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/sign"
)

// Coverage cuts an item into stretches, each with the strongest of what proves it: the
// checksums of its format, the digests that are published for it or for an archive
// around it, the signatures over it or over such a digest.
func (s *Survey) Coverage(it *Item) []digest.Cover {
	if it.coverage == nil {
		return digest.Coverage(it.Size, s.covers(it))
	}
	it.coverage.once.Do(func() { it.coverage.all = digest.Coverage(it.Size, s.covers(it)) })
	return it.coverage.all
}

// coverage is worked out when it is first asked for.
type coverage struct {
	once sync.Once
	all  []digest.Cover
}

func (s *Survey) covers(it *Item) []digest.Cover {
	if it.Quick || it.Unread {
		return nil
	}
	var out []digest.Cover
	whole := digest.Stretch{To: it.Size}
	if it.Image != nil {
		out = it.Image.Covers(it.Size)
		if len(it.Damage()) > 0 { // a structure that contradicts itself proves nothing
			out = slices.DeleteFunc(out, func(c digest.Cover) bool { return c.By == digest.ByStructure && !c.Padding })
		}
	}
	around := s.Around(it)
	for _, holder := range append([]*Item{it}, around...) {
		for _, p := range holder.Published {
			if p.Got == "" {
				continue
			}
			by, of := s.proofOf(p)
			if holder != it {
				of += ", of " + holder.Address
			}
			out = append(out, digest.Cover{Stretch: whole, By: by, Of: of, Holds: p.OK()})
		}
		for _, sig := range s.PartOf(it.Address).Signatures {
			if sig.Of == holder.Address && sig.Outcome == sign.Verified && !sig.Weak {
				out = append(out, digest.Cover{Stretch: whole, By: digest.BySignature, Of: "signature " + sig.Item, Holds: true})
			}
		}
	}
	for _, sig := range it.Signed {
		if sig.Outcome != sign.Verified || sig.Weak {
			continue
		}
		for _, over := range sig.Over {
			out = append(out, digest.Cover{Stretch: over, By: digest.BySignature, Of: "signature of " + sig.Of, Holds: true})
		}
	}
	if len(around) > 0 {
		if sum := archive.SumOf(around[0].Container); sum != "" {
			out = append(out, digest.Cover{Stretch: whole, By: digest.ByArchive, Of: sum + " of " + around[0].Address, Holds: true})
		}
	}
	return out
}

// proofOf tells how strong a published digest is, by whose word it is, and names it. A
// digest that somebody could forge is no stronger for its being signed.
func (s *Survey) proofOf(p Published) (digest.Proof, string) {
	of := string(p.Sum.Algorithm) + " in " + p.Source.Where()
	if sig := s.SignatureOver(p.Source.File); sig != nil && !p.Sum.Algorithm.Weak() {
		return digest.BySignature, fmt.Sprintf("%s, signed by %s", of, sig.Item)
	}
	switch p.Source.Kind {
	case fact.Command:
		return digest.ByGiven, of
	case fact.Manifest:
		return digest.ByManifest, of
	case fact.Rulebook:
		return digest.ByRulebook, of
	}
	if s.Find(p.Source.File) != nil {
		return digest.ByListInside, of
	}
	return digest.ByListBeside, of
}

// SignatureOver finds a signature that verifies over a text of the package, over what
// holds it, or over another text that gives a strong digest of it; nil for none.
func (s *Survey) SignatureOver(address string) *Signed { return s.signatureOver(address, maxChain) }

// maxChain is how many texts may vouch for each other, one after another.
const maxChain = 4

func (s *Survey) signatureOver(address string, left int) *Signed {
	it := s.Find(address)
	if it == nil || left == 0 {
		return nil
	}
	all := s.PartOf(address).Signatures
	for _, holder := range append([]*Item{it}, s.Around(it)...) {
		for i := range all {
			if all[i].Of == holder.Address && all[i].Outcome == sign.Verified && !all[i].Weak {
				return &all[i]
			}
		}
		for _, p := range holder.Published {
			if p.OK() && !p.Sum.Algorithm.Weak() && p.Source.File != address {
				if sig := s.signatureOver(p.Source.File, left-1); sig != nil {
					return sig
				}
			}
		}
	}
	return nil
}
