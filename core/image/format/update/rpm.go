package update

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"strings"
	"time"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// RPM packages (Linux Standard Base 5.0, Core, "Package File Format"; the tags of digests as
// in rpm.org's file format documentation): see archive/rpm.go. What is in their headers:
//
//	signatures: 269 SHA-1 and 273 SHA-256 over the second header
//	package: 1000 name, 1001 version, 1002 release, 1006 built, 1022 architecture, 5092 digest of the payload, 5093 its method
//	         (8: SHA-256)
func init() {
	register(&image.Format{Name: "rpm",
		Doc:   image.Doc{Told: "ed ab ee db, and a header behind the lead", Sums: "SHA-256 or SHA-1 of its header, SHA-256 of its payload", Facts: "title, version, arch, built", From: "Linux Standard Base 5.0, Package File Format"},
		Title: "RPM package", Rank: 2, Magics: []image.Magic{{At: 0, Bytes: "\xed\xab\xee\xdb"}}, Sniff: archive.IsRPM, Read: readRPM})
}

// rpmEntry is a value of a header.
type rpmEntry struct {
	kind, count uint32
	at          int64  // of the value
	raw         []byte // of a text, up to its NUL
	text        string
	number      uint32
}

// rpmHeader reads the entries of a header.
func rpmHeader(s *image.Source, at int64) (map[uint32]rpmEntry, int64, error) {
	h, err := s.Bytes(at, 16)
	if err != nil {
		return nil, 0, err
	}
	size := archive.RPMHeaderSize(h)
	if size == 0 {
		return nil, 0, fmt.Errorf("its header at 0x%x makes no sense", at)
	}
	b, err := s.Bytes(at, int(size))
	if err != nil {
		return nil, 0, err
	}
	be := binary.BigEndian
	n := int64(be.Uint32(b[8:]))
	store := b[16+n*16:]
	out := map[uint32]rpmEntry{}
	for i := range n {
		e := b[16+i*16:]
		tag, off := be.Uint32(e), int64(be.Uint32(e[8:]))
		if off >= int64(len(store)) {
			continue
		}
		v := rpmEntry{kind: be.Uint32(e[4:]), count: be.Uint32(e[12:]), at: at + 16 + n*16 + off}
		switch v.kind {
		case 6, 8, 9: // text, list of texts, text in several languages
			v.raw, _, _ = bytes.Cut(store[off:], []byte{0})
			v.text = image.CString(v.raw)
		case 4:
			if off+4 <= int64(len(store)) {
				v.number = be.Uint32(store[off:])
			}
		}
		out[tag] = v
	}
	return out, size, nil
}

func readRPM(s *image.Source) (*image.Image, error) {
	const lead = 96
	m := &image.Image{}
	h, err := m.Header(s, "an RPM lead", 0, lead, binary.BigEndian)
	if err != nil {
		return nil, err
	}
	h.Hex("magic", 0, 4, "RPM package")
	h.Dec("version", 4, 1, "")
	h.Named("type", 6, 2, map[uint64]string{0: "binary", 1: "source"})
	sums, size, err := rpmHeader(s, lead)
	if err != nil {
		return m, err
	}
	at := lead + (size+7)&^7
	about, size, err := rpmHeader(s, at)
	if err != nil {
		return m, err
	}
	text := func(name string, tag uint32) string {
		e := about[tag]
		if e.text != "" {
			m.Field(name, e.at, e.raw, e.text, "")
		}
		return e.text
	}
	name, version, release, arch := text("name", 1000), text("package_version", 1001), text("release", 1002), text("arch", 1022)
	text("payload_format", 1124)
	text("payload_compressor", 1125)
	if name != "" {
		m.Fact(fact.Title, name, about[1000].at, int64(len(about[1000].raw)))
	}
	if full := strings.Trim(version+"-"+release, "-"); full != "" {
		m.Fact(fact.Version, full, about[1001].at, int64(len(about[1001].raw)))
	}
	if arch != "" && arch != "noarch" {
		m.Fact(fact.Arch, fact.CanonicalArch(arch), about[1022].at, int64(len(about[1022].raw)))
	}
	if t := about[1006]; t.number != 0 {
		m.Fact(fact.Built, time.Unix(int64(t.number), 0).UTC().Format(time.RFC3339), t.at, 4)
	}
	header := digest.Between(at, at+size)
	if e := sums[273]; e.text != "" {
		m.Sum("header sha256", digest.SHA256, digest.Options{}, header, digest.Stretch{}, strings.ToLower(e.text), e.at)
	} else if e := sums[269]; e.text != "" {
		m.Sum("header sha1", digest.SHA1, digest.Options{}, header, digest.Stretch{}, strings.ToLower(e.text), e.at)
	}
	if e := about[5092]; e.text != "" && about[5093].number == 8 {
		if s.Size() < 0 && !s.Whole() {
			return m, image.ErrBeyond
		}
		m.Sum("payload sha256", digest.SHA256, digest.Options{}, digest.Between(at+size, s.Size()), digest.Stretch{}, strings.ToLower(e.text), e.at)
	}
	return m, nil
}
