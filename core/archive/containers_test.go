package archive

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"sort"
	"strings"
	"testing"

	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"
)

// cpioOf writes the "new ASCII" form; with sums, the one with checksums.
func cpioOf(sums bool, files ...file) []byte {
	var b bytes.Buffer
	entry := func(name, data string) {
		magic, sum := "070701", uint32(0)
		if sums {
			magic = "070702"
			for _, c := range []byte(data) {
				sum += uint32(c)
			}
		}
		fmt.Fprintf(&b, "%s%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x%08x", magic, 1, 0o100644, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name)+1, sum)
		b.WriteString(name + "\x00")
		b.Write(make([]byte, -b.Len()&3))
		b.WriteString(data)
		b.Write(make([]byte, -b.Len()&3))
	}
	for _, f := range files {
		entry(f.name, f.data)
	}
	entry("TRAILER!!!", "")
	return b.Bytes()
}

func arOf(files ...file) []byte {
	var b bytes.Buffer
	b.WriteString("!<arch>\n")
	for _, f := range files {
		fmt.Fprintf(&b, "%-16s%-12d%-6d%-6d%-8o%-10d`\n%s", f.name+"/", 0, 0, 0, 0o644, len(f.data), f.data)
		if len(f.data)%2 == 1 {
			b.WriteByte('\n')
		}
	}
	return b.Bytes()
}

func streamOf(t testing.TB, method string, data []byte) []byte {
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch method {
	case "gz":
		return gzOf("", data)
	case "xz":
		w, err = xz.NewWriter(&b)
	case "lzma":
		w, err = lzma.NewWriter(&b)
	case "lz4":
		w = lz4.NewWriter(&b)
	case "zst":
		w, err = zstd.NewWriter(&b)
	}
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func shown(n *notes, pkg string) []string {
	sort.Slice(n.items, func(i, j int) bool { return n.items[i].Before(n.items[j]) })
	var out []string
	for _, it := range append(n.items[1:], n.files...) {
		out = append(out, strings.TrimPrefix(it.Address, pkg+"::"))
	}
	return out
}

func TestContainers(t *testing.T) {
	two := []file{{"a/one", "1111"}, {"two", "22"}}
	for name, data := range map[string][]byte{
		"p.cpio": cpioOf(false, two...), "sums.cpio": cpioOf(true, two...), "p.ar": arOf(file{"one", "1111"}, file{"odd", "333"}, file{"two", "22"}),
		"script.sh": append([]byte("#!/bin/sh\n# made up\ntail -n +4 \"$0\" | tar xz\nexit 0\n"), gzOf("", tarOf(two...))...),
	} {
		n, err := walk(t, name, data, DefaultLimits())
		require.NoError(t, err, name)
		for _, p := range n.problems {
			assert.Equal(t, Note, p.Class, "%s: %s", name, p.What)
		}
		assert.Contains(t, strings.Join(shown(n, name), " "), "two", name)
		for address, text := range n.content {
			if strings.HasSuffix(address, "::two") {
				assert.Equal(t, "22", text, address)
			}
		}
		assert.Equal(t, string(data), n.content[name], "every byte of the package itself passes")
	}
}

// Whatever a stream is compressed with, the archive inside is entered and a
// flipped byte in it is noticed.
func TestStreams(t *testing.T) {
	body := strings.Repeat("Brackwater Tramway ", 3000)
	for _, method := range []string{"gz", "xz", "lzma", "lz4", "zst"} {
		for inner, data := range map[string][]byte{"tar": tarOf(file{"a", body}), "cpio": cpioOf(false, file{"a", body})} {
			name := "p." + inner + "." + method
			packed := streamOf(t, method, data)
			n, err := walk(t, name, packed, DefaultLimits())
			require.NoError(t, err, name)
			assert.Empty(t, n.problems, name)
			assert.Equal(t, []string{"a"}, shown(n, name))
			assert.Equal(t, body, n.content[name+"::a"])

			n, err = walk(t, name, packed[:len(packed)/2], DefaultLimits())
			require.NoError(t, err, name)
			assert.NotEmpty(t, n.problems, "%s cut in the middle", name)
			if method == "lzma" {
				continue // carries no checksum
			}
			bad := bytes.Clone(packed)
			bad[len(bad)/2] ^= 0x10
			n, err = walk(t, name, bad, DefaultLimits())
			require.NoError(t, err, name)
			assert.NotEmpty(t, n.problems, "%s with a flipped bit", name)
		}
	}
}

// Streams of several members, one behind the other, are one content.
func TestMembersOfAStream(t *testing.T) {
	for _, method := range []string{"gz", "xz", "zst"} {
		n, err := walk(t, "two.bin."+method, append(streamOf(t, method, []byte("first ")), streamOf(t, method, []byte("second"))...), DefaultLimits())
		require.NoError(t, err)
		assert.Equal(t, "first second", n.content["two.bin."+method+"::two.bin"], method)
		assert.Empty(t, n.problems, method)
	}
}

func TestSquashFSAsFolder(t *testing.T) {
	data, err := os.ReadFile("../image/format/testdata/rootfs.squashfs")
	require.NoError(t, err)
	n, err := walk(t, "root.squashfs", data, DefaultLimits())
	require.NoError(t, err)
	assert.Contains(t, n.content["root.squashfs::etc/os-release"], "Tramline")
}

func TestSums(t *testing.T) {
	data := cpioOf(true, file{"a", "some content"})
	bad := bytes.Replace(data, []byte("some content"), []byte("some c0ntent"), 1)
	n, err := walk(t, "p.cpio", bad, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "::a", "checksum"), "%v", n.problems)
}

