package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// tool calls a general tool in a folder; the test is skipped where it is missing.
func tool(t *testing.T, dir, name string, args ...string) {
	t.Helper()
	path, err := exec.LookPath(name)
	if err != nil {
		if path = filepath.Join("/usr/sbin", name); !exists(path) {
			t.Skipf("%s is not installed", name)
		}
	}
	c := exec.Command(path, args...)
	c.Dir = dir
	c.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1")
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s %v: %s", name, args, out)
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// root lays out a small root file system, and packs it as a RAM disk.
func root(t *testing.T, dir string) {
	t.Helper()
	for name, text := range map[string]string{"etc/os-release": "NAME=Tramline\nVERSION_ID=8.4.2\n", "bin/tool": "tool", "var/lib/dpkg/status": "Package: one\n", "lib/modules/6.1.0-tram/modules.dep": ""} {
		program.Write(t, dir, "root/"+name, []byte(text))
	}
	require.NoError(t, os.Chmod(filepath.Join(dir, "root/bin/tool"), 0o755|os.ModeSetuid))
	require.NoError(t, os.Symlink("/etc/elsewhere", filepath.Join(dir, "root/etc/link")))
	packRAMDisk(t, dir)
}

// packRAMDisk packs the folder root as ram.gz: cpio's newc form in gzip, as a kernel unpacks it.
func packRAMDisk(t *testing.T, dir string) {
	t.Helper()
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	inode := 0
	put := func(name string, mode uint32, data []byte) {
		inode++
		head := fmt.Sprintf("070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X", inode, mode, 0, 0, 1, 0, len(data), 0, 0, 0, 0, len(name)+1, 0)
		for _, part := range [][]byte{[]byte(head + name + "\x00"), data} {
			_, err := z.Write(append(part, make([]byte, -len(part)&3)...))
			require.NoError(t, err)
		}
	}
	top := filepath.Join(dir, "root")
	require.NoError(t, filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		require.NoError(t, err)
		name, err := filepath.Rel(top, path)
		require.NoError(t, err)
		info, err := e.Info()
		require.NoError(t, err)
		mode := uint32(info.Mode().Perm())
		if info.Mode()&fs.ModeSetuid != 0 {
			mode |= 0o4000
		}
		switch {
		case e.IsDir():
			put(name, mode|0o040000, nil)
		case info.Mode()&fs.ModeSymlink != 0:
			to, err := os.Readlink(path)
			require.NoError(t, err)
			put(name, mode|0o120000, []byte(to))
		default:
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			put(name, mode|0o100000, data)
		}
		return nil
	}))
	put("TRAILER!!!", 0, nil)
	require.NoError(t, z.Close())
	program.Write(t, dir, "ram.gz", packed.Bytes())
}

// whole lays out the flash of a device: a boot loader, a FAT partition with an image tree in
// it, and a UBI partition with a kernel and a root file system.
func whole(t *testing.T, dir string) {
	t.Helper()
	root(t, dir)
	program.Write(t, dir, "kernel.bin", []byte("\x00Linux version 6.1.0-tram (builder@host) (cc 12) #1 SMP\n\x00"+strings.Repeat("code", 5000)))
	program.Write(t, dir, "tree.its", []byte(`/dts-v1/; / { description = "made up"; #address-cells = <1>; images {
 kernel-1 { description = "kernel"; data = /incbin/("kernel.bin"); type = "kernel"; arch = "arm64"; os = "linux"; compression = "none"; load = <0x80000>; entry = <0x80000>; hash-1 { algo = "sha256"; }; };
 ramdisk-1 { description = "first"; data = /incbin/("ram.gz"); type = "ramdisk"; arch = "arm64"; os = "linux"; compression = "none"; hash-1 { algo = "sha256"; }; }; };
 configurations { default = "conf-1"; conf-1 { kernel = "kernel-1"; ramdisk = "ramdisk-1"; }; }; };`))
	tool(t, dir, "mkimage", "-f", "tree.its", "image.itb")
	tool(t, dir, "mkfs.fat", "-C", "boot.fat", "4096")
	tool(t, dir, "mcopy", "-i", "boot.fat", "image.itb", "::/")
	tool(t, dir, "mkfs.ubifs", "-m", "2048", "-e", "126976", "-c", "100", "-r", "root", "-o", "root.ubifs")
	program.Write(t, dir, "ini", []byte("[a]\nmode=ubi\nimage=kernel.bin\nvol_id=0\nvol_size=126976\nvol_type=static\nvol_name=kernel\n[b]\nmode=ubi\nimage=root.ubifs\nvol_id=1\nvol_type=dynamic\nvol_name=rootfs\nvol_size=4MiB\n"))
	tool(t, dir, "ubinize", "-m", "2048", "-p", "128KiB", "-o", "flash.ubi", "ini")
	read := func(name string) []byte {
		data, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return data
	}
	fat, ubi := read("boot.fat"), read("flash.ubi")
	const block, first = 512, 2048
	second := first + len(fat)/block
	b := make([]byte, (second+len(ubi)/block+1)*block)
	for i, p := range []struct {
		kind          byte
		first, blocks int
	}{{0xc, first, len(fat) / block}, {0x83, second, len(ubi) / block}} {
		e := b[446+16*i:]
		e[4] = p.kind
		binary.LittleEndian.PutUint32(e[8:], uint32(p.first))
		binary.LittleEndian.PutUint32(e[12:], uint32(p.blocks))
	}
	b[510], b[511] = 0x55, 0xaa
	copy(b[64*block:], "U-Boot 2026.01 (made up)")
	copy(b[first*block:], fat)
	copy(b[second*block:], ubi)
	program.Write(t, dir, "device.img", b)
}

