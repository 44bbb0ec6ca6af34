package content

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// plainTree is a tree of files and folders alone, with names that differ in more than case.
func plainTree(t *testing.T, many int) string {
	t.Helper()
	dir := t.TempDir()
	write := func(name string, data []byte) {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, data, 0o644))
	}
	write("BOOT.BIN", bytes.Repeat([]byte("boot loader "), 9000))
	write("lower.txt", []byte("lower"))
	write("Mixed Case.Txt", []byte("mixed"))
	write("empty", nil)
	write("a.b.c.tar.gz", []byte("dots"))
	write("names/"+strings.Repeat("long name ", 20)+"end", []byte("long"))
	write("names/Straße – größer 日本.img", []byte("beyond ASCII"))
	write("exact.bin", make([]byte, 32<<10))
	write("one-more.bin", make([]byte, 32<<10+1))
	for i := range 250 {
		write(fmt.Sprintf("share/%d/%03d.txt", i%7, i), bytes.Repeat(fmt.Appendf(nil, "line %d\n", i), i*3))
	}
	for i := range many {
		write(fmt.Sprintf("many/file-%05d.longer", i), fmt.Appendf(nil, "%d", i))
	}
	write(strings.Repeat("deep/", 20)+"down", []byte("deep"))
	return dir
}

// What mkfs.fat makes and mcopy fills lists as it lay on the disk, of every width of table.
func TestFAT(t *testing.T) {
	for _, c := range []struct {
		options string
		kib     int
		many    int
	}{{"-F 12 -s 8", 8 << 10, 200}, {"-F 12 -s 4 -f 1", 4 << 10, 100}, {"-F 16 -s 4", 60 << 10, 400}, {"-F 16 -r 512 -S 1024 -s 2", 60 << 10, 300}, {"-F 32 -s 1", 70 << 10, 400}, {"-F 32 -s 8 -n VOLUME", 400 << 10, 300}} {
		t.Run(c.options, func(t *testing.T) {
			dir := plainTree(t, c.many)
			want := onDisk(t, dir)
			img := filepath.Join(t.TempDir(), "i.fat")
			run(t, "mkfs.fat", append(strings.Fields(c.options), "-C", img, fmt.Sprint(c.kib))...)
			t.Setenv("MTOOLS_SKIP_CHECK", "1")
			t.Setenv("LC_ALL", "C.UTF-8")
			top, err := filepath.Glob(filepath.Join(dir, "*"))
			require.NoError(t, err)
			run(t, "mcopy", append(append([]string{"-s", "-Q", "-i", img}, top...), "::/")...)
			same(t, want, listed(t, open(t, "fat", img)))
		})
	}
}

// littleFAT is a FAT12 with the folder ETC and in it the file VER; it gives the offsets of the
// table and of the two entries.
func littleFAT() (b []byte, table, folder, file int) {
	le := binary.LittleEndian
	b = make([]byte, 64*512)
	b[0], b[16], b[21], b[13] = 0xeb, 1, 0xf8, 1
	le.PutUint16(b[11:], 512)
	le.PutUint16(b[14:], 1)
	le.PutUint16(b[17:], 16)
	le.PutUint16(b[19:], 64)
	le.PutUint16(b[22:], 1)
	b[510], b[511] = 0x55, 0xaa
	table, folder = 512, 1024
	file = 1024 + 512
	copy(b[table:], "\xf8\xff\xff\xff\xff\xff") // clusters 2 and 3 end
	b[table+3], b[table+4], b[table+5] = 0xff, 0xff, 0xff
	copy(b[folder:], "ETC        \x10")
	le.PutUint16(b[folder+26:], 2)
	copy(b[file:], "VER        ")
	le.PutUint16(b[file+26:], 3)
	le.PutUint32(b[file+28:], 5)
	copy(b[file+512:], "8.4.2")
	return b, table, folder, file
}

// A folder of 5000 files, whose clusters lie apart from each other.
func TestFATLongFolder(t *testing.T) {
	const files = 5000
	le := binary.LittleEndian
	b := make([]byte, 20000*512)
	b[0], b[16], b[21], b[13] = 0xeb, 1, 0xf8, 1
	le.PutUint16(b[11:], 512)
	le.PutUint16(b[14:], 1)
	le.PutUint16(b[17:], 16)
	le.PutUint16(b[19:], 20000)
	le.PutUint16(b[22:], 80)
	b[510], b[511] = 0x55, 0xaa
	root := 81 * 512
	copy(b[root:], "MANY       \x10")
	le.PutUint16(b[root+26:], 2)
	cluster := 2
	for i := range files {
		if i > 0 && i%16 == 0 {
			le.PutUint16(b[512+2*cluster:], uint16(cluster+3))
			cluster += 3
		}
		e := b[root+512+(cluster-2)*512+i%16*32:]
		copy(e, fmt.Sprintf("F%07dTXT", i))
	}
	le.PutUint16(b[512+2*cluster:], 0xffff)
	got := content(t, "fat", b)
	assert.Len(t, got, files+1)
	assert.Contains(t, got, "MANY/F0004999.TXT")
}

func TestLittleFAT(t *testing.T) {
	data, _, _, file := littleFAT()
	assert.Equal(t, "8.4.2", content(t, "fat", data)["ETC/VER"])
	copy(data[file:], "\x05ER     TXT")
	data[file+12] = 0x18
	assert.Equal(t, "8.4.2", content(t, "fat", data)["ETC/%e5er.txt"])
}