// TestZipStructure: where the directory of a zip and what lies in the file
// contradict each other, two programs may unpack two different things.
func TestZipStructure(t *testing.T) {
	good := zipOf(file{"a.img", strings.Repeat("abc", 500)}, file{"b.img", "22"})
	directory := bytes.Index(good, []byte("PK\x01\x02"))
	second := bytes.Index(good[1:], []byte("PK\x03\x04")) + 1
	put := func(at int, what string) []byte {
		b := bytes.Clone(good)
		copy(b[at:], what)
		return b
	}
	for name, c := range map[string]struct {
		data []byte
		says string
	}{
		"local name":      {put(30, "z.img"), "local header"},
		"local method":    {put(second+8, "\x00\x00"), "local header"},
		"overlap":         {put(directory+46+5+42, "\x00\x00\x00\x00"), ""},
		"offset past end": {put(directory+42, "\xff\xff\xff\x00"), ""},
		"size":            {put(directory+24, "\x01\x00\x00\x00"), ""},
		"bytes behind":    {append(bytes.Clone(good), "and more"...), "its end is followed by 8 bytes"},
	} {
		n, err := walk(t, "p.zip", c.data, DefaultLimits())
		require.NoError(t, err, name)
		var all []string
		for _, p := range n.problems {
			all = append(all, p.What)
		}
		assert.NotEmpty(t, all, name)
		assert.Contains(t, strings.Join(all, "; "), c.says, name)
	}
}

func TestEncryptedZip(t *testing.T) {
	data := zipOf(file{"open.txt", "1"}, file{"secret.img", "2222222222222222"})
	for at := 0; ; { // the general purpose flags of both headers of the second entry
		i := bytes.Index(data[at:], []byte("secret.img"))
		if i < 0 {
			break
		}
		header := at + i - 30
		flags := 6
		if string(data[header:header+4]) != "PK\x03\x04" {
			header, flags = at+i-46, 8
		}
		data[header+flags] |= 1
		at += i + 1
	}
	n, err := walk(t, "p.zip", data, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Unreadable, "::secret.img", "encrypted"), "%v", n.problems)
	assert.Equal(t, "1", n.content["p.zip::open.txt"], "the others are read")
}

