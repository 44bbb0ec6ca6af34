// Package image reads the headers of firmware images.
//
// Each format is one file that registers a Format: how it is told by its
// content and how its header is read. Reading a header yields fields (what
// stands at which offset), facts (what that says about the device the image is
// for), checksums, which are recomputed, and parts: what lies inside and is
// looked into in turn. A fact counts as protected when a checksum that holds
// covers the bytes it was read from.
//
// A format's Read sees a Source. It is tried on the first bytes of a file
// while the file passes by; the checksums it asks for then ride on that one
// pass. Only when it asks for bytes beyond those is it called again, with the
// whole content at hand.
package image

import (
	"encoding/binary"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/wording"
)

// Format is one kind of file that is told apart by its content.
type Format struct {
	// Name as in JSON: "uimage", "html".
	Name string
	// Title for people: "U-Boot legacy image".
	Title string
	// Firmware is false for what is recognised only to say that it is not.
	Firmware bool
	// Rank orders formats that the same bytes may suit: higher is asked first.
	Rank int
	// Magics are what the format is known by; any one of them will do.
	Magics []Magic
	// Sniff tells the format by the first bytes of a file where the magics
	// alone do not suffice. It is asked only when one of the magics is there,
	// or when there are none.
	Sniff func(head []byte) bool
	// Read reads the header. Nil when there is none to read. Its error says
	// what is wrong with the file; what it could read comes back all the same.
	Read func(s *Source) (*Image, error)
	// SniffEnd tells a format by the last bytes of a file, for those that have
	// a trailer in place of a header.
	SniffEnd func(tail []byte) bool
	// Room is the kind of formats among which it stands, and Doc its row in docs/formats.md; a
	// document that is no firmware has neither.
	Room Room
	Doc  Doc
	// Trailer makes what reads a trailer that may stand behind a file of any format, while its
	// bytes pass by; nil for a format that has none.
	Trailer func() Trailer
	// Suffixes are those that names of such files end in, in small letters. What a file is goes by
	// its content alone; a suffix that says otherwise is worth a note.
	Suffixes []string
	// Plain: its header is nothing but a magic. What lies behind it package content reads, whose tests
	// hold it.
	Plain bool
	// Stream: it is a compressed stream, which the deep scan inflates to know where it ends.
	Stream bool
	// HoldsFiles: what is in it is started later, by the system itself, not by a boot loader.
	HoldsFiles bool
	// Members lists what is opened of it as the members of an archive are; nil for formats
	// whose parts are only looked into.
	Members func(m *Image, c *archive.Content) ([]archive.Member, error)
	// Deep formats are looked for at any offset of a blob: their structure or
	// checksums leave no doubt, and Read gives their Extent.
	Deep bool
	// Measure tells how many bytes a file of the format takes from the beginning on, by its
	// structure or its checksums; 0 when it is none. It is for deep formats whose header
	// does not say it, or does not prove enough.
	Measure func(c *archive.Content) (int64, error)
	// DeepMagics are what the deep scan looks for, where that is not Magics.
	DeepMagics []Magic
}

// Room is a kind of formats: the packages below core/image/format, and the tables of docs/formats.md.
type Room string

// The rooms.
const (
	Boot       Room = "boot"
	FileSystem Room = "filesystem"
	Disk       Room = "disk"
	Update     Room = "update"
	Stream     Room = "stream"
)

// Doc is what the documentation says of a format: what it is told by, which checksums are recomputed,
// which facts come out, and the definition that its reader was written from.
type Doc struct{ Told, Sums, Facts, From string }

// Trailer looks for something behind a file, and is given all bytes of it.
type Trailer interface {
	io.Writer
	// Image is what the trailer says, with what is in front of it as its first part; nil when
	// there is none. total is how many bytes there are in all.
	Image(total int64) *Image
}

// Magic is a run of bytes at a fixed offset.
type Magic struct {
	At    int
	Bytes string
}

func (m Magic) In(head []byte) bool {
	return len(head) >= m.At+len(m.Bytes) && string(head[m.At:m.At+len(m.Bytes)]) == m.Bytes
}

// Set is a set of formats, asked in their order.
type Set struct {
	formats []*Format
	behind  []*Format // those of them that may stand behind a file of another
	known   *Known    // what parts were found to hold; nil where nothing is kept
}

