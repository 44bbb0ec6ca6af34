// Package imagetest is what every registered image format has to pass. A format is a file that
// registers it; beside it stands a test file with at least one Sample. Conform then holds each
// sample against what every format promises, and demands what is missing: a sample, a broken field, a
// fuzz target, a row in the docs.
//
// The promises: a sound file is told by its content and nothing is wrong with it; each fact cites the
// bytes that it was read from, so that other bytes there say something else; no byte that a checksum
// covers changes unnoticed; a file that is cut short is not sound, wherever the cut is; fields that
// contradict the file are told in words; in how many pieces it comes makes no difference; and nothing panics.
package imagetest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// Sample is one sound file of a format, what its header says, and how it can be broken. It is written
// by hand or by an encoder of the test's own, from the published definition of the format.
type Sample struct {
	Name string // of the sample, in what the tests say
	Kind string // name of the format
	Data []byte
	// Facts are all values that its header gives about something, joined by ", ".
	Facts map[fact.Name]string
	// Sums is how many checksums are recomputed.
	Sums int
	// Parts are "NAME KIND" of what lies in it.
	Parts []string
	// Open: the format does not say how long a file is, so that a cut need not show.
	Open bool
	// Whole are lengths that are whole files, too: what follows is an addition.
	Whole []int
	// Loose: its checksums may fail without that being damage, or cover less than their stretch.
	Loose bool
	// Patches are fields that contradict the file.
	Patches []Patch
}

// Patch breaks one field: what stands there is replaced.
type Patch struct {
	What  string
	At    int
	Bytes string
	Says  string // in what is wrong then
}

// Suite is a set of formats and what stands beside them.
type Suite struct {
	Set     *image.Set
	Samples []Sample
	// Tests is the folder whose test files hold the fuzz targets, "" where none are wanted.
	Tests string
}

// address is that of a sample, as the sources of its facts give it.
const address = "f"

// Read reads a file as a survey does, with its content at hand at the end. Its error ends a walk, such
// as a bound that was passed.
func Read(set *image.Set, data []byte, l archive.Limits) (kind string, m *image.Image, err error) {
	r := image.Begin(set, data[:min(len(data), archive.HeadSize)], int64(len(data)), false)
	if _, err := r.Write(data); err != nil {
		return "", nil, err
	}
	return r.End(archive.MemoryWithin(address, data, l))
}

// Conform runs all that a suite has to pass.
func Conform(t *testing.T, s Suite) {
	t.Run("demands", s.demands)
	for _, one := range s.Samples {
		t.Run(strings.ReplaceAll(one.Name, " ", "-"), func(t *testing.T) {
			c := &conformance{t: t, set: s.Set, Sample: one}
			c.sound()
			c.cites()
			c.covered()
			c.cut()
			c.patched()
			c.flipped()
			c.pieces()
			c.extreme()
		})
	}
}

// demands tells what a format lacks.
func (s Suite) demands(t *testing.T) {
	fuzzed := targets(t, s.Tests)
	for _, f := range s.Set.Formats() {
		if f.Read == nil && f.SniffEnd == nil && f.Trailer == nil || f.Plain {
			continue // it is told, and no more of it is read here
		}
		var own []Sample
		for _, one := range s.Samples {
			if one.Kind == f.Name {
				own = append(own, one)
			}
		}
		if len(own) == 0 {
			t.Errorf("the format %s has no sample: put one beside it (imagetest.Sample)", f.Name)
		}
		open := slices.ContainsFunc(own, func(one Sample) bool { return one.Open })
		broken := slices.ContainsFunc(own, func(one Sample) bool { return len(one.Patches) > 0 || one.Sums > 0 })
		if len(own) > 0 && !broken && !open {
			t.Errorf("no sample of the format %s has a field that can be broken (Patches)", f.Name)
		}
		if s.Tests != "" && !fuzzed[f.Name] {
			t.Errorf("the format %s has no fuzz target: func FuzzXxx(f *testing.F) { fuzz(f, %q) }", f.Name, f.Name)
		}
		if f.Doc.Told == "" || f.Doc.From == "" {
			t.Errorf("the format %s does not say what it is told by, and which definition it was read by (image.Doc)", f.Name)
		}
	}
}

// target finds the formats that a fuzz target is for.
var target = regexp.MustCompile(`(?m)^func Fuzz\w+\(f \*testing\.F\)\s*\{ fuzz\(f, (.*)\) \}`)

func targets(t *testing.T, dir string) map[string]bool {
	out := map[string]bool{}
	if dir == "" {
		return out
	}
	files, err := filepath.Glob(filepath.Join(dir, "*_test.go"))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range target.FindAllSubmatch(text, -1) {
			for name := range strings.SplitSeq(string(m[1]), ",") {
				out[strings.Trim(name, ` "`)] = true
			}
		}
	}
	return out
}

type conformance struct {
	t   *testing.T
	set *image.Set
	Sample
}

