package update

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"maps"
	"slices"
	"strings"
	"unicode/utf16"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/guid"
	"fitcheck/core/image"
)

// PLDM firmware update package, as in DMTF DSP0267 1.3, section 7.
// Little-endian.
//
//	0  identifier of the format (UUID), 16 revision of the format, 17 size of
//	   the header (16 bits), 19 release time (13 bytes), 32 bits of a
//	   component bitmap, 34 type and 35 length of the version text, then the text
//
// follow the records of the devices it is for, of devices behind those (from
// revision 2 on), the table of components, and the CRC-32 of the header; from
// revision 4 on that of the payload, too.
var pldmRevisions = map[string]int{
	"f018878c-cb7d-4943-9800-a02f059aca02": 1,
	"1244d264-8d7d-4718-a030-fc8a56587d5a": 2,
	"3119ce2f-e80a-4a99-af6d-46f8b121f6bf": 3,
	"7b291c99-6db6-4208-801b-02026e463c78": 4,
}

func init() {
	register(&image.Format{Name: "pldm",
		Doc:   image.Doc{Told: "the format's UUID, revisions 1 to 4", Sums: "header crc32, payload crc32 (revision 4)", Facts: "version, built; for each device record board (its descriptors), version", From: "DMTF DSP0267 1.3"},
		Title: "PLDM firmware update package", Firmware: true, Deep: true, DeepMagics: pldmMagics(), Sniff: func(h []byte) bool {
			return len(h) >= 36 && pldmRevisions[guid.UUID(h)] != 0
		}, Read: readPLDM})
}

// pldmMagics are the identifiers as bytes.
func pldmMagics() []image.Magic {
	var out []image.Magic
	for _, id := range slices.Sorted(maps.Keys(pldmRevisions)) {
		b, _ := hex.DecodeString(strings.ReplaceAll(id, "-", ""))
		out = append(out, image.Magic{At: 0, Bytes: string(b)})
	}
	return out
}

// pldmDescriptors are the types of descriptor of DSP0267, table 7.
var pldmDescriptors = map[uint64]string{
	0: "pci-vendor", 1: "iana-enterprise", 2: "uuid", 3: "pnp-vendor", 4: "acpi-vendor", 5: "ieee-company", 6: "scsi-vendor",
	0x100: "pci-device", 0x101: "pci-subsystem-vendor", 0x102: "pci-subsystem", 0x103: "pci-revision", 0x104: "pnp-product", 0x105: "acpi-product",
	0x106: "model", 0x107: "part-number", 0x108: "scsi-product", 0x109: "ubm-device", 0xffff: "vendor-defined",
}

var pldmClasses = map[uint64]string{
	0: "unknown", 1: "other", 2: "driver", 3: "configuration software", 4: "application software", 5: "instrumentation", 6: "firmware or BIOS", 7: "diagnostic software",
	8: "operating system", 9: "middleware", 10: "firmware", 11: "BIOS or FCode", 12: "support or service pack", 13: "software bundle", 0xffff: "downstream device",
}

// cursor walks a block of bytes; past its end everything is zero, and over
// is set.
type cursor struct {
	*image.Header
	at   int
	over bool
}

func (c *cursor) room(n int) bool {
	if n < 0 || c.at+n > len(c.Bytes) {
		c.over = true
	}
	return !c.over
}

func (c *cursor) number(name string, size int, meaning string) uint64 {
	if !c.room(size) {
		return 0
	}
	n := c.Dec(name, c.at, size, meaning)
	c.at += size
	return n
}

func (c *cursor) skip(n int) []byte {
	if !c.room(n) {
		return nil
	}
	c.at += n
	return c.Bytes[c.at-n : c.at]
}