// A zip of more than 65535 entries has its numbers in the 64-bit records.
func TestZip64(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := range 66_000 {
		_, err := w.CreateHeader(&zip.FileHeader{Name: fmt.Sprint(i)})
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	require.Contains(t, b.String(), "PK\x06\x06")
	l := DefaultLimits()
	l.Items = 70_000
	n, err := walk(t, "p.zip", b.Bytes(), l)
	require.NoError(t, err)
	assert.Empty(t, n.problems)
	assert.Len(t, n.items, 66_001)
}

// Sizes that are stored after the data, and bytes that a directory gives
// another checksum than they have.
func TestZipChecksum(t *testing.T) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	e, err := w.CreateRaw(&zip.FileHeader{Name: "a", Method: zip.Store, CRC32: crc32.ChecksumIEEE([]byte("other")), CompressedSize64: 5, UncompressedSize64: 5})
	require.NoError(t, err)
	e.Write([]byte("these"))
	require.NoError(t, w.Close())
	n, err := walk(t, "p.zip", b.Bytes(), DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "::a", "CRC-32"), "%v", n.problems)
}

func TestTarForms(t *testing.T) {
	long := strings.Repeat("a-long-name/", 20) + "end.img"
	for name, format := range map[string]tar.Format{"pax": tar.FormatPAX, "gnu": tar.FormatGNU} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		require.NoError(t, w.WriteHeader(&tar.Header{Name: long, Mode: 0o640, Size: 2, Format: format}))
		w.Write([]byte("22"))
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "link", Linkname: "/etc/shadow", Typeflag: tar.TypeSymlink, Format: format}))
		require.NoError(t, w.WriteHeader(&tar.Header{Name: "dev", Typeflag: tar.TypeChar, Devmajor: 1, Devminor: 3, Format: format}))
		require.NoError(t, w.Close())
		n, err := walk(t, "p.tar", b.Bytes(), DefaultLimits())
		require.NoError(t, err)
		assert.Equal(t, "22", n.content["p.tar::"+long], name)
		assert.True(t, n.says(Unsafe, "::link", "link"), "%s: %v", name, n.problems)
		assert.True(t, n.says(Unsafe, "::dev", "device"), "%s: %v", name, n.problems)
		assert.Len(t, n.items, 2, "neither link nor device is an item")
		for _, it := range n.items {
			if it.Depth > 0 {
				assert.EqualValues(t, 0o640, it.Mode)
			}
		}
	}
}

func TestArContradictions(t *testing.T) {
	good := arOf(file{"one", "1111"})
	for at, bytesThere := range map[int]string{8 + 48: "9999999999", 8 + 58: "xx"} {
		bad := bytes.Clone(good)
		copy(bad[at:], bytesThere)
		n, err := walk(t, "p.ar", bad, DefaultLimits())
		require.NoError(t, err)
		assert.NotEmpty(t, n.problems, "at %d", at)
	}
}

func TestCpioContradictions(t *testing.T) {
	good := cpioOf(false, file{"a", "some content"})
	for what, c := range map[string]struct {
		at   int
		text string
	}{"size too long": {54, "7fffffff"}, "name too long": {94, "7fffffff"}, "no name": {94, "00000000"}} {
		bad := bytes.Clone(good)
		copy(bad[c.at:], c.text)
		n, err := walk(t, "p.cpio", bad, DefaultLimits())
		require.NoError(t, err, what)
		assert.NotEmpty(t, n.problems, what)
	}
	n, err := walk(t, "p.cpio", good[:len(good)-124], DefaultLimits())
	require.NoError(t, err)
	assert.NotEmpty(t, n.problems, "no trailer")
}