// read reads what became of the sample; kind is "" where a bound refuses it.
func (c *conformance) read(data []byte) (string, *image.Image) {
	kind, m, err := Read(c.set, data, archive.DefaultLimits())
	var bound *archive.BoundError
	if err != nil && !errors.As(err, &bound) {
		c.t.Errorf("%s: %v", c.Name, err)
	}
	if err != nil {
		return "", nil
	}
	if m != nil {
		if what := Promises(m, data); what != "" {
			c.t.Error(what)
		}
	}
	return kind, m
}

// sound holds what is read of the sample against what it says.
func (c *conformance) sound() {
	kind, m := c.read(c.Data)
	if kind != c.Kind || m == nil {
		c.t.Fatalf("it is told as %q, and not as %q", kind, c.Kind)
	}
	if wrong := m.Damaged(); len(wrong) > 0 {
		c.t.Errorf("it is sound, and this is wrong with it: %s", strings.Join(wrong, "; "))
	}
	if len(m.Sums) != c.Sums {
		c.t.Errorf("%d checksums are recomputed, and it has %d", len(m.Sums), c.Sums)
	}
	if len(m.Fields) == 0 {
		c.t.Error("no field is shown")
	}
	for n, want := range c.Facts {
		if got := fact.Values(fact.Claim(m.Facts).About(n)); got != want {
			c.t.Errorf("%s is %q, and not %q", n, want, got)
		}
	}
	var parts []string
	for _, p := range m.Parts {
		parts = append(parts, p.Name+" "+p.Kind)
	}
	if !slices.Equal(parts, c.Parts) {
		c.t.Errorf("its parts are %q, and not %q", c.Parts, parts)
	}
	for _, f := range m.Facts {
		if f.Source.File == "" {
			c.t.Errorf("%s %q has no source", f.About, f.Value)
		}
	}
}

// cites holds each citation against the bytes: where others stand there, the fact is another, or the
// file is not taken as it was.
func (c *conformance) cites() {
	_, m := c.read(c.Data)
	for _, f := range m.Facts {
		from, to := f.Source.Offset, f.Source.Offset+f.Source.Size
		if f.Source.File != address || f.Source.Size == 0 {
			continue
		}
		if from < 0 || to > int64(len(c.Data)) {
			c.t.Errorf("%s %q cites the bytes %d to %d of %d", f.About, f.Value, from, to, len(c.Data))
			continue
		}
		same := func(alter func(b byte) byte) bool {
			other := bytes.Clone(c.Data)
			for i := from; i < to; i++ {
				other[i] = alter(other[i])
			}
			kind, m := c.read(other)
			return kind == c.Kind && m != nil && slices.ContainsFunc(m.Facts, func(o fact.Fact) bool {
				return o.About == f.About && o.Value == f.Value && o.Source == f.Source
			})
		}
		if same(func(b byte) byte { return ^b }) && same(func(byte) byte { return 0 }) {
			c.t.Errorf("%s %q cites the bytes %d to %d, and other bytes there say the same", f.About, f.Value, from, to)
		}
	}
}

// covered flips a bit of each stated checksum and of what it covers.
func (c *conformance) covered() {
	if c.Loose {
		return
	}
	_, m := c.read(c.Data)
	for _, sum := range m.Sums {
		var places []int64
		if sum.At > 0 || sum.Over.From == 0 {
			places = append(places, sum.At)
		}
		if n := sum.Over.To - sum.Over.From; n > 0 {
			places = append(places, sum.Over.From+n/2, sum.Over.To-1)
		}
		for _, at := range places {
			if kind, broken := c.read(flip(c.Data, at, 0x04)); kind == c.Kind && len(broken.Damaged()) == 0 {
				c.t.Errorf("%s: a bit of byte 0x%x is flipped, and nothing is said", sum.What, at)
			}
		}
	}
}

// maxCuts is up to how many bytes a sample is cut at every place.
const maxCuts = 600

// cut cuts the sample short at every place, or at many.
func (c *conformance) cut() {
	var unnoticed []int
	defer func() {
		if len(unnoticed) > 0 {
			c.t.Errorf("it is cut to %d of %d bytes, and nothing is wrong with it", unnoticed, len(c.Data))
		}
	}()
	for _, n := range places(len(c.Data)) {
		if n == 0 || slices.Contains(c.Whole, n) {
			continue
		}
		kind, m := c.read(c.Data[:n])
		if kind == c.Kind && !c.Open && len(m.Damaged()) == 0 {
			unnoticed = append(unnoticed, n)
		}
	}
}

// patched breaks fields.
func (c *conformance) patched() {
	for _, p := range c.Patches {
		bad := append(bytes.Clone(c.Data[:p.At]), p.Bytes...)
		bad = append(bad, c.Data[p.At+len(p.Bytes):]...)
		kind, m := c.read(bad)
		if kind != c.Kind {
			c.t.Errorf("%s: it is told as %q then", p.What, kind)
			continue
		}
		if all := strings.Join(m.Damaged(), "; "); all == "" || !strings.Contains(all, p.Says) {
			c.t.Errorf("%s: what is wrong then is %q, and does not say %q", p.What, all, p.Says)
		}
	}
}