func (c *cursor) string(name string, kind uint64, n int) (text string, at int64) {
	at = c.Base + int64(c.at)
	b := c.skip(n)
	if len(b) == 0 {
		return "", at
	}
	switch kind {
	case 3, 4, 5:
		order := binary.ByteOrder(binary.LittleEndian)
		if kind == 5 {
			order = binary.BigEndian
		}
		var u []uint16
		for i := 0; i+1 < len(b); i += 2 {
			u = append(u, order.Uint16(b[i:]))
		}
		text = strings.Trim(string(utf16.Decode(u)), "\x00\uFEFF ")
	default:
		text = image.CString(b)
	}
	c.Add(name, c.at-n, n, text, "")
	return text, at
}

func readPLDM(s *image.Source) (*image.Image, error) {
	m := &image.Image{}
	first, err := s.Bytes(0, 36)
	if err != nil {
		return nil, err
	}
	revision := pldmRevisions[guid.UUID(first)]
	size := int(binary.LittleEndian.Uint16(first[17:]))
	h, err := m.Header(s, "the header of a PLDM package", 0, max(36, size), binary.LittleEndian)
	if err != nil {
		return nil, err
	}
	h.Add("identifier", 0, 16, guid.UUID(h.Bytes), fmt.Sprintf("PLDM firmware update package, revision %d", revision))
	h.Dec("format_revision", 16, 1, "")
	h.Dec("header_size", 17, 2, "bytes")
	h.Add("release_time", 19, 13, pldmTime(h.Bytes[19:32]), "")
	h.Fact(fact.Built, pldmTime(h.Bytes[19:32]))
	c := &cursor{Header: h, at: 32}
	bitmap := int(c.number("component_bits", 2, ""))
	kind, length := c.number("version_type", 1, ""), int(c.number("version_length", 1, ""))
	version, at := c.string("version", kind, length)
	m.Fact(fact.Version, version, at, int64(length))
	pldmDevices(m, c, revision, (bitmap+7)/8)
	if revision >= 2 {
		pldmDownstream(m, c)
	}
	pldmComponents(m, c, revision)
	if c.over {
		m.Problem("its tables reach past the end of its header (%d bytes)", size)
		return m, nil
	}
	check := c.at
	want := c.number("header_checksum", 4, "CRC-32 over the header in front of it")
	if c.over {
		m.Problem("its header (%d bytes) ends before its checksum", size)
		return m, nil
	}
	m.Checked("header crc32", fmt.Sprintf("%08x", want), fmt.Sprintf("%08x", crc32.ChecksumIEEE(h.Bytes[:check])), digest.Between(0, int64(check)), int64(check))
	m.Extent = max(m.Extent, int64(size))
	if revision >= 4 && c.room(4) {
		at := c.at
		c.number("payload_checksum", 4, "CRC-32 over what follows the header")
		b := h.Bytes[at : at+4]
		m.Sum("payload crc32", digest.CRC32, digest.Options{}, digest.Between(int64(size), m.Extent), digest.Stretch{}, hex.EncodeToString([]byte{b[3], b[2], b[1], b[0]}), int64(at))
	}
	return m, nil
}

// pldmTime writes a timestamp104 of DSP0240: offset from UTC in minutes,
// microseconds, second, minute, hour, day, month, year.
func pldmTime(b []byte) string {
	return fmt.Sprintf("%04d-%02d-%02dT%02d:%02d:%02dZ", binary.LittleEndian.Uint16(b[10:]), b[9], b[8], b[7], b[6], b[5])
}

