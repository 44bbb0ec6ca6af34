package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What mkfs.cramfs packs lists as it lay on the disk, in both byte orders; names longer
// than 252 bytes it does not hold.
func TestCramfs(t *testing.T) {
	dir := makeTree(t, 2000)
	require.NoError(t, os.Remove(filepath.Join(dir, "names", strings.Repeat("x", 255))))
	want := onDisk(t, dir)
	for _, options := range []string{"", "-N big", "-N little -p", "-N big -p", "-e 7 -n volume", "-z"} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.cramfs")
			run(t, "mkfs.cramfs", append(strings.Fields(options), dir, img)...)
			same(t, want, listed(t, open(t, "cramfs", img)))
		})
	}
}

// A romfs keeps of a file's mode whether it is a program.
func TestRomfs(t *testing.T) {
	dir := makeTree(t, 2000)
	want := onDisk(t, dir)
	for name, w := range want {
		mode, rest, _ := strings.Cut(w, " ")
		switch {
		case strings.ContainsRune("-ug", rune(mode[0])) && strings.Contains(mode, "x"):
			mode = "-rwxr-xr-x"
		case strings.ContainsRune("-ug", rune(mode[0])):
			mode = "-rw-r--r--"
		case mode[0] == 'd':
			mode = "drwxr-xr-x"
		case mode[0] == 'p':
			mode = "prw-r--r--"
		}
		want[name] = strings.TrimSpace(mode + " " + rest)
	}
	want["tmp"] = "drwxr-xr-x"
	for _, options := range []string{"", "-V volume", "-a 4096", "-V " + strings.Repeat("v", 40)} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.romfs")
			run(t, "genromfs", append(strings.Fields(options), "-d", dir, "-f", img)...)
			same(t, want, listed(t, open(t, "romfs", img)))
		})
	}
}

// littleCramfs and littleRomfs hold one file in one folder.
func littleCramfs(order binary.ByteOrder) []byte {
	b := make([]byte, 4096)
	order.PutUint32(b, cramfsMagic)
	order.PutUint32(b[8:], cramfsPointers)
	inode := func(at int, mode, size, name, offset uint32) {
		w0, w1, w2 := mode, size, offset/4<<6|name/4
		if order == binary.BigEndian {
			w0, w1, w2 = mode<<16, size<<8, name/4<<26|offset/4
		}
		order.PutUint32(b[at:], w0)
		order.PutUint32(b[at+4:], w1)
		order.PutUint32(b[at+8:], w2)
	}
	inode(64, 0o40755, 16, 0, 76)
	inode(76, 0o40755, 16, 4, 92)
	copy(b[88:], "etc")
	inode(92, 0o100644, 5, 4, 108)
	copy(b[104:], "ver")
	order.PutUint32(b[108:], 117|cramfsPlain)
	copy(b[112:], "8.4.2")
	return b
}

func littleRomfs() []byte {
	b := make([]byte, 256)
	be := binary.BigEndian
	copy(b, "-rom1fs-")
	be.PutUint32(b[8:], 256)
	be.PutUint32(b[32:], romfsFolder)
	be.PutUint32(b[36:], 64)
	copy(b[48:], "etc")
	be.PutUint32(b[64:], romfsFile)
	be.PutUint32(b[72:], 5)
	copy(b[80:], "ver")
	copy(b[96:], "8.4.2")
	return b
}

// littleSquash is the same as a SquashFS of which nothing is packed; it gives the places of
// the file's size and of what its folder's entry refers to.
func littleSquash() (b []byte, size, entry int) {
	le := binary.LittleEndian
	put := func(n int, v uint64) {
		b = append(b, le.AppendUint64(nil, v)[:n]...)
	}
	meta := func(fill func()) (at int) {
		at = len(b)
		put(2, 0)
		fill()
		le.PutUint16(b[at:], uint16(len(b)-at-2)|0x8000)
		return at
	}
	inode := func(kind, number uint64) {
		for _, v := range []uint64{kind, 0o755, 0, 0} {
			put(2, v)
		}
		put(4, 0)
		put(4, number)
	}
	folder := func(number, from uint64) {
		inode(1, number)
		put(4, 0)
		put(4, 2)
		put(2, 12+8+3+3)
		put(2, from)
		put(4, number)
	}
	list := func(place uint64, kind uint64, name string) {
		put(4, 0)
		put(4, 0)
		put(4, 1)
		entry = len(b)
		put(2, place)
		put(2, 0)
		put(2, kind)
		put(2, uint64(len(name)-1))
		b = append(b, name...)
	}
	b = make([]byte, squashHead)
	b = append(b, "8.4.2"...)
	inodes := meta(func() {
		folder(1, 0)
		folder(2, 23)
		inode(2, 3)
		put(4, squashHead)
		put(4, noFragment)
		put(4, 0)
		size = len(b)
		put(4, 5)
		put(4, 5|notPacked)
	})
	folders := meta(func() {
		list(32, 1, "etc")
		list(64, 2, "ver")
	})
	ids := meta(func() { put(4, 0) })
	table := len(b)
	put(8, uint64(ids))
	copy(b, "hsqs")
	le.PutUint32(b[12:], 4096)
	le.PutUint16(b[20:], 1)
	le.PutUint16(b[26:], 1)
	le.PutUint16(b[28:], 4)
	le.PutUint64(b[40:], uint64(len(b)))
	le.PutUint64(b[48:], uint64(table))
	le.PutUint64(b[64:], uint64(inodes))
	le.PutUint64(b[72:], uint64(folders))
	return b, size, entry
}

