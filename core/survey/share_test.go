package survey

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/image"
)

// noise is data that does not get smaller, so that it is worth comparing.
func noise(seed byte, n int) string {
	r := rand.New(rand.NewChaCha8([32]byte{seed}))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return string(b)
}

func packedAs(given, data string) string {
	var b bytes.Buffer
	w := gzip.NewWriter(&b)
	w.Name = given
	w.Write([]byte(data))
	w.Close()
	return b.String()
}

func tarOf(files ...file) string {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		kind := byte(tar.TypeReg)
		h := &tar.Header{Name: f.name, Mode: 0o644, Size: int64(len(f.data)), Typeflag: kind}
		if target, link := strings.CutPrefix(f.data, "-> "); link {
			h.Typeflag, h.Linkname, h.Size, f.data = tar.TypeSymlink, target, 0, ""
		}
		w.WriteHeader(h)
		w.Write([]byte(f.data))
	}
	w.Close()
	return b.String()
}

// contents are what lies twice in a package: each holds more than is worth comparing.
func twiceContents() map[string]string {
	big := noise(1, 90<<10)
	system := string(cpioSystem(append(system[:len(system):len(system)], node{"var/big", noise(2, 90<<10), 0o644}, node{"etc/m.txt", "main x 8.4\n", 0o644})))
	manifest := "main   inner.bin 8.4 sha256=" + sha(big) + "\n"
	return map[string]string{
		"noise":             big,
		"uimage":            string(uimage([]byte(big))),
		"damaged uimage":    string(uimage([]byte(big)))[:80<<10],
		"system":            system,
		"packed system":     packedAs("", system),
		"named system":      packedAs("rootfs.cpio", system),
		"truncated system":  packedAs("", system)[:80<<10],
		"packed tar":        packedAs("", tarOf(file{"m.txt", manifest}, file{"inner.bin", big}, file{"link", "-> inner.bin"}, file{"out", "-> /etc/passwd"})),
		"tar in tar":        tarOf(file{"a.tar", tarOf(file{"sums.txt", sha(big) + "  inner.bin\n"}, file{"inner.bin", big})}),
		"zip with two more": zipOf(file{"x.bin", big}, file{"y.bin", big}, file{"z/os-release", "ID=tram\n"}),
		"script":            "#!/bin/sh\nexit 0\n" + packedAs("", tarOf(file{"inner.bin", big})),
		"text":              strings.Repeat("a line of a text, which is long\n", 9000) + big[:0],
		"list":              strings.Repeat(sha("x")+"  inner.bin\n", 4000),
	}
}

var twiceNames = [][2]string{
	{"a.bin", "b.bin"}, {"fw/a.img", "fw/b.img"}, {"a.bin", "b.img"}, {"a.gz", "b.gz"}, {"a.gz", "b.bin"}, {"a.boot", "b.boot"}, {"a.zip", "b.zip"}, {"a.bin", "../b.bin"},
	{"x/m.txt", "y/other.txt"}, {"x/manifest.txt", "y/text.txt"}, {"one", "os-release"}, {"sums.txt", "b/sums.txt"}, {"a.tgz", "b.tar.gz"}, {"a", "A"}, {"same.bin", "same.bin"},
	{"a.run", "b.sh"}, {"a\xff.bin", "b.bin"},
}

// findings are all that a survey found, in a form that can be compared.
func findings(t *testing.T, s *Survey, sparing bool) string {
	t.Helper()
	type one struct {
		Address, Kind, Role, Nature, Component string
		Size                                   int64
		Mode                                   string
		Digests                                digest.Set
		Image                                  *image.Image
		Contents                               *image.Contents
		Facts, Problems, Published, Witnesses  any
		Text                                   string
		Firmware, Quick, Unread                bool
		Map                                    any
	}
	var all []any
	for _, it := range s.Items {
		if sparing { // which are computed goes by when a list was seen
			it.Digests = nil
		}
		all = append(all, one{it.Address, it.Kind, it.Role, it.Nature, it.Component(), it.Size, it.Mode.String(), it.Digests, it.Image, it.Contents,
			it.Facts(), it.Problems, it.Published, it.Witnesses, string(it.Text()), it.Firmware(), it.Quick, it.Unread, it.Map})
	}
	out, err := json.MarshalIndent([]any{all, s.Problems, s.Manifests, s.Missing, s.Notes}, "", " ")
	require.NoError(t, err)
	return string(out)
}

