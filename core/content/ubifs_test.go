package content

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// What mkfs.ubifs packs lists as it lay on the disk, also out of a UBI volume.
func TestUBIFS(t *testing.T) {
	dir := makeTree(t, 5000)
	want := onDisk(t, dir)
	for _, options := range []string{"-m 2048 -e 126976 -c 400", "-m 2048 -e 126976 -c 400 -x none", "-m 2048 -e 126976 -c 400 -x zlib", "-m 1 -e 65408 -c 400 -x zstd", "-m 512 -e 15872 -c 2000 -x favor_lzo", "-m 4096 -e 253952 -c 200 -x zlib -j 8MiB -k r5", "-m 2048 -e 126976 -c 400 -k test -l 10 -f 16"} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.ubifs")
			run(t, "mkfs.ubifs", append(strings.Fields(options), "-r", dir, "-o", img)...)
			same(t, want, listed(t, open(t, "ubifs", img)))
		})
	}
}

// ubinized packs volumes into a UBI image.
func ubinized(t testing.TB, sections string, options ...string) []byte {
	t.Helper()
	dir := t.TempDir()
	ini, img := filepath.Join(dir, "ini"), filepath.Join(dir, "img")
	require.NoError(t, os.WriteFile(ini, []byte(sections), 0o600))
	run(t, "ubinize", append(options, "-o", img, ini)...)
	data, err := os.ReadFile(img)
	require.NoError(t, err)
	return data
}

func TestVolumes(t *testing.T) {
	dir := makeTree(t, 300)
	want := onDisk(t, dir)
	img := filepath.Join(t.TempDir(), "root")
	run(t, "mkfs.ubifs", "-m", "2048", "-e", "126976", "-c", "400", "-r", dir, "-o", img)
	kernel := bytes.Repeat([]byte("kernel "), 50000)
	static := filepath.Join(t.TempDir(), "kernel")
	require.NoError(t, os.WriteFile(static, kernel, 0o600))
	data := ubinized(t, fmt.Sprintf("[a]\nmode=ubi\nimage=%s\nvol_id=0\nvol_type=static\nvol_name=kernel\n[b]\nmode=ubi\nimage=%s\nvol_id=3\nvol_type=dynamic\nvol_name=rootfs\nvol_size=60MiB\n", static, img), "-m", "2048", "-p", "128KiB")
	volumes, err := Volumes(bytes.NewReader(data), int64(len(data)), 128<<10)
	require.NoError(t, err)
	require.Len(t, volumes, 2)
	assert.Equal(t, []any{"kernel", true, "rootfs", false}, []any{volumes[0].Name, volumes[0].Static, volumes[1].Name, volumes[1].Static})
	got := make([]byte, len(kernel))
	n, _ := volumes[0].ReadAt(got, 0)
	assert.Equal(t, len(kernel), n)
	assert.Equal(t, int64(len(kernel)), volumes[0].Size())
	assert.True(t, bytes.Equal(kernel, got))
	root, err := Open("ubifs", volumes[1], volumes[1].Size())
	require.NoError(t, err)
	same(t, want, listed(t, root))

	// Blocks in another order, and an older copy of one, make no difference.
	const peb = 128 << 10
	turned := bytes.Clone(data)
	for i := 2; i*peb < len(data); i++ {
		copy(turned[i*peb:], data[len(data)-(i-1)*peb:][:peb])
	}
	old := bytes.Clone(data[2*peb : 3*peb]) // LEB 0 of the first volume
	copy(old[4096:], "an older copy")
	binary.BigEndian.PutUint64(data[2*peb+2048+40:], 7)
	binary.BigEndian.PutUint32(data[2*peb+2048+60:], ubifsSum(data[2*peb+2048:2*peb+2048+60]))
	for what, image := range map[string][]byte{"turned": turned, "older copy behind": append(bytes.Clone(data), old...), "older copy in front": append(bytes.Clone(old), data...)} {
		volumes, err := Volumes(bytes.NewReader(image), int64(len(image)), peb)
		require.NoError(t, err, what)
		got := make([]byte, len(kernel))
		volumes[0].ReadAt(got, 0)
		assert.True(t, bytes.Equal(kernel, got), what)
	}
}

