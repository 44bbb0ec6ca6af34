// Package image reads the headers of firmware images.
//
// Each format is one file that registers a Format: how its magic is sniffed
// and how its header is read. Reading a header yields fields (what stands at
// which offset), facts (what that says about the device the image is for) and
// sums: checksums over stretches of the file that are recomputed while the
// bytes pass by. A fact counts as protected when a checksum that holds covers
// the bytes it was read from.
package image

import (
	"fmt"
	"time"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
)

// Format is one kind of file that is told apart by its content.
type Format struct {
	// Name as in JSON: "uimage", "html".
	Name string
	// Title for people: "U-Boot legacy image".
	Title string
	// Firmware is false for what is recognised only to say that it is not.
	Firmware bool
	// Sniff tells the format by the first bytes of a file.
	Sniff func(head []byte) bool
	// Read reads the header out of the first bytes; size is that of the whole
	// file, -1 while it is not known. Nil when there is no header to read.
	Read func(head []byte, size int64) (*Image, error)
}

var formats []*Format

// Register adds a format. It is called by the init function of its file.
func Register(f *Format) { formats = append(formats, f) }

// Sniff finds the format of a file by its first bytes, or nil.
func Sniff(head []byte) *Format {
	for _, f := range formats {
		if f.Sniff(head) {
			return f
		}
	}
	if isText(head) {
		return text
	}
	return nil
}

// ByName finds a format by its name, or nil.
func ByName(name string) *Format {
	if name == text.Name {
		return text
	}
	for _, f := range formats {
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
	// Facts have Source.Offset and Source.Size; whoever knows the file's
	// address fills in Source.File.
	Facts       []fact.Fact
	Compression string
	Load, Entry *uint64
	// Sums are the checksums that the header carries, Integrity how they came
	// out once the bytes have passed.
	Sums      []Sum
	Integrity []Integrity
	// Extent is how many bytes the image takes by its own account, header
	// included.
	Extent int64
	Parts  []Part
	// Problems is what is wrong with the image apart from its checksums, Notes
	// what is worth knowing.
	Problems, Notes []string
}

// Part is an image inside an image.
type Part struct {
	Name         string
	Offset, Size int64
}

// Field is one field of a header.
type Field struct {
	Name    string
	Offset  int64 // from the first byte of the file
	Raw     []byte
	Value   string // the raw bytes as a number or text
	Meaning string
}

// Sum is a checksum that a header carries.
type Sum struct {
	What string // "header crc32"
	digest.Partial
	Want string // lower-case hexadecimal
	At   int64  // where the header holds it
}

// Integrity is a recomputed checksum.
type Integrity struct {
	What, Want, Got string
	OK              bool
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

// Damaged lists everything that keeps the image from being intact.
func (m *Image) Damaged() []string {
	out := append([]string(nil), m.Problems...)
	for _, i := range m.Integrity {
		if !i.OK {
			out = append(out, fmt.Sprintf("%s does not match: the header says %s, the content gives %s", i.What, i.Want, i.Got))
		}
	}
	return out
}

func (m *Image) field(name string, offset int, raw []byte, value, meaning string) {
	m.Fields = append(m.Fields, Field{name, int64(offset), raw, value, meaning})
}

func (m *Image) fact(about fact.Name, value string, offset, size int64) {
	if value != "" {
		m.Facts = append(m.Facts, fact.Fact{About: about, Value: value, Source: fact.Source{Kind: fact.Header, Offset: offset, Size: size}})
	}
}

// Reading is a header being read while its file passes by.
type Reading struct {
	Image *Image
	sums  *digest.Stretches
}

// Begin reads the header out of the first bytes of a file. It returns nil when
// the format has no header that is read.
func Begin(f *Format, head []byte, size int64) *Reading {
	if f == nil || f.Read == nil {
		return nil
	}
	m, err := f.Read(head, size)
	if err != nil {
		m = &Image{Problems: []string{err.Error()}}
	}
	m.Format = f.Name
	parts := make([]digest.Partial, len(m.Sums))
	for i, s := range m.Sums {
		parts[i] = s.Partial
	}
	return &Reading{m, digest.NewStretches(parts)}
}

// Write takes the next bytes of the file.
func (r *Reading) Write(p []byte) (int, error) { return r.sums.Write(p) }

// End settles the checksums, once all total bytes have passed.
func (r *Reading) End(total int64) *Image {
	m := r.Image
	for i, res := range r.sums.Results() {
		s := m.Sums[i]
		m.Integrity = append(m.Integrity, Integrity{s.What, s.Want, res.Hex, res.Missing == 0 && res.Hex == s.Want})
	}
	switch {
	case m.Extent > total:
		m.Problems = append(m.Problems, fmt.Sprintf("truncated: its header announces %d bytes in all, and there are %d", m.Extent, total))
	case m.Extent > 0 && m.Extent < total:
		m.Notes = append(m.Notes, fmt.Sprintf("%d bytes follow the image; no checksum covers them", total-m.Extent))
	}
	for i := range m.Facts {
		m.Facts[i].Protected = m.covered(m.Facts[i].Source)
	}
	return m
}

// covered tells whether a checksum that holds was taken over the bytes.
func (m *Image) covered(s fact.Source) bool {
	for i, sum := range m.Sums {
		if m.Integrity[i].OK && sum.Over.From <= s.Offset && s.Offset+s.Size <= sum.Over.To {
			return true
		}
	}
	return false
}

func unixTime(sec int64) string { return time.Unix(sec, 0).UTC().Format(time.RFC3339) }
