package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What mkfs.jffs2 writes lists as it lay on the disk; names longer than 254 bytes it does
// not hold.
func TestJFFS2(t *testing.T) {
	dir := makeTree(t, 5000)
	require.NoError(t, os.Remove(filepath.Join(dir, "names", strings.Repeat("x", 255))))
	want := onDisk(t, dir)
	for _, options := range []string{"-l", "-b", "-l -n -e 128KiB -p", "-b -x zlib -x lzo", "-l -x zlib -X lzo", "-l -x zlib -x rtime -x lzo", "-l -m size -X lzo", "-b -m none", "-l -s 8192", "-l -s 16384 -p=33554432"} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.jffs2")
			run(t, "mkfs.jffs2", append(strings.Fields(options), "-d", dir, "-o", img)...)
			same(t, want, listed(t, open(t, "jffs2", img)))
		})
	}
}

// jffs2Log writes nodes.
type jffs2Log struct {
	bytes.Buffer
	order binary.ByteOrder
}

func (l *jffs2Log) node(kind uint16, sums func(b []byte), head int, data string) {
	b := append(make([]byte, head), data...)
	l.order.PutUint16(b, jffs2Magic)
	l.order.PutUint16(b[2:], kind)
	l.order.PutUint32(b[4:], uint32(len(b)))
	l.order.PutUint32(b[8:], jffs2Sum(b[:8]))
	sums(b)
	l.Write(b)
	for l.Len()%4 != 0 {
		l.WriteByte(0xff)
	}
}

func (l *jffs2Log) name(parent, version, ino uint32, name string) {
	l.node(jffs2Dirent, func(b []byte) {
		l.order.PutUint32(b[12:], parent)
		l.order.PutUint32(b[16:], version)
		l.order.PutUint32(b[20:], ino)
		b[28] = byte(len(name))
		l.order.PutUint32(b[32:], jffs2Sum(b[:32]))
		l.order.PutUint32(b[36:], jffs2Sum([]byte(name)))
	}, jffs2DirHead, name)
}

func (l *jffs2Log) inode(ino, version, mode, size, offset, length uint32, method byte, data string) {
	l.node(jffs2Inode, func(b []byte) {
		for at, v := range map[int]uint32{12: ino, 16: version, 20: mode, 28: size, 44: offset, 48: uint32(len(data)), 52: length} {
			l.order.PutUint32(b[at:], v)
		}
		b[56] = method
		l.order.PutUint32(b[60:], jffs2Sum([]byte(data)))
		l.order.PutUint32(b[64:], jffs2Sum(b[:60]))
	}, jffs2InoHead, data)
}

func content(t *testing.T, format string, data []byte) map[string]string {
	t.Helper()
	fsys, err := Open(format, bytes.NewReader(data), int64(len(data)))
	require.NoError(t, err)
	out := map[string]string{}
	require.NoError(t, fsys.Walk(context.Background(), func(f *File) error {
		require.NoError(t, f.Err)
		text := f.Mode.String() + " " + f.Target
		if f.Mode.IsRegular() {
			b, err := io.ReadAll(f.Open())
			require.NoError(t, err)
			text = string(b)
		}
		out[f.Path] = text
		return nil
	}))
	return out
}

// Of nodes that speak of the same stretch or name the newest counts, wherever it stands; a
// name of no inode is deleted, and what no node holds is zeros.
func TestJFFS2Newest(t *testing.T) {
	for _, order := range []binary.ByteOrder{binary.LittleEndian, binary.BigEndian} {
		l := &jffs2Log{order: order}
		l.name(1, 9, 3, "version") // written again, before what it replaces
		l.name(1, 5, 2, "version")
		l.name(1, 6, 2, "old")
		l.name(1, 7, 0, "old")
		l.inode(3, 4, 0o100644, 12, 2, 3, jffs2Plain, "XYZ")
		l.inode(3, 1, 0o100600, 6, 0, 6, jffs2Plain, "abcdef")
		l.inode(3, 3, 0o100644, 12, 4, 4, jffs2Rtime, "P\x03")
		l.inode(3, 2, 0o100644, 12, 11, 1, jffs2Zero, "")
		l.inode(2, 1, 0o100644, 3, 0, 3, jffs2Plain, "old")
		l.name(1, 10, 4, "console")
		number := make([]byte, 4)
		order.PutUint32(number, 5<<8|1)
		l.inode(4, 1, 0o020600, 0, 0, 4, jffs2Plain, string(number))
		got := content(t, "jffs2", l.Bytes())
		assert.Equal(t, map[string]string{"version": "abXYZPPP\x00\x00\x00\x00", "console": (fs.ModeDevice | fs.ModeCharDevice | 0o600).String() + " "}, got)
	}
}

