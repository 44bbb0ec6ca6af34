package archive

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	backend "github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sevenZipOf packs files uncompressed, each as a folder of its own (7zFormat.txt).
func sevenZipOf(files ...file) []byte {
	number := func(n int) []byte { // of at most 14 bits
		if n < 0x80 {
			return []byte{byte(n)}
		}
		return []byte{byte(0x80 | n>>8), byte(n)}
	}
	var data, h bytes.Buffer
	h.Write([]byte{1, 4, 6, 0}) // header, streams, packed streams from 0 on
	h.Write(number(len(files)))
	h.WriteByte(9) // sizes
	for _, f := range files {
		data.WriteString(f.data)
		h.Write(number(len(f.data)))
	}
	h.Write([]byte{0, 7, 11}) // end; folders
	h.Write(number(len(files)))
	h.WriteByte(0)
	for range files {
		h.Write([]byte{1, 1, 0}) // one coder: copy
	}
	h.WriteByte(12) // unpacked sizes
	for _, f := range files {
		h.Write(number(len(f.data)))
	}
	h.Write([]byte{0, 8, 10, 1}) // end; files in the folders: one each, checksums of all
	for _, f := range files {
		h.Write(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(f.data))))
	}
	return endSevenZip(&h, data.Bytes(), number, files)
}

// endSevenZip names the files in a directory whose streams are told, and puts it behind the packed data.
func endSevenZip(h *bytes.Buffer, data []byte, number func(int) []byte, files []file) []byte {
	h.Write([]byte{0, 0, 5}) // end, end; files
	h.Write(number(len(files)))
	var names []byte
	for _, f := range files {
		for _, u := range utf16.Encode([]rune(f.name + "\x00")) {
			names = binary.LittleEndian.AppendUint16(names, u)
		}
	}
	h.WriteByte(17)
	h.Write(number(len(names) + 1))
	h.WriteByte(0)
	h.Write(names)
	h.Write([]byte{0, 0})

	start := binary.LittleEndian.AppendUint64(nil, uint64(len(data)))
	start = binary.LittleEndian.AppendUint64(start, uint64(h.Len()))
	start = binary.LittleEndian.AppendUint32(start, crc32.ChecksumIEEE(h.Bytes()))
	out := append([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(start))...)
	return append(append(append(out, start...), data...), h.Bytes()...)
}

func TestSevenZip(t *testing.T) {
	good := sevenZipOf(file{"a/one", strings.Repeat("1111", 40)}, file{"two", "22"}, file{"in.zip", string(zipOf(file{"deep", "333"}))})
	n, err := walk(t, "p.7z", good, DefaultLimits())
	require.NoError(t, err)
	assert.Empty(t, n.problems)
	assert.Equal(t, []string{"a/one", "two", "in.zip", "in.zip::deep"}, shown(n, "p.7z"))
	assert.Equal(t, strings.Repeat("1111", 40), n.content["p.7z::a/one"])
	assert.Equal(t, "333", n.content["p.7z::in.zip::deep"])

	bad := bytes.Clone(good)
	bad[32+3] ^= 1
	n, err = walk(t, "p.7z", bad, DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Damaged, "::a/one", "CRC-32"), "%v", n.problems)
	assert.Equal(t, "22", n.content["p.7z::two"], "the others are whole")

	for what, data := range map[string][]byte{"cut": good[:len(good)-9], "header": append(bytes.Clone(good[:len(good)-1]), 0xff), "head only": good[:32]} {
		n, err := walk(t, "p.7z", data, DefaultLimits())
		require.NoError(t, err, what)
		assert.NotEmpty(t, n.problems, what)
		assert.Equal(t, string(data), n.content["p.7z"], what)
	}
	n, err = walk(t, "p.7z", sevenZipOf(file{"../up", "1"}, file{`c:\x`, "2"}), DefaultLimits())
	require.NoError(t, err)
	assert.True(t, n.says(Unsafe, "up", "climbs"), "%v", n.problems)
}

func TestISOAsFolder(t *testing.T) {
	p := filepath.Join(t.TempDir(), "p.iso")
	disk, err := backend.CreateFromPath(p, 1<<20)
	require.NoError(t, err)
	b, err := iso9660.Create(disk, 1<<20, 0, 2048, t.TempDir())
	require.NoError(t, err)
	require.NoError(t, b.Mkdir("/BOOT"))
	for name, data := range map[string]string{"/BOOT/MAIN.IMG": "main image", "/README.TXT": "words"} {
		f, err := b.OpenFile(name, os.O_CREATE|os.O_RDWR)
		require.NoError(t, err)
		_, err = f.Write([]byte(data))
		require.NoError(t, err)
	}
	require.NoError(t, b.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: "TRAM"}))
	data, err := os.ReadFile(p)
	require.NoError(t, err)
	n, err := walk(t, "p.iso", data, DefaultLimits())
	require.NoError(t, err)
	got := map[string]string{}
	for address, text := range n.content {
		got[strings.ToLower(strings.TrimPrefix(address, "p.iso::"))] = text
	}
	assert.Equal(t, "main image", got["boot/main.img"], "%v", n.problems)
	assert.Equal(t, "words", got["readme.txt"])

	// Wherever it is damaged, it is read to its end and nothing panics.
	for at := 0x8000; at < len(data); at += 6151 {
		bad := bytes.Clone(data)
		bad[at] ^= 0x5a
		n, err := walk(t, "p.iso", bad, DefaultLimits())
		var bound *BoundError
		if err != nil {
			require.ErrorAs(t, err, &bound, "at %d", at)
			continue
		}
		assert.Len(t, n.content["p.iso"], len(bad))
	}
}

// A stream of LZMA2 that ends before the size that the archive gives is cut, also by a single byte; one that goes on is read
// to that size.
func TestLZMA2EndsWhereItSays(t *testing.T) {
	stream := append([]byte{1, 0, 4}, "tramsXX"...)
	stream = append(stream[:8], 0) // five bytes, not packed, and the end
	for size, want := range map[uint64]string{5: "trams", 3: "tra"} {
		r, err := lzma2Reader([]byte{24}, size, []io.ReadCloser{io.NopCloser(bytes.NewReader(stream))})
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.Equal(t, want, string(got))
	}
	for _, size := range []uint64{6, 7, 1 << 40} {
		r, err := lzma2Reader([]byte{24}, size, []io.ReadCloser{io.NopCloser(bytes.NewReader(stream))})
		require.NoError(t, err)
		got, err := io.ReadAll(r)
		assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "%d bytes", size)
		assert.Equal(t, "trams", string(got))
	}
}
