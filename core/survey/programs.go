package survey

import (
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Programs tells for which processors the programs of a RAM disk or file system are, in
// an image or its parts.
func (it *Item) Programs() []fact.Fact {
	out := it.programs
	if it.Image != nil {
		for _, f := range it.Image.All() {
			if f.About == image.Programs {
				out = append(out, f)
			}
		}
	}
	return out
}

// maxPrograms is how many programs of one file system are looked at.
const maxPrograms = 64

// findPrograms gives to archives that are root file systems what the programs in them
// tell.
func (s *Survey) findPrograms() {
	for _, it := range s.Items {
		if it.Image == nil || it.format == nil || it.format.Name != "elf" || !strings.Contains(it.Address, "::") || !image.IsProgram(it.Name) {
			continue
		}
		around := s.Around(it)
		if len(around) == 0 || around[0].Container == archive.None || len(around[0].programs) >= maxPrograms {
			continue
		}
		if f, ok := it.Image.First(fact.Arch); ok {
			f.About = image.Programs
			around[0].programs = append(around[0].programs, f)
		}
	}
}