func TestDirectoryCountsBeforeItIsHeld(t *testing.T) {
	end := make([]byte, 22)
	copy(end, "PK\x05\x06")
	binary.LittleEndian.PutUint16(end[8:], 0xfffe)
	binary.LittleEndian.PutUint16(end[10:], 0xfffe)
	l := DefaultLimits()
	l.Items = 100
	_, err := walk(t, "p.zip", append(zipOf(file{"a", "1"})[:50], end...), l)
	if err != nil { // more entries announced than may be read
		var bound *BoundError
		require.ErrorAs(t, err, &bound)
	}
}

// Names that do not fit an ar header: behind it (BSD), or in a table (GNU). The content begins behind the name.
func TestNamesOfAr(t *testing.T) {
	member := func(name string, data string) string {
		text := fmt.Sprintf("%-16s%-12d%-6d%-6d%-8o%-10d`\n%s", name, 0, 0, 0, 0o644, len(data), data)
		if len(data)%2 > 0 {
			text += "\n"
		}
		return text
	}
	long := "a-name-that-does-not-fit.img"
	bsd := "!<arch>\n" + member(fmt.Sprintf("#1/%d", len(long)+4), long+"\x00\x00\x00\x00"+"first content") + member("short.img", "22") + member("#1/20", "__.SYMDEF SORTED\x00\x00\x00\x00index")
	gnu := "!<arch>\n" + member("/", "index") + member("//", "other-name-that-does-not-fit/\n"+long+"/\n") + member("/30", "first content") + member("short.img/", "22")
	for what, data := range map[string]string{"bsd": bsd, "gnu": gnu} {
		n, err := walk(t, "p.ar", []byte(data), DefaultLimits())
		require.NoError(t, err, what)
		for _, p := range n.problems {
			assert.NotEqual(t, Damaged, p.Class, "%s: %v", what, p)
		}
		assert.Equal(t, "first content", n.content["p.ar::"+long], what)
		assert.Equal(t, "22", n.content["p.ar::short.img"], what)
		assert.Len(t, n.items, 3, "an index is no item")
	}
	for what, data := range map[string]string{
		"a name longer than its member": "!<arch>\n" + member("#1/99", "a.img"),
		"a name that is no length":      "!<arch>\n" + member("#1/x", "a.img"),
		"a place outside of the table":  "!<arch>\n" + member("//", "a/\n") + member("/77", "x"),
		"a place without a table":       "!<arch>\n" + member("/0", "x"),
	} {
		n, err := walk(t, "p.ar", []byte(data), DefaultLimits())
		require.NoError(t, err, what)
		assert.NotEmpty(t, n.problems, what)
	}
}

// A flipped bit of a stream that carries a checksum never makes other content of it.
func TestNoFlippedBitOfAStream(t *testing.T) {
	body := []byte(strings.Repeat("Brackwater Tramway ", 20))
	bzip2, err := hex.DecodeString("425a68393141592653596ad3623d00001d97804000100004002a0a14a020005081a068052a9a064d364d13027026c4f09b26498268992689c93e26c9827e2ee48a70a120d5a6c47a")
	require.NoError(t, err)
	streams := map[Compression][]byte{GzipStream: gzOf("", body), XzStream: streamOf(t, "xz", body), Lz4Stream: streamOf(t, "lz4", body), ZstdStream: streamOf(t, "zst", body), Bzip2Stream: bzip2}
	for name, stream := range streams {
		t.Run(string(name), func(t *testing.T) {
			read := func(stream []byte) ([]byte, error) {
				r, err := methodOf(name).inflate(bytes.NewReader(stream), DefaultLimits().Window)
				if err != nil {
					return nil, err
				}
				defer r.Close()
				return io.ReadAll(r)
			}
			want, err := read(stream)
			require.NoError(t, err)
			for bit := range len(stream) * 8 {
				spoiled := bytes.Clone(stream)
				spoiled[bit/8] ^= 1 << (bit % 8)
				if !methodOf(name).tells(spoiled) {
					continue
				}
				if got, err := read(spoiled); err == nil {
					assert.Equal(t, want, got, "bit %d of byte %d", bit%8, bit/8)
				}
			}
		})
	}
}
