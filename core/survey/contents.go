package survey

import (
	"io"
	"path"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/rulebook"
	"fitcheck/core/yamlfile"
)

// Kind implements archive.Lister.
func (s *sink) Kind() string { return s.reading.Kind() }

// File implements archive.Lister.
func (s *sink) File(f *content.File, data io.Reader) error {
	s.files().Add(f, data)
	return nil
}

func (s *sink) files() *image.Contents {
	s.once.Do(func() { s.it.Contents = image.NewContents(s.it.Address, s.c.listed()) })
	return s.it.Contents
}

// listed is what files are told by where they are to be listed; nil where they are not.
func (c *collector) listed() *image.Set {
	if !c.options.Contents {
		return nil
	}
	return c.options.Formats
}

// Promote implements archive.Lister: what a rulebook names inside a file system is an item.
func (s *sink) Promote(address string) bool {
	named := s.c.named(address)
	if len(s.it.Leaders()) > 0 && s.c.names() { // what equals it may be asked the same
		s.c.mu.Lock()
		defer s.c.mu.Unlock()
		if s.it.tooMany = s.it.tooMany || len(s.it.shown) >= maxShown; !s.it.tooMany {
			s.it.shown = append(s.it.shown, shownFile{strings.TrimPrefix(address, s.it.Address+"::"), named})
		}
	}
	return named
}

// names tells whether anything may be named inside a file system.
func (c *collector) names() bool {
	return len(c.options.promote) > 0 || slices.ContainsFunc(c.options.Rulebooks, func(rb *rulebook.Rulebook) bool { return len(rb.Packages) > 0 })
}

// named tells whether a rulebook names a file: as a manifest, a list, a signature or an item.
func (c *collector) named(address string) bool {
	if c.options.promote[address] {
		return true
	}
	address = globPath(address)
	for _, rb := range c.options.Rulebooks {
		for _, p := range rb.Packages {
			for _, g := range p.Globs() {
				if pointsAt(g) && g.Match(address) {
					return true
				}
			}
		}
	}
	return false
}

// absent is a file that a list names and no item is.
type absent struct{ list, file string }

// withinFileSystems gives the addresses at which files that lists name may lie in the file
// systems of the package: those that a list lies in itself, and those that lie beside it.
func (s *Survey) withinFileSystems() map[string]bool {
	all := s.FileSystems()
	if len(all) == 0 || len(s.absent) == 0 {
		return nil
	}
	out := map[string]bool{}
	for _, a := range s.absent {
		file := path.Clean(strings.ReplaceAll(a.file, `\`, "/"))
		if path.IsAbs(file) {
			file = strings.TrimPrefix(file, "/")
		}
		folder := "."
		if i := strings.LastIndex(a.list, "::"); i >= 0 {
			folder = path.Dir(a.list[i+2:])
		}
		for _, fsys := range all {
			for _, p := range []string{file, path.Join(folder, file)} {
				if p != ".." && !strings.HasPrefix(p, "../") && len(out) < maxPromoted {
					out[fsys.Address+"::"+p] = true
				}
			}
		}
	}
	return out
}

// maxPromoted is how many addresses are looked for.
const maxPromoted = 100_000

// pointsAt tells whether a glob names files, not only a kind of them: "**/*.bin" is met by
// the data of any system, and says nothing of those.
func pointsAt(g yamlfile.Glob) bool {
	levels := strings.Split(g.Pattern, "/")
	last := levels[len(levels)-1]
	return !strings.HasPrefix(last, "*") || slices.ContainsFunc(levels[:len(levels)-1], func(l string) bool { return l != "" && !strings.ContainsAny(l, "*?[{") })
}

// Programs tells for which processors the programs of a RAM disk or file system are, in
// an image or its parts.
func (it *Item) Programs() []fact.Fact {
	var out []fact.Fact
	add := func(all []fact.Fact) {
		for _, f := range all {
			if f.About == image.Programs && !slices.Contains(out, f) {
				out = append(out, f)
			}
		}
	}
	if it.Contents != nil {
		add(it.Contents.Facts)
	}
	if it.Image != nil {
		add(it.Image.All())
	}
	add(it.programs)
	return out
}

// FileSystems lists the items that are file systems, with what they hold.
func (s *Survey) FileSystems() []*Item {
	var out []*Item
	for _, it := range s.Items {
		if it.Contents != nil {
			out = append(out, it)
		}
	}
	return out
}

var _ archive.Lister = (*sink)(nil)
