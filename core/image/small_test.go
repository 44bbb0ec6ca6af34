package image

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

// The header of a gzip stream ends behind what its flags say that it holds (RFC 1952, section 2.3).
func TestGzipHeader(t *testing.T) {
	for _, extra := range [][]byte{nil, {}, []byte("AB\x02\x00xy")} {
		for _, name := range []string{"", "tram.img"} {
			for _, comment := range []string{"", "for the trams"} {
				var b bytes.Buffer
				w := gzip.NewWriter(&b)
				w.Extra, w.Name, w.Comment = extra, name, comment
				_, err := w.Write([]byte("content"))
				require.NoError(t, err)
				require.NoError(t, w.Flush())
				whole := b.Bytes()
				want := 10
				if extra != nil {
					want += 2 + len(extra)
				}
				for _, s := range []string{name, comment} {
					if s != "" {
						want += len(s) + 1
					}
				}
				assert.Equal(t, int64(want), gzipHeader(whole), "%q %q %q", extra, name, comment)
				summed := bytes.Clone(whole)
				summed[3] |= 2
				assert.Equal(t, int64(want+2), gzipHeader(summed))
				for n := range want { // of what is cut, as much as is there
					assert.LessOrEqual(t, gzipHeader(whole[:n]), int64(max(10, want)), "%d of %d", n, want)
				}
				assert.Equal(t, int64(10), gzipHeader(whole[:9]))
			}
		}
	}
}

// A checksum covers what it was taken over, but not what it takes for zero, except for its own place.
func TestWhatASumCovers(t *testing.T) {
	between := digest.Between
	over := func(all digest.Stretch, zeroed ...digest.Stretch) digest.Partial {
		return digest.Partial{Over: all, Zeroed: zeroed}
	}
	for _, c := range []struct {
		sum  Sum
		want []digest.Stretch
	}{
		{Sum{Partial: over(between(0, 100))}, []digest.Stretch{between(0, 100)}},
		{Sum{Partial: over(between(0, 100), between(40, 44)), At: 40}, []digest.Stretch{between(0, 100)}},
		{Sum{Partial: over(between(0, 100), between(40, 44)), At: 43}, []digest.Stretch{between(0, 100)}},
		{Sum{Partial: over(between(0, 100), between(40, 44)), At: 44}, []digest.Stretch{between(0, 40), between(44, 100)}},
		{Sum{Partial: over(between(0, 100), between(40, 44)), At: 39}, []digest.Stretch{between(0, 40), between(44, 100)}},
		{Sum{Partial: over(between(0, 100), between(0, 4)), At: 200}, []digest.Stretch{between(4, 100)}},
		{Sum{Partial: over(between(0, 100), between(96, 100)), At: 200}, []digest.Stretch{between(0, 96)}},
		{Sum{Partial: over(between(10, 100), between(20, 24), between(30, 40), between(35, 50)), At: 200}, []digest.Stretch{between(10, 20), between(24, 30), between(50, 100)}},
		{Sum{Partial: over(between(10, 100), between(20, 60), between(30, 40)), At: 200}, []digest.Stretch{between(10, 20), between(60, 100)}},
		{Sum{Partial: over(between(0, 4), between(0, 4)), At: 200}, nil},
		{Sum{Partial: over(between(0, 100)), Covers: []digest.Stretch{between(1, 2), between(3, 4)}}, []digest.Stretch{between(1, 2), between(3, 4)}},
		{Sum{Partial: over(between(10, 100), between(12, 14), between(30, 40)), At: 13}, []digest.Stretch{between(10, 30), between(40, 100)}},
	} {
		assert.Equal(t, c.want, c.sum.covers(), "%+v", c.sum)
	}
}

// A file that tells the version of a system says it by its first line, by the keys of an os-release, or by those of an
// lsb-release; a banner, by a line with a number.
func TestVersionFiles(t *testing.T) {
	for _, c := range []struct {
		name, text string
		want       []string
	}{
		{"etc/version", "8.4.2\nmore\n", []string{"1 8.4.2"}},
		{"etc/version", "\n\n 8.4.2 \n", []string{"3 8.4.2"}},
		{"etc/version", strings.Repeat("x", 199) + "\n", []string{"1 " + strings.Repeat("x", 199)}},
		{"etc/version", strings.Repeat("x", 200) + "\nshort\n", []string{"2 short"}},
		{"etc/banner", "Welcome\n Tramline 8.4.2\n", []string{"2 Tramline 8.4.2"}},
		{"etc/os-release", "NAME=\"Tramline\"\nVERSION_ID='8.4.2'\nHOME_URL=x\nID=\nBUILD_ID=7\n", []string{"1 NAME=Tramline", "2 VERSION_ID=8.4.2", "5 BUILD_ID=7"}},
		{"etc/lsb-release", "DISTRIB_ID=Tram\nDISTRIB_RELEASE=\"8.4\"\nDISTRIB_CODENAME=x\nDISTRIB_DESCRIPTION=\n", []string{"1 DISTRIB_ID=Tram", "2 DISTRIB_RELEASE=8.4"}},
		{"etc/version", "", nil},
		{"etc/version", "\xff8.4\n", []string{"1 \uFFFD8.4"}},
	} {
		var got []string
		for _, f := range VersionFacts(c.name, []byte(c.text), fact.Source{File: "f"}) {
			got = append(got, fmt.Sprintf("%d %s", f.Source.Line, f.Value))
		}
		assert.Equal(t, c.want, got, "%s: %q", c.name, c.text)
	}
}
