package format_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
)

// uimage builds a legacy image with right checksums.
func uimage(os, arch, kind, comp byte, title string, payload []byte) []byte {
	h := make([]byte, 64)
	be := binary.BigEndian
	be.PutUint32(h[0:], 0x27051956)
	be.PutUint32(h[8:], 1790000000)
	be.PutUint32(h[12:], uint32(len(payload)))
	be.PutUint32(h[16:], 0x8000)
	be.PutUint32(h[20:], 0x8040)
	be.PutUint32(h[24:], crc32.ChecksumIEEE(payload))
	h[28], h[29], h[30], h[31] = os, arch, kind, comp
	copy(h[32:], title)
	be.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}

// kindOf reads a file as it passes by, in pieces.
func kindOf(t testing.TB, data []byte) (string, *image.Image) {
	t.Helper()
	r := image.Begin(format.Builtin(), data[:min(len(data), archive.HeadSize)], -1, false)
	for p := data; len(p) > 0; p = p[min(len(p), 50_000):] {
		r.Write(p[:min(len(p), 50_000)])
	}
	kind, m, err := r.End(archive.Memory("f", data))
	require.NoError(t, err)
	return kind, m
}

func read(t testing.TB, data []byte) *image.Image {
	t.Helper()
	kind, m := kindOf(t, data)
	require.NotNil(t, m, "no header is read; kind %s", kind)
	return m
}

func TestUImage(t *testing.T) {
	m := read(t, uimage(5, 2, 2, 1, "QM-8T 8.4.2", []byte("payload")))
	assert.Equal(t, "uimage", m.Format)
	for about, want := range map[fact.Name]string{fact.Arch: "arm", fact.OS: "linux", fact.Type: "kernel", fact.Title: "QM-8T 8.4.2", fact.Built: "2026-09-21T14:13:20Z", fact.Component: "main"} {
		assert.Equal(t, []string{want}, m.Values(about), about)
	}
	assert.Equal(t, "gzip", m.Compression)
	assert.EqualValues(t, 0x8000, *m.Load)
	assert.EqualValues(t, 0x8040, *m.Entry)
	assert.Empty(t, m.Damaged())
	for _, f := range m.Facts {
		assert.True(t, f.Protected, f.About)
	}
	// The fields cover the header without gap or overlap.
	at := int64(0)
	for _, f := range m.Fields {
		assert.Equal(t, at, f.Offset, f.Name)
		at += int64(len(f.Raw))
	}
	assert.EqualValues(t, 64, at)
}

// A header that leaves byte order or width open names no architecture.
func TestUImageOpenArchitecture(t *testing.T) {
	m := read(t, uimage(5, 5, 2, 0, "x", []byte("p")))
	assert.Empty(t, m.Values(fact.Arch))
	f, ok := m.First(fact.Arch)
	require.True(t, ok)
	assert.True(t, f.Open)
	assert.Equal(t, "mips or mipsel", f.Text())
}

// Whichever bit is flipped, the image is still known for what it is, and a
// checksum is named.
func TestUImageEveryFlippedBitIsNamed(t *testing.T) {
	good := uimage(5, 2, 2, 0, "QM-8T 8.4.2", []byte("forty-two bytes of payload to be protected"))
	for bit := range len(good) * 8 {
		bad := bytes.Clone(good)
		bad[bit/8] ^= 1 << (bit % 8)
		m := read(t, bad)
		want := "header crc32 does not match"
		if bit/8 >= 64 {
			want = "payload crc32 does not match"
		}
		if assert.NotEmpty(t, m.Damaged(), "bit %d", bit) {
			assert.Contains(t, fmt.Sprint(m.Damaged()), want, "bit %d", bit)
		}
		if bit/8 < 64 {
			for _, f := range m.Facts {
				assert.False(t, f.Protected, "bit %d leaves %s protected", bit, f.About)
			}
		}
	}
}

func TestUImageFiles(t *testing.T) {
	list := func(sizes ...uint32) (b []byte) {
		for _, s := range sizes {
			b = binary.BigEndian.AppendUint32(b, s)
		}
		return b
	}
	m := read(t, uimage(5, 2, 4, 0, "two", append(list(5, 3, 0), "aaaaa\x00\x00\x00bbb\x00"...)))
	assert.Equal(t, []image.Part{{Name: "file 0", Offset: 76, Size: 5, Kind: "text", Starts: true}, {Name: "file 1", Offset: 84, Size: 3, Kind: "text"}}, m.Parts)
	assert.Empty(t, m.Damaged())

	m = read(t, uimage(5, 2, 6, 0, "script", append(list(4, 0), "echo"...)))
	assert.Equal(t, []image.Part{{Name: "file 0", Offset: 72, Size: 4, Kind: "text"}}, m.Parts)

	m = read(t, uimage(5, 2, 4, 0, "too long", append(list(5, 0xfffffff0, 0), "aaaaa"...)))
	assert.Contains(t, fmt.Sprint(m.Damaged()), "file 1 of its payload")
	m = read(t, uimage(5, 2, 4, 0, "no end", list(5, 3)))
	assert.Contains(t, fmt.Sprint(m.Damaged()), "does not end")
}

func TestUImageCutAndPadded(t *testing.T) {
	good := uimage(5, 2, 2, 0, "x", []byte("payload"))
	m := read(t, good[:68])
	assert.Contains(t, fmt.Sprint(m.Damaged()), "truncated: its header announces 71 bytes in all, and there are 68")
	m = read(t, good[:20])
	assert.Contains(t, fmt.Sprint(m.Damaged()), "a U-Boot legacy header has 64 bytes from 0x0 on, and there are 20")
	m = read(t, append(bytes.Clone(good), 0xfe, 0xff))
	assert.Empty(t, m.Damaged())
	assert.Contains(t, m.Notes[0], "2 bytes follow the image")
	m = read(t, uimage(5, 2, 2, 0, "x", nil))
	assert.Contains(t, fmt.Sprint(m.Damaged()), "no bytes")
}

func TestSniffNotFirmware(t *testing.T) {
	cases := map[string]string{
		"<!DOCTYPE html><html>":              "html",
		"\ufeff\n <HTML lang=en>":            "html",
		"<!-- saved --><html >":              "html",
		"<?xml version='1.0'?><release/>":    "xml",
		`{"error": "session expired"}`:       "json",
		`{}`:                                 "json",
		"[QM-8T]\nmain a.img 8.4.2\n":        "text",
		"{ not json":                         "text",
		"%PDF-1.7\n\xe2\xe3":                 "pdf",
		"-----BEGIN PUBLIC KEY-----":         "pem",
		"plain words, and an umlaut: \u00fc": "text",
	}
	for in, want := range cases {
		f := format.Builtin().Sniff([]byte(in))
		if assert.NotNil(t, f, in) {
			assert.Equal(t, want, f.Name, in)
			assert.False(t, f.Firmware, in)
		}
	}
	assert.Nil(t, format.Builtin().Sniff([]byte("\x00\x01\x02")))
	assert.Nil(t, format.Builtin().Sniff(nil))
}
