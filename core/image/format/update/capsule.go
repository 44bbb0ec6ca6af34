package update

import (
	"encoding/binary"
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/guid"
	"fitcheck/core/image"
)

// UEFI capsule, as in the UEFI Specification 2.10, section 8.5.3 (the capsule
// header) and section 23.3 (firmware management capsules). Little-endian.
//
//	0  GUID, 16 header size, 20 flags, 24 size in all
//
// In a firmware management capsule the header is followed by
//
//	0  version, 4 number of drivers (16 bits), 6 number of payloads (16 bits)
//	8  offsets of the drivers, then of the payloads, from here (64 bits each)
//
// and each payload begins with
//
//	 0  version 1 to 3, 4 GUID of the image type, 20 index, 24 size of the
//	    image, 28 size of vendor code, 32 hardware instance (from version 2 on),
//	40  what the image supports (from version 3 on)
//
// An image may begin with an authentication header (section 23.1.3), and with
// the payload header of the EDK II project (FmpPayloadHeader.h): "MSS1", size,
// version, lowest version that may be gone back to.
const (
	capsuleHeader = 28
	fmpCapsule    = "6dcbd5ed-e82d-4c44-bda1-7194199ad92a"
)

var capsuleKinds = map[string]string{
	fmpCapsule:                             "firmware management",
	"3b8c8162-188c-46a4-aec9-be43f1d65697": "display",
	"3b6686bd-0d76-4030-b70e-b5519e2fc5a0": "flash volume",
	"4a3ca68b-7723-48fb-803d-578cc1fec44d": "signed flash volume",
}

func init() {
	register(&image.Format{Name: "uefi-capsule",
		Doc:      image.Doc{Told: "the capsule's GUID", Sums: "structure", Facts: "type; for each firmware management item board (class GUID), version", From: "UEFI 2.10, sections 8.5.3 and 23.3"},
		Suffixes: []string{".cap"}, Title: "UEFI capsule", Firmware: true, Deep: true, DeepMagics: []image.Magic{{At: 0, Bytes: "\xed\xd5\xcb\x6d\x2d\xe8\x44\x4c\xbd\xa1\x71\x94\x19\x9a\xd9\x2a"}}, Sniff: func(h []byte) bool {
			return len(h) >= capsuleHeader && capsuleKinds[guid.Text(h)] != "" && binary.LittleEndian.Uint32(h[16:]) >= capsuleHeader && binary.LittleEndian.Uint32(h[16:]) < 1<<16
		}, Read: readCapsule})
}

func readCapsule(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	h, err := m.Header(s, "a capsule header", 0, capsuleHeader, binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	kind := guid.Text(h.Bytes)
	h.Add("guid", 0, 16, kind, capsuleKinds[kind]+" capsule")
	h.Fact(fact.Type, capsuleKinds[kind])
	size := int64(h.Dec("header_size", 16, 4, "bytes"))
	h.Hex("flags", 20, 4, "")
	m.Extent = int64(h.Dec("image_size", 24, 4, "bytes in all"))
	if kind != fmpCapsule {
		return m, nil
	}
	f, err := m.Header(s, "the header of a firmware management capsule", size, 8, binary.LittleEndian)
	if err != nil {
		return m, err
	}
	f.Dec("fmp_version", 0, 4, "")
	drivers, payloads := int(f.Dec("drivers", 4, 2, "")), int(f.Dec("payloads", 6, 2, ""))
	if drivers+payloads > 256 {
		return m, fmt.Errorf("it announces %d drivers and %d payloads, which makes no sense", drivers, payloads)
	}
	offsets, err := s.Bytes(size+8, 8*(drivers+payloads))
	if err != nil {
		return m, err
	}
	for i := range drivers + payloads {
		at := int64(binary.LittleEndian.Uint64(offsets[8*i:]))
		end := m.Extent - size
		if i+1 < drivers+payloads {
			end = int64(binary.LittleEndian.Uint64(offsets[8*i+8:]))
		}
		if at < 8 || at > 1<<40 || end <= at {
			m.Problem("the offset of its item %d (0x%x) makes no sense", i, at)
			continue
		}
		if i < drivers {
			m.Part(fmt.Sprintf("driver %d", i), size+at, end-at)
		} else if err := fmpItem(m, s, i-drivers, size+at); err != nil {
			return m, err
		}
	}
	return m, nil
}

// fmpItem reads one payload of a firmware management capsule.
//
// In one piece: the fields follow each other as they lie in the header.
func fmpItem(m *image.Image, s *image.Source, i int, at int64) error {
	h, err := m.Header(s, "the header of a payload", at, 32, binary.LittleEndian)
	if err != nil {
		return err
	}
	name := func(n string) string { return fmt.Sprintf("item[%d].%s", i, n) }
	version := h.Dec(name("version"), 0, 4, "of this header")
	class := guid.Text(h.Bytes[4:])
	c := image.Config{Name: fmt.Sprintf("item %d", i), Program: true}
	h.Add(name("class"), 4, 16, class, "what the firmware is for")
	add := func(about fact.Name, value string, at, size int64) {
		c.Facts = append(c.Facts, fact.Fact{About: about, Value: value, Source: fact.Source{Kind: fact.Header, Offset: at, Size: size}})
	}
	add(fact.Board, class, at+4, 16)
	h.Dec(name("index"), 20, 1, "")
	size, vendor := int64(h.Dec(name("image_size"), 24, 4, "bytes")), int64(h.Dec(name("vendor_code_size"), 28, 4, "bytes"))
	length := int64(32)
	if version >= 2 {
		x, err := m.Header(s, "the header of a payload", at+32, 8, binary.LittleEndian)
		if err != nil {
			return err
		}
		if x.Hex(name("hardware_instance"), 0, 8, "") == 0 {
			x.Mean("any")
		}
		length += 8
	}
	if version >= 3 {
		length += 8
	}
	payload := at + length
	if payload+size+vendor > m.Extent {
		m.Problem("its payload %d reaches past its end", i)
		return nil
	}
	inner, left := payload, size
	if b, err := s.UpTo(inner, 40); err == nil && len(b) == 40 && left > 40 && binary.LittleEndian.Uint16(b[12:]) == 0x0200 && binary.LittleEndian.Uint16(b[14:]) == 0x0ef1 {
		n := 8 + int64(binary.LittleEndian.Uint32(b[8:]))
		a := m.Block(b, inner, binary.LittleEndian)
		a.Dec(name("monotonic_count"), 0, 8, "")
		a.Dec(name("signature_size"), 8, 4, "the image is signed")
		if n < left {
			inner, left = inner+n, left-n
		}
	} else if err == image.ErrBeyond {
		return err
	}
	if b, err := s.UpTo(inner, 16); err == nil && len(b) == 16 && string(b[:4]) == "MSS1" {
		p := m.Block(b, inner, binary.LittleEndian)
		n := int64(p.Dec(name("payload_header_size"), 4, 4, "bytes"))
		v := p.Hex(name("firmware_version"), 8, 4, "")
		p.Mean("%d", v)
		add(fact.Version, fmt.Sprint(v), inner+8, 4)
		p.Hex(name("lowest_version"), 12, 4, "nothing older may be installed afterwards")
		if n >= 16 && n < left {
			inner, left = inner+n, left-n
		}
	} else if err == image.ErrBeyond {
		return err
	}
	m.Part(fmt.Sprintf("payload %d", i), inner, left).Starts = true
	m.Configs = append(m.Configs, c)
	return nil
}