// An image with a boot loader, a tree of images, volumes and a FAT partition opens down to
// the release files of its root file systems.
func TestImageOpensDown(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	whole(t, dir)
	r := program.Call(t, dir, "survey", "-json", "device.img")
	assert.Equal(t, 0, r.Status, r.Out+r.Errout)
	found := map[string]string{}
	for _, it := range program.Document(t, r)["items"].([]any) {
		item := it.(map[string]any)
		if c, ok := item["contents"].(map[string]any); ok {
			for _, f := range c["facts"].([]any) {
				fact := f.(map[string]any)
				found[item["path"].(string)] += fact["about"].(string) + " " + fact["value"].(string) + ";"
			}
		}
	}
	assert.Len(t, found, 2)
	for _, path := range []string{"device.img::partition 1::image.itb::ramdisk-1::ramdisk-1.content", "device.img::partition 2::rootfs"} {
		assert.Contains(t, found[path], "os-release VERSION_ID=8.4.2;", path)
		assert.Contains(t, found[path], "modules for kernel 6.1.0-tram;", path)
		assert.Contains(t, found[path], "packages 1 by dpkg;", path)
	}

	listed := program.Document(t, program.Call(t, dir, "survey", "-contents", "-json", "device.img"))
	paths := map[string]any{}
	for _, it := range listed["items"].([]any) {
		item := it.(map[string]any)
		paths[item["path"].(string)] = item["digests"].(map[string]any)["sha256"]
	}
	assert.NotEmpty(t, paths["device.img::partition 2::rootfs::etc/os-release"])
	assert.Equal(t, paths["device.img::partition 2::rootfs::etc/os-release"], paths["device.img::partition 1::image.itb::ramdisk-1::ramdisk-1.content::etc/os-release"])

	r = program.Call(t, dir, "header", "device.img::partition 1::image.itb")
	assert.Contains(t, r.Out, "made up", "the header of an image within a file system is read")
	assert.Equal(t, 0, r.Status)

	r = program.Call(t, dir, "unpack", "-contents", "-into", "out", "device.img")
	assert.Equal(t, 0, r.Status, r.Out+r.Errout)
	release, err := os.ReadFile(filepath.Join(dir, "out/device.img.parts/partition 2.parts/rootfs.unpacked/etc/os-release"))
	require.NoError(t, err)
	assert.Contains(t, string(release), "Tramline")
	info, err := os.Stat(filepath.Join(dir, "out/device.img.parts/partition 2.parts/rootfs.unpacked/bin/tool"))
	require.NoError(t, err)
	assert.Zero(t, info.Mode()&os.ModeSetuid)
}

// A RAM disk is sound whatever links it holds, and its survey is short; all of it is there
// when it is asked for.
func TestRAMDiskIsSound(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	root(t, dir)
	for i := range 300 {
		require.NoError(t, os.Symlink("/bin/tool", filepath.Join(dir, fmt.Sprintf("root/bin/link%d", i))))
	}
	packRAMDisk(t, dir)
	r := program.Call(t, dir, "survey", "ram.gz")
	assert.Equal(t, 0, r.Status, r.Out)
	assert.Contains(t, r.Out, "SOUND")
	assert.Contains(t, r.Out, "301 links")
	assert.LessOrEqual(t, strings.Count(r.Out, "\n"), 40)
	r = program.Call(t, dir, "survey", "-contents", "ram.gz")
	assert.Contains(t, r.Out, "bin/link299 -> /bin/tool")

	r = program.Call(t, dir, "survey", "-contents", "-quick", "ram.gz")
	assert.Equal(t, 2, r.Status)
	r = program.Call(t, dir, "survey", "-max-files", "100", "ram.gz")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "-max-files raises the bound")
}

// A package of more items than a screen holds is folded, worst first; -all shows it.
func TestSurveyIsFolded(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	files := map[string][]byte{}
	for i := range 300 {
		files[fmt.Sprintf("docs/%03d.txt", i)] = []byte("words\n")
	}
	files["zz.gz"] = []byte("\x1f\x8b\x08\x00\x00\x00\x00\x00\x00\x03broken")
	program.Write(t, dir, "p.zip", program.ZipOf(t, files))
	r := program.Call(t, dir, "survey", "p.zip")
	assert.Equal(t, 1, r.Status)
	assert.LessOrEqual(t, strings.Count(r.Out, "\n"), 40)
	assert.Contains(t, r.Out, "! ::zz.gz", "what is wrong is never folded away")
	assert.Contains(t, r.Out, "300 text")
	r = program.Call(t, dir, "survey", "-all", "p.zip")
	assert.Contains(t, r.Out, "docs/299.txt")
}

func TestCompare(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	r := program.Call(t, kit, "compare", "qm-tram-8.4.1.zip", "qm-tram-8.4.2.zip")
	assert.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "DIFFERENT")
	doc := program.Document(t, program.Call(t, kit, "compare", "-json", "qm-tram-8.4.2.zip", "qm-tram-8.4.2.zip"))
	for _, it := range doc["items"].([]any) {
		assert.Equal(t, "same", it.(map[string]any)["change"])
	}
	doc = program.Document(t, program.Call(t, kit, "compare", "-json", "-device", "depot-core", "qm-core-6.4.1.zip"))
	assert.Len(t, doc["results"], 3, "a member each")
	assert.Equal(t, 2, program.Call(t, kit, "compare", "qm-tram-8.4.1.zip").Status)
	assert.Equal(t, 4, program.Call(t, kit, "compare", "qm-tram-8.4.2.zip", "none.zip").Status)
}
