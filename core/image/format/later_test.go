package format_test

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
)

// S-records that are counted need no record that ends them: none can be missing. One that is
// missing before the count is noticed.
func TestSRecordsThatAreCounted(t *testing.T) {
	var data []string
	for _, l := range strings.Split(strings.TrimSpace(string(srec(strings.Repeat("tram", 20)))), "\n") {
		if l = strings.TrimSpace(l); l[1] >= '1' && l[1] <= '3' {
			data = append(data, l)
		}
	}
	require.Greater(t, len(data), 1)
	count := func(n int) string {
		sum := 3 + n>>8 + n&0xff
		return fmt.Sprintf("S503%04X%02X", n, ^sum&0xff)
	}
	m := read(t, []byte(strings.Join(append(data[:len(data):len(data)], count(len(data))), "\r\n")+"\r\n"))
	assert.Empty(t, m.Damaged())
	assert.NotEmpty(t, m.Notes, "it is said all the same")
	m = read(t, []byte(strings.Join(append(data[1:len(data):len(data)], count(len(data))), "\r\n")+"\r\n"))
	assert.NotEmpty(t, m.Damaged(), "one is missing")
	m = read(t, []byte(strings.Join(data, "\r\n")+"\r\n"))
	assert.NotEmpty(t, m.Damaged(), "neither counted nor ended")
}

// A volume's name may be longer than its first sixteen bytes.
func TestRomfsTitle(t *testing.T) {
	name := strings.Repeat("platform ", 5)
	b := make([]byte, 1024)
	copy(b, "-rom1fs-")
	binary.BigEndian.PutUint32(b[8:], uint32(len(b)))
	copy(b[16:], name)
	sum := uint32(0)
	for i := 0; i < 512; i += 4 {
		sum += binary.BigEndian.Uint32(b[i:])
	}
	binary.BigEndian.PutUint32(b[12:], -sum)
	assert.Equal(t, []string{strings.TrimSpace(name)}, read(t, b).Values(fact.Title))
}

// A multi-file image may hold a further image; both are read.
func TestUImageInAMultiFileImage(t *testing.T) {
	inner := uimage(5, 2, 2, 0, "inner 1.0", []byte("kernel, made up"))
	list := binary.BigEndian.AppendUint32(nil, uint32(len(inner)))
	list = binary.BigEndian.AppendUint32(list, 0)
	m := read(t, uimage(5, 2, 4, 0, "outer", append(list, inner...)))
	assert.Empty(t, m.Damaged())
	require.Len(t, m.Parts, 1)
	require.NotNil(t, m.Parts[0].Image)
	assert.Equal(t, []string{"inner 1.0"}, m.Parts[0].Image.Values(fact.Title))
	for number, name := range map[byte]string{7: "esix", 12: "ncr", 29: "elf"} {
		assert.Equal(t, []string{name}, read(t, uimage(number, 2, 2, 0, "x", []byte("p"))).Values(fact.OS))
	}
}

// A kernel is found behind the texts of its decompressor, which hold the same magic.
func TestKernelBehindTexts(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte("\x00Linux version 6.1.0-tram (builder@host) (cc 12) #1 SMP\n\x00" + strings.Repeat("code ", 5000)))
	z.Close()
	code := append(bytes.Repeat([]byte{0xe1, 0xa0, 0x00, 0x00}, 400), "\xfd7zXZ\x00XZ decompressor ran out of memory\x00"...)
	b := make([]byte, 0x34)
	binary.LittleEndian.PutUint32(b[0x24:], 0x016f2818)
	b = append(append(b, code...), packed.Bytes()...)
	binary.LittleEndian.PutUint32(b[0x2c:], uint32(len(b)))
	m := read(t, b)
	var linux []string
	for _, f := range m.All() {
		if f.About == image.Linux {
			linux = append(linux, f.Value)
		}
	}
	assert.Equal(t, []string{"6.1.0-tram"}, linux)
}