// ubifsNode writes a node.
func ubifsNode(kind byte, sequence uint64, length int, fill func(b []byte)) []byte {
	b := make([]byte, length)
	le := binary.LittleEndian
	le.PutUint32(b, ubifsMagic)
	le.PutUint64(b[8:], sequence)
	le.PutUint32(b[16:], uint32(length))
	b[20] = kind
	fill(b)
	le.PutUint32(b[4:], ^crc32.ChecksumIEEE(b[8:]))
	return append(b, make([]byte, (8-length%8)%8)...)
}

func ubifsNodeOf(ino, mode, links uint32, size uint64, sequence uint64) []byte {
	return ubifsNode(ubifsInode, sequence, ubifsInodeHead, func(b []byte) {
		le := binary.LittleEndian
		le.PutUint32(b[24:], ino)
		le.PutUint64(b[48:], size)
		le.PutUint32(b[92:], links)
		le.PutUint32(b[104:], mode)
	})
}

func ubifsDent(parent, ino uint32, name string, sequence uint64) []byte {
	return ubifsNode(ubifsEntry, sequence, ubifsNameHead+len(name)+1, func(b []byte) {
		le := binary.LittleEndian
		le.PutUint32(b[24:], parent)
		le.PutUint32(b[28:], 2<<29)
		le.PutUint64(b[40:], uint64(ino))
		le.PutUint16(b[50:], uint16(len(name)))
		copy(b[ubifsNameHead:], name)
	})
}

func ubifsPlain(ino, number uint32, text string, sequence uint64) []byte {
	return ubifsNode(ubifsData, sequence, ubifsDataHead+len(text), func(b []byte) {
		le := binary.LittleEndian
		le.PutUint32(b[24:], ino)
		le.PutUint32(b[28:], 1<<29|number)
		le.PutUint32(b[40:], uint32(len(text)))
		copy(b[ubifsDataHead:], text)
	})
}

// littleUBIFS holds the file ver in its index, and over it what a journal says; it gives the
// offset of the root of the index.
func littleUBIFS(journal ...[]byte) ([]byte, int) {
	const leb = 8 << 10
	le := binary.LittleEndian
	img := bytes.Repeat([]byte{0xff}, 8*leb)
	copy(img, ubifsNode(ubifsSuper, 1, 4096, func(b []byte) {
		le.PutUint32(b[36:], leb)
		le.PutUint32(b[40:], 8)
		le.PutUint32(b[56:], 2)
	}))
	main := 6 * leb
	places := map[uint64][2]int{}
	put := func(key uint64, b []byte) {
		places[key] = [2]int{main - 6*leb, int(le.Uint32(b[16:]))}
		main += copy(img[main:], b)
	}
	put(1, ubifsNodeOf(1, 0o040755, 2, 0, 2))
	put(1|2<<61|5<<32, ubifsDent(1, 64, "ver", 3))
	put(64, ubifsNodeOf(64, 0o100644, 1, 5, 4))
	put(64|1<<61, ubifsPlain(64, 0, "8.4.2", 5))
	root := main
	keys := []uint64{1, 1 | 2<<61 | 5<<32, 64, 64 | 1<<61}
	copy(img[main:], ubifsNode(ubifsIndex, 6, 28+20*len(keys), func(b []byte) {
		le.PutUint16(b[24:], uint16(len(keys)))
		for i, k := range keys {
			r := b[28+20*i:]
			le.PutUint32(r, 6)
			le.PutUint32(r[4:], uint32(places[k][0]))
			le.PutUint32(r[8:], uint32(places[k][1]))
			le.PutUint64(r[12:], k)
		}
	}))
	master := ubifsNode(ubifsMaster, 7, 512, func(b []byte) {
		le.PutUint64(b[32:], 9)
		le.PutUint32(b[44:], 3)
		le.PutUint32(b[48:], 6)
		le.PutUint32(b[52:], uint32(root-6*leb))
		le.PutUint32(b[56:], uint32(28+20*len(keys)))
	})
	copy(img[leb:], master)
	copy(img[2*leb:], master)
	n := copy(img[3*leb:], ubifsNode(ubifsCommit, 10, 32, func(b []byte) { le.PutUint64(b[24:], 9) }))
	if len(journal) > 0 {
		copy(img[3*leb+n:], ubifsNode(ubifsRef, 11, 64, func(b []byte) { le.PutUint32(b[24:], 7) }))
		copy(img[7*leb:], bytes.Join(journal, nil))
	}
	return img, root
}

