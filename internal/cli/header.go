package cli

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/image"
	"fitcheck/internal/present"
)

var headerCommand = &command{
	name: "header", args: "FILE", tells: true,
	short: "what does this image's header say, and do its checksums hold?",
	long: `FILE is an image, or an item inside a package by its address as survey prints it:
bundle.zip::qm/boot.bin. Each field is shown with its offset, raw bytes, value and
meaning, and each checksum is recomputed. The exit status is 1 when one is wrong.`,
	setup: func(*flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) != 1 {
				return 0, usagef("header takes one file, and %d are given", len(args))
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			h, err := c.header(ctx, k.Package(packageOf(args[0])), args[0])
			if err != nil {
				return 0, err
			}
			if c.json {
				err = present.WriteJSON(c.env.Stdout, present.HeaderJSON(*h))
			} else {
				c.screen().Header(*h)
			}
			if len(h.Image.Damaged()) > 0 {
				return exitMisfit, err
			}
			return exitFits, err
		}
	},
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

func (c *call) header(ctx context.Context, path, address string) (*present.Header, error) {
	want := archive.NameOf(path)
	if rest, ok := strings.CutPrefix(address, packageOf(address)); ok {
		want += rest
	}
	seek := &seeker{want: want}
	if err := archive.Walk(ctx, path, c.limits, seek); err != nil {
		return nil, err
	}
	switch {
	case !seek.found:
		return nil, fmt.Errorf("%s: there is no item of this address; fitcheck survey %s lists them", address, path)
	case seek.damage != "" && seek.image == nil:
		return nil, fmt.Errorf("%s: %s; download it again", address, seek.damage)
	case seek.image == nil:
		return nil, fmt.Errorf("%s: it is of the kind %q and has no image header that fitcheck reads; it begins with %q; fitcheck survey tells more", address, seek.kind, seek.start)
	}
	return &present.Header{Path: address, Size: seek.size, Image: seek.image}, nil
}

// seeker picks one item out of a walk and reads its header.
type seeker struct {
	mu     sync.Mutex
	want   string
	found  bool
	kind   string
	start  string
	damage string
	size   int64
	image  *image.Image
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
	if it.Address != s.want || s.found {
		return ignore{}
	}
	s.found, s.start = true, string(head[:min(16, len(head))])
	f := image.Sniff(head)
	switch {
	case it.Container != archive.None:
		s.kind = string(it.Container)
		return ignore{}
	case f == nil && len(head) == 0:
		s.kind = "empty"
	case f == nil:
		s.kind = "unknown"
	default:
		s.kind = f.Name
	}
	r := image.Begin(f, head, it.Size)
	if r == nil {
		return ignore{}
	}
	return &headerSink{r, s}
}

type ignore struct{}

func (ignore) Write(p []byte) (int, error)  { return len(p), nil }
func (ignore) End(int64, []archive.Problem) {}

type headerSink struct {
	*image.Reading
	s *seeker
}

func (h *headerSink) End(size int64, problems []archive.Problem) {
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	h.s.image, h.s.size = h.Reading.End(size), size
	for _, p := range problems {
		if p.Class == archive.Damaged {
			h.s.image.Problems = append(h.s.image.Problems, p.What)
		}
	}
}
