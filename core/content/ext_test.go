package content

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What mke2fs packs lists as it lay on the disk, beside the folder that it makes itself.
func TestExt(t *testing.T) {
	dir := makeTree(t, 5000)
	want := onDisk(t, dir)
	want["lost+found"] = "drwx------"
	for _, options := range []string{
		"-t ext2", "-t ext2 -b 1024", "-t ext2 -b 2048 -I 128", "-t ext3", "-t ext3 -b 1024", "-t ext4", "-t ext4 -b 1024", "-t ext4 -O ^64bit", "-t ext4 -O ^extent,^64bit",
		"-t ext4 -O ^metadata_csum", "-t ext4 -O inline_data -I 256", "-t ext4 -O inline_data -I 1024 -b 4096", "-t ext4 -O ^dir_index", "-t ext4 -O ^flex_bg", "-t ext4 -g 1024 -b 1024",
	} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.ext")
			require.NoError(t, os.WriteFile(img, nil, 0o644))
			require.NoError(t, os.Truncate(img, 96<<20))
			run(t, "mke2fs", append(strings.Fields(options+" -q -F -N 8000 -d"), dir, img)...)
			got, due := listed(t, open(t, "ext", img)), maps.Clone(want)
			if strings.Contains(options, "inline_data") { // mke2fs writes another size of a file with a hole at its end
				delete(got, "sparse")
				delete(due, "sparse")
			}
			same(t, due, got)
		})
	}
}

