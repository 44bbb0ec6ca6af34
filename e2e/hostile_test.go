package e2e

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/e2e/program"
)

// bounded runs the program with few addresses to spare: the runtime alone
// reserves most of them.
func bounded(t *testing.T, dir string, args ...string) program.Ran {
	t.Helper()
	var out, errout bytes.Buffer
	c := exec.Command("sh", append([]string{"-c", `ulimit -v 1000000; exec "$0" "$@"`, program.Path}, args...)...)
	c.Dir, c.Stdout, c.Stderr = dir, &out, &errout
	c.Run()
	assert.NotContains(t, errout.String(), "goroutine", "neither a panic nor out of memory")
	return program.Ran{Status: c.ProcessState.ExitCode(), Out: out.String(), Errout: errout.String()}
}

func gzipOf(data []byte) []byte {
	var b bytes.Buffer
	w, _ := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	w.Write(data)
	w.Close()
	return b.Bytes()
}

func tarHeaders(headers ...tar.Header) []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for i := range headers {
		if err := w.WriteHeader(&headers[i]); err != nil {
			panic(err)
		}
		w.Write(make([]byte, headers[i].Size))
	}
	w.Close()
	return b.Bytes()
}

// rawTar is one header whose size field is what is given.
func rawTar(size string) []byte {
	b := tarHeaders(tar.Header{Name: "a", Mode: 0o644, Size: 0})[:1536]
	copy(b[124:136], size)
	copy(b[148:156], "        ")
	sum := 0
	for _, c := range b[:512] {
		sum += int(c)
	}
	copy(b[148:156], fmt.Sprintf("%06o\x00 ", sum))
	return b
}

// bomb is a gzip of 256 MiB of zero bytes, made without holding them.
var bomb = sync.OnceValue(func() []byte {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	chunk := make([]byte, 1<<20)
	for range 256 {
		w.Write(chunk)
	}
	w.Close()
	return b.Bytes()
})

// tarBomb is a compressed tar of one file of n MiB of zeros.
func tarBomb(n int) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	w := tar.NewWriter(z)
	w.WriteHeader(&tar.Header{Name: "z", Mode: 0o644, Size: int64(n) << 20})
	chunk := make([]byte, 1<<20)
	for range n {
		w.Write(chunk)
	}
	w.Close()
	z.Close()
	return b.Bytes()
}

// manyEntries is a zip of n empty entries.
func manyEntries(n int) []byte {
	var local, dir bytes.Buffer
	for i := range n {
		name := fmt.Sprintf("%07d", i)
		h := make([]byte, 30)
		copy(h, "PK\x03\x04")
		binary.LittleEndian.PutUint16(h[26:], 7)
		d := make([]byte, 46)
		copy(d, "PK\x01\x02")
		binary.LittleEndian.PutUint16(d[28:], 7)
		binary.LittleEndian.PutUint32(d[42:], uint32(local.Len()))
		local.Write(append(h, name...))
		dir.Write(append(d, name...))
	}
	end := make([]byte, 22)
	copy(end, "PK\x05\x06")
	binary.LittleEndian.PutUint16(end[8:], 0xffff)
	binary.LittleEndian.PutUint16(end[10:], 0xffff)
	binary.LittleEndian.PutUint32(end[12:], uint32(dir.Len()))
	binary.LittleEndian.PutUint32(end[16:], uint32(local.Len()))
	return append(append(local.Bytes(), dir.Bytes()...), end...)
}

// overlapping is a zip whose directory lists one stretch of bytes twice.
func overlapping(t *testing.T) []byte {
	z := program.ZipOf(t, map[string][]byte{"a": bytes.Repeat([]byte("abcdefgh"), 500)})
	at := bytes.Index(z, []byte("PK\x01\x02"))
	end := bytes.LastIndex(z, []byte("PK\x05\x06"))
	entry := bytes.Clone(z[at:end])
	second := bytes.Clone(entry)
	second[46] = 'b'
	out := append(append(bytes.Clone(z[:at]), entry...), second...)
	rec := bytes.Clone(z[end:])
	binary.LittleEndian.PutUint16(rec[8:], 2)
	binary.LittleEndian.PutUint16(rec[10:], 2)
	binary.LittleEndian.PutUint32(rec[12:], uint32(2*len(entry)))
	return append(out, rec...)
}

