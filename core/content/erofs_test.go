package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// What mkfs.erofs packs lists as it lay on the disk: plain, by LZ4, in large parts, with the
// ends of files behind their inodes, in chunks.
func TestEROFS(t *testing.T) {
	dir := makeTree(t, 5000)
	long := filepath.Join(dir, "names", strings.Repeat("x", 255)) // which the tool does not take
	require.NoError(t, os.Rename(long, long[:len(long)-15]))
	want := onDisk(t, dir)
	for _, options := range []string{"", "-zlz4", "-zlz4hc,12", "-zlz4hc -C65536", "-zlz4 -Eztailpacking", "-zlz4hc -C16384 -Eztailpacking", "-Enoinline_data", "-Eforce-inode-compact", "-Eforce-inode-extended -zlz4", "-zlz4 -Elegacy-compress", "--chunksize=4096", "--chunksize=8192", "--chunksize=8192 -Eforce-chunk-indexes", "--chunksize=65536 -Eforce-chunk-indexes", "-zlz4 --max-extent-bytes=65536"} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.erofs")
			run(t, "mkfs.erofs", append(strings.Fields("--quiet "+options), img, dir)...)
			same(t, want, listed(t, open(t, "erofs", img)))
		})
	}
}

// littleEROFS holds the folder etc, and in it the file ver of 5000 bytes, packed by a method
// in one block; it gives the offsets of the file's inode and of its index.
func littleEROFS(t testing.TB, method int) (b []byte, file, index int) {
	le := binary.LittleEndian
	b = make([]byte, 3<<12)
	le.PutUint32(b[erofsAt:], erofsMagic)
	b[erofsAt+12] = 12
	le.PutUint32(b[erofsAt+40:], 1)
	le.PutUint32(b[erofsAt+80:], erofsZeroPadding)
	folder := func(at int, inode uint64, name string) {
		le.PutUint16(b[at:], erofsInline<<1)
		le.PutUint16(b[at+4:], 0o40755)
		le.PutUint32(b[at+8:], uint32(erofsEntry+len(name)))
		le.PutUint64(b[at+32:], inode)
		le.PutUint16(b[at+40:], erofsEntry)
		copy(b[at+32+erofsEntry:], name)
	}
	folder(4096, 4, "etc")
	folder(4096+4*32, 8, "ver")
	file = 4096 + 8*32
	le.PutUint16(b[file:], erofsFull<<1)
	le.PutUint16(b[file+4:], 0o100644)
	le.PutUint32(b[file+8:], 5000)
	b[file+32+6] = byte(method)
	index = file + 32 + 16
	b[index] = erofsCutHead
	le.PutUint32(b[index+4:], 2)
	b[index+8] = erofsCutInner
	le.PutUint16(b[index+12:], 1)
	var packed bytes.Buffer
	text := bytes.Repeat([]byte("8.4.2"), 1000)
	switch method {
	case erofsDeflate:
		w, err := flate.NewWriter(&packed, 9)
		require.NoError(t, err)
		w.Write(text)
		w.Close()
	case erofsZstd:
		w, err := zstd.NewWriter(&packed)
		require.NoError(t, err)
		w.Write(text)
		w.Close()
	default:
		var c lz4.Compressor
		dst := make([]byte, 4096)
		n, err := c.CompressBlock(text, dst)
		require.NoError(t, err)
		packed.Write(dst[:n])
	}
	copy(b[3<<12-packed.Len():], packed.Bytes())
	return b, file, index
}

func TestEROFSMethods(t *testing.T) {
	for _, method := range []int{erofsLZ4, erofsDeflate, erofsZstd} {
		b, _, _ := littleEROFS(t, method)
		assert.Equal(t, map[string]string{"etc": "drwxr-xr-x ", "etc/ver": strings.Repeat("8.4.2", 1000)}, content(t, "erofs", b), "method %d", method)
	}
}

// The end of a file, or all of it, may stand in a file of ends.
func TestEROFSEnds(t *testing.T) {
	le := binary.LittleEndian
	b, file, _ := littleEROFS(t, erofsLZ4)
	packed := file
	le.PutUint64(b[erofsAt+96:], 8) // the file of before is that of ends
	other := 4096 + 16*32
	le.PutUint16(b[other:], erofsCompact<<1)
	le.PutUint16(b[other+4:], 0o100644)
	le.PutUint32(b[other+8:], 7)
	le.PutUint64(b[other+32:], 1<<63|2) // from its byte 2 on
	le.PutUint64(b[4096+4*32+32:], 16)
	assert.Equal(t, "4.28.4.", content(t, "erofs", b)["etc/ver"])
	le.PutUint64(b[other+32:], 1<<63|4999)
	assert.ErrorContains(t, readAll("erofs", b), "file of ends")
	le.PutUint64(b[packed+32:], 1<<63) // which refers to itself
	le.PutUint64(b[other+32:], 1<<63)
	assert.ErrorContains(t, readAll("erofs", b), "lies in itself")
}

