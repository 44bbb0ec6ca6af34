package survey

import (
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Members implements archive.Opener: the parts of an image are items.
func (s *sink) Members() []archive.Member {
	if s.it.Quick || s.it.Unread {
		return nil
	}
	return s.members
}

// inner tells whether the item lies in an image, as a part of it or further inside.
func (it *Item) inner() bool { return it.Part || it.Within }

// settleParts tells of an image what is wrong with what lies in it, and for which
// processors the programs there are.
func (s *Survey) settleParts() {
	for _, it := range s.Items {
		if !it.inner() {
			continue
		}
		outer := s.outermost(it)
		if outer == nil {
			continue
		}
		if it.Contents != nil {
			outer.programs = append(outer.programs, fact.Claim(it.Contents.Facts).About(image.Programs)...)
		}
		s.linkPart(it)
		rest := strings.TrimPrefix(it.Address, outer.Address+"::")
		for _, p := range it.Problems {
			if p.Class != archive.Damaged && p.Class != archive.Unreadable {
				continue
			}
			told := slices.ContainsFunc(outer.Problems, func(o archive.Problem) bool { return strings.HasSuffix(o.What, p.What) })
			if !told && len(outer.Problems) < maxLifted {
				outer.Problems = append(outer.Problems, archive.Problem{Item: outer.Address, Class: p.Class, What: "in its part " + rest + ": " + p.What, Advice: p.Advice})
			}
		}
		it.Problems = slices.DeleteFunc(it.Problems, func(p archive.Problem) bool { // that the image's header told
			return p.Class == archive.Note && slices.ContainsFunc(outer.Problems, func(o archive.Problem) bool { return strings.HasSuffix(o.What, ": "+p.What) })
		})
	}
}

// linkPart gives to a part of an image what was read of it as an item of its own.
func (s *Survey) linkPart(it *Item) {
	around := s.Around(it)
	if !it.Part || len(around) == 0 || around[0].Image == nil {
		return
	}
	for i := range around[0].Image.Parts {
		p := &around[0].Image.Parts[i]
		if p.Name != it.Name || p.Starts || p.Image != nil && !p.Scattered {
			continue
		}
		p.Kind, p.Image = it.Kind, it.Image
		if inside := s.Inside(it); len(inside) == 1 && archive.CompressionNamed(string(it.Container)) != "" {
			p.Compression, p.Unpacked = string(it.Container), inside[0].Size
			p.Kind, p.Image = inside[0].Kind, inside[0].Image
			it = inside[0]
		}
		if it.Contents != nil {
			if p.Image == nil {
				p.Image = &image.Image{Format: p.Kind}
			}
			p.Image.Contents = it.Contents
		}
		return
	}
}

// maxLifted is how many problems of an image are told, those of what lies in it included.
const maxLifted = 200

// outermost finds the image that an item lies in.
func (s *Survey) outermost(it *Item) *Item {
	for _, a := range s.Around(it) {
		if !a.inner() {
			return a
		}
	}
	return nil
}
