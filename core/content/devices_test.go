//go:build linux

package content

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Devices have the numbers that they had where they were packed, short and long ones.
func TestDeviceNumbers(t *testing.T) {
	nodes := map[string]struct {
		mode         uint32
		major, minor uint32
	}{
		"console": {syscall.S_IFCHR, 5, 1}, "tty": {syscall.S_IFCHR, 4, 255}, "disk": {syscall.S_IFBLK, 8, 17}, "port": {syscall.S_IFCHR, 204, 64},
		"far": {syscall.S_IFBLK, 259, 70000}, "wide": {syscall.S_IFCHR, 300, 5}, "many": {syscall.S_IFCHR, 10, 256},
	}
	dir := t.TempDir()
	for name, n := range nodes {
		// As Linux encodes them: 12 bits of the major and 20 of the minor number.
		number := n.minor&0xff | n.major<<8 | n.minor&^0xff<<12
		if err := syscall.Mknod(filepath.Join(dir, name), n.mode|0o600, int(number)); err != nil {
			t.Skipf("devices cannot be made here: %v", err)
		}
	}
	require.NoError(t, syscall.Mkfifo(filepath.Join(dir, "pipe"), 0o600))
	for _, c := range []struct {
		format, make string
		short        bool // it keeps 8 bits of each, or its writer does
	}{
		{"ext", "mke2fs -q -F -t ext4 -d DIR OUT 8M", false}, {"ext", "mke2fs -q -F -t ext2 -I 128 -d DIR OUT 8M", false},
		{"erofs", "mkfs.erofs --quiet OUT DIR", false}, {"squashfs", "mksquashfs DIR OUT -quiet -no-progress", false},
		{"jffs2", "mkfs.jffs2 -l -d DIR -o OUT", true}, {"jffs2", "mkfs.jffs2 -b -d DIR -o OUT", true}, {"ubifs", "mkfs.ubifs -m 2048 -e 126976 -c 400 -r DIR -o OUT", false},
		{"cramfs", "mkfs.cramfs DIR OUT", true}, {"romfs", "genromfs -d DIR -f OUT", true},
		{"cpio", "newc", false}, {"cpio", "odc", true}, {"cpio", "bin", true},
	} {
		t.Run(c.make, func(t *testing.T) {
			var fsys FileSystem
			if c.format == "cpio" {
				data := packed(t, dir, c.make)
				var err error
				fsys, err = Open("cpio", bytes.NewReader(data), int64(len(data)))
				require.NoError(t, err)
			} else {
				img := filepath.Join(t.TempDir(), "i")
				if strings.HasPrefix(c.make, "mke2fs") {
					require.NoError(t, os.WriteFile(img, nil, 0o644))
				}
				words := strings.Fields(strings.NewReplacer("DIR", dir, "OUT", img).Replace(c.make))
				run(t, words[0], words[1:]...)
				fsys = open(t, c.format, img)
			}
			got := map[string]string{}
			require.NoError(t, fsys.Walk(context.Background(), func(f *File) error {
				if f.Mode&fs.ModeDevice != 0 {
					got[f.Path] = fmt.Sprint(f.Mode&fs.ModeCharDevice != 0, " ", f.Major, " ", f.Minor)
				} else if f.Mode&fs.ModeNamedPipe != 0 {
					got[f.Path] = "pipe"
				}
				return nil
			}))
			want := map[string]string{"pipe": "pipe"}
			for name, n := range nodes {
				if c.short && (n.major > 255 || n.minor > 255) {
					delete(got, name)
					continue
				}
				want[name] = fmt.Sprint(n.mode == syscall.S_IFCHR, " ", n.major, " ", n.minor)
			}
			assert.Equal(t, want, got)
		})
	}
}
