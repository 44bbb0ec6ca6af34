package survey

import (
	"slices"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/digest"
	"fitcheck/core/manifest"
	"fitcheck/core/rulebook"
)

// wanted tells which digests are computed of an item while it passes. Hashing is a third of the
// work on a package, so that what nobody asks for is left out where the survey says so.
type wanted struct {
	quick, sparing bool

	mu    sync.Mutex
	file  []digest.Algorithm // of the package file itself
	items []digest.Algorithm // of what lies in it
}

func newWanted(o Options) *wanted {
	w := &wanted{quick: o.Quick, sparing: o.Undigested && len(o.Digests) == 0 && !slices.ContainsFunc(o.Rulebooks, goesByDigest)}
	if w.quick {
		return w
	}
	w.file = append(w.file, digest.SHA256)
	w.file = append(w.file, o.Digests...)
	w.items = slices.Clone(w.file)
	if w.sparing {
		w.items = nil
	}
	for _, e := range o.Expect {
		w.file = append(w.file, e.Sum.Algorithm)
	}
	for _, rb := range o.Rulebooks {
		for _, p := range rb.Packages {
			if p.Manifest != nil {
				w.file, w.items = append(w.file, p.Manifest.Digests()...), append(w.items, p.Manifest.Digests()...)
			}
		}
	}
	return w
}

// goesByDigest tells whether a rulebook knows images by their digests.
func goesByDigest(rb *rulebook.Rulebook) bool { return len(rb.ByDigest) > 0 }

// of lists the digests of an item that begins, of a kind.
func (w *wanted) of(a *archive.Item, kind string) []digest.Algorithm {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch {
	case !strings.Contains(a.Address, "::"):
		return w.file
	case w.sparing && a.Twin:
		return append(slices.Clip(w.items), digest.SHA256)
	case w.sparing && content.Knows(kind) && archive.CompressionNamed(string(a.In)) != "":
		return nil // lists name the file that was packed, not what it holds
	case w.sparing && len(w.items) == 0 && a.Streamed:
		return w.file // a list that comes behind it would cost a second pass over all
	}
	return w.items
}

// learn adds the digests that a list gives, so that what comes after the list in its
// archive is hashed for it on the same pass.
func (w *wanted) learn(list []byte) {
	first := manifest.ReadSums("", list[:min(len(list), archive.HeadSize)])
	if len(first.Entries) == 0 || w.quick {
		return
	}
	a := first.Entries[0].Sum.Algorithm
	w.mu.Lock()
	defer w.mu.Unlock()
	if !slices.Contains(w.items, a) {
		w.items = append(slices.Clip(w.items), a)
	}
}