// Long names belong to the short one by its sum, and stand in parts of which none may miss.
func TestFATLongNames(t *testing.T) {
	long := func(name string) (parts [][]byte) {
		short := []byte("VER        ")
		var sum byte
		for _, c := range short {
			sum = sum>>1 | sum<<7
			sum += c
		}
		n := (len(name) + 12) / 13
		for i := n; i > 0; i-- {
			e := bytes.Repeat([]byte{0xff}, fatEntry)
			e[0], e[11], e[12], e[13], e[26], e[27] = byte(i), fatLong, 0, sum, 0, 0
			if i == n {
				e[0] |= 0x40
			}
			part := name[(i-1)*13 : min(len(name), i*13)]
			for k, at := range []int{1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30} {
				if k < len(part) {
					e[at], e[at+1] = part[k], 0
				} else if k == len(part) {
					e[at], e[at+1] = 0, 0
				}
			}
			parts = append(parts, e)
		}
		return parts
	}
	put := func(parts [][]byte) map[string]string {
		data, _, _, file := littleFAT()
		own := bytes.Clone(data[file : file+fatEntry])
		for i, p := range append(parts, own) {
			copy(data[file+i*fatEntry:], p)
		}
		return content(t, "fat", data)
	}
	name := "a name of more than thirteen letters"
	assert.Contains(t, put(long(name)), "ETC/"+name)
	assert.Contains(t, put(long("thirteen char")), "ETC/thirteen char")
	parts := long(name)
	assert.Contains(t, put(parts[1:]), "ETC/VER", "its first part is missing")
	assert.Contains(t, put(append(parts[:1:1], parts[2:]...)), "ETC/VER", "a part is missing")
	parts[1][13]++
	assert.Contains(t, put(parts), "ETC/VER", "a part belongs to another name")
}

func TestHostileFAT(t *testing.T) {
	le := binary.LittleEndian
	for what, c := range map[string]struct {
		spoil func(b []byte, table, folder, file int) []byte
		says  string
	}{
		"chain ends": {func(b []byte, _, _, file int) []byte { le.PutUint32(b[file+28:], 600); return b }, "88 bytes are still due"},
		"size":       {func(b []byte, _, _, file int) []byte { le.PutUint32(b[file+28:], 1<<32-1); return b }, "still due"},
		"free cluster": {func(b []byte, table, _, file int) []byte {
			le.PutUint32(b[file+28:], 600)
			b[table+4], b[table+5] = 0, 0
			return b
		}, "followed by"},
		"no cluster":    {func(b []byte, _, _, file int) []byte { le.PutUint16(b[file+26:], 0); return b }, "still due"},
		"far cluster":   {func(b []byte, _, _, file int) []byte { le.PutUint16(b[file+26:], 999); return b }, "still due"},
		"folder's loop": {func(b []byte, _, _, file int) []byte { b[file+11] = fatFolder; le.PutUint16(b[file+26:], 2); return b }, "lies in itself"},
		"chain's loop": {func(b []byte, table, _, _ int) []byte {
			b[table+3], b[table+4] = 2, 0xf0
			copy(b[1536+32:], bytes.Repeat([]byte("\xe5          "+strings.Repeat("\x00", 21)), 15))
			return b
		}, "in a circle"},
		"far folder":     {func(b []byte, _, folder, _ int) []byte { le.PutUint16(b[folder+26:], 999); return b }, "lies in cluster 999"},
		"cut":            {func(b []byte, _, _, _ int) []byte { return b[:1536] }, "truncated"},
		"short table":    {func(b []byte, _, _, _ int) []byte { le.PutUint16(b[19:], 5000); return b }, "too short"},
		"no table":       {func(b []byte, _, _, _ int) []byte { b[16] = 0; return b }, "0 tables"},
		"strange sector": {func(b []byte, _, _, _ int) []byte { le.PutUint16(b[11:], 100); return b }, "100 bytes a sector"},
	} {
		err := readAll("fat", c.spoil(littleFAT()))
		assert.ErrorContains(t, err, c.says, what)
	}
}

// A chain that goes on for as long as a file's size says is followed once, whatever that is.
func TestFATWalksOnce(t *testing.T) {
	data, _, _, _ := littleFAT()
	n := 0
	fsys, err := OpenFAT(bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	require.NoError(t, fsys.Walk(context.Background(), func(f *File) error { n++; return nil }))
	assert.Equal(t, 2, n)
	assert.True(t, IsFAT(data))
	sum := sha256.Sum256(data) // noise of a boot sector's length is none
	assert.False(t, IsFAT(bytes.Repeat(sum[:], 16)))
}

func FuzzFAT(f *testing.F) {
	data, _, _, _ := littleFAT()
	fuzz(f, "fat", data)
}

// What keeps the length of its tables in the field of FAT32 is FAT32, however few its clusters are.
func TestSmallFAT32(t *testing.T) {
	le := binary.LittleEndian
	b := make([]byte, 700*512)
	copy(b, "\xeb\x58\x90tramtool")
	le.PutUint16(b[11:], 512)
	b[13], b[16], b[21] = 1, 2, 0xf8
	le.PutUint16(b[14:], 32)
	le.PutUint32(b[32:], 700)
	le.PutUint32(b[36:], 6)
	le.PutUint32(b[44:], 2)
	le.PutUint16(b[510:], 0xaa55)
	for i, v := range []uint32{0x0ffffff8, 0x0fffffff, 0x0fffffff, 4, 0x0fffffff} {
		le.PutUint32(b[32*512+4*i:], v)
	}
	root := (32 + 2*6) * 512
	copy(b[root:], "VERSION TXT\x20")
	le.PutUint16(b[root+26:], 3)
	le.PutUint32(b[root+28:], 600)
	copy(b[root+512:], strings.Repeat("8.4.2 ", 100))
	assert.Equal(t, map[string]string{"VERSION.TXT": strings.Repeat("8.4.2 ", 100)}, content(t, "fat", b))
}
