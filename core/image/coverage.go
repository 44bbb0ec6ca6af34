package image

import (
	"fmt"
	"io"
	"slices"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

// Behind is what follows an image, beyond the bytes that it takes by its own account.
type Behind struct {
	From, To int64
	// Padding: all of it is 00, or all of it is FF.
	Padding bool
	// Signed: it is the signature of a kernel module.
	Signed bool
	// Kind is the format of a further image there, "" where there is none.
	Kind, Title string
}

// Covers lists what the format itself says of the image's bytes: its checksums, those of
// its parts, and, where it has none, its structure. size is that of the whole file.
// Offsets count from the image's first byte.
func (m *Image) Covers(size int64) []digest.Cover {
	var out []digest.Cover
	add := func(s digest.Stretch, by digest.Proof, of string, holds bool) {
		s.To = min(s.To, size)
		out = append(out, digest.Cover{Stretch: s, By: by, Of: of, Holds: holds})
	}
	for _, s := range m.Sums {
		if s.Skipped || s.Got == "" {
			continue
		}
		for _, over := range s.covers() {
			add(over, digest.ByChecksum, s.What, s.OK)
		}
	}
	for _, p := range m.Parts {
		if p.Check != "" {
			for _, s := range p.checked {
				add(digest.Stretch{From: p.Offset + s.From, To: p.Offset + s.To}, digest.ByChecksum, p.Name+" "+p.Check, true)
			}
		}
		if p.Image == nil || p.Compression != "" {
			continue
		}
		for _, c := range p.Image.Covers(p.Size) {
			if c.By == digest.ByChecksum {
				add(digest.Stretch{From: p.Offset + c.From, To: p.Offset + c.To}, c.By, p.Name+" "+c.Of, c.Holds)
			}
		}
	}
	at := int64(0)
	for _, u := range append(slices.Clone(m.Uncovered), digest.Stretch{From: m.Extent, To: m.Extent}) {
		if at < u.From {
			add(digest.Stretch{From: at, To: u.From}, digest.ByStructure, "structure", true)
		}
		at = max(at, u.To)
	}
	if b := m.Behind; b != nil && b.Padding {
		out = append(out, digest.Cover{Stretch: digest.Stretch{From: b.From, To: min(b.To, size)}, By: digest.ByStructure, Of: "padding", Holds: true, Padding: true})
	} else if b != nil && b.Signed {
		add(digest.Stretch{From: b.From, To: b.To}, digest.ByStructure, "signature of a kernel module, not verified", true)
	}
	return out
}

// covers lists the stretches whose bytes a sum that holds vouches for: not those that it
// takes for zero, but for its own place.
func (s *Sum) covers() []digest.Stretch {
	if s.Covers != nil {
		return s.Covers
	}
	var out []digest.Stretch
	from := s.Over.From
	for _, z := range s.Zeroed {
		if z.From <= s.At && s.At < z.To { // its own place: it is held against that
			continue
		}
		if from < z.From {
			out = append(out, digest.Stretch{From: from, To: z.From})
		}
		from = max(from, z.To)
	}
	if from < s.Over.To {
		out = append(out, digest.Stretch{From: from, To: s.Over.To})
	}
	return out
}

// LeaveOpen notes bytes for which the format has a checksum and the image none.
func (m *Image) LeaveOpen(from, to int64) {
	if from < to && len(m.Uncovered) < MaxSums {
		m.Uncovered = append(m.Uncovered, digest.Stretch{From: from, To: to})
		slices.SortFunc(m.Uncovered, func(a, b digest.Stretch) int { return int(min(1, max(-1, a.From-b.From))) })
	}
}

// Started lists what the parts say that the boot loader starts: kernel, program, tree.
// Each of them is a witness of the image of its own. Without names all of the parts that
// are started speak, else those of the names.
func (m *Image) Started(names []string) []fact.Fact {
	var out []fact.Fact
	for _, p := range m.Parts {
		if !p.Starts || p.Image == nil || holdsFiles(p.Kind) || names != nil && !slices.Contains(names, p.Name) {
			continue
		}
		covered := m.covered(fact.Source{Offset: p.Offset, Size: p.Size})
		for _, f := range append(slices.Clone(p.Image.Facts), p.Image.Started(nil)...) {
			if !slices.Contains(witnessed, f.About) {
				continue
			}
			f.Payload = true
			f.Protected = f.Protected || covered
			if !slices.ContainsFunc(out, func(o fact.Fact) bool { return o.About == f.About && o.Value == f.Value && o.Open == f.Open }) {
				out = append(out, f)
			}
		}
	}
	return out
}

// witnessed is what a part is a witness of.
var witnessed = []fact.Name{fact.Arch, fact.Board, fact.Model, fact.Revision, fact.Family, fact.Region, fact.Platform, fact.Feature, fact.Hypervisor, fact.Title}

// holdsFiles tells the formats whose programs are started later, by the system itself.
func holdsFiles(kind string) bool {
	f := Registered().ByName(kind)
	return f != nil && f.HoldsFiles
}

// notFirmware lists the kinds of which nothing can be started.
var notFirmware = map[string]bool{"html": true, "json": true, "xml": true, "yaml": true, "text": true, "pdf": true, "pem": true, "signature": true, "blank": true, "zeros": true, "empty": true}

// findBehind looks at what follows the image.
func (m *Image) findBehind(set *Set, c *archive.Content) error {
	if m.Extent <= 0 || m.Extent >= c.Size() || !c.Readable() {
		return nil
	}
	b := &behind{from: m.Extent}
	if _, err := io.Copy(b, c.Reader(m.Extent, c.Size()-m.Extent)); err != nil {
		return err
	}
	m.Behind = b.tell(set, c.Size())
	return nil
}

// behind looks at the bytes that follow an image while they pass.
type behind struct {
	from    int64 // where they begin
	pos     int64
	zero    bool
	erased  bool
	begun   bool
	content int64 // where something else than 00 or FF begins
	head    []byte
	last    []byte
}

// moduleSignature ends a signed kernel module (Linux kernel,
// include/linux/module_signature.h).
const moduleSignature = "~Module signature appended~\n"

// Write takes the next bytes that follow the image.
func (b *behind) Write(p []byte) (int, error) {
	if !b.begun && len(p) > 0 {
		b.begun, b.zero, b.erased, b.content = true, true, true, -1
	}
	b.zero = b.zero && AllOf(p, 0)
	b.erased = b.erased && AllOf(p, 0xff)
	if b.content < 0 {
		if i := slices.IndexFunc(p, func(c byte) bool { return c != 0 && c != 0xff }); i >= 0 {
			b.content = b.pos + int64(i)
			b.head = append(b.head, p[i:min(len(p), i+archive.HeadSize)]...)
		}
	} else if room := archive.HeadSize - len(b.head); room > 0 {
		b.head = append(b.head, p[:min(len(p), room)]...)
	}
	b.pos += int64(len(p))
	b.last = append(b.last, p[max(0, len(p)-len(moduleSignature)):]...)
	b.last = b.last[max(0, len(b.last)-len(moduleSignature)):]
	return len(p), nil
}

func (b *behind) tell(set *Set, size int64) *Behind {
	if !b.begun {
		return nil
	}
	out := &Behind{From: b.from, To: size, Padding: b.zero || b.erased, Signed: string(b.last) == moduleSignature}
	if f := set.Sniff(b.head); !out.Padding && f != nil && f.Firmware {
		out.Kind, out.Title = f.Name, f.Title
	}
	return out
}

// words say how much follows the image.
func (b *Behind) words() string {
	if n := b.To - b.From; n != 1 {
		return fmt.Sprintf("%d bytes follow the image", n)
	}
	return "1 byte follows the image"
}

// tellBehind puts what follows the image into words.
func (m *Image) tellBehind() {
	switch b := m.Behind; {
	case b == nil || b.Padding || b.Signed:
	case b.Kind != "":
		m.Note("%s; a further image (%s) begins there", b.words(), b.Title)
	case len(m.Sums) > 0:
		m.Note("%s; no checksum covers them", b.words())
	default:
		m.Note("%s", b.words())
	}
}

// streamCheck names the checksum that a compressed stream of n bytes carries of what it
// holds, "" for none, and the stretches of the stream in which no byte can change without
// changing that: gzip RFC 1952 2.3; bzip2; xz 2.1; zstd RFC 8878 3.1.1; LZ4 frame 1.6. What
// its header says of names and times, and the bits that fill up the last byte of packed
// data, are not among them.
func streamCheck(method archive.Compression, head []byte, n int64) (name string, covers []digest.Stretch) {
	from, until := int64(0), n
	const trailer = 8 // of gzip: CRC-32 and length
	switch {
	case method == archive.GzipStream:
		from, until = gzipHeader(head), n-trailer-1
		covers = []digest.Stretch{{From: n - trailer, To: n}}
	case method == archive.Bzip2Stream:
		from, until = 10, n-1
	case method == archive.XzStream && len(head) > 7 && head[7]&15 != 0:
	case method == archive.ZstdStream && len(head) > 4 && head[4]&4 != 0:
		from = 18 // the longest header
	case method == archive.Lz4Stream && len(head) > 4 && head[0] == 4 && head[4]&4 != 0:
		from = 19
	default:
		return "", nil
	}
	if from < until {
		covers = append([]digest.Stretch{{From: from, To: until}}, covers...)
	}
	return fmt.Sprintf("checksum of its %s stream", method), covers
}

// gzipHeader is the length of a gzip header, as far as the first bytes tell.
func gzipHeader(head []byte) int64 {
	at := 10
	if len(head) < at {
		return int64(at)
	}
	flags := head[3]
	if flags&4 != 0 && len(head) > at+2 {
		at += 2 + int(head[at]) + int(head[at+1])<<8
	}
	for _, bit := range []byte{8, 16} { // name, comment
		for flags&bit != 0 && at < len(head) {
			at++
			if head[at-1] == 0 {
				break
			}
		}
	}
	if flags&2 != 0 {
		at += 2
	}
	return int64(at)
}