// What was written since the last commit counts, in the order of the sequence numbers,
// however it stands.
func TestUBIFSJournal(t *testing.T) {
	read := func(journal ...[]byte) map[string]string {
		img, _ := littleUBIFS(journal...)
		return content(t, "ubifs", img)
	}
	assert.Equal(t, map[string]string{"ver": "8.4.2"}, read())
	assert.Equal(t, map[string]string{"ver": "9.0.0"}, read(ubifsPlain(64, 0, "9.0.0", 20)))
	assert.Equal(t, map[string]string{"ver": "9.0.1"}, read(ubifsPlain(64, 0, "9.0.1", 21), ubifsPlain(64, 0, "9.0.0", 20)), "the order in the block is none")
	assert.Equal(t, map[string]string{"ver": "8.4.2"}, read(ubifsPlain(64, 0, "old.1", 8)), "from before the commit")
	assert.Equal(t, map[string]string{}, read(ubifsDent(1, 0, "ver", 20), ubifsNodeOf(64, 0o100644, 0, 0, 21)), "deleted")
	assert.Equal(t, map[string]string{"ver": "8.4.2", "new": "n\x00\x00"}, read(ubifsDent(1, 65, "new", 20), ubifsNodeOf(65, 0o100644, 1, 3, 22), ubifsPlain(65, 0, "n", 21)))
	assert.Equal(t, map[string]string{"new": "8.4.2"}, read(ubifsDent(1, 64, "new", 20), ubifsDent(1, 0, "ver", 21)), "renamed")
	cut := ubifsNode(ubifsCut, 20, 56, func(b []byte) { binary.LittleEndian.PutUint32(b[24:], 64) })
	assert.Equal(t, map[string]string{"ver": "\x00\x00"}, read(cut, ubifsNodeOf(64, 0o100644, 1, 2, 21)), "cut to nothing, then made longer")
	torn := ubifsPlain(64, 0, "9.9.9", 22)
	torn[50] ^= 1
	assert.Equal(t, map[string]string{"ver": "9.0.0"}, read(ubifsPlain(64, 0, "9.0.0", 20), torn), "the last node was not written in full")
}

func TestHostileUBIFS(t *testing.T) {
	le := binary.LittleEndian
	index := func(spoil func(b []byte)) func(img []byte, root int) []byte {
		return func(img []byte, root int) []byte {
			b := img[root:][:le.Uint32(img[root+16:])]
			spoil(b)
			le.PutUint32(b[4:], ubifsSum(b[8:]))
			return img
		}
	}
	for what, c := range map[string]struct {
		spoil func(img []byte, root int) []byte
		says  string
	}{
		"as it is":    {func(img []byte, _ int) []byte { return img }, ""},
		"index's CRC": {func(img []byte, root int) []byte { img[root+30]++; return img }, "CRC of the node"},
		"branches":    {index(func(b []byte) { le.PutUint16(b[24:], 60000) }), "60000 branches"},
		"level":       {index(func(b []byte) { le.PutUint16(b[26:], 1) }), "type 9 is due"},
		"depth":       {index(func(b []byte) { le.PutUint16(b[26:], 999) }), "level 999"},
		"loop": {func(img []byte, root int) []byte {
			return index(func(b []byte) {
				le.PutUint16(b[26:], 1)
				le.PutUint32(b[32:], uint32(root-6*8192))
				le.PutUint32(b[36:], uint32(len(b)))
			})(img, root)
		}, "stands at level 1"},
		"place":      {index(func(b []byte) { le.PutUint32(b[28:], 1<<31) }), ""},
		"master":     {func(img []byte, _ int) []byte { img[8192+40]++; img[2*8192+40]++; return img }, "no master node"},
		"one master": {func(img []byte, _ int) []byte { img[8192+40]++; return img }, ""},
		"signed":     {func(img []byte, _ int) []byte { img[28] |= ubifsSigned; return img }, "signed"},
		"super":      {func(img []byte, _ int) []byte { img[20] = 5; return img }, "superblock"},
		"cut":        {func(img []byte, _ int) []byte { return img[:6*8192] }, "truncated"},
	} {
		img, root := littleUBIFS()
		err := readAll("ubifs", c.spoil(img, root))
		if c.says != "" {
			assert.ErrorContains(t, err, c.says, what)
		} else if what != "place" {
			assert.NoError(t, err, what)
		}
	}
	for what, c := range map[string]struct {
		journal [][]byte
		says    string
	}{
		"a folder in itself": {[][]byte{ubifsDent(1, 1, "loop", 20)}, "lies in itself"},
		"no such inode":      {[][]byte{ubifsDent(1, 77, "gone", 20)}, "inode 77"},
		"a size":             {[][]byte{ubifsNodeOf(64, 0o100644, 1, 1<<63, 20)}, "announces"},
		"a method":           {[][]byte{ubifsNode(ubifsData, 20, 60, func(b []byte) { b[24], b[31], b[40], b[44] = 64, 1<<5, 12, 9 })}, "method 9"},
		"a short block":      {[][]byte{ubifsNode(ubifsData, 20, 60, func(b []byte) { b[24], b[31], b[41] = 64, 1<<5, 8 })}, "holds 12 bytes, and 2048 are due"},
	} {
		img, _ := littleUBIFS(c.journal...)
		assert.ErrorContains(t, readAll("ubifs", img), c.says, what)
	}
}