var builtin = &Set{}

// Register adds a format to the built-in ones. It is called by the init
// function of its file.
func Register(f *Format) { builtin.add(f) }

// Registered is the set of the formats that are linked in and registered, with the file systems
// that package content tells by a magic alone. Package format links them all.
func Registered() *Set {
	plainFileSystems()
	return builtin
}

var plainFileSystems = sync.OnceFunc(func() {
	for _, k := range content.Kinds() {
		if k.Magic == "" || builtin.ByName(k.Name) != nil {
			continue
		}
		Register(&Format{Name: k.Name, Title: k.Title + " file system", Plain: true, Room: FileSystem, Doc: Doc{Told: fmt.Sprintf("%q at %d", k.Magic, k.At), Facts: "type", From: k.From}, HoldsFiles: true, Firmware: true, Magics: []Magic{{k.At, k.Magic}}, Read: func(s *Source) (*Image, error) {
			m := &Image{}
			h, err := m.Header(s, "the header of a file system", 0, k.At+len(k.Magic), binary.LittleEndian)
			if err != nil {
				return nil, err
			}
			h.Text("magic", k.At, len(k.Magic), k.Title)
			m.Fact(fact.Type, "filesystem", int64(k.At), int64(len(k.Magic)))
			return m, nil
		}})
	}
})

// With is the set with more formats, such as layouts.
func (s *Set) With(more ...*Format) *Set {
	out := &Set{formats: slices.Clone(s.formats), behind: slices.Clone(s.behind)}
	for _, f := range more {
		out.add(f)
	}
	return out
}

func (s *Set) add(f *Format) {
	if f.Trailer != nil {
		s.behind = append(s.behind, f)
	}
	i, _ := slices.BinarySearchFunc(s.formats, f, func(a, b *Format) int {
		if a.Rank != b.Rank {
			return b.Rank - a.Rank
		}
		if a.Name < b.Name {
			return -1
		}
		return 1
	})
	s.formats = slices.Insert(s.formats, i, f)
}

// trailers tells whether a format of the set is known by its end.
func (s *Set) trailers() bool {
	return slices.ContainsFunc(s.formats, func(f *Format) bool { return f.SniffEnd != nil })
}

// readTrailer reads a file that is known by its end only.
func (s *Set) readTrailer(c *archive.Content) (*Format, *Image, error) {
	const room = 4 << 10
	if !s.trailers() || !c.Readable() {
		return nil, nil, nil
	}
	tail := make([]byte, min(room, c.Size()))
	if _, err := c.ReadAt(tail, c.Size()-int64(len(tail))); err != nil && archive.Fatal(err) {
		return nil, nil, err
	}
	for _, f := range s.formats {
		if f.SniffEnd == nil || !f.SniffEnd(tail) {
			continue
		}
		m, err := readAll(f, c)
		if err == nil {
			err = lookInto(s, c, m)
		}
		if err != nil {
			return nil, nil, err
		}
		if err := m.findBehind(s, c); err != nil {
			return nil, nil, err
		}
		m.finish(c)
		if len(m.Parts) == 1 && m.Parts[0].Offset == 0 && m.Parts[0].Image != nil {
			m.adopt(m.Parts[0].Image)
		}
		return f, m, nil
	}
	return nil, nil, nil
}

// Formats lists the formats in the order in which they are asked.
func (s *Set) Formats() []*Format { return s.formats }

// Sniff finds the format of a file by its first bytes, or nil.
func (s *Set) Sniff(head []byte) *Format {
	for _, f := range s.formats {
		if f.is(head) {
			return f
		}
	}
	if IsText(head) {
		return text
	}
	return nil
}

// OfSuffix names the formats whose files bear a suffix.
func (s *Set) OfSuffix(suffix string) []string {
	var out []string
	for _, f := range s.formats {
		if slices.Contains(f.Suffixes, suffix) {
			out = append(out, f.Name)
		}
	}
	return out
}

// Kind is the name of a file's format by its first bytes, "unknown" for none.
func (s *Set) Kind(head []byte) string { return s.Sniff(head).name() }

func (f *Format) is(head []byte) bool {
	if len(f.Magics) > 0 && !slices.ContainsFunc(f.Magics, func(m Magic) bool { return m.In(head) }) {
		return false
	}
	return f.Sniff == nil && len(f.Magics) > 0 || f.Sniff != nil && f.Sniff(head)
}

