package e2e

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// makers are calls of general tools that write a file OUT from the folder or file IN, with
// many of their options.
var makers = []string{
	"mksquashfs IN OUT -comp gzip", "mksquashfs IN OUT -comp gzip -b 4096", "mksquashfs IN OUT -comp gzip -Xcompression-level 1 -Xstrategy huffman_only", "mksquashfs IN OUT -comp xz", "mksquashfs IN OUT -comp xz -Xbcj x86",
	"mksquashfs IN OUT -comp xz -Xbcj arm", "mksquashfs IN OUT -comp xz -Xbcj arm,armthumb,powerpc,sparc,ia64", "mksquashfs IN OUT -comp xz -b 1M -Xdict-size 100%", "mksquashfs IN OUT -comp lzo", "mksquashfs IN OUT -comp lz4", "mksquashfs IN OUT -comp lz4 -Xhc",
	"mksquashfs IN OUT -comp zstd", "mksquashfs IN OUT -comp zstd -Xcompression-level 22", "mksquashfs IN OUT -comp lzma", "mksquashfs IN OUT -no-fragments -noI -noD", "mksquashfs IN OUT -no-xattrs -nopad", "mksquashfs IN OUT -all-root -always-use-fragments -no-exports", "mksquashfs IN OUT -no-duplicates -mkfs-time 0",
	"mkfs.ext4 -q -d IN OUT 8M", "mkfs.ext4 -q -O ^metadata_csum -d IN OUT 8M", "mkfs.ext4 -q -O inline_data -I 256 -d IN OUT 8M", "mkfs.ext4 -q -O 64bit -b 4096 -d IN OUT 16M", "mkfs.ext4 -q -b 1024 -L TRAM -d IN OUT 8M", "mkfs.ext3 -q -d IN OUT 8M", "mkfs.ext2 -q -d IN OUT 8M", "mkfs.ext2 -q -r 0 OUT 4M",
	"mkfs.vfat -C OUT 1440", "mkfs.vfat -F 16 -C OUT 16384", "mkfs.vfat -F 32 -n TRAM -C OUT 66000", "mkfs.vfat -S 4096 -C OUT 16384",
	"mkfs.erofs OUT IN", "mkfs.erofs -zlz4 OUT IN", "mkfs.erofs -zlz4hc,12 OUT IN", "mkfs.erofs -Eforce-inode-compact -T0 OUT IN", "mkfs.erofs -Enosbcrc OUT IN",
	"mkfs.cramfs IN OUT", "mkfs.cramfs -N big IN OUT", "mkfs.cramfs -n tram -e 3 IN OUT", "mkfs.cramfs -p IN OUT", "genromfs -d IN -f OUT", "genromfs -d IN -V tram -a 4096 -f OUT",
	"mkfs.jffs2 -l -r IN -o OUT", "mkfs.jffs2 -b -r IN -o OUT", "mkfs.jffs2 -l -e 128KiB -n -r IN -o OUT", "mkfs.jffs2 -b -e 64KiB -p -r IN -o OUT", "mkfs.jffs2 -l -m none -r IN -o OUT", "mkfs.jffs2 -l -m size -X lzo -r IN -o OUT", "mkfs.jffs2 -l -s 2048 -e 128KiB -r IN -o OUT",
	"mkfs.ubifs -m 2048 -e 126976 -c 100 -x lzo -r IN -o OUT", "mkfs.ubifs -m 2048 -e 126976 -c 100 -x zlib -r IN -o OUT", "mkfs.ubifs -m 512 -e 15872 -c 1000 -x none -r IN -o OUT", "mkfs.ubifs -m 2048 -e 126976 -c 100 -x zstd -r IN -o OUT", "mkfs.ubifs -m 1 -e 65408 -c 200 -F -r IN -o OUT",
	"mkfs.ubifs -m 2048 -e 126976 -c 100 -r IN -o OUT.fs && printf '[v]\\nmode=ubi\\nimage=OUT.fs\\nvol_id=0\\nvol_size=8MiB\\nvol_type=dynamic\\nvol_name=root\\nvol_flags=autoresize\\n' > OUT.ini && ubinize -m 2048 -p 128KiB -o OUT OUT.ini",
	"printf '[k]\\nmode=ubi\\nimage=FILE\\nvol_id=0\\nvol_type=static\\nvol_name=kernel\\n[d]\\nmode=ubi\\nvol_id=1\\nvol_size=1MiB\\nvol_type=dynamic\\nvol_name=data\\n' > OUT.ini && ubinize -m 512 -p 16KiB -O 512 -o OUT OUT.ini",
	"mkimage -A arm -O linux -T kernel -C none -n tram -d FILE OUT", "gzip -c FILE > OUT.gz && mkimage -A mips -O linux -T kernel -C gzip -n tram -d OUT.gz OUT", "mkimage -A arm64 -O linux -T multi -C none -d FILE:FILE OUT", "mkimage -A ppc -O u-boot -T firmware -C none -d FILE OUT", "printf 'echo tram\\n' > OUT.txt && mkimage -A arm -T script -C none -d OUT.txt OUT", "mkimage -A arm -O linux -T ramdisk -C none -d FILE OUT", "xz --check=crc32 -c FILE > OUT.xz && mkimage -A riscv -O linux -T standalone -C none -d OUT.xz OUT",
	"printf '/dts-v1/;\\n/{description=\"tram\";images{k{description=\"k\";data=/incbin/(\"FILE\");type=\"kernel\";arch=\"arm\";os=\"linux\";compression=\"none\";load=<0x8000>;entry=<0x8000>;hash-1{algo=\"sha256\";};hash-2{algo=\"crc32\";};};};configurations{default=\"c\";c{kernel=\"k\";};};};' > OUT.its && mkimage -f OUT.its OUT",
	"printf '/dts-v1/;\\n/{description=\"tram\";images{k{description=\"k\";data=/incbin/(\"FILE\");type=\"kernel\";arch=\"arm64\";os=\"linux\";compression=\"none\";load=<0x8000>;entry=<0x8000>;hash-1{algo=\"sha1\";};};};configurations{default=\"c\";c{kernel=\"k\";};};};' > OUT.its && mkimage -E -f OUT.its OUT",
	"printf '/dts-v1/;\\n/{compatible=\"quillmere,qm8t-a\";model=\"QM-8T\";};' | dtc -I dts -O dtb -o OUT", "printf '/dts-v1/;\\n/{compatible=\"quillmere,qm8t-a\";};' | dtc -I dts -O dtb -V 16 -p 512 -o OUT",
	"gzip -1 -c FILE > OUT", "gzip -9nc FILE > OUT", "cat FILE | gzip > OUT", "(gzip -c FILE; gzip -c FILE) > OUT", "bzip2 -1c FILE > OUT", "bzip2 -9c FILE > OUT", "(bzip2 -c FILE; bzip2 -c FILE) > OUT",
	"xz -c FILE > OUT", "xz -9e --check=sha256 -c FILE > OUT", "xz --check=none -c FILE > OUT", "xz --x86 --lzma2 -c FILE > OUT", "xz --arm --lzma2 -c FILE > OUT", "xz --armthumb --lzma2=dict=1MiB -c FILE > OUT", "xz --powerpc --lzma2 -c FILE > OUT", "xz --arm64 --lzma2 -c FILE > OUT", "xz --delta=dist=4 --lzma2 -c FILE > OUT", "xz -T2 --block-size=64KiB -c FILE > OUT", "(xz -c FILE; xz -c FILE) > OUT", "xz --format=lzma -c FILE > OUT", "lzma -9c FILE > OUT",
	"zstd -q -1 -c FILE > OUT", "zstd -q -19 -c FILE > OUT", "zstd -q --no-check -c FILE > OUT", "zstd -q --long=27 -c FILE > OUT", "zstd -q --ultra -22 -c FILE > OUT", "(zstd -qc FILE; zstd -qc FILE) > OUT", "lz4 -q -c FILE > OUT", "lz4 -q -9 -BD -c FILE > OUT", "lz4 -q --no-frame-crc -c FILE > OUT", "lz4 -q -BX -B4 -c FILE > OUT", "lz4 -q -l -c FILE > OUT", "lz4 -q --content-size -c FILE > OUT",
	"objcopy -I binary -O ihex FILE OUT", "objcopy -I binary -O srec FILE OUT", "objcopy -I binary -O elf32-little FILE OUT", "objcopy -I binary -O elf64-big FILE OUT",
	"tar -cf OUT -C IN .", "tar --format=v7 -cf OUT -C IN etc", "tar -czf OUT -C IN .", "(cd IN; find . | cpio -o -H newc) > OUT", "(cd IN; find . | cpio -o -H newc) | gzip > OUT", "(cd IN; zip -qr OUT.zip .) && mv OUT.zip OUT", "7zz a -bd OUT.7z IN >/dev/null && mv OUT.7z OUT", "genisoimage -quiet -R -J -o OUT IN", "xorriso -as mkisofs -quiet -R -o OUT IN",
	"truncate -s 4M OUT && printf 'label: dos\\n2048,,83\\n' | sfdisk -q OUT", "truncate -s 4M OUT && printf 'label: gpt\\n2048,2048\\n' | sfdisk -q OUT",
}

