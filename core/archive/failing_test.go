package archive

import (
	"bytes"
	"context"
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/content"
	"fitcheck/internal/pagetest"
)

var errSink = errors.New("no room for it")

// givingUp fails at one of the calls in which a visitor may fail, counted over the whole walk.
type givingUp struct {
	notes
	at    int64 // -1 for none
	calls atomic.Int64
}

func (g *givingUp) fails() bool { return g.calls.Add(1)-1 == g.at }

func (g *givingUp) Begin(it *Item, head []byte) Sink {
	return &givingUpSink{noteSink: g.notes.Begin(it, head).(*noteSink), g: g}
}

type givingUpSink struct {
	*noteSink
	g      *givingUp
	failed bool
}

func (s *givingUpSink) Write(p []byte) (int, error) {
	if s.failed = s.failed || s.g.fails(); s.failed {
		return 0, errSink
	}
	return s.noteSink.Write(p)
}

func (s *givingUpSink) File(f *content.File, data io.Reader) error {
	if s.g.fails() {
		return errSink
	}
	return s.noteSink.File(f, data)
}

func (s *givingUpSink) End(c *Content, problems []Problem) error {
	if s.g.fails() || s.failed {
		return errSink
	}
	return s.noteSink.End(c, problems)
}

// What a visitor fails with, wherever it fails, is what the walk ends with: nobody takes a package for looked through of which
// something was not.
func TestAVisitorsErrorEndsTheWalk(t *testing.T) {
	all := samples(t)
	maps.Copy(all, pagetest.Images(t, "."))
	r := rand.NewChaCha8([32]byte{1})
	noise := func(n int) string {
		b := make([]byte, n)
		r.Read(b)
		return string(b)
	}
	large := []file{{"small.img", "one"}, {"large.img", noise(asideFrom + 1)}, {"a.zip", string(zipOf(file{"large", noise(asideFrom)}, file{"small", "1"}))}, {"last.img", noise(asideFrom)}, {"more.img", noise(asideFrom)}}
	all["large.tar"] = tarOf(large...)
	all["large.tar.gz"] = gzOf("", tarOf(large...))
	all["large.zip"] = zipOf(large...)
	all["large.cpio"] = encoders["cpio"](entry{"a", large[1].data, ""}, entry{"b", "b", ""}, entry{"c", large[3].data, ""})
	for _, name := range slices.Sorted(maps.Keys(all)) {
		p := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(p, all[name], 0o644))
		walked := func(at int64) (*givingUp, error) {
			g := &givingUp{notes: notes{content: map[string]string{}}, at: at}
			return g, Walk(context.Background(), p, DefaultLimits(), g)
		}
		sound, err := walked(-1)
		require.NoError(t, err, name)
		calls := sound.calls.Load()
		for at := int64(0); at < calls; at += max(1, calls/24) {
			_, err := walked(at)
			assert.ErrorIs(t, err, errSink, "%s: call %d of %d", name, at, calls)
		}
		_, err = walked(calls - 1)
		assert.ErrorIs(t, err, errSink, "%s: the last call of %d", name, calls)
	}
}

// A member of a stream that passes a bound is refused, whoever visits it, and those behind it are let go of.
func TestBoundsOfWhatIsSetAside(t *testing.T) {
	inner := zipOf(file{"x", strings.Repeat("1", 600)})
	var members []file
	for _, name := range []string{"a.zip", "b.zip", "c.zip", "d.zip"} {
		members = append(members, file{name, string(append(bytes.Clone(inner), make([]byte, asideFrom)...))})
	}
	for name, data := range map[string][]byte{"p.tar": tarOf(members...), "p.tar.gz": gzOf("", tarOf(members...))} {
		l := DefaultLimits()
		l.Depth = 2
		if name == "p.tar" {
			l.Depth = 1
		}
		_, err := walk(t, name, data, l)
		var bound *BoundError
		require.ErrorAs(t, err, &bound, name)
		assert.Equal(t, BoundDepth, bound.Bound)
	}
}