// In a program that unpacks a kernel, which is short code and then the stream, the kernel is found; in one that is linked to
// others, that is shorter, or that has its stream further on, none is looked for.
func TestKernelInAProgram(t *testing.T) {
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	z.Write([]byte("\x00Linux version 6.1.0-tram (builder@host) (cc 12) #1 SMP\n\x00" + strings.Repeat("code ", 5000)))
	z.Close()
	for _, c := range []struct {
		name          string
		kind          byte // of a second segment
		at, size      int
		want          bool
		big, relocate bool
	}{
		{"a program", 0, 4000, 1 << 20, true, false, false},
		{"of 32 bits, big-endian", 0, 4000, 1 << 20, true, true, false},
		{"linked to others", 2, 4000, 1 << 20, false, false, false},
		{"with a loader", 3, 4000, 1 << 20, false, false, false},
		{"with notes", 4, 4000, 1 << 20, true, false, false},
		{"shorter", 0, 4000, 1<<20 - 1, false, false, false},
		{"a stream further on", 0, 300 << 10, 1 << 20, false, false, false},
		{"a library", 0, 4000, 1 << 20, false, false, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			order, bits, machine := binary.ByteOrder(binary.LittleEndian), 64, 183
			if c.big {
				order, bits, machine = binary.BigEndian, 32, 8
			}
			head := map[int]int{32: 52, 64: 64}[bits]
			word, entry := bits/8, map[int]int{32: 32, 64: 56}[bits]
			b := make([]byte, 4096+c.size)
			copy(b, elf(bits, order, machine)[:head])
			put := func(at, n int, v uint64) {
				if n == 8 {
					order.PutUint64(b[at:], v)
				} else if n == 4 {
					order.PutUint32(b[at:], uint32(v))
				} else {
					order.PutUint16(b[at:], uint16(v))
				}
			}
			put(24+3*word+4+4, 2, 2) // program headers
			if c.relocate {
				put(16, 2, 3)
			}
			put(head, 4, 1)
			put(head+word, word, 4096)
			put(head+4*word, word, uint64(c.size))
			put(head+entry, 4, uint64(c.kind))
			copy(b[4096+c.at:], packed.Bytes())
			m := read(t, b)
			linux := slices.ContainsFunc(m.All(), func(f fact.Fact) bool { return f.About == image.Linux && f.Value == "6.1.0-tram" })
			assert.Equal(t, c.want, linux)
			assert.Equal(t, c.want, len(m.Parts) == 1)
			if c.want {
				assert.Equal(t, int64(4096+c.at), m.Parts[0].Offset)
			}
		})
	}
}

// What writers of UBIFS put between two nodes is covered with them; what is anything else is not.
func TestUBIFSBetweenNodes(t *testing.T) {
	between := func(fill byte) []digest.Stretch {
		b := blob(ubifs())
		node := func(at, length int) {
			n := b[at:].le32(0, 0x06101831).le32(16, length).u8(20, 7)
			n.le32(4, int(rawCRC(n[8:length])))
		}
		clear(b[4096:])
		node(4096, 509)
		for i := range 3 {
			b[4096+509+i] = fill
		}
		node(4096+512, 512)
		m := read(t, b)
		require.Empty(t, m.Damaged())
		return m.Sums[len(m.Sums)-1].Covers
	}
	whole := []digest.Stretch{digest.Between(0, 4096), digest.Between(4096, 4096+1024)}
	for _, fill := range []byte{0, 0xff, 0xce} {
		covers := between(fill)
		assert.Equal(t, whole[len(whole)-1].To, covers[len(covers)-1].To, "%x", fill)
		assert.NotContains(t, covers, digest.Between(4096+512, 4096+1024), "%x", fill)
	}
	for _, other := range []byte{1, 0xcd, 0xfe} {
		assert.Contains(t, between(other), digest.Between(4096+512, 4096+1024), "%x", other)
	}
}

// An XML document need not be declared; a page is none.
func TestXMLWithoutDeclaration(t *testing.T) {
	for text, kind := range map[string]string{
		"<?xml version='1.0'?><a/>":                                 "xml",
		"\ufeff<?xml version='1.0'?><a/>":                           "xml",
		"<package version=\"8.4.2\"><image/></package>\n":           "xml",
		"  \n<!-- made by hand -->\n<p:package a='1' b = \"2\"/>\n": "xml",
		"<html><body>log in again</body></html>":                    "html",
		"<!-- x --><html lang='en'>":                                "html",
		"<package version=8.4.2>":                                   "text",
		"< package>":                                                "text",
		"<8.2.1 and later\n":                                        "text",
		"<package":                                                  "text",
	} {
		got, _ := kindOf(t, []byte(text))
		assert.Equal(t, kind, got, text)
	}
}