// Nodes whose checksums do not hold are told; loops, inodes that are missing and sizes
// beyond all measure end in a clear word.
func TestHostileJFFS2(t *testing.T) {
	make := func(fill func(l *jffs2Log)) []byte {
		l := &jffs2Log{order: binary.LittleEndian}
		fill(l)
		return l.Bytes()
	}
	file := func(l *jffs2Log) {
		l.name(1, 1, 2, "f")
		l.inode(2, 1, 0o100644, 5, 0, 5, jffs2Plain, "8.4.2")
	}
	whole := make(file)
	spoilt := bytes.Clone(whole)
	spoilt[len(spoilt)-5] ^= 1 // data
	head := bytes.Clone(whole)
	head[len(head)-20] ^= 1
	for what, c := range map[string]struct {
		data []byte
		says string
	}{
		"data":       {spoilt, "the CRC of its node"},
		"header":     {head, "CRC does not hold"},
		"cut":        {whole[:len(whole)-8], "truncated"},
		"loop":       {make(func(l *jffs2Log) { l.name(1, 1, 2, "a"); l.name(2, 1, 2, "b"); l.inode(2, 1, 0o040755, 0, 0, 0, 0, "") }), "lies in itself"},
		"too long":   {make(func(l *jffs2Log) { l.name(1, 1, 2, "f"); l.inode(2, 1, 0o100644, 1<<31, 0, 1<<31, jffs2Zlib, "x") }), "announces that it holds"},
		"short":      {make(func(l *jffs2Log) { l.name(1, 1, 2, "f"); l.inode(2, 1, 0o100644, 9, 0, 9, jffs2Plain, "8.4.2") }), "holds 5 bytes, and 9 are due"},
		"method":     {make(func(l *jffs2Log) { l.name(1, 1, 2, "f"); l.inode(2, 1, 0o100644, 9, 0, 9, 8, "8.4.2") }), "method 8"},
		"rtime":      {make(func(l *jffs2Log) { l.name(1, 1, 2, "f"); l.inode(2, 1, 0o100644, 9, 0, 9, jffs2Rtime, "8\xff") }), "repeats more"},
		"no node":    {bytes.Repeat([]byte{0xff}, 4096), "no file or folder"},
		"no file":    {make(func(l *jffs2Log) { l.name(1, 1, 0, "gone") }), ""},
		"as it is":   {whole, ""},
		"dirent sum": {append(bytes.Clone(whole), broken(whole[:44])...), "CRC does not hold"},
	} {
		err := readAll("jffs2", c.data)
		if c.says == "" {
			assert.NoError(t, err, what)
		} else {
			assert.ErrorContains(t, err, c.says, what)
		}
	}
}

func broken(b []byte) []byte {
	b = bytes.Clone(b)
	b[20] ^= 1
	return b
}

// littleJFFS2 holds one file, in two pieces.
func littleJFFS2() []byte {
	l := &jffs2Log{order: binary.LittleEndian}
	l.name(1, 1, 2, "f")
	l.inode(2, 1, 0o100644, 9, 0, 5, jffs2Plain, "8.4.2")
	l.inode(2, 2, 0o100644, 9, 4, 5, jffs2Plain, "2-new")
	return l.Bytes()
}

func FuzzJFFS2(f *testing.F) {
	l := &jffs2Log{order: binary.LittleEndian}
	l.name(1, 1, 2, "f")
	l.inode(2, 1, 0o100644, 9, 0, 5, jffs2Plain, "8.4.2")
	l.inode(2, 2, 0o100644, 9, 4, 5, jffs2Rtime, "8\x01.\x002\x00")
	fuzz(f, "jffs2", l.Bytes())
}

// A node begins with both bytes of the magic, in the order of the first one, and with a header whose checksum holds.
func TestWhereANodeBegins(t *testing.T) {
	node := func(o binary.ByteOrder, magic [2]byte, length uint32) []byte {
		b := make([]byte, 12)
		copy(b, magic[:])
		o.PutUint16(b[2:], 0x2003)
		o.PutUint32(b[4:], length)
		o.PutUint32(b[8:], jffs2Sum(b[:8]))
		return b
	}
	little, big := binary.ByteOrder(binary.LittleEndian), binary.ByteOrder(binary.BigEndian)
	for _, c := range []struct {
		name       string
		data       []byte
		was, taken binary.ByteOrder
		begins     bool
	}{
		{"little", node(little, [2]byte{0x85, 0x19}, 12), nil, little, true}, {"big", node(big, [2]byte{0x19, 0x85}, 12), nil, big, true},
		{"little behind little", node(little, [2]byte{0x85, 0x19}, 12), little, little, true}, {"big behind big", node(big, [2]byte{0x19, 0x85}, 12), big, big, true},
		{"little behind big", node(little, [2]byte{0x85, 0x19}, 12), big, big, false}, {"big behind little", node(big, [2]byte{0x19, 0x85}, 12), little, little, false},
		{"the first byte alone", node(little, [2]byte{0x85, 0x77}, 12), nil, nil, false}, {"the second byte alone", node(little, [2]byte{0x77, 0x19}, 12), nil, nil, false},
		{"the first byte alone, big", node(big, [2]byte{0x19, 0x77}, 12), nil, nil, false}, {"the second byte alone, big", node(big, [2]byte{0x77, 0x85}, 12), nil, nil, false},
		{"too short", node(little, [2]byte{0x85, 0x19}, 11), nil, nil, false},
		{"another checksum", append(node(little, [2]byte{0x85, 0x19}, 12)[:8], 1, 2, 3, 4), nil, nil, false},
	} {
		j := &jffs2{order: c.was}
		assert.Equal(t, c.begins, j.begins(c.data), c.name)
		assert.Equal(t, c.taken, j.order, c.name)
	}
}
