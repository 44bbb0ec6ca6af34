// Package evidence fetches what a verdict cites: the bytes of a header, the
// line of a manifest, capture, device file or rulebook with its neighbours. It
// judges nothing; it lets people see for themselves.
package evidence

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/kit"
	"fitcheck/core/yamlfile"
)

// Excerpt is the thing itself that a source names.
type Excerpt struct {
	Title string // what it is an excerpt of
	Lines []Line
	// Dump are bytes of the file from the offset At; those from Mark to
	// MarkEnd, in the file's offsets, are the ones cited.
	Dump          []byte
	At            int64
	Mark, MarkEnd int64
	// Why says why nothing can be shown.
	Why string
}

// Line is one line of a text.
type Line struct {
	Number int
	Text   string
	Cited  bool
}

const (
	around   = 2   // lines shown before and after the one cited
	longest  = 300 // bytes of a line that are shown
	row      = 16  // bytes of a row of a dump
	dumpRows = 8   // rows of a dump at most
)

// Options say where things lie.
type Options struct {
	KitDir   string
	Packages map[string]string // name of a package, the first level of addresses, to its path
	Limits   archive.Limits
	// Beside lists files whose folders captures may lie in: device files.
	Beside []string
}

// Collect fetches the excerpts of all sources. Each package is read once more,
// and only when something in it is cited.
func Collect(ctx context.Context, sources []fact.Source, o Options) (map[fact.Source][]Excerpt, error) {
	out := map[fact.Source][]Excerpt{}
	wanted := map[string]map[string][]fact.Source{} // package to item to sources
	for _, s := range sources {
		if _, done := out[s]; done {
			continue
		}
		out[s] = nil
		switch s.Kind {
		case fact.Header, fact.Manifest, fact.Checksums:
			name, _, _ := strings.Cut(s.File, "::")
			if path := o.path(name); path != "" && (s.Line > 0 || s.Size > 0) {
				if wanted[path] == nil {
					wanted[path] = map[string][]fact.Source{}
				}
				wanted[path][s.File] = append(wanted[path][s.File], s)
			}
		case fact.DeviceFile, fact.Capture, fact.Rulebook:
			if s.Line > 0 {
				out[s] = o.texts(s)
			}
		}
	}
	for path, items := range wanted {
		f := &fetcher{items: items, out: out}
		if err := archive.Walk(ctx, path, o.Limits, f); err != nil {
			return nil, err
		}
		for item, all := range items {
			for _, s := range all {
				if out[s] == nil {
					out[s] = []Excerpt{{Title: item, Why: "it lies inside an image; fitcheck header shows it"}}
				}
			}
		}
	}
	return out, nil
}

// path is that of a package; the longest name counts, since a name may hold
// "::" itself.
func (o Options) path(name string) string { return o.Packages[name] }

// texts shows the lines of a file of the kit, and those of the capture that it
// was read from.
func (o Options) texts(s fact.Source) []Excerpt {
	var out []Excerpt
	if s.Via.Line > 0 {
		out = append(out, o.file(s.Via.File, s.Via.Line))
	}
	return append(out, o.file(s.File, s.Line))
}

// file shows lines of a file, which is named as it was typed, or relative to the
// kit or a device file.
func (o Options) file(name string, line int) Excerpt {
	e := Excerpt{Title: fmt.Sprintf("%s:%d", name, line)}
	folders := []string{"", o.KitDir, filepath.Join(o.KitDir, "captures")}
	for _, b := range o.Beside {
		folders = append(folders, filepath.Dir(filepath.Join(o.KitDir, b)))
	}
	for _, dir := range folders {
		path := filepath.Join(dir, filepath.FromSlash(name))
		if filepath.IsAbs(name) {
			path = name
		}
		if info, err := os.Stat(path); err != nil || !info.Mode().IsRegular() {
			continue
		}
		data, err := kit.ReadText(path)
		if err != nil {
			e.Why = err.Error()
			return e
		}
		e.Lines = neighbours(data, line)
		if len(e.Lines) == 0 {
			e.Why = fmt.Sprintf("%s has fewer lines; it was changed since", name)
		}
		return e
	}
	e.Why = name + " is not at hand"
	return e
}

// neighbours picks a line and those around it.
func neighbours(data []byte, line int) []Line {
	var out []Line
	n := 0
	found := false
	for l := range bytes.Lines(data) {
		n++
		if n < line-around {
			continue
		}
		if n > line+around {
			break
		}
		t := bytes.TrimRight(l, "\r\n")
		text := string(t[:min(len(t), longest)])
		if len(t) > longest {
			text += " …"
		}
		out = append(out, Line{n, text, n == line})
		found = found || n == line
	}
	if !found {
		return nil
	}
	return out
}

// fetcher picks bytes and lines out of a walk.
type fetcher struct {
	mu    sync.Mutex
	items map[string][]fact.Source
	out   map[fact.Source][]Excerpt
}

func (f *fetcher) Report(archive.Problem) {}

func (f *fetcher) Begin(it *archive.Item, _ []byte) archive.Sink {
	f.mu.Lock()
	defer f.mu.Unlock()
	all := f.items[it.Address]
	if len(all) == 0 {
		return nothing{}
	}
	g := &gather{f: f, address: it.Address, sources: all}
	for _, s := range all {
		if s.Line > 0 {
			g.whole = true
			continue
		}
		from := max(0, s.Offset/row*row-row)
		to := min((s.Offset+s.Size+row-1)/row*row+row, from+dumpRows*row)
		g.spans = append(g.spans, &span{source: s, from: from, to: to})
	}
	return g
}

type nothing struct{}

func (nothing) Write(p []byte) (int, error)                   { return len(p), nil }
func (nothing) End(*archive.Content, []archive.Problem) error { return nil }

// span is a stretch that is kept as it goes by.
type span struct {
	source   fact.Source
	from, to int64
	data     []byte
}

type gather struct {
	f       *fetcher
	address string
	sources []fact.Source
	whole   bool
	text    []byte
	spans   []*span
	at      int64
}

func (g *gather) Write(p []byte) (int, error) {
	if g.whole && len(g.text) < yamlfile.MaxBytes {
		g.text = append(g.text, p[:min(len(p), yamlfile.MaxBytes-len(g.text))]...)
	}
	end := g.at + int64(len(p))
	for _, s := range g.spans {
		if lo, hi := max(s.from, g.at), min(s.to, end); lo < hi {
			s.data = append(s.data, p[lo-g.at:hi-g.at]...)
		}
	}
	g.at = end
	return len(p), nil
}

func (g *gather) End(*archive.Content, []archive.Problem) error {
	g.f.mu.Lock()
	defer g.f.mu.Unlock()
	for _, s := range g.sources {
		if s.Line > 0 {
			e := Excerpt{Title: fmt.Sprintf("%s:%d", g.address, s.Line), Lines: neighbours(g.text, s.Line)}
			if len(e.Lines) == 0 {
				e.Why = "the line is past what was read"
			}
			g.f.out[s] = []Excerpt{e}
		}
	}
	for _, s := range g.spans {
		e := Excerpt{Title: fmt.Sprintf("%s at 0x%x", g.address, s.source.Offset), Dump: s.data, At: s.from, Mark: s.source.Offset, MarkEnd: s.source.Offset + s.source.Size}
		if len(s.data) == 0 {
			e.Why = "the bytes are past the end of the file"
		}
		g.f.out[s.source] = []Excerpt{e}
	}
	return nil
}
