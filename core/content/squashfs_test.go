package content

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz/lzma"
)

// What mksquashfs packs with any of its options lists as it lay on the disk.
func TestSquashFS(t *testing.T) {
	dir := makeTree(t, 5000)
	want := onDisk(t, dir)
	for _, options := range []string{
		"", "-b 4096", "-b 1M -no-fragments", "-always-use-fragments", "-noI -noD -noF", "-noI", "-no-duplicates -tailends", "-no-sparse", "-no-exports -no-xattrs -noId",
		"-comp gzip -Xcompression-level 1 -Xwindow-size 9", "-comp xz", "-comp xz -Xbcj x86,arm -b 64K", "-comp lzo", "-comp lzo -Xalgorithm lzo1x_1 -b 16K", "-comp lz4", "-comp lz4 -Xhc -b 256K",
		"-comp zstd", "-comp zstd -Xcompression-level 1 -b 8192", "-nopad", "-all-time 1700000000",
	} {
		t.Run(options, func(t *testing.T) {
			img := filepath.Join(t.TempDir(), "i.squashfs")
			run(t, "mksquashfs", append([]string{dir, img, "-quiet", "-no-progress"}, strings.Fields(options)...)...)
			same(t, want, listed(t, open(t, "squashfs", img)))
		})
	}
}

// Owners, devices and names of one file are kept.
func TestSquashFSNodes(t *testing.T) {
	dir := makeTree(t, 0)
	img := filepath.Join(t.TempDir(), "i.squashfs")
	run(t, "mksquashfs", dir, img, "-quiet", "-no-progress", "-force-uid", "1001", "-force-gid", "70000",
		"-p", "dev d 755 0 0", "-p", "dev/console c 600 0 5 5 1", "-p", "dev/disk b 660 0 6 259 70000")
	files := map[string]*File{}
	require.NoError(t, open(t, "squashfs", img).Walk(context.Background(), func(f *File) error {
		files[f.Path] = f
		return nil
	}))
	assert.Equal(t, files["bin/large"].Node, files["lib/same"].Node)
	assert.NotEqual(t, files["bin/large"].Node, files["bin/tool"].Node)
	assert.Equal(t, 2, files["bin/large"].Links)
	assert.EqualValues(t, 1001, files["empty"].UID)
	assert.EqualValues(t, 70000, files["empty"].GID)
	console, disk := files["dev/console"], files["dev/disk"]
	assert.Equal(t, []uint32{5, 1, 259, 70000}, []uint32{console.Major, console.Minor, disk.Major, disk.Minor})
	assert.Equal(t, fs.ModeDevice|fs.ModeCharDevice|0o600, console.Mode)
	assert.Equal(t, fs.ModeDevice|0o660, disk.Mode)
	assert.Equal(t, fs.ModeNamedPipe|0o600, files["tmp/pipe"].Mode)
}

// A folder is left out where that is asked for, and a walk ends with what visit returns.
func TestSquashFSWalk(t *testing.T) {
	dir := makeTree(t, 0)
	img := filepath.Join(t.TempDir(), "i.squashfs")
	run(t, "mksquashfs", dir, img, "-quiet", "-no-progress")
	fsys := open(t, "squashfs", img)
	var seen []string
	require.NoError(t, fsys.Walk(context.Background(), func(f *File) error {
		seen = append(seen, f.Path)
		if f.Path == "share" || f.Path == "deep" {
			return fs.SkipDir
		}
		return nil
	}))
	assert.Contains(t, seen, "share")
	assert.Contains(t, seen, "tmp/pipe")
	for _, p := range seen {
		assert.False(t, strings.HasPrefix(p, "share/") || strings.HasPrefix(p, "deep/"), p)
	}
	stop := errors.New("enough")
	assert.Equal(t, stop, fsys.Walk(context.Background(), func(*File) error { return stop }))
	ended, end := context.WithCancel(context.Background())
	end()
	assert.ErrorIs(t, fsys.Walk(ended, func(*File) error { return nil }), context.Canceled)
}

