package cli

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/demo"
)

// Whatever text stands in the fields of an image, in names, manifests, lists and notes, no
// command lets it act on the terminal, in any of the forms of its output.
func TestNoInputSpeaksToTheTerminal(t *testing.T) {
	const evil = "\x1b[2J\x1b]0;owned\x07\u202e\u200b\u0085"
	kit := kitDir(t)
	fixed := func(n int, text string) string { return text + strings.Repeat("\x00", max(0, n-len(text))) }
	put := func(size int, at map[int]string) []byte {
		b := make([]byte, size)
		for k, v := range at {
			copy(b[k:], v)
		}
		return b
	}
	le := func(v uint32) string { return string(binary.LittleEndian.AppendUint32(nil, v)) }
	kernel := demo.UImage(5, 2, 2, "t"+evil, []byte("\x00a kernel"))
	tree := demo.Tree(17, demo.Node{Props: []demo.Prop{{Name: "model", Value: []byte("m" + evil + "\x00")}, {Name: "compatible", Value: []byte("c" + evil + "\x00")}, {Name: "p" + evil, Value: []byte("v" + evil)}}})
	fit := demo.Tree(17, demo.Node{Props: []demo.Prop{{Name: "description", Value: []byte("d" + evil + "\x00")}}, Children: []demo.Node{
		{Name: "images", Children: []demo.Node{{Name: "k" + evil, Props: []demo.Prop{{Name: "data", Value: kernel}, {Name: "type", Value: []byte("kernel" + evil + "\x00")}, {Name: "arch", Value: []byte("arm" + evil + "\x00")}, {Name: "compression", Value: []byte("none" + evil + "\x00")}}, Children: []demo.Node{{Name: "hash" + evil, Props: []demo.Prop{{Name: "algo", Value: []byte("sha" + evil + "\x00")}, {Name: "value", Value: []byte("x")}}}}}}},
		{Name: "configurations", Props: []demo.Prop{{Name: "default", Value: []byte("c" + evil + "\x00")}}, Children: []demo.Node{{Name: "c" + evil, Props: []demo.Prop{{Name: "kernel", Value: []byte("k" + evil + "\x00")}, {Name: "compatible", Value: []byte("b" + evil + "\x00")}, {Name: "fdt", Value: []byte("gone" + evil + "\x00")}}}}}}})
	files := map[string][]byte{
		"kernel.img": kernel, "tree.dtb": tree, "fit.itb": fit, "trx.trx": demo.TRX(kernel),
		"romfs.bin":  put(512, map[int]string{0: "-rom1fs-\x00\x00\x02\x00", 16: "r" + evil}),
		"cramfs.bin": put(512, map[int]string{0: "\x45\x3d\xcd\x28" + le(512), 16: "Compressed ROMFS", 48: fixed(16, "c"+evil)[:16]}),
		"ext.bin":    put(8<<10, map[int]string{1024: le(16) + le(8), 1024 + 56: "\x53\xef", 1024 + 120: "e\x1b[2J\u202e", 1024 + 136: "m" + evil}),
		"iso.iso":    put(40<<10, map[int]string{0x8000: "\x01CD001\x01", 0x8000 + 8: "s" + evil, 0x8000 + 40: "v" + evil, 0x8000 + 80: le(20) + "\x00\x00\x00\x14", 0x8000 + 128: "\x00\x08\x08\x00", 0x8000 + 318: "p" + evil, 0x8000 + 574: "a" + evil}),
		"gpt.bin":    put(40<<9, map[int]string{512: "EFI PART", 512 + 12: le(92), 512 + 72: le(2), 512 + 80: le(1) + le(128), 1024: "\x01", 1024 + 56: "n\x00\x1b\x00[\x002\x00J\x00\x2e\x20"}),
		"names.gz":   append([]byte("\x1f\x8b\x08\x18\x00\x00\x00\x00\x00\x03n"+evil+"\x00c"+evil+"\x00"), 3, 0, 0, 0, 0, 0, 0, 0, 0, 0),
		"srec.s19":   []byte("S00F00001B5B324AE280AE0000000000AA\nS9030000FC\n"),
	}
	files["m.json"] = fmt.Appendf(nil, `{"files": [{"file": "kernel.img", "models": "QM%[1]s", "version": "8%[1]s", "component": "main", "sha256": "no%[1]s"}]}`, "\\u001b[2J\\u202e")
	files["SHA256SUMS"] = []byte(strings.Repeat("ab", 32) + "  gone" + evil + "\n" + evil + "\n")
	files["release-notes.txt"] = []byte("Upgrade to 8.2.1 " + evil + " first.\n")
	files["etc/os-release"] = []byte("NAME=" + evil + "\nVERSION_ID=1" + evil + "\n")
	files["n"+evil+".img"] = kernel
	var z, a bytes.Buffer
	zw, tw := zip.NewWriter(&z), tar.NewWriter(&a)
	for name, data := range files {
		w, err := zw.Create(name)
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
		require.NoError(t, tw.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(data))}))
		_, err = tw.Write(data)
		require.NoError(t, err)
	}
	require.NoError(t, tw.WriteHeader(&tar.Header{Name: "l" + evil, Typeflag: tar.TypeSymlink, Linkname: "/t" + evil}))
	require.NoError(t, zw.Close())
	require.NoError(t, tw.Close())
	files["all.zip"], files["all.tar"] = z.Bytes(), a.Bytes()
	require.NoError(t, os.MkdirAll(filepath.Join(kit, "etc"), 0o755))
	calls := [][]string{{"match", "-device", "cabinet-07", "-report", "r.html", "-replace"}, {"match", "-device", "cabinet-07", "-report", "r.md", "-replace"}}
	for name, data := range files {
		p := filepath.Join(kit, "hostile", filepath.Base(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, data, 0o644))
		all := [][]string{{"survey"}, {"header"}, {"header", "-dump"}, {"notes"}}
		if strings.HasPrefix(name, "all.") {
			all = append(all, []string{"match", "-device", "cabinet-07"})
			all = append(all, calls...)
			all = append(all, []string{"survey", "-deep"}, []string{"unpack", "-parts", "-replace", "-into", filepath.Join(kit, "out")}, []string{"recover", "-device", "platform-2"}, []string{"rulebook", "draft"})
		}
		for _, args := range all {
			for i, a := range args {
				if strings.HasPrefix(a, "r.") {
					args[i] = filepath.Join(kit, a)
				}
			}
			for _, form := range [][]string{nil, {"-json"}} {
				if args[0] == "header" && len(args) > 1 && form != nil || args[0] == "rulebook" && form != nil {
					continue
				}
				for _, width := range []int{100} {
					var o, e bytes.Buffer
					Run(context.Background(), append(append(append([]string{}, args...), form...), "-kit", kit, p), Env{Stdout: &o, Stderr: &e, Width: width})
					assertTame(t, o.String()+e.String(), append(args, name))
				}
			}
		}
	}
	for _, page := range []string{"r.html", "r.md"} {
		data, err := os.ReadFile(filepath.Join(kit, page))
		require.NoError(t, err)
		assertTame(t, string(data), []string{page})
	}
}