// pieces hands the data over in pieces of one size after the other, with the size known and not: what is read of it is
// always the same.
func (c *conformance) pieces() {
	for _, size := range []int64{int64(len(c.Data)), -1} {
		var whole string
		for _, piece := range []int{max(1, len(c.Data)), 1, 2, 3, 4, 5, 7, 8, 15, 17, 31, 64, 513, 4095, 4097} {
			if len(c.Data)/piece > 1<<16 {
				continue
			}
			r := image.Begin(c.set, c.Data[:min(len(c.Data), archive.HeadSize)], size, false)
			for rest := range slices.Chunk(c.Data, piece) {
				if _, err := r.Write(rest); err != nil {
					c.t.Errorf("in pieces of %d bytes: %v", piece, err)
					return
				}
			}
			kind, m, err := r.End(archive.MemoryWithin(address, c.Data, archive.DefaultLimits()))
			if err != nil {
				c.t.Errorf("in pieces of %d bytes: %v", piece, err)
				return
			}
			read, err := json.Marshal(m)
			if err != nil {
				c.t.Errorf("in pieces of %d bytes: %v", piece, err)
				return
			}
			now := kind + " " + string(read)
			if whole == "" {
				whole = now
			} else if now != whole {
				c.t.Errorf("in pieces of %d bytes, of a size told as %d, it is read as\n%s\nand at once as\n%s", piece, size, from(now, whole), from(whole, now))
				return
			}
		}
	}
}

// from is what one text says from where another differs.
func from(text, other string) string {
	at := 0
	for at < len(text) && at < len(other) && text[at] == other[at] {
		at++
	}
	return text[max(0, at-100):min(len(text), at+300)]
}

// flipped changes each byte, for the sake of what must not happen: a panic, a broken promise.
func (c *conformance) flipped() {
	for _, at := range places(len(c.Data)) {
		c.read(flip(c.Data, int64(at), 0xff))
	}
}

// extremes are numbers of 16 and 32 bits at which sizes and offsets turn over, in either byte order.
var extremes = [][]byte{{0, 0, 0, 0}, {0xff, 0xff, 0xff, 0xff}, {0x7f, 0xff, 0xff, 0xff}, {0xff, 0xff, 0xff, 0x7f}, {0x80, 0, 0, 0}, {0, 0, 0, 0x80}, {0, 0}, {0xff, 0xff}, {0, 1}, {1, 0}}

// extreme: whatever number stands anywhere, what comes back keeps the promises, and nothing panics.
func (c *conformance) extreme() {
	for _, at := range places(len(c.Data)) {
		for _, number := range extremes {
			if at%4 == 0 && at+len(number) <= len(c.Data) {
				data := bytes.Clone(c.Data)
				copy(data[at:], number)
				c.read(data)
			}
		}
	}
}

func flip(data []byte, at int64, mask byte) []byte {
	out := bytes.Clone(data)
	out[at] ^= mask
	return out
}

// places are those of a file of so many bytes: every one of its beginning, and some of the rest.
func places(size int) []int {
	var out []int
	for i := range min(size, maxCuts) {
		out = append(out, i)
	}
	for i := maxCuts; i < size; i += max(1, size/100) {
		out = append(out, i)
	}
	if size > maxCuts {
		out = append(out, size-1)
	}
	return out
}

// Promises tells which promise about the bytes of a file an image breaks: a field shows the bytes that stand at its place,
// a fact cites bytes of the file, a checksum that holds was taken over bytes of it, and no list grows past its bound. It is
// "" for none.
func Promises(m *image.Image, data []byte) string {
	size := int64(len(data))
	for _, f := range m.Fields {
		end := f.Offset + int64(len(f.Raw))
		if f.Offset < 0 || end > size {
			return fmt.Sprintf("the field %s at %d, %d bytes, lies outside of %d bytes", f.Name, f.Offset, len(f.Raw), size)
		}
		if !bytes.Equal(f.Raw, data[f.Offset:end]) {
			return fmt.Sprintf("the field %s shows %q, and at %d stands %q", f.Name, f.Raw, f.Offset, data[f.Offset:end])
		}
	}
	for _, f := range m.Facts {
		if f.Source.Kind == fact.Header && (f.Source.Offset < 0 || f.Source.Offset+f.Source.Size > size) {
			return fmt.Sprintf("the fact %s cites %d bytes at %d of %d", f.About, f.Source.Size, f.Source.Offset, size)
		}
	}
	for _, s := range m.Sums {
		if s.OK && (s.Over.From < 0 || s.Over.To > size) {
			return fmt.Sprintf("%s holds over %d to %d of %d bytes", s.What, s.Over.From, s.Over.To, size)
		}
	}
	if len(m.Fields) > image.MaxFields || len(m.Parts) > image.MaxParts || len(m.Sums) > image.MaxSums {
		return fmt.Sprintf("%d fields, %d parts, %d sums", len(m.Fields), len(m.Parts), len(m.Sums))
	}
	return ""
}