func TestInflateLZMA(t *testing.T) {
	var b bytes.Buffer
	w, err := lzma.NewWriter(&b)
	require.NoError(t, err)
	text := strings.Repeat("firmware ", 500)
	w.Write([]byte(text))
	require.NoError(t, w.Close())
	var f inflater
	dst := make([]byte, 8192)
	n, err := f.inflate("lzma", dst, b.Bytes())
	require.NoError(t, err)
	assert.Equal(t, text, string(dst[:n]))
	_, err = f.inflate("lzma", dst[:1000], b.Bytes())
	var d *Damage
	assert.ErrorAs(t, err, &d, "more than a block holds")
}

func sample(t testing.TB) []byte {
	t.Helper()
	data, err := os.ReadFile("../image/format/testdata/rootfs.squashfs")
	require.NoError(t, err)
	return data
}

// What is wrong with a file system is damage or not served, in words; nothing else comes out.
func TestHostileSquashFS(t *testing.T) {
	good := sample(t)
	require.NoError(t, readAll("squashfs", good))
	le := binary.LittleEndian
	var d *Damage
	var u *Unsupported
	for name, c := range map[string]struct {
		change func(b []byte)
		served bool
	}{
		"blocks of 3 bytes":     {func(b []byte) { le.PutUint32(b[12:], 3) }, true},
		"blocks of 2 GiB":       {func(b []byte) { le.PutUint32(b[12:], 1<<31) }, true},
		"inodes in exabytes":    {func(b []byte) { le.PutUint64(b[64:], 1<<62) }, true},
		"a root in exabytes":    {func(b []byte) { le.PutUint64(b[32:], 1<<62) }, true},
		"fewer bytes than used": {func(b []byte) { le.PutUint64(b[40:], 100) }, true},
		"no ids":                {func(b []byte) { le.PutUint16(b[26:], 0) }, true},
		"version 3":             {func(b []byte) { le.PutUint16(b[28:], 3) }, false},
		"another method":        {func(b []byte) { le.PutUint16(b[20:], 9) }, false},
		"not one":               {func(b []byte) { b[0] = 'x' }, true},
	} {
		b := bytes.Clone(good)
		c.change(b)
		err := readAll("squashfs", b)
		if c.served {
			assert.ErrorAs(t, err, &d, name)
		} else {
			assert.ErrorAs(t, err, &u, name)
		}
	}
	for n := range len(good) - 4096 {
		if n%7 == 0 {
			continue
		}
		if used := int(le.Uint64(good[40:])); n < used {
			assert.Error(t, readAll("squashfs", good[:n]), "cut to %d", n)
		}
	}
}

func FuzzSquashFS(f *testing.F) {
	little, _, _ := littleSquash()
	fuzz(f, "squashfs", sample(f), little)
}

// A table of owners may take several blocks.
func TestSquashFSManyOwners(t *testing.T) {
	img := filepath.Join(t.TempDir(), "i.squashfs")
	args := []string{t.TempDir(), img, "-quiet", "-no-progress"}
	const owners = 2500 // four bytes each, of which 8192 make a block
	for i := range owners {
		args = append(args, "-p", fmt.Sprintf("d%d d 755 %d %d", i, 1000+i, 1000+owners-i))
	}
	run(t, "mksquashfs", args...)
	seen := 0
	require.NoError(t, open(t, "squashfs", img).Walk(context.Background(), func(f *File) error {
		var i uint32
		_, err := fmt.Sscanf(f.Path, "d%d", &i)
		require.NoError(t, err)
		require.Equal(t, []uint32{1000 + i, 1000 + owners - i}, []uint32{f.UID, f.GID}, f.Path)
		seen++
		return nil
	}))
	assert.Equal(t, owners, seen)
}