// visits counts what a walk visits.
func visits(format string, data []byte) int {
	n := 0
	if fsys, err := Open(format, bytes.NewReader(data), int64(len(data))); err == nil {
		_ = fsys.Walk(context.Background(), func(*File) error { n++; return nil })
	}
	return n
}

func TestHostileLittleSquashFS(t *testing.T) {
	good, size, entry := littleSquash()
	require.NoError(t, readAll("squashfs", good))
	assert.Equal(t, 2, visits("squashfs", good))
	var d *Damage
	for _, n := range []byte{4, 6} {
		b := bytes.Clone(good)
		b[size] = n
		assert.ErrorAs(t, readAll("squashfs", b), &d, "a file of %d bytes with a block of 5", n)
	}
	loop := bytes.Clone(good)
	loop[entry] = 32
	assert.ErrorAs(t, readAll("squashfs", loop), &d)
	assert.Equal(t, 2, visits("squashfs", loop), "a folder in itself is visited once more, and not entered")
	for n := range good {
		assert.ErrorAs(t, readAll("squashfs", good[:n]), &d, "cut to %d", n)
	}
}

// A list that would take more memory than a folder is worth is refused, before it is read.
func TestLongFolders(t *testing.T) {
	var u *Unsupported
	b, _, _ := littleSquash()
	fsys, err := OpenSquashFS(bytes.NewReader(b), int64(len(b)))
	require.NoError(t, err)
	_, err = fsys.(*squash).list(&squashNode{length: maxFolder + 1})
	assert.ErrorAs(t, err, &u)
	cram := append(littleCramfs(binary.LittleEndian), make([]byte, 8<<20)...)
	copy(cram[80:83], []byte{0xff, 0xff, 0x6f}) // of 7 MiB
	assert.ErrorAs(t, readAll("cramfs", cram), &u)
	long := append(littleExt(), make([]byte, 8<<20)...)
	binary.LittleEndian.PutUint32(long[3*1024+2*128+4:], 7<<20)
	assert.ErrorAs(t, readAll("ext", long), &u)
}

func TestHostileSmallFileSystems(t *testing.T) {
	var d *Damage
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		good := littleCramfs(order)
		fsys, err := OpenCramfs(bytes.NewReader(good), 4096)
		require.NoError(t, err)
		assert.Len(t, listed(t, fsys), 2)
		loop := bytes.Clone(good)
		copy(loop[84:88], loop[72:76]) // the folder's list is the root's
		if order == binary.LittleEndian {
			loop[84] = loop[84]&^0x3f | 1
		} else {
			loop[84] = loop[84]&0x03 | 1<<2
		}
		assert.ErrorAs(t, readAll("cramfs", loop), &d, "a folder in itself")
		assert.Less(t, visits("cramfs", loop), 4)
		short := bytes.Clone(good)
		if order == binary.LittleEndian {
			short[96] = 4
		} else {
			short[98] = 4
		}
		assert.ErrorAs(t, readAll("cramfs", short), &d, "a file of 4 bytes with a block of 5")
		for n := range 117 {
			assert.Error(t, readAll("cramfs", good[:n]), "cut to %d", n)
		}
	}
	good := littleRomfs()
	fsys, err := OpenRomfs(bytes.NewReader(good), 256)
	require.NoError(t, err)
	assert.Equal(t, 2, len(listed(t, fsys)))
	for name, change := range map[string]func(b []byte){
		"a folder in itself":    func(b []byte) { binary.BigEndian.PutUint32(b[36:], 32) },
		"a list without end":    func(b []byte) { binary.BigEndian.PutUint32(b[64:], 64|romfsFile) },
		"a size beyond the end": func(b []byte) { binary.BigEndian.PutUint32(b[72:], 1<<31) },
		"a link to a link":      func(b []byte) { b[67], b[71] = 0, 64 },
		"a name without end": func(b []byte) {
			copy(b[48:64], bytes.Repeat([]byte("x"), 208))
			copy(b[80:], bytes.Repeat([]byte("x"), 176))
		},
	} {
		b := bytes.Clone(good)
		change(b)
		assert.ErrorAs(t, readAll("romfs", b), &d, name)
	}
	for n := range 101 {
		assert.Error(t, readAll("romfs", good[:n]), "cut to %d", n)
	}
}

func FuzzCramfs(f *testing.F) {
	fuzz(f, "cramfs", littleCramfs(binary.LittleEndian), littleCramfs(binary.BigEndian))
}

func FuzzRomfs(f *testing.F) { fuzz(f, "romfs", littleRomfs()) }