func TestHostilePackages(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("memory is limited by Linux's means")
	}
	dir := t.TempDir()
	twins := func() []byte {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		for _, c := range []string{"one", "two"} {
			e, _ := w.Create("same.img")
			e.Write([]byte(c))
		}
		w.Close()
		return b.Bytes()
	}
	disagreeing := bytes.Replace(program.ZipOf(t, map[string][]byte{"boot.bin": []byte("x")}), []byte("boot.bin"), []byte("b00t.bin"), 1)
	nested := gzipOf(make([]byte, 8<<20))
	for range 6 {
		nested = program.ZipOf(t, map[string][]byte{"a.gz": nested, "b.gz": nested, "c.gz": nested})
	}
	deep := []byte("core")
	for range 12 {
		deep = gzipOf(deep)
	}
	paxes := func() []byte {
		var b bytes.Buffer
		one := tarHeaders(tar.Header{Name: strings.Repeat("long/", 300) + "x", Typeflag: tar.TypeReg, Format: tar.FormatPAX})
		for range 3000 {
			b.Write(one[:len(one)-1024-512]) // the pax header without the file that it is for
		}
		return b.Bytes()
	}
	for _, c := range []struct {
		name   string
		data   []byte
		status int
		says   string
		args   []string
	}{
		{"climbing.tar", tarHeaders(tar.Header{Name: "../../etc/passwd", Mode: 0o644, Size: 1}), 1, "climbs out", nil},
		{"absolute.tar", tarHeaders(tar.Header{Name: "/etc/passwd", Mode: 0o644, Size: 1}), 1, "absolute path", nil},
		{"drive.zip", program.ZipOf(t, map[string][]byte{"C:evil.img": []byte("x")}), 1, "drive letter", nil},
		{"backslash.zip", program.ZipOf(t, map[string][]byte{`..\evil.img`: []byte("x")}), 1, "backslash", nil},
		{"symlink.tar", tarHeaders(tar.Header{Name: "l", Typeflag: tar.TypeSymlink, Linkname: "/etc"}, tar.Header{Name: "l/passwd", Mode: 0o644, Size: 1}), 1, "symbolic link", nil},
		{"hardlink.tar", tarHeaders(tar.Header{Name: "l", Typeflag: tar.TypeLink, Linkname: "/etc/passwd"}), 1, "hard link", nil},
		{"device.tar", tarHeaders(tar.Header{Name: "d", Typeflag: tar.TypeBlock}), 1, "a device", nil},
		{"pipe.tar", tarHeaders(tar.Header{Name: "p", Typeflag: tar.TypeFifo}), 1, "named pipe", nil},
		{"overlap.zip", overlapping(t), 1, "overlap", nil},
		{"twins.zip", twins(), 1, "two entries bear the name", nil},
		{"disagree.zip", disagreeing, 1, "disagrees with the directory", nil},
		{"bomb.gz", bomb(), 4, "-max-ratio", nil},
		{"bomb.tgz", tarBomb(300), 4, "ratio", []string{"-max-ratio", "200"}},
		{"nested.zip", nested, 4, "-max-", []string{"-max-bytes", "256MiB"}},
		{"deep.gz", deep, 4, "-max-depth", nil},
		{"million.zip", manyEntries(1_000_000), 4, "-max-items", nil},
		{"negative.tar", rawTar("-0000000001\x00"), 1, "damaged", nil},
		{"huge.tar", rawTar("\x80\x00\x00\x00\x7f\xff\xff\xff\xff\xff\xff\xff"), 1, "truncated", nil},
		{"octal.tar", rawTar("77777777777\x00"), 1, "truncated", nil},
		{"pax.tar", paxes(), 0, "cut short", nil},
		{"encoding.zip", program.ZipOf(t, map[string][]byte{"caf\xe9.img": []byte("x")}), 0, `caf%E9.img`, nil},
		{"control.zip", program.ZipOf(t, map[string][]byte{"a\x1b]0;owned\x07.img": []byte("x")}), 1, `\u001b`, nil},
		{"text.zip", program.ZipOf(t, map[string][]byte{"x_manifest.json": []byte("[" + strings.Repeat("[", 5000))}), 0, "", nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			program.Write(t, dir, c.name, c.data)
			for _, format := range [][]string{{}, {"-json"}} {
				r := bounded(t, dir, append(append(append([]string{"survey"}, c.args...), format...), c.name)...)
				require.Equal(t, c.status, r.Status, r.Out+r.Errout)
				if len(format) == 0 {
					assert.Contains(t, r.Out+r.Errout, c.says)
				}
				assert.NotContains(t, r.Out+r.Errout, "\x1b")
			}
			if c.status == 4 {
				return
			}
			// What is unpacked stays inside, and holds no link.
			into := filepath.Join(t.TempDir(), "deep", "out")
			r := bounded(t, dir, "unpack", "-into", into, c.name)
			assert.Contains(t, []int{0, 1}, r.Status, r.Out+r.Errout)
			filepath.WalkDir(filepath.Dir(filepath.Dir(into)), func(p string, d os.DirEntry, err error) error {
				require.NoError(t, err)
				assert.True(t, d.IsDir() || d.Type().IsRegular() && strings.HasPrefix(p, into), p)
				if !d.IsDir() {
					info, err := d.Info()
					require.NoError(t, err)
					assert.Zero(t, info.Mode()&(os.ModeSetuid|os.ModeSetgid|os.ModeSticky), p)
				}
				return nil
			})
		})
	}
}

