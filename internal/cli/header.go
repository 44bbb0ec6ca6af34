package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/image"
	"fitcheck/core/kit"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "header", order: 50, args: "FILE", tells: true, reads: true, folds: []string{page.All}, reports: true,
	part: partDownload, example: "header packages/qm-tram-8.4.2.zip::qm-tram-8.4.2/qm8t-a.img",
	short: "what does this image's header say, and do its checksums hold?",
	long: `FILE is an image, or an item inside a package by its address as survey prints it:
bundle.zip::qm/boot.bin. Each field is shown with its offset, raw bytes, value and
meaning, and each checksum is recomputed. The exit status is 1 when one is wrong.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		dump := f.Bool("hex", false, "dump the header's bytes, each field marked")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) != 1 {
				return 0, usagef("header takes one file, and %d are given", len(args))
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			h, err := c.header(ctx, k, args[0])
			if err != nil {
				return 0, err
			}
			err = c.tell(present.HeaderJSON(*h), present.HeaderPage(*h, *dump))
			if len(h.Image.Damaged()) > 0 {
				return exitMisfit, err
			}
			return exitFits, err
		}
	},
})

func joined(lead, t string) string {
	if t == "" {
		return ""
	}
	return lead + t
}

// packageOf is the file part of an address. A file whose own name holds "::"
// is taken as it is.
func packageOf(address string) string {
	if _, err := os.Lstat(address); err == nil {
		return address
	}
	file, _, _ := strings.Cut(address, "::")
	return file
}

func (c *call) header(ctx context.Context, k *kit.Kit, address string) (*present.Header, error) {
	path := k.Package(packageOf(address))
	want := archive.NameOf(path)
	if rest, ok := strings.CutPrefix(address, packageOf(address)); ok {
		want += rest
	}
	seek := &seeker{want: want, formats: k.Formats}
	if err := archive.Walk(ctx, path, c.limits, seek); err != nil {
		return nil, err
	}
	switch {
	case !seek.found:
		return nil, fmt.Errorf("%s: there is no item of this address; fitcheck survey %s lists them", address, path)
	case seek.damage != "" && seek.image == nil:
		return nil, fmt.Errorf("%s: %s; download it again", address, seek.damage)
	case seek.image == nil:
		return nil, fmt.Errorf("%s: it is of the kind %q and has no image header that fitcheck reads; it begins with %q%s; fitcheck survey tells more", address, seek.kind, seek.start, joined("; ", seek.nature))
	}
	h := &present.Header{Path: address, Size: seek.size, Image: seek.image}
	if f := seek.formats.ByName(seek.kind); f != nil {
		h.Title = f.Title
	}
	return h, nil
}

// seeker picks one item out of a walk and reads its header.
type seeker struct {
	mu      sync.Mutex
	formats *image.Set
	want    string
	found   bool
	kind    string
	nature  string
	start   string
	damage  string
	size    int64
	image   *image.Image
}

func (s *seeker) Report(p archive.Problem) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if p.Item == s.want {
		s.found, s.damage = true, p.What
	}
}

func (s *seeker) Begin(it *archive.Item, head []byte) archive.Sink {
	s.mu.Lock()
	defer s.mu.Unlock()
	// An address may lead on to a part of the item.
	if it.Address != s.want && !strings.HasPrefix(s.want, it.Address+"::") || it.Address == s.want && s.found {
		return ignore{}
	}
	sink := &headerSink{Reading: image.Begin(s.formats, head, it.Size, it.Container != archive.None), s: s, address: it.Address, start: string(head[:min(16, len(head))])}
	if it.Address != s.want {
		return &fileSink{sink}
	}
	return sink
}

// Members implements archive.Opener.
func (h *headerSink) Members() []archive.Member { return h.members }

// fileSink looks for one file in a file system.
type fileSink struct{ *headerSink }

// Promote implements archive.Lister.
func (f *fileSink) Promote(address string) bool { return address == f.s.want }

// File implements archive.Lister.
func (f *fileSink) File(*content.File, io.Reader) error { return nil }

type ignore struct{}

func (ignore) Write(p []byte) (int, error)                   { return len(p), nil }
func (ignore) End(*archive.Content, []archive.Problem) error { return nil }

type headerSink struct {
	*image.Reading
	s       *seeker
	address string
	start   string
	members []archive.Member
}

func (h *headerSink) End(c *archive.Content, problems []archive.Problem) error {
	kind, m, err := h.Reading.End(c)
	if err != nil {
		return err
	}
	size := c.Size()
	if h.address != h.s.want {
		var p image.Part
		whole := m
		if p, m = partAt(m, strings.TrimPrefix(h.s.want, h.address+"::")); m == nil {
			h.members, err = h.s.formats.Members(whole, c)
			return err
		}
		kind, size = p.Kind, max(p.Size, p.Unpacked)
	}
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	h.s.found, h.s.kind, h.s.start, h.s.nature = true, kind, h.start, h.Nature()
	h.s.image, h.s.size = m, size
	if m != nil && h.address == h.s.want {
		for _, p := range problems {
			if p.Class == archive.Damaged {
				m.Problems = append(m.Problems, p.What)
			}
		}
	}
	return nil
}

// partAt finds a part by its names, joined by "::".
func partAt(m *image.Image, path string) (image.Part, *image.Image) {
	if m == nil {
		return image.Part{}, nil
	}
	for _, p := range m.Parts {
		if p.Name == path {
			return p, p.Image
		}
		if rest, ok := strings.CutPrefix(path, p.Name+"::"); ok {
			return partAt(p.Image, rest)
		}
	}
	return image.Part{}, nil
}