func FuzzUBIFS(f *testing.F) {
	img, _ := littleUBIFS(ubifsDent(1, 65, "new", 20), ubifsNodeOf(65, 0o100644, 1, 3, 22), ubifsPlain(65, 0, "n", 21))
	fuzz(f, "ubifs", img)
}

func FuzzVolumes(f *testing.F) {
	b := make([]byte, 2048)
	be := binary.BigEndian
	copy(b, "UBI#")
	be.PutUint32(b[16:], 64)
	be.PutUint32(b[20:], 128)
	be.PutUint32(b[60:], ubifsSum(b[:60]))
	copy(b[64:], "UBI!")
	be.PutUint32(b[124:], ubifsSum(b[64:124]))
	f.Add(b)
	f.Fuzz(func(t *testing.T, data []byte) {
		volumes, err := Volumes(bytes.NewReader(data), int64(len(data)), 1024)
		if err != nil {
			return
		}
		for _, v := range volumes {
			p := make([]byte, 4096)
			n, _ := v.ReadAt(p, 0)
			if int64(n) > v.Size() {
				t.Fatal("more than it holds")
			}
		}
	})
}

// A UBI volume whose alignment leaves bytes unused at the end of each block is read without them, and a static one whose blocks are
// not all there is not whole.
func TestUBIVolumes(t *testing.T) {
	const peb = 16 << 10
	sound := pagetest.Image(t, ".", "ubi-volumes")
	of := func(data []byte) map[string]*Volume {
		mendUBI(data)
		all, err := Volumes(bytes.NewReader(data), int64(len(data)), peb)
		require.NoError(t, err)
		out := map[string]*Volume{}
		for _, v := range all {
			out[v.Name] = v
		}
		return out
	}
	whole := of(bytes.Clone(sound))["root"]
	text := make([]byte, whole.Size())
	_, err := whole.ReadAt(text, 0)
	require.NoError(t, err)
	leb := int(whole.leb)

	padded := bytes.Clone(sound)
	loaders := 0
	for _, h := range headersOfUBI(padded) {
		switch b := padded[h[0]:]; {
		case string(b[:4]) != "UBI!":
		case binary.BigEndian.Uint32(b[8:]) == whole.ID:
			binary.BigEndian.PutUint32(b[28:], 100)
		case b[5] == 2 && binary.BigEndian.Uint32(b[12:]) == 1: // the second block of the loader
			b[0]++
			loaders++
		}
	}
	require.Equal(t, 1, loaders)
	all := of(padded)
	short := make([]byte, all["root"].Size())
	_, err = all["root"].ReadAt(short, 0)
	require.NoError(t, err)
	var want []byte
	for block := range slices.Chunk(text, leb) {
		want = append(want, block[:min(len(block), leb-100)]...)
	}
	assert.Equal(t, want, short)
	n, err := all["loader"].ReadAt(make([]byte, all["loader"].Size()), 0)
	assert.EqualError(t, err, "its block 1, of 2, is missing")
	assert.Equal(t, leb, n, "what is there is read")
}
