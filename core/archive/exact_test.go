package archive

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// samples are packages of every kind that is entered, each with two files in it.
func samples(t *testing.T) map[string][]byte {
	out := map[string][]byte{}
	for kind, encode := range encoders {
		out["p."+kind] = encode(entry{"a.img", "one", ""}, entry{"c.img", "two two two", ""})
	}
	tar := out["p.tar"]
	for _, method := range []string{"gz", "xz", "lzma", "lz4", "zst"} {
		out["p.tar."+method] = streamOf(t, method, tar)
		out["p.bin."+method] = streamOf(t, method, []byte("no archive"))
	}
	out["p.zip.gz"] = gzOf("", out["p.zip"])
	out["p.sh"] = append([]byte("#!/bin/sh\nexit 0\n"), gzOf("", tar)...)
	out["deep.zip"] = zipOf(file{"a.tar.gz", string(out["p.tar.gz"])}, file{"b.zip", string(out["p.zip"])})
	return out
}

// A package is refused by a bound that it passes, and not by one that it just keeps.
func TestBoundsAreExact(t *testing.T) {
	for name, data := range samples(t) {
		n, err := walk(t, name, data, DefaultLimits())
		require.NoError(t, err, name)
		for _, p := range n.problems {
			require.Equal(t, Note, p.Class, "%s: %s", name, p.What)
		}
		deepest := 0
		for _, it := range n.items {
			deepest = max(deepest, it.Depth)
		}
		for _, b := range []struct {
			bound string
			just  int64
			set   func(*Limits, int64)
		}{
			{BoundDepth, int64(deepest), func(l *Limits, n int64) { l.Depth = int(n) }},
			{BoundItems, int64(len(n.items)), func(l *Limits, n int64) { l.Items = n }},
			{BoundBytes, leastBytes(t, name, data), func(l *Limits, n int64) { l.Bytes = n }},
		} {
			l := DefaultLimits()
			b.set(&l, b.just)
			_, err := walk(t, name, data, l)
			assert.NoError(t, err, "%s, %s", name, b.bound)
			b.set(&l, b.just-1)
			_, err = walk(t, name, data, l)
			var refused *BoundError
			if assert.ErrorAs(t, err, &refused, "%s, %s of %d", name, b.bound, b.just-1) {
				assert.Equal(t, b.bound, refused.Bound, name)
				assert.Equal(t, b.just-1, refused.Limit, name)
			}
		}
	}
}

// leastBytes finds the bound on bytes that a package just keeps.
func leastBytes(t *testing.T, name string, data []byte) int64 {
	least := int64(0)
	for high := int64(1 << 20); high-least > 1; {
		l := DefaultLimits()
		l.Bytes = (least + high) / 2
		_, err := walk(t, name, data, l)
		var refused *BoundError
		if errors.As(err, &refused) {
			least = l.Bytes
		} else {
			require.NoError(t, err, name)
			high = l.Bytes
		}
	}
	assert.GreaterOrEqual(t, least+1, int64(len(data)), "%s: what is read is counted", name)
	return least + 1
}
