package format_test

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"fitcheck/core/digest"

	"fitcheck/core/image"
	"fitcheck/core/image/format"
)

// places are offsets into a sample: all of a short one, and of a long one as many.
func places(n int) []int {
	var out []int
	step := max(1, n/500)
	for i := 0; i < n; i += step {
		out = append(out, i)
	}
	return append(out, n-1)
}

// No byte that is told to be covered by a checksum can change unnoticed, in any format.
func TestCoveredBytesCannotChange(t *testing.T) {
	for _, s := range samples() {
		if f := format.Builtin().ByName(s.kind); s.kind == "bzimage" || !f.Firmware {
			continue // whose checksum decides nothing: what signs a kernel breaks it; archives are no images
		}
		told := 0
		for _, at := range places(len(s.data)) {
			bad := bytes.Clone(s.data)
			bad[at] ^= 0x10
			kind, m := kindOf(t, bad)
			if kind != s.kind || m == nil || len(m.Damaged()) > 0 {
				continue
			}
			for _, c := range digest.Coverage(int64(len(bad)), m.Covers(int64(len(bad)))) {
				if c.From <= int64(at) && int64(at) < c.To && c.By == digest.ByChecksum && c.Holds && told < 3 {
					told++
					assert.Fail(t, "a covered byte changed", "%s: byte 0x%x, covered by %s", s.name, at, c.Of)
				}
			}
		}
	}
}

// What a checksum of the format vouches for is told: the sample of every format that has
// one has bytes that are covered.
func TestChecksumsCover(t *testing.T) {
	for _, s := range samples() {
		_, m := kindOf(t, s.data)
		if s.sums == 0 || s.kind == "uf2" || s.kind == "ubi" { // of whose checksums each covers a little here and there
			continue
		}
		covered := int64(0)
		for _, c := range digest.Coverage(int64(len(s.data)), m.Covers(int64(len(s.data)))) {
			if c.By == digest.ByChecksum && c.Holds {
				covered += c.To - c.From
			}
		}
		assert.NotZero(t, covered, s.name)
	}
}

// A file that ends before the size that its format announces is never whole, wherever it
// ends; and what follows that size is never covered by the format.
func TestAnnouncedSizes(t *testing.T) {
	sized := 0
	for _, s := range samples() {
		_, m := kindOf(t, s.data)
		if m == nil || m.Extent == 0 {
			continue
		}
		sized++
		told := 0
		for _, n := range places(len(s.data)) {
			if n == 0 || int64(n) >= m.Extent {
				continue
			}
			kind, cut := kindOf(t, s.data[:n])
			if kind != s.kind || cut == nil || len(cut.Damaged()) > 0 {
				continue
			}
			// A tree behind a kernel is announced by nobody: what is left of it is covered
			// by nothing, and without any of it the kernel is whole.
			w, _ := digest.Weakest(digest.Coverage(int64(n), cut.Covers(int64(n))))
			if left := int64(n) - cut.Extent; (left == 0 && cut.Extent < m.Extent || left > 0 && w.By == digest.Unproven) && s.kind == "zimage" {
				continue
			}
			if s.kind == "ubi" && (n%testPEB == 0 || n < testPEB) {
				continue // which volumes may take more blocks, it does not say
			}
			if told < 3 {
				told++
				assert.Fail(t, "a cut is not noticed", "%s cut to %d of %d bytes", s.name, n, len(s.data))
			}
		}
		if s.kind == "dfu" || s.kind == "ubi" || s.kind == "7z" || s.kind == "elf" && m.Extent < int64(len(s.data)) {
			continue // whose end is by the end of the file
		}
		longer := append(bytes.Clone(s.data), []byte("\x01\x02 something else \x03")...)
		kind, m := kindOf(t, longer)
		if kind != s.kind || len(m.Damaged()) > 0 {
			continue
		}
		w, _ := digest.Weakest(digest.Coverage(int64(len(longer)), m.Covers(int64(len(longer)))))
		assert.Equal(t, digest.Unproven, w.By, "%s: what follows it is proven by %s", s.name, w.Of)
	}
	assert.Greater(t, sized, 20)
}

// A checksum whose bytes were not read proves nothing, and those behind it what they prove.
func TestCoversWithoutWhatWasSkipped(t *testing.T) {
	sum := func(what string, from, to int64) image.Sum {
		return image.Sum{What: what, Partial: digest.Partial{Over: digest.Between(from, to)}, Want: "1", Got: "1", OK: true}
	}
	one, two, three := sum("one", 0, 4), sum("two", 4, 8), sum("three", 8, 12)
	one.Skipped, one.Got = true, ""
	two.Got = ""
	m := &image.Image{Sums: []image.Sum{one, two, three}}
	var proved []string
	for _, c := range m.Covers(10) {
		proved = append(proved, fmt.Sprintf("%s %d to %d, %v", c.Of, c.From, c.To, c.Holds))
	}
	assert.Equal(t, []string{"three 8 to 10, true"}, proved)
}
