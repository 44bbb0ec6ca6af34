package survey

import (
	"maps"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
)

// Join makes one set of packages whose files complete each other, such as a
// pair that was downloaded as two files. A file that a manifest of one lists
// and another brings is not missing, and what that manifest says of it counts.
// The surveys themselves stay as they are.
func Join(all ...*Survey) *Survey {
	if len(all) == 1 {
		return all[0]
	}
	s := &Survey{Parts: all, byAddress: map[string]*Item{}}
	var names, paths []string
	for _, part := range all {
		names, paths = append(names, part.Name), append(paths, part.Path)
		s.Size += part.Size
		s.Items = append(s.Items, part.Items...)
		s.Manifests = append(s.Manifests, part.Manifests...)
		s.Sums = append(s.Sums, part.Sums...)
		s.Signatures = append(s.Signatures, part.Signatures...)
		s.Missing = append(s.Missing, part.Missing...)
		s.Problems = append(s.Problems, part.Problems...)
		s.Notes = append(s.Notes, part.Notes...)
		maps.Copy(s.byAddress, part.byAddress)
		if s.Rulebook == nil {
			s.Rulebook = part.Rulebook
		}
	}
	s.Name, s.Path = strings.Join(names, " + "), strings.Join(paths, " + ")
	s.Missing = slices.DeleteFunc(slices.Clone(s.Missing), s.broughtByAnother)
	s.Problems = slices.DeleteFunc(s.Problems, func(p archive.Problem) bool {
		return p.Class == Absent && !slices.ContainsFunc(s.Missing, func(m Missing) bool { return strings.Contains(p.What, m.File) })
	})
	return s
}

// broughtByAnother gives a missing file's record to the one item of that name
// in another package.
func (s *Survey) broughtByAnother(m Missing) bool {
	var found []int
	for i, it := range s.Items {
		if path.Base(it.Name) == path.Base(m.File) && s.PartOf(it.Address) != s.PartOf(m.Source.File) {
			found = append(found, i)
		}
	}
	if len(found) != 1 {
		return false
	}
	it := *s.Items[found[0]] // the survey's own stays as it is
	it.Witnesses = append(slices.Clone(it.Witnesses), fact.Witness{Kind: fact.Manifest, Name: m.Source.File, Claims: []fact.Claim{m.Claim}})
	s.Items[found[0]] = &it
	s.byAddress[it.Address] = &it
	return true
}

// PartOf is the package that an address lies in.
func (s *Survey) PartOf(address string) *Survey {
	for _, part := range s.Parts {
		if address == part.Name || strings.HasPrefix(address, part.Name+"::") {
			return part
		}
	}
	return s
}

// Each lists the packages of a set, or the one package.
func (s *Survey) Each() []*Survey {
	if len(s.Parts) > 0 {
		return s.Parts
	}
	return []*Survey{s}
}

// IsRoot tells whether an item is a package file itself.
func (s *Survey) IsRoot(it *Item) bool {
	for _, part := range s.Each() {
		if it.Address == part.Name {
			return true
		}
	}
	return false
}