// A file that is long enough goes through three levels of blocks of blocks.
func TestExtLongFile(t *testing.T) {
	dir := t.TempDir()
	f, err := os.Create(filepath.Join(dir, "long"))
	require.NoError(t, err)
	for _, at := range []int64{0, 12 << 10, 300 << 10, 66 << 20, 70<<20 + 3} {
		_, err = f.WriteAt([]byte("here"), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	want := onDisk(t, dir)
	want["lost+found"] = "drwx------"
	for _, kind := range []string{"ext2", "ext4"} {
		img := filepath.Join(t.TempDir(), kind)
		run(t, "mke2fs", "-q", "-F", "-t", kind, "-b", "1024", "-d", dir, img, "96M")
		same(t, want, listed(t, open(t, "ext", img)))
	}
}

// littleExt holds one file in one folder, in blocks of 1024 bytes: 2 groups, 3 to 4
// inodes, 5 the root, 6 the folder, 7 the file.
func littleExt() []byte {
	le := binary.LittleEndian
	b := make([]byte, 8<<10)
	sb := b[1024:]
	le.PutUint32(sb, 8)
	le.PutUint32(sb[20:], 1)
	le.PutUint32(sb[40:], 8)
	le.PutUint16(sb[56:], 0xef53)
	le.PutUint32(b[2048+8:], 3)
	inode := func(i int, mode uint16, size, block uint32) {
		n := b[3*1024+(i-1)*128:]
		le.PutUint16(n, mode)
		le.PutUint32(n[4:], size)
		le.PutUint16(n[26:], 1)
		le.PutUint32(n[40:], block)
	}
	inode(2, 0o40755, 1024, 5)
	inode(3, 0o40755, 1024, 6)
	inode(4, 0o100644, 5, 7)
	entry := func(at int, inode uint32, name string) {
		le.PutUint32(b[at:], inode)
		le.PutUint16(b[at+4:], 1024)
		b[at+6] = byte(len(name))
		copy(b[at+8:], name)
	}
	entry(5*1024, 3, "etc")
	entry(6*1024, 4, "ver")
	copy(b[7*1024:], "8.4.2")
	return b
}

func TestHostileExt(t *testing.T) {
	le := binary.LittleEndian
	good := littleExt()
	require.NoError(t, readAll("ext", good))
	require.Equal(t, 2, visits("ext", good))
	var d *Damage
	var u *Unsupported
	for name, change := range map[string]func(b []byte){
		"blocks of 2^74 bytes":    func(b []byte) { le.PutUint32(b[1024+24:], 64) },
		"no inodes in a group":    func(b []byte) { le.PutUint32(b[1024+40:], 0) },
		"inodes of 7 bytes":       func(b []byte) { b[1024+76] = 1; b[1024+88] = 7 },
		"a table far out":         func(b []byte) { le.PutUint32(b[2048+8:], 1<<31) },
		"a folder in itself":      func(b []byte) { b[6*1024] = 3 },
		"an inode that is not":    func(b []byte) { b[6*1024] = 9 },
		"an entry of 3 bytes":     func(b []byte) { le.PutUint16(b[6*1024+4:], 3) },
		"a name beyond its entry": func(b []byte) { le.PutUint16(b[6*1024+4:], 8) },
		"a block far out":         func(b []byte) { le.PutUint32(b[3*1024+3*128+40:], 1<<30) },
		"a folder of exabytes":    func(b []byte) { le.PutUint32(b[3*1024+2*128+108:], 1<<28) },
		"extents that are none":   func(b []byte) { le.PutUint32(b[3*1024+3*128+32:], extExtents) },
	} {
		b := bytes.Clone(good)
		change(b)
		assert.ErrorAs(t, readAll("ext", b), &d, name)
		assert.LessOrEqual(t, visits("ext", b), 2, name)
	}
	for name, features := range map[string]uint32{"a journal to be replayed": extNeedsReplay, "features of tomorrow": 1 << 30} {
		b := bytes.Clone(good)
		b[1024+76], b[1024+88] = 1, 128
		le.PutUint32(b[1024+96:], features)
		assert.ErrorAs(t, readAll("ext", b), &u, name)
	}
	for n := 0; n < 7*1024+5; n += 5 {
		assert.ErrorAs(t, readAll("ext", good[:n]), &d, "cut to %d", n)
	}
}

// Where metadata has checksums, no byte of it can change unnoticed: each group, inode, folder
// and map that is read is held against its own.
func TestExtSums(t *testing.T) {
	dir := makeTree(t, 300)
	img := filepath.Join(t.TempDir(), "i.ext")
	run(t, "mke2fs", "-q", "-F", "-t", "ext4", "-O", "^resize_inode", "-b", "1024", "-d", dir, img, "24M")
	data, err := os.ReadFile(img)
	require.NoError(t, err)
	require.NoError(t, readAll("ext", data))
	x, err := OpenExt(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	require.True(t, x.(*ext).sums.on)
	le := binary.LittleEndian
	e := x.(*ext)
	group := data[e.groups:]
	table := (int64(le.Uint32(group[8:])) | int64(le.Uint32(group[40:]))<<32) * e.block
	root, err := e.node(extRoot)
	require.NoError(t, err)
	folder := (int64(le.Uint32(root.b[40+12+8:])) | int64(le.Uint16(root.b[40+12+6:]))<<32) * e.block
	for what, at := range map[string]int64{"the checksum of its group": e.groups + 4, "the checksum of the inode 2": table + e.inodeSize + 9, "the checksum of a block of its list": folder + 200} {
		bad := bytes.Clone(data)
		bad[at] ^= 1
		assert.ErrorContains(t, readAll("ext", bad), what)
	}
}

func FuzzExt(f *testing.F) { fuzz(f, "ext", littleExt()) }

// Content that stands in the inode itself: 60 bytes in place of the map, the rest in an extended attribute.
func TestExtInlineData(t *testing.T) {
	le := binary.LittleEndian
	inode := func(size int64, magic uint32, attributes ...[]byte) *extNode {
		b := make([]byte, 256)
		copy(b[40:100], bytes.Repeat([]byte("m"), 60))
		le.PutUint16(b[128:], 32)
		le.PutUint32(b[160:], magic)
		at := 164
		for _, a := range attributes {
			at += copy(b[at:], a)
		}
		copy(b[240:], "the rest of it")
		return &extNode{b: b, size: size}
	}
	attribute := func(index byte, name string, offset, block, size int) []byte {
		a := make([]byte, 16, (16+len(name)+3)&^3)
		a[0], a[1] = byte(len(name)), index
		le.PutUint16(a[2:], uint16(offset))
		le.PutUint32(a[4:], uint32(block))
		le.PutUint32(a[8:], uint32(size))
		return append(a, name...)[:cap(a)]
	}
	const magic = 0xea020000
	whole := strings.Repeat("m", 60) + "the rest of it"
	data := attribute(7, "data", 240-164, 0, 14)
	for what, c := range map[string]struct {
		n    *extNode
		want string
	}{
		"in place of the map":              {inode(7, 0), "mmmmmmm"},
		"all of that":                      {inode(60, 0), whole[:60]},
		"and on in an attribute":           {inode(74, magic, data), whole},
		"of which it needs a part":         {inode(61, magic, data), whole[:61]},
		"behind another attribute":         {inode(74, magic, attribute(7, "x", 0, 0, 4), data), whole},
		"no attributes":                    {inode(74, 0, data), ""},
		"another attribute alone":          {inode(74, magic, attribute(7, "date", 76, 0, 14)), ""},
		"of another name space":            {inode(74, magic, attribute(1, "data", 76, 0, 14)), ""},
		"in a block of its own":            {inode(74, magic, attribute(7, "data", 76, 9, 14)), ""},
		"an attribute that ends outside":   {inode(74, magic, attribute(7, "data", 76, 0, 17)), ""},
		"an attribute that begins outside": {inode(74, magic, attribute(7, "data", 93, 0, 0)), ""},
		"more than there is":               {inode(75, magic, data), ""},
		"a name that is cut short":         {inode(74, magic, []byte{200, 7, 76, 0, 0, 0, 0, 0, 14, 0, 0, 0, 0, 0, 0, 0, 'd', 'a', 't', 'a'}), ""},
	} {
		got, err := c.n.inline()
		if c.want == "" {
			assert.ErrorContains(t, err, fmt.Sprintf("and %d are due", c.n.size), what)
			continue
		}
		require.NoError(t, err, what)
		assert.Equal(t, c.want, string(got), what)
	}
	short := inode(74, magic, data)
	short.b = short.b[:128] // an inode of the first form has no attributes
	_, err := short.inline()
	assert.ErrorContains(t, err, "holds 60 bytes, and 74 are due")
}