// ByName finds a format by its name, or nil.
func (s *Set) ByName(name string) *Format {
	if name == text.Name {
		return text
	}
	for _, f := range s.formats {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// Image is what a header says.
type Image struct {
	Format string
	Fields []Field
	// Facts have Source.Offset and Source.Size; Source.File is filled in at
	// the end, when the file's address is known.
	Facts []fact.Fact
	// Configs are what a header offers to choose from, each with facts of its
	// own; empty for most formats.
	Configs     []Config
	Compression string
	Load, Entry *uint64
	// Sums are the checksums that the header carries, recomputed.
	Sums []Sum
	// Signatures are those that the header carries; verifying them needs keys.
	Signatures []Signature
	// Extent is how many bytes the image takes by its own account, header
	// included; 0 when it does not say.
	Extent int64
	Parts  []Part
	// Contents are the files of a file system; nil where they were not listed.
	Contents   *Contents
	listed     bool  // by others
	opened     bool  // its parts are, but those that are started
	EraseBlock int64 // bytes of an erase block, of a UBI image
	// Uncovered are bytes for which the format has a checksum and the image none, in
	// their order.
	Uncovered []digest.Stretch
	// Behind is what follows the image; nil for nothing, or when nobody looked.
	Behind *Behind
	// Problems is what is wrong with the image apart from its checksums, Unread what
	// this program cannot read of it, Notes what is worth knowing.
	Problems, Unread, Notes []string
}

// Config is one of several ways to start what an image holds.
type Config struct {
	Name    string
	Default bool
	Images  []string // the images that it starts or loads, by their names
	Starts  []string // those of them that are started, or tell the started one its hardware
	Program bool     // one of them is a program: a kernel, a boot loader, a firmware
	Facts   []fact.Fact
}

// Part is something inside an image.
type Part struct {
	Name         string
	Offset, Size int64  // in the image around it, as it lies there
	Compression  string // "" when it lies there plainly
	Unpacked     int64  // bytes once inflated; 0 when not compressed
	Kind         string // format of its content; "" when it was not looked into
	Image        *Image // header of its content; nil when it has none
	// Starts: a boot loader starts it, or hands it to what it starts (a device tree).
	Starts bool
	// Packed is how many bytes the compressed stream takes; Check names the checksum
	// that it carries of what it holds, and which holds.
	Packed  int64
	Check   string
	checked []digest.Stretch // of the stream
	// Scattered: the rest of it lies elsewhere, so that what it announces says nothing of
	// its size here.
	Scattered bool
	// Pieces: only the format's Members tell where all of it lies, and where it ends, be it Scattered or not.
	Pieces bool
	// Said is what the image around it says of the part.
	Said Said
	// Opaque parts are not looked into.
	Opaque bool
	// Guess: that something compressed lies here is a guess, so that it is no
	// damage when it cannot be inflated.
	Guess bool
}

// Said is what a header says of a part, where it does.
type Said struct {
	Title, Type, OS, Arch, Compression string
	Load, Entry                        *uint64
}

// Field is one field of a header.
type Field struct {
	Name    string
	Offset  int64 // from the first byte of the file
	Raw     []byte
	Value   string // the raw bytes as a number or text
	Meaning string
}

// Sum is a checksum that a header carries, and what the content gives.
type Sum struct {
	What string // "header crc32"
	digest.Partial
	Want string // lower-case hexadecimal, or words where one sum stands for many
	Got  string // "" until it is computed
	OK   bool
	At   int64 // where the header holds it
	// Skipped: the bytes that it is taken over were not read.
	Skipped bool
	// Missing is how many of the bytes that it is taken over lie beyond the end of the file.
	Missing int64
	// Counts says how many of those that it stands for do not hold; "" for a single one.
	Counts string
	// Covers are the bytes that it vouches for, where that is not all of Over.
	Covers []digest.Stretch
}

// First returns the first fact about something.
func (m *Image) First(n fact.Name) (fact.Fact, bool) {
	for _, f := range m.Facts {
		if f.About == n {
			return f, true
		}
	}
	return fact.Fact{}, false
}

// FirstText is the text of the first fact about something, "" for none.
func (m *Image) FirstText(n fact.Name) string {
	f, _ := m.First(n)
	return f.Value
}

// Values returns the texts of all closed facts about something.
func (m *Image) Values(n fact.Name) []string {
	var out []string
	for _, f := range m.Facts {
		if f.About == n && !f.Open {
			out = append(out, f.Value)
		}
	}
	return out
}

// Forget drops the fields of the header and of all parts, which only those need who show
// the header.
func (m *Image) Forget() {
	m.Fields = nil
	for i := range m.Parts {
		if p := m.Parts[i].Image; p != nil {
			p.Forget()
		}
	}
}

// Claims are what the header says, a claim for each configuration where it
// has several.
func (m *Image) Claims() []fact.Claim {
	if len(m.Configs) == 0 {
		if started := m.Started(nil); len(started) > 0 {
			return []fact.Claim{slices.Concat(m.Facts, started)}
		}
		return []fact.Claim{m.Facts[:len(m.Facts):len(m.Facts)]}
	}
	var out []fact.Claim
	for _, c := range m.Configs {
		out = append(out, slices.Concat(m.Facts, c.Facts, m.Started(append([]string{}, c.Starts...))))
	}
	return out
}

// All lists the facts of the image, of its configurations and of its parts.
func (m *Image) All() []fact.Fact {
	out := slices.Clone(m.Facts)
	for _, c := range m.Configs {
		out = append(out, c.Facts...)
	}
	for _, p := range m.Parts {
		if p.Image != nil {
			out = append(out, p.Image.All()...)
		}
	}
	return out
}

// wrong says that the checksum does not hold.
func (s *Sum) wrong() string {
	switch {
	case s.Counts != "":
		return s.What + ": " + s.Counts
	case s.Missing > 0:
		return fmt.Sprintf("%s cannot hold: %s missing of what it is taken over", s.What, wording.Count(s.Missing, "byte"))
	}
	return fmt.Sprintf("%s does not match: the header says %s, the content gives %s", s.What, s.Want, s.Got)
}

// Found is what the content gives, in words where that is no sum.
func (s *Sum) Found() string {
	switch {
	case s.Skipped:
		return "not computed"
	case s.Missing > 0:
		return fmt.Sprintf("not computed, %s missing", wording.Count(s.Missing, "byte"))
	}
	return s.Got
}

// Damaged lists everything that keeps the image from being intact, in its
// parts, too.
func (m *Image) Damaged() []string {
	out := slices.Clone(m.Problems)
	for _, s := range m.Sums {
		if !s.OK && !s.Skipped {
			out = append(out, s.wrong())
		}
	}
	for _, p := range m.Parts {
		if p.Image != nil {
			for _, d := range p.Image.Damaged() {
				out = append(out, fmt.Sprintf("in its part %s (%s): %s", p.Name, p.Kind, d))
			}
		}
	}
	return out
}

// AllNotes lists the notes of the image and of its parts.
func (m *Image) AllNotes() []string { return m.all(func(m *Image) []string { return m.Notes }) }

// AllUnread lists what this program cannot read of the image and of its parts.
func (m *Image) AllUnread() []string { return m.all(func(m *Image) []string { return m.Unread }) }

func (m *Image) all(of func(*Image) []string) []string {
	out := slices.Clone(of(m))
	for _, p := range m.Parts {
		if p.Image != nil {
			for _, n := range p.Image.all(of) {
				out = append(out, fmt.Sprintf("in its part %s (%s): %s", p.Name, p.Kind, n))
			}
		}
	}
	return out
}

// AllSums lists the checksums of the image and of its parts; those of parts
// are named after them.
func (m *Image) AllSums() []Sum {
	out := slices.Clone(m.Sums)
	for _, p := range m.Parts {
		if p.Image != nil {
			for _, s := range p.Image.AllSums() {
				s.What = p.Name + " " + s.What
				out = append(out, s)
			}
		}
	}
	return out
}

// Problem adds what is wrong with the image: it makes it damaged.
func (m *Image) Problem(format string, args ...any) {
	if len(m.Problems) < maxSaid {
		m.Problems = append(m.Problems, fmt.Sprintf(format, args...))
	}
}

func (m *Image) unread(format string, args ...any) {
	if len(m.Unread) < maxSaid {
		m.Unread = append(m.Unread, fmt.Sprintf(format, args...))
	}
}

// Note adds what is worth knowing.
func (m *Image) Note(format string, args ...any) {
	if len(m.Notes) < maxSaid {
		m.Notes = append(m.Notes, fmt.Sprintf(format, args...))
	}
}

// Bounds of what one header may say.
const (
	maxSaid   = 64
	MaxFields = 4096
	maxFacts  = 1024
	MaxParts  = 1024
	MaxSums   = 4096
)

// Field adds a field of the header, with the place that it was read from.
func (m *Image) Field(name string, offset int64, raw []byte, value, meaning string) {
	if len(m.Fields) < MaxFields {
		m.Fields = append(m.Fields, Field{name, offset, raw, value, meaning})
	}
}

// Fact adds a fact, with the bytes that say it; no value adds none. What comes back can be marked
// further.
func (m *Image) Fact(about fact.Name, value string, offset, size int64) *fact.Fact {
	if value == "" || len(m.Facts) >= maxFacts {
		return &fact.Fact{}
	}
	m.Facts = append(m.Facts, fact.Fact{About: about, Value: value, Source: fact.Source{Kind: fact.Header, Offset: offset, Size: size}})
	return &m.Facts[len(m.Facts)-1]
}

// Part adds a part, which is looked into in its turn. What comes back can be marked further.
func (m *Image) Part(name string, offset, size int64) *Part {
	if len(m.Parts) >= MaxParts {
		return &Part{}
	}
	m.Parts = append(m.Parts, Part{Name: name, Offset: offset, Size: size})
	return &m.Parts[len(m.Parts)-1]
}

// Sum asks for a checksum over a stretch, to be compared with want.
func (m *Image) Sum(what string, a digest.Algorithm, o digest.Options, over, zeroed digest.Stretch, want string, at int64) {
	if len(m.Sums) >= MaxSums {
		return
	}
	p := digest.Partial{Algorithm: a, Options: o, Over: over}
	if zeroed.To > zeroed.From {
		p.Zeroed = []digest.Stretch{zeroed}
	}
	m.Sums = append(m.Sums, Sum{What: what, Partial: p, Want: want, At: at})
}

// Checked adds a checksum that Read has computed itself.
func (m *Image) Checked(what, want, got string, over digest.Stretch, at int64) {
	if len(m.Sums) < MaxSums {
		m.Sums = append(m.Sums, Sum{What: what, Partial: digest.Partial{Over: over}, Want: want, Got: got, OK: want == got, At: at})
	}
}

// Tally counts checksums of one kind, of which an image carries one for each of its records or nodes.
type Tally struct {
	n, bad int
	first  int64 // place of the first that does not hold
}

// Add counts one at a place, such as an offset or the number of a line.
func (t *Tally) Add(ok bool, place int64) {
	if t.n++; !ok {
		if t.bad++; t.bad == 1 {
			t.first = place
		}
	}
}

// All is how many there are.
func (t *Tally) All() int { return t.n }

// Tallied adds many checksums of one kind that Read has computed itself, as one.
// place writes where one stands: "at 0x%x", "in line %d".
func (m *Image) Tallied(what, place string, t Tally, over digest.Stretch, at int64) {
	if len(m.Sums) >= MaxSums {
		return
	}
	s := Sum{What: what, Partial: digest.Partial{Over: over}, Want: fmt.Sprintf("%d hold", t.n), Got: fmt.Sprintf("%d hold", t.n-t.bad), OK: t.bad == 0, At: at}
	if t.bad > 0 {
		first := fmt.Sprintf(place, t.first)
		s.Got += ", the first that does not " + first
		s.Counts = fmt.Sprintf("%d of %d do not hold, the first of them %s", t.bad, t.n, first)
	}
	m.Sums = append(m.Sums, s)
}

// covered tells whether a checksum that holds was taken over the bytes.
func (m *Image) covered(s fact.Source) bool {
	for _, sum := range m.Sums {
		if sum.OK && sum.Over.From <= s.Offset && s.Offset+s.Size <= sum.Over.To {
			return true
		}
	}
	return false
}

// UnixTime writes seconds since 1970 as RFC 3339 does.
func UnixTime(sec int64) string { return time.Unix(sec, 0).UTC().Format(time.RFC3339) }
