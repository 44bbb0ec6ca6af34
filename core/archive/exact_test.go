package archive

import (
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
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

// A package is refused by a bound that it passes, and not by one that it just keeps: testdata/bounds.txt holds the least of
// each bound that packages of every kind keep.
func TestWhatEachBoundIs(t *testing.T) {
	var page strings.Builder
	all := samples(t)
	maps.Copy(all, pagetest.Images(t, "."))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		data := all[name]
		fmt.Fprintf(&page, "%s, %d bytes:", name, len(data))
		n, err := walk(t, name, data, DefaultLimits())
		require.NoError(t, err, name)
		deepest := 0
		for _, it := range n.items {
			deepest = max(deepest, it.Depth)
		}
		for _, b := range []struct {
			bound string
			set   func(*Limits, int64)
		}{
			{BoundDepth, func(l *Limits, n int64) { l.Depth = int(n) }},
			{BoundItems, func(l *Limits, n int64) { l.Items = n }},
			{BoundFiles, func(l *Limits, n int64) { l.Files = n }},
			{BoundBytes, func(l *Limits, n int64) { l.Bytes = n }},
		} {
			least := leastOf(t, name, data, b.bound, b.set)
			fmt.Fprintf(&page, " %s %d,", b.bound, least)
			switch b.bound {
			case BoundBytes:
				assert.GreaterOrEqual(t, least, int64(len(data)), "%s: what is read is counted", name)
			case BoundItems:
				assert.GreaterOrEqual(t, least, int64(len(n.items)), name)
			case BoundDepth:
				assert.GreaterOrEqual(t, least, int64(deepest), name)
			}
		}
		page.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "bounds.txt"), page.String())
}

// leastOf finds the bound that a package just keeps; below it, that bound is what refuses the package.
func leastOf(t *testing.T, name string, data []byte, bound string, set func(*Limits, int64)) int64 {
	kept := func(n int64) bool {
		l := DefaultLimits()
		set(&l, n)
		_, err := walk(t, name, data, l)
		var refused *BoundError
		if errors.As(err, &refused) {
			require.Equal(t, bound, refused.Bound, name)
			require.Equal(t, n, refused.Limit, name)
			return false
		}
		require.NoError(t, err, name)
		return true
	}
	if kept(0) {
		return 0
	}
	low, high := int64(0), int64(1)
	for ; !kept(high); high *= 2 {
		low = high
	}
	for high-low > 1 {
		if middle := (low + high) / 2; kept(middle) {
			high = middle
		} else {
			low = middle
		}
	}
	return high
}