func TestHostileEROFS(t *testing.T) {
	le := binary.LittleEndian
	for what, c := range map[string]struct {
		spoil func(b []byte, file, index int)
		says  string
	}{
		"size":     {func(b []byte, file, _ int) { le.PutUint32(b[file+8:], 1<<32-1) }, "begins at byte 65535"},
		"long":     {func(b []byte, file, _ int) { b[file] |= 1; le.PutUint64(b[file+8:], 1<<62) }, "longer than fitcheck reads"},
		"negative": {func(b []byte, file, _ int) { b[file] |= 1; le.PutUint64(b[file+8:], 1<<63) }, "announces"},
		"index":    {func(b []byte, _, index int) { b[index] = erofsCutInner }, "begins within a part"},
		"offset":   {func(b []byte, _, index int) { le.PutUint16(b[index+2:], 4096) }, "begins at byte 4096"},
		"block":    {func(b []byte, _, index int) { le.PutUint32(b[index+4:], 1<<30) }, "truncated"},
		"data":     {func(b []byte, _, _ int) { copy(b[2<<12:], bytes.Repeat([]byte{0xff}, 4096)) }, "does not inflate"},
		"method":   {func(b []byte, file, _ int) { b[file+32+6] = erofsLZMA }, "method 1 of EROFS"},
		"layout":   {func(b []byte, file, _ int) { b[file] = 7 << 1 }, "laid out in a way"},
		"advice":   {func(b []byte, file, _ int) { b[file+36] = 0x80 }, "features (0x80)"},
		"features": {func(b []byte, _, _ int) { b[erofsAt+81] = 1 }, "features of EROFS (0x100)"},
		"folder":   {func(b []byte, _, _ int) { le.PutUint64(b[4096+4*32+32:], 0) }, "lies in itself"},
		"name":     {func(b []byte, _, _ int) { le.PutUint16(b[4096+40:], 24) }, "begin at byte 24"},
		"bits":     {func(b []byte, _, _ int) { b[erofsAt+12] = 40 }, "blocks of 2^40"},
		"inode":    {func(b []byte, _, _ int) { le.PutUint64(b[4096+32:], 1<<60) }, "refers to inode"},
		"long part": {func(b []byte, file, index int) {
			b[file+39] = 3
			b[index+8] = erofsCutPlain
			le.PutUint16(b[index+10:], 40000)
		}, "truncated"},
		"as it is": {func([]byte, int, int) {}, ""},
	} {
		b, file, index := littleEROFS(t, erofsLZ4)
		c.spoil(b, file, index)
		if err := readAll("erofs", b); c.says == "" {
			assert.NoError(t, err, what)
		} else {
			assert.ErrorContains(t, err, c.says, what)
		}
	}
}

// The beginning of a block inflates whatever follows it.
func TestLZ4Begin(t *testing.T) {
	text := bytes.Repeat([]byte("one text, "), 500)
	var c lz4.Compressor
	packed := make([]byte, lz4.CompressBlockBound(len(text)))
	n, err := c.CompressBlock(text, packed)
	require.NoError(t, err)
	packed = append(packed[:n], "what follows"...)
	for _, length := range []int{0, 1, 9, 10, 11, 4999, 5000} {
		dst := make([]byte, length)
		n, err := lz4Begin(dst, packed)
		require.NoError(t, err)
		assert.Equal(t, string(text[:length]), string(dst[:n]))
	}
	for i := range n { // cut anywhere, it says so or holds less
		dst := make([]byte, len(text))
		if n, err := lz4Begin(dst, packed[:i]); err == nil {
			assert.True(t, n < len(text) && bytes.HasPrefix(text, dst[:n]), "cut at %d", i)
		}
	}
}

func FuzzEROFS(f *testing.F) {
	for _, method := range []int{erofsLZ4, erofsDeflate, erofsZstd} {
		b, _, _ := littleEROFS(f, method)
		f.Add(b)
	}
	b, file, _ := littleEROFS(f, erofsLZ4)
	b[file] = erofsCompact << 1
	fuzz(f, "erofs", b)
}

// A pack of two holds places in pieces of up to 2^14 bytes, one of sixteen in those of 2^12; larger ones are not read, and
// told.
func TestPiecesOfEROFS(t *testing.T) {
	blank := make([]byte, 4096)
	for _, c := range []struct {
		bits    uint
		packs16 bool
		i       int64
		reads   bool
	}{{12, true, 20, true}, {13, true, 20, false}, {14, false, 20, true}, {15, false, 20, false}, {12, true, 0, true}, {14, true, 0, true}, {15, true, 0, false}} {
		x := &erofsIndex{base: 8, bits: c.bits, count: 64, packs16: c.packs16, window: window{at: bytes.NewReader(blank), size: 4096}}
		_, err := x.at(c.i)
		assert.Equal(t, !c.reads, err != nil && strings.Contains(err.Error(), "which its index cannot hold"), "%+v: %v", c, err)
	}
}

// What lies on a further device of the file system cannot be read; what does not is listed.
func TestFurtherDevice(t *testing.T) {
	data := pagetest.Image(t, ".", "erofs-further")
	fsys, err := Open("erofs", bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	got := map[string]string{}
	require.NoError(t, fsys.Walk(context.Background(), func(f *File) error {
		if f.Mode.IsRegular() {
			if _, err := io.Copy(io.Discard, f.Open()); err != nil {
				got[f.Path] = err.Error()
			} else if f.Size > 0 {
				got[f.Path] = "read"
			}
		}
		return nil
	}))
	const away = "a file lies on a further device of the file system, which is not here"
	assert.Equal(t, map[string]string{"noise": away, "mixed": away, "combed": away, "zeros": away}, got)
}