// A boundary that is passed while unpacking leaves nothing behind.
func TestUnpackRefusedWritesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	program.Write(t, dir, "b.zip", program.ZipOf(t, map[string][]byte{"a.txt": []byte("fine"), "b.gz": bomb()}))
	r := program.Call(t, dir, "unpack", "-into", "out", "b.zip")
	assert.Equal(t, 4, r.Status)
	left, err := os.ReadDir(filepath.Join(dir, "out"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

func TestUnpack(t *testing.T) {
	t.Parallel()
	kit := program.WriteKit(t)
	r := program.Call(t, kit, "unpack", "-into", "out", "-only", "**/boot/*", "qm-tram-8.4.2.zip")
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	assert.FileExists(t, filepath.Join(kit, "out/qm-tram-8.4.2/boot/qm8t-boot-a.bin"))
	assert.NoFileExists(t, filepath.Join(kit, "out/qm-tram-8.4.2/qm8t-a.img"))

	r = program.Call(t, kit, "unpack", "-into", "out", "-json", "qm-tram-8.4.2.zip")
	require.Equal(t, 0, r.Status)
	assert.FileExists(t, filepath.Join(kit, "out/qm-tram-8.4.2/extras/mibs.tgz.unpacked/QUILLMERE-TRAM-MIB.txt"), "nested archives, too")
	doc := program.Document(t, r)
	want := program.Unzip(t, kit, "qm-tram-8.4.2.zip")
	for _, f := range doc["files"].([]any) {
		path := at(t, f, "path").(string)
		data, err := os.ReadFile(filepath.Join(kit, "out", path))
		require.NoError(t, err)
		if w, ok := want[path]; ok {
			assert.Equal(t, w, data, path)
		}
	}
	// A folder that was unpacked so is the package, too.
	assert.Equal(t, 0, program.Call(t, kit, "match", "-device", "cabinet-07", "out").Status)

	r = program.Call(t, kit, "unpack", "-into", "radio", "-parts", "vr310-4.2.0.itb")
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	assert.FileExists(t, filepath.Join(kit, "radio/vr310-4.2.0.itb.parts/kernel-arm64.unpacked"))
	assert.Contains(t, r.Out, "must be served whole")

	// A different file in the way: nothing at all is written.
	require.NoError(t, os.RemoveAll(filepath.Join(kit, "out")))
	mine := program.Write(t, kit, "out/qm-tram-8.4.2/qm8t-a.img", []byte("mine"))
	r = program.Call(t, kit, "unpack", "-into", "out", "qm-tram-8.4.2.zip")
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "-replace")
	assert.NoFileExists(t, filepath.Join(kit, "out/qm-tram-8.4.2/qm24t.img"))
	data, _ := os.ReadFile(mine)
	assert.Equal(t, "mine", string(data))
	assert.Equal(t, 0, program.Call(t, kit, "unpack", "-replace", "-into", "out", "qm-tram-8.4.2.zip").Status)

	// Names that differ in case only: the first is written, the other told.
	program.Write(t, kit, "case.zip", program.ZipOf(t, map[string][]byte{"A.img": []byte("1"), "a.img": []byte("2"), "d": []byte("3"), "d/e": []byte("4")}))
	r = program.Call(t, kit, "unpack", "-into", "case", "case.zip")
	assert.Equal(t, 1, r.Status)
	assert.Contains(t, r.Out, "case only")
	assert.Contains(t, r.Out, "nothing can lie below it")
	data, _ = os.ReadFile(filepath.Join(kit, "case/A.img"))
	assert.Equal(t, "1", string(data))
	assert.NoFileExists(t, filepath.Join(kit, "case/a.img"))
}
