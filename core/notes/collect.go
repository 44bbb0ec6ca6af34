package notes

import (
	"context"
	"path"
	"slices"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
)

// File is a document found in a package.
type File struct {
	Address string
	Data    []byte
	// Long: it is longer than what is read, and left out.
	Long bool
}

// usual are names that notes have.
var usual = pattern.New(`(?i)(?:read.?me|release|notes?|changes|changelog|what.?s.?new|news|errata|bulletin|advisor|upgrade|install(?:ation)?.guide|history)`)

var documents = []string{"", ".txt", ".text", ".md", ".markdown", ".htm", ".html", ".pdf", ".rst", ".asc", ".nfo"}

// looksLikeNotes tells by its name whether an item holds notes: as the rulebook
// says, or by a usual name and form. Every PDF is taken.
func looksLikeNotes(address string, globs []*rulebook.Package) bool {
	_, inside, _ := strings.Cut(address, "::")
	levels := strings.ReplaceAll(inside, "::", "/")
	for _, p := range globs {
		for _, g := range p.Notes {
			if g.Match(levels) {
				return true
			}
		}
	}
	return Named(levels)
}

// Named tells by its name whether a file holds notes: by a usual name and form. Every PDF does.
func Named(name string) bool {
	base := path.Base(name)
	ext := strings.ToLower(path.Ext(base))
	return ext == ".pdf" || slices.Contains(documents, ext) && usual.MatchString(base)
}

// Collect reads the notes of a package. others are the addresses of the documents that are not taken for notes,
// as many as a package may hold.
func Collect(ctx context.Context, file string, limits archive.Limits, entries []*rulebook.Package) (found []File, others []string, err error) {
	c := &collector{entries: entries}
	if err := archive.Walk(ctx, file, limits, c); err != nil {
		return nil, nil, err
	}
	slices.SortFunc(c.found, func(a, b File) int { return strings.Compare(a.Address, b.Address) })
	slices.Sort(c.others)
	return c.found, c.others, nil
}

type collector struct {
	mu      sync.Mutex
	entries []*rulebook.Package
	found   []File
	others  []string
	total   int
}

func (c *collector) Report(archive.Problem) {}

func (c *collector) Begin(it *archive.Item, _ []byte) archive.Sink {
	if looksLikeNotes(it.Address, c.entries) {
		return &document{c: c, address: it.Address}
	}
	if slices.Contains(documents[1:], strings.ToLower(path.Ext(it.Address))) {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.others = append(c.others, it.Address)
	}
	return other{}
}

type other struct{}

func (other) Write(p []byte) (int, error)                   { return len(p), nil }
func (other) End(*archive.Content, []archive.Problem) error { return nil }

// maxTotal bounds all documents of one package together.
const maxTotal = 128 << 20

type document struct {
	c       *collector
	address string
	data    []byte
	long    bool
}

func (d *document) Write(p []byte) (int, error) {
	if d.long = d.long || len(d.data)+len(p) > MaxBytes; !d.long {
		d.data = append(d.data, p...)
	}
	return len(p), nil
}

func (d *document) End(*archive.Content, []archive.Problem) error {
	d.c.mu.Lock()
	defer d.c.mu.Unlock()
	if d.c.total += len(d.data); d.long || d.c.total > maxTotal {
		d.c.found = append(d.c.found, File{Address: d.address, Long: true})
		return nil
	}
	d.c.found = append(d.c.found, File{Address: d.address, Data: d.data})
	return nil
}