// What general tools write, with whatever options, is never called damaged. What this
// program cannot read it says so, and no more.
func TestSoundFilesOfGeneralTools(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	in, file := filepath.Join(dir, "in"), filepath.Join(dir, "file")
	r := rand.New(rand.NewPCG(3, 5))
	noise := func(n int) []byte {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.IntN(256))
			if i%3 > 0 && i > 100 {
				b[i] = b[i-97]
			}
		}
		return b
	}
	for name, data := range map[string][]byte{"etc/os-release": []byte("NAME=Tramline\nVERSION_ID=8.4.2\n"), "bin/tool": noise(70_000), "usr/share/a": noise(3), "usr/share/b": noise(9000), "empty": nil, "var/long name with blanks": noise(5000)} {
		program.Write(t, in, name, data)
	}
	require.NoError(t, os.Symlink("tool", filepath.Join(in, "bin/other")))
	require.NoError(t, os.Link(filepath.Join(in, "bin/tool"), filepath.Join(in, "bin/same")))
	require.NoError(t, os.WriteFile(file, append([]byte("\x00\x00\xa0\xe3"), noise(200_000)...), 0o644))
	made, notRead := 0, 0
	for i, line := range makers {
		first := strings.Fields(strings.TrimLeft(line, "("))[0]
		have := true
		for _, tool := range append([]string{first}, strings.FieldsFunc(line, func(c rune) bool { return strings.ContainsRune("|;&", c) })...) {
			word := strings.Fields(strings.TrimLeft(tool, "( "))
			if len(word) == 0 {
				continue
			}
			if _, err := exec.LookPath(word[0]); err != nil && word[0] != "cd" && word[0] != "(cd" && !strings.ContainsAny(word[0], "{}\\\"") {
				have = false
			}
		}
		if !have {
			continue
		}
		out := filepath.Join(t.TempDir(), "made.bin")
		text, err := exec.Command("sh", "-c", strings.NewReplacer("OUT", out, "FILE", file, "IN", in).Replace(line)).CombinedOutput()
		if err != nil { // of another version, without the option
			t.Logf("%s: %s", line, text)
			continue
		}
		made++
		res := program.Call(t, dir, "survey", "-json", out)
		doc := program.Document(t, res)
		for _, p := range at(t, doc, "problems").([]any) {
			class := at(t, p, "class")
			assert.NotEqual(t, "damaged", class, "%d: %s: %v", i, line, p)
			if class == "unreadable" {
				notRead++
			}
		}
		kind := at(t, doc, "items", 0, "kind")
		assert.NotEqual(t, "unknown", kind, "%d: %s", i, line)
	}
	if made == 0 {
		t.Skip("no tool that makes files is here")
	}
	t.Logf("%d files made, %d problems of what cannot be read", made, notRead)
}