func pldmDevices(m *image.Image, c *cursor, revision, bitmap int) {
	n := int(c.number("device_records", 1, "devices it is for"))
	for i := 0; i < n && !c.over; i++ {
		name := func(t string) string { return fmt.Sprintf("device[%d].%s", i, t) }
		start := c.at
		length := int(c.number(name("record_length"), 2, "bytes"))
		descriptors := int(c.number(name("descriptors"), 1, ""))
		c.number(name("update_options"), 4, "")
		kind, textLength := c.number(name("version_type"), 1, ""), int(c.number(name("version_length"), 1, ""))
		data := int(c.number(name("package_data_length"), 2, ""))
		if revision >= 4 {
			c.number(name("manifest_length"), 4, "")
		}
		c.skip(bitmap)
		cfg := image.Config{Name: fmt.Sprintf("device %d", i)}
		if text, at := c.string(name("version"), kind, textLength); text != "" {
			cfg.Facts = append(cfg.Facts, fact.Fact{About: fact.Version, Value: text, Source: fact.Source{Kind: fact.Header, Offset: at, Size: int64(textLength)}})
		}
		from := c.at
		var words []string
		for d := 0; d < descriptors && !c.over; d++ {
			if w := c.descriptor(name(fmt.Sprintf("descriptor[%d]", d))); w != "" {
				words = append(words, w)
			}
		}
		if len(words) > 0 {
			cfg.Facts = append(cfg.Facts, fact.Fact{About: fact.Board, Value: strings.Join(words, ","),
				Source: fact.Source{Kind: fact.Header, Offset: int64(from), Size: int64(c.at - from)}})
		}
		if length < c.at-start+data {
			c.over = true
			return
		}
		c.at = start
		c.skip(length)
		m.Configs = append(m.Configs, cfg)
	}
}

// descriptor reads one descriptor and writes it as "pci-vendor=0x1af4".
func (c *cursor) descriptor(name string) string {
	if !c.room(4) {
		return ""
	}
	kind, n := c.Get(c.at, 2), int(c.Get(c.at+2, 2))
	at := c.at
	c.at += 4
	data := c.skip(n)
	if c.over {
		return ""
	}
	label := pldmDescriptors[kind]
	if label == "" {
		label = fmt.Sprintf("type-0x%04x", kind)
	}
	value := "0x" + hex.EncodeToString(data)
	switch {
	case kind == 2 && n == 16:
		value = guid.UUID(data)
	case (kind == 0x106 || kind == 0x107) && image.IsText(data):
		value = image.CString(data)
	case n == 2:
		value = fmt.Sprintf("0x%04x", binary.LittleEndian.Uint16(data))
	case n == 4:
		value = fmt.Sprintf("0x%08x", binary.LittleEndian.Uint32(data))
	case kind == 0xffff && n > 2 && int(data[1])+2 <= n:
		label, value = image.CString(data[2:2+int(data[1])]), "0x"+hex.EncodeToString(data[2+int(data[1]):])
	}
	word := label + "=" + value
	c.Add(name, at, 4+n, word, "")
	return word
}

func pldmDownstream(m *image.Image, c *cursor) {
	n := int(c.number("downstream_records", 1, "devices behind those"))
	for i := 0; i < n && !c.over; i++ {
		start := c.at
		length := int(c.number(fmt.Sprintf("downstream[%d].record_length", i), 2, "bytes"))
		if length < 2 {
			c.over = true
			return
		}
		c.at = start
		c.skip(length)
	}
}

func pldmComponents(m *image.Image, c *cursor, revision int) {
	n := int(c.number("components", 2, ""))
	for i := 0; i < n && !c.over; i++ {
		name := func(t string) string { return fmt.Sprintf("component[%d].%s", i, t) }
		class := c.number(name("classification"), 2, "")
		c.Mean("%s", pldmClasses[class])
		id := c.number(name("identifier"), 2, "")
		c.number(name("comparison_stamp"), 4, "")
		c.number(name("options"), 2, "")
		c.number(name("activation"), 2, "")
		at, size := int64(c.number(name("offset"), 4, "of the image")), int64(c.number(name("size"), 4, "bytes"))
		kind, length := c.number(name("version_type"), 1, ""), int(c.number(name("version_length"), 1, ""))
		version, _ := c.string(name("version"), kind, length)
		if revision >= 3 {
			c.skip(int(c.number(name("opaque_length"), 4, "")))
		}
		if c.over {
			return
		}
		m.Extent = max(m.Extent, at+size)
		m.Part(strings.TrimSpace(fmt.Sprintf("component %d %s", id, version)), at, size).Starts = true
	}
}
