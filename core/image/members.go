package image

import (
	"fmt"
	"io"

	"fitcheck/core/archive"
)

// Members lists what is opened of an image, as the members of an archive are: partitions,
// volumes, the images of a tree, the parts behind a header. Those of a format that is not
// opened are none. What they hold is read while c is open.
func (s *Set) Members(m *Image, c *archive.Content) ([]archive.Member, error) {
	if m == nil || !c.Readable() {
		return nil, nil
	}
	f := s.ByName(m.Format)
	if f == nil || f.Members == nil {
		return nil, nil
	}
	out, err := f.Members(m, c)
	named := Names{}
	for i := range out {
		out[i].Name = named.Next(out[i].Name)
	}
	return out, err
}

// Names counts how often each name was given, so that no two parts of an image are called the same.
type Names map[string]int

// Next is the name of the next part that is called so: "x", "x (2)", "x (3)".
func (n Names) Next(name string) string {
	if n[name]++; n[name] > 1 {
		return fmt.Sprintf("%s (%d)", name, n[name])
	}
	return name
}

// PartMembers opens the parts, each as it lies there.
func PartMembers(m *Image, c *archive.Content) ([]archive.Member, error) {
	var out []archive.Member
	for _, p := range m.Parts {
		size := min(p.Size, c.Size()-p.Offset)
		if p.Opaque || p.Offset < 0 || size <= 0 || p.Offset == 0 && size == c.Size() {
			continue
		}
		out = append(out, archive.Member{Name: p.Name, At: io.NewSectionReader(c, p.Offset, size), Size: size})
	}
	return out, nil
}
