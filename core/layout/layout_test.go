package layout

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	y "fitcheck/core/yamlfile"
)

const qmi = `kind: layout
name: qmi
title: Quillmere image header
magic: {at: 0, hex: "51 4D 49 31"}
endian: big
fields:
  - {name: header_size,  at: 4,  type: u16}
  - {name: board,        at: 6,  type: u16, fact: board, values: {0x0801: "quillmere,qm8t-a"}}
  - {name: revisions,    at: 8,  type: u32, fact: revisions, bits: {0: A1, 1: A2, 4: B1}}
  - {name: version,      at: 12, type: text, size: 16, fact: version}
  - {name: built,        at: 28, type: unix32, fact: built}
  - {name: payload_size, at: 32, type: u32}
  - {name: payload_crc,  at: 36, type: u32}
  - {name: header_crc,   at: 40, type: u32}
payload: {at: header_size, size: payload_size}
checks:
  - {sum: crc32, over: payload, equals: payload_crc}
  - {sum: crc32, over: header,  equals: header_crc, zeroed: [header_crc]}
`

func qmiImage(boardID uint16, revisions uint32, payload string) []byte {
	h := make([]byte, 48)
	be := binary.BigEndian
	copy(h, "QMI1")
	be.PutUint16(h[4:], 48)
	be.PutUint16(h[6:], boardID)
	be.PutUint32(h[8:], revisions)
	copy(h[12:], " 8.4.2 \x00junk")
	be.PutUint32(h[28:], 1790000000)
	be.PutUint32(h[32:], uint32(len(payload)))
	be.PutUint32(h[36:], crc32.ChecksumIEEE([]byte(payload)))
	be.PutUint32(h[40:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

func read(t testing.TB, text string, data []byte) (string, *image.Image) {
	t.Helper()
	l, err := Read("l.yaml", []byte(text))
	require.NoError(t, err)
	r := image.Begin(format.Builtin().With(l.Format()), data[:min(len(data), archive.HeadSize)], -1, false)
	r.Write(data)
	kind, m, err := r.End(archive.Memory("f", data))
	require.NoError(t, err)
	return kind, m
}

func values(m *image.Image, n fact.Name) string { return fact.Values(fact.Claim(m.Facts).About(n)) }

func TestHeader(t *testing.T) {
	kind, m := read(t, qmi, qmiImage(0x0801, 0b10011, "payload"))
	assert.Equal(t, "layout:qmi", kind)
	assert.Empty(t, m.Damaged())
	assert.Equal(t, "quillmere,qm8t-a", values(m, fact.Board))
	assert.Equal(t, "A1, A2, B1", values(m, fact.Revision))
	assert.Equal(t, "8.4.2", values(m, fact.Version))
	assert.Equal(t, "2026-09-21T14:13:20Z", values(m, fact.Built))
	for _, f := range m.Facts {
		assert.True(t, f.Protected, f.About)
	}
	assert.Equal(t, []string{"payload crc32", "header crc32"}, []string{m.Sums[0].What, m.Sums[1].What})
	assert.EqualValues(t, 55, m.Extent)
	assert.Equal(t, "payload", m.Parts[0].Name)

	_, m = read(t, qmi, qmiImage(0x0802, 1<<7|1, "payload"))
	assert.Equal(t, "0x0802", values(m, fact.Board), "a value that is not listed keeps its raw text")
	assert.Equal(t, "A1, bit 7", values(m, fact.Revision))
	_, m = read(t, qmi, qmiImage(0x0801, 0, "payload"))
	assert.Empty(t, values(m, fact.Revision), "no bit names none")
}

func TestHeaderBroken(t *testing.T) {
	good := qmiImage(0x0801, 3, "payload of the image")
	for at := range good {
		if at >= 44 && at < 48 {
			continue // between the fields and the payload, which the header's sum covers, too
		}
		bad := bytes.Clone(good)
		bad[at] ^= 0x10
		kind, m := read(t, qmi, bad)
		if at < 4 {
			assert.NotEqual(t, "layout:qmi", kind)
			continue
		}
		assert.NotEmpty(t, m.Damaged(), "byte %d", at)
		if at < 48 {
			for _, f := range m.Facts {
				assert.False(t, f.Protected, "byte %d", at)
			}
		}
	}
	for n := 5; n < len(good); n++ {
		kind, m := read(t, qmi, good[:n])
		require.Equal(t, "layout:qmi", kind)
		assert.Contains(t, fmt.Sprint(m.Damaged()), "truncated", "cut to %d", n)
	}
}

// A trailer, a table, conditions, every type.
const trailer = `kind: layout
name: tail
endian: little
magic: {at: end-8, hex: "54 41 49 4C"}
fields:
  - {name: magic, at: end-8, type: text, size: 4}
  - {name: form, at: end-4, type: u8, values: {1: short, 2: long}}
  - {name: count, at: end-3, type: u8}
  - {name: sum, at: end-2, type: u16}
  - {name: ids, at: end-24, type: u16, repeat: count, stride: 4, fact: boards}
  - {name: number, at: end-28, type: packed, size: 4, join: "-", fact: version, when: {form: long}}
  - {name: other, at: end-28, type: bytes, size: 4, when: {form: 1}}
  - {name: shift, at: end-31, type: i24}
checks:
  - {sum: crc16-modbus, over: [0, end-2], equals: sum}
`

func TestTrailer(t *testing.T) {
	data := func(form byte) []byte {
		b := append(bytes.Repeat([]byte("b\x00dy"), 20_000), 0xfe, 0xff, 0xff, 8, 4, 2, 0)
		b = append(b, 1, 8, 0, 0, 2, 8, 0, 0, 3, 8, 0, 0, 0, 0, 0, 0)
		b = append(b, "TAIL"...)
		b = append(b, form, 3)
		crc := uint16(0xffff)
		for _, c := range b {
			crc ^= uint16(c)
			for range 8 {
				if crc&1 != 0 {
					crc = crc>>1 ^ 0xa001
				} else {
					crc >>= 1
				}
			}
		}
		return binary.LittleEndian.AppendUint16(b, crc)
	}
	kind, m := read(t, trailer, data(2))
	assert.Equal(t, "layout:tail", kind)
	assert.Empty(t, m.Damaged())
	assert.Equal(t, "8-4-2-0", values(m, fact.Version))
	assert.Equal(t, "2049, 2050, 2051", values(m, fact.Board))
	names := map[string]string{}
	for _, f := range m.Fields {
		names[f.Name] = f.Value
	}
	assert.Equal(t, "-2", names["shift"])
	assert.Contains(t, names, "ids[2]")
	assert.NotContains(t, names, "other")
	_, m = read(t, trailer, data(1))
	assert.Empty(t, values(m, fact.Version), "its condition does not hold")

	bad := data(2)
	bad[500] ^= 1
	_, m = read(t, trailer, bad)
	assert.Contains(t, fmt.Sprint(m.Damaged()), "crc16-modbus does not match")
}

// Every kind of checksum can be asked for, and catches a changed byte.
func TestSums(t *testing.T) {
	for sum, field := range map[string]string{"crc32": "u32", "crc32c": "u32", "crc16-ccitt": "u16", "crc16-modbus": "u16", "adler32": "u32", "sum8": "u8", "sum16": "u16", "sum32": "u32",
		"xor8": "u8", "md5": "bytes, size: 16", "sha1": "bytes, size: 20", "sha256": "bytes, size: 32", "sha512": "bytes, size: 64"} {
		for _, option := range []string{"", ", invert: true", ", init: 5", ", unit: 16"} {
			if strings.Contains(option, "init") && (field[0] == 'b' || sum == "adler32") || strings.Contains(option, "unit") && sum != "sum16" && sum != "sum32" {
				continue
			}
			text := fmt.Sprintf("kind: layout\nname: s\nendian: big\nmagic: {at: 0, hex: \"53 55 4d\"}\nfields:\n  - {name: s, at: 3, type: %s}\npayload: {at: 80}\nchecks:\n  - {sum: %s, over: payload, equals: s%s}\n", field, sum, option)
			data := append([]byte("SUM"), make([]byte, 77)...)
			data = append(data, "what is summed up"...)
			_, m := read(t, text, data)
			require.Len(t, m.Sums, 1)
			got := m.Sums[0].Got
			require.NotEmpty(t, got, text)
			n, err := fmt.Sscanf(got, "%x", new([]byte))
			require.True(t, n == 1 && err == nil)
			var raw []byte
			fmt.Sscanf(got, "%x", &raw)
			copy(data[3:], raw)
			_, m = read(t, text, data)
			assert.True(t, m.Sums[0].OK, "%s%s", sum, option)
			data[len(data)-1] ^= 1
			_, m = read(t, text, data)
			assert.False(t, m.Sums[0].OK, "%s%s", sum, option)
		}
	}
}

func TestRefused(t *testing.T) {
	change := func(old, new string) string {
		require.Contains(t, qmi, old)
		return strings.Replace(qmi, old, new, 1)
	}
	for name, c := range map[string]struct{ text, where, says string }{
		"not a layout":             {"kind: device\n", ":1:7", "kind: layout"},
		"misspelt key":             {change("fields:", "feilds:"), ":6:1", `"fields"`},
		"no magic":                 {change("magic: {at: 0, hex: \"51 4D 49 31\"}\n", ""), ":1:7", "magic"},
		"magic of one byte":        {change("51 4D 49 31", "51"), ":4:", "everywhere"},
		"magic not hex":            {change("51 4D 49 31", "51 4D 4"), ":4:", "hexadecimal"},
		"two of one name":          {change("name: built", "name: version"), ":11:", "two fields"},
		"unknown type":             {change("type: unix32", "type: unix64"), ":11:", "unix64"},
		"text without size":        {change("type: text, size: 16", "type: text"), ":10:", "needs a size"},
		"size of a number":         {change("name: payload_size, at: 32, type: u32", "name: payload_size, at: 32, type: u32, size: 2"), ":12:", "has 4 bytes"},
		"unknown fact":             {change("fact: board", "fact: colour"), ":8:", "colour"},
		"unknown field":            {change("at: header_size", "at: headersize"), ":15:", "headersize"},
		"circle":                   {change("name: built,        at: 28", "name: built,        at: built"), ":11:", "depends on itself"},
		"circle of two":            {strings.Replace(change("name: built,        at: 28", "name: built,        at: payload_crc"), "name: payload_crc,  at: 36", "name: payload_crc,  at: built", 1), ":1", "depends on itself"},
		"value too big":            {change("0x0801", "0x10801"), ":8:", "does not fit 16 bits"},
		"value twice":              {change(`{0x0801: "quillmere,qm8t-a"}`, `{0x0801: a, 2049: b}`), ":8:", "second time"},
		"bit too high":             {change("4: B1", "32: B1"), ":9:", "bits 0 to 31"},
		"bits of a text":           {change("type: text, size: 16, fact: version", "type: text, size: 16, bits: {0: a}"), ":10:", "unsigned number"},
		"sum of the wrong width":   {change("sum: crc32, over: payload", "sum: crc16-ccitt, over: payload"), ":17:", "has 2 bytes"},
		"unknown sum":              {change("sum: crc32, over: payload", "sum: crc64, over: payload"), ":17:", "crc64"},
		"sum over nothing":         {change("over: payload, ", ""), ":17:", "taken over"},
		"payload not described":    {change("payload: {at: header_size, size: payload_size}\n", ""), ":16:", "no payload"},
		"zeroed that is not there": {change("zeroed: [header_crc]", "zeroed: [crc]"), ":18:", `"crc"`},
		"no byte order":            {change("endian: big\n", ""), ":6:", "byte order"},
		"below zero":               {change("at: 28", "at: -28"), ":11:", "end-16"},
		"entries that overlap":     {change("name: board,        at: 6,  type: u16", "name: board, at: 6, type: u16, repeat: 3, stride: 1"), ":8:", "overlap"},
		"condition on nothing":     {change("type: unix32", "type: unix32, when: {kind: 1}"), ":11:", `"kind"`},
	} {
		_, err := Read("l.yaml", []byte(c.text))
		if assert.Error(t, err, name) {
			assert.Contains(t, err.Error(), "l.yaml"+c.where, name)
			assert.Contains(t, err.Error(), c.says, name)
		}
	}
}

// Whatever a header says, its own sizes decide no allocation.
func TestHugeTables(t *testing.T) {
	text := "kind: layout\nname: h\nendian: big\nmagic: {at: 0, hex: \"48 55\"}\nfields:\n  - {name: n, at: 2, type: u32}\n  - {name: t, at: 6, type: bytes, size: n, repeat: n, stride: n}\n"
	_, m := read(t, text, []byte("HU\xff\xff\xff\xffxx"))
	assert.NotEmpty(t, m.Damaged())
	_, m = read(t, text, append([]byte("HU\x00\x00\x08\x00"), make([]byte, 1<<21)...))
	assert.NotEmpty(t, m.Damaged())
}

func FuzzLayout(f *testing.F) {
	f.Add(qmi, qmiImage(0x0801, 3, "payload"))
	f.Add(trailer, []byte("body\x02\x02TAIL\x02\x01xx"))
	f.Fuzz(func(t *testing.T, text string, data []byte) {
		l, err := Read("l.yaml", []byte(text))
		if err != nil || len(data) == 0 {
			return
		}
		lim := archive.DefaultLimits()
		lim.Bytes = 64 << 20
		c := archive.MemoryWithin("f", data, lim)
		set := format.Builtin().With(l.Format())
		r := image.Begin(set, data[:min(len(data), archive.HeadSize)], -1, false)
		r.Write(data)
		if _, m, err := r.End(c); err == nil && m != nil {
			for _, f := range m.Fields {
				if f.Offset < 0 || f.Offset+int64(len(f.Raw)) > int64(len(data)) {
					t.Fatalf("%s at %d, %d bytes", f.Name, f.Offset, len(f.Raw))
				}
			}
		}
	})
}

// A place is read with blanks around it, in any base, and from the end.
func TestPlaces(t *testing.T) {
	for text, want := range map[string]Place{"12": {number: 12}, " 12 ": {number: 12}, "0x0c": {number: 12}, "end": {end: true}, " end ": {end: true}, "end-16": {number: 16, end: true}, " header_size ": {field: "header_size"}} {
		var p Place
		require.NoError(t, p.ReadScalar(text, y.Spot{}), text)
		assert.Equal(t, want, Place{number: p.number, field: p.field, end: p.end}, text)
	}
	for _, text := range []string{"", "-1", "end-0", "end--1", "end-x", "a b", "a+b"} {
		var p Place
		assert.Error(t, p.ReadScalar(text, y.Spot{}), text)
	}
}