// TestEqualItemsAreFoundEqual holds surveys that share against those that look at each item.
func TestEqualItemsAreFoundEqual(t *testing.T) {
	shared := 0
	for title, content := range twiceContents() {
		for n, names := range twiceNames {
			if n > 1 && !strings.Contains("text list packed tar system noise", title) {
				continue // it does not go by names
			}
			for _, folder := range []bool{false, true} {
				if folder && (names[0] == names[1] || strings.Contains(names[1], "..") || strings.Contains(names[0], "\xff")) {
					continue
				}
				for k, o := range []Options{{}, withRules(t), {Contents: true, Deep: true, Texts: true}, {Undigested: true}} {
					if o.Deep && n > 0 || underRace && (n > 0 || k > 1) {
						continue
					}
					what := fmt.Sprintf("%s as %q and %q, folder %v, options %d", title, names[0], names[1], folder, k)
					dir := t.TempDir()
					path := filepath.Join(dir, "qm-8.4.zip")
					files := []file{{names[0], content}, {"between.txt", "a text"}, {names[1], content}}
					if folder {
						for _, f := range files {
							at := filepath.Join(path, f.name)
							require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
							require.NoError(t, os.WriteFile(at, []byte(f.data), 0o644))
						}
					} else {
						require.NoError(t, os.WriteFile(path, []byte(zipOf(files...)), 0o644))
					}
					o.Limits = archive.DefaultLimits()
					together, err := Run(context.Background(), path, o)
					require.NoError(t, err, what)
					o.apart = true
					apart, err := Run(context.Background(), path, o)
					require.NoError(t, err, what)
					require.Equal(t, findings(t, apart, o.Undigested), findings(t, together, o.Undigested), what)
					shared++
				}
			}
		}
	}
	if !underRace {
		assert.Greater(t, shared, 300)
	}
}

// TestEqualItemsAreReadOnce sees by the bound on bytes that an item is not read again.
func TestEqualItemsAreReadOnce(t *testing.T) {
	inner := strings.Repeat(noise(3, 1<<10), 4<<10) // 4 MiB that pack to little more than 64 KiB
	packed := packedAs("", inner+noise(4, 80<<10))
	var files []file
	for i := range 20 {
		files = append(files, file{fmt.Sprintf("copy-%d.gz", i), packed})
	}
	path := filepath.Join(t.TempDir(), "p.zip")
	require.NoError(t, os.WriteFile(path, []byte(zipOf(files...)), 0o644))
	limits := archive.DefaultLimits()
	limits.Bytes = 16 << 20
	s, err := Run(context.Background(), path, Options{Limits: limits})
	require.NoError(t, err)
	assert.Len(t, s.Items, 41)
	limits.Items = 30
	_, err = Run(context.Background(), path, Options{Limits: limits})
	assert.ErrorContains(t, err, "items", "what lies in a copy counts as an item all the same")
	limits.Items = 100
	_, err = Run(context.Background(), path, Options{Limits: limits, apart: true})
	assert.ErrorContains(t, err, "bytes")
}

// TestAlikeIsNotEqual: entries whose directory gives one checksum, and whose bytes differ.
func TestAlikeIsNotEqual(t *testing.T) {
	dir := t.TempDir()
	one, other := noise(5, 100<<10), []byte(noise(5, 100<<10))
	other[40<<10] ^= 1 // between the samples that are taken of a file
	for name, data := range map[string]string{"a.bin": one, "b.bin": string(other), "c.bin": one} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(data), 0o644))
	}
	s, err := Run(context.Background(), dir, Options{Limits: archive.DefaultLimits()})
	require.NoError(t, err)
	for _, it := range s.Items {
		want := sha(one)
		if it.Name == "b.bin" {
			want = sha(string(other))
		}
		assert.Equal(t, want, it.Digests.Of(digest.SHA256), it.Name)
	}
}
