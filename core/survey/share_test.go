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
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
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

// across surveys two packages one after the other, what is equal taken over, and holds the second against a
// survey of its own.
func across(t *testing.T, o Options, first, second string) (known int) {
	t.Helper()
	o.Limits, o.Seen = archive.DefaultLimits(), NewSeen()
	_, err := Run(context.Background(), first, o)
	require.NoError(t, err)
	before := o.Seen.taken.Load()
	together, err := Run(context.Background(), second, o)
	require.NoError(t, err)
	known = int(o.Seen.taken.Load() - before)
	o.Seen, o.apart = nil, true
	apart, err := Run(context.Background(), second, o)
	require.NoError(t, err)
	require.Equal(t, findings(t, apart, o.Undigested), findings(t, together, o.Undigested))
	return known
}

// TestEqualItemsOfOtherPackages holds what is taken over from another package against a survey that looks for
// itself, in zips, folders and tars.
func TestEqualItemsOfOtherPackages(t *testing.T) {
	pack := map[string]func(path string, files ...file){
		"zip": func(path string, files ...file) {
			require.NoError(t, os.WriteFile(path, []byte(zipOf(files...)), 0o644))
		},
		"tar.gz": func(path string, files ...file) {
			require.NoError(t, os.WriteFile(path, []byte(packedAs("", tarOf(files...))), 0o644))
		},
		"folder": func(path string, files ...file) {
			for _, f := range files {
				at := filepath.Join(path, f.name)
				require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
				require.NoError(t, os.WriteFile(at, []byte(f.data), 0o644))
			}
		},
	}
	known := map[string]int{}
	for _, content := range twiceContents() {
		for as, pack := range pack {
			for k, o := range []Options{withRules(t), {Contents: true, Deep: true, Texts: true}, {Undigested: true}} {
				if underRace && (k > 0 || as == "folder") {
					continue
				}
				for n, names := range [][2]string{{"a.bin", "fw/b.bin"}, {"x/m.txt", "m.txt"}, {"a.gz", "b.boot"}} {
					if underRace && n > 0 {
						continue
					}
					dir := t.TempDir()
					one, other := filepath.Join(dir, "one", "qm-8.4."+as), filepath.Join(dir, "other", "qm-8.5."+as)
					require.NoError(t, os.MkdirAll(filepath.Dir(one), 0o755))
					require.NoError(t, os.MkdirAll(filepath.Dir(other), 0o755))
					pack(one, file{names[0], content}, file{"between.txt", "a text"})
					pack(other, file{"more.bin", noise(7, 70<<10)}, file{names[1], content}, file{"sums.txt", sha(content) + "  " + names[1] + "\n"})
					known[as] += across(t, o, one, other)
				}
			}
		}
	}
	if !underRace {
		assert.Greater(t, known["zip"], 30, "%v", known)
	}
	assert.True(t, underRace || known["folder"] > 50, "%v", known)
}

// TestOnePayloadUnderManyHeaders: images of several boards that differ in their headers alone.
func TestOnePayloadUnderManyHeaders(t *testing.T) {
	inner := strings.Repeat(noise(3, 1<<10), 4<<10)
	payload := packedAs("", inner+noise(4, 80<<10))
	boards := func(version string) []file {
		var files []file
		for i := range 10 {
			image := uimageNamed(fmt.Sprintf("board %d %s", i, version), []byte(payload))
			files = append(files, file{fmt.Sprintf("board-%d.img", i), string(image)})
		}
		return files
	}
	dir := t.TempDir()
	one, other := filepath.Join(dir, "one.zip"), filepath.Join(dir, "other.zip")
	require.NoError(t, os.WriteFile(one, []byte(zipOf(boards("8.4")...)), 0o644))
	require.NoError(t, os.WriteFile(other, []byte(zipOf(boards("8.5")...)), 0o644))
	across(t, Options{}, one, other)
	for title, payload := range map[string]string{
		"a system":            packedAs("rootfs.cpio", twiceContents()["system"]),
		"a system, truncated": packedAs("", twiceContents()["system"])[:80<<10],
		"a page":              packedAs("", "<!DOCTYPE html><html>"+strings.Repeat(noise(8, 70<<10), 2)),
		"packed twice":        packedAs("", packedAs("", noise(9, 90<<10))),
		"an image":            packedAs("", string(uimage([]byte(packedAs("", noise(9, 90<<10)))))),
		"noise":               noise(9, 90<<10),
	} {
		for i, o := range []Options{{}, {Contents: true, Texts: true}, {Deep: true}} {
			var files [2][]file
			for n := range 4 {
				image := uimageNamed(fmt.Sprintf("board %d", n), []byte(payload))
				if n == 3 {
					image[40<<10] ^= 1 // its own checksum tells of that
				}
				files[n%2] = append(files[n%2], file{fmt.Sprintf("board-%d.img", n), string(image)}, file{fmt.Sprintf("again-%d.img", n), string(uimageNamed("again", image[64:]))})
			}
			at := filepath.Join(dir, fmt.Sprintf("%s %d", title, i))
			require.NoError(t, os.WriteFile(at+"a.zip", []byte(zipOf(files[0]...)), 0o644))
			require.NoError(t, os.WriteFile(at+"b.tar", []byte(tarOf(files[1]...)), 0o644))
			across(t, o, at+"a.zip", at+"b.tar")
			across(t, o, at+"b.tar", at+"a.zip")
		}
	}

	limits := archive.DefaultLimits()
	if runtime.GOMAXPROCS(0) > 2 { // so many may be looked into at once
		defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(2))
	}
	limits.Bytes = 34 << 20
	seen := NewSeen()
	s, err := Run(context.Background(), one, Options{Limits: limits, Seen: seen})
	require.NoError(t, err)
	assert.Len(t, s.Items, 1+10)
	_, err = Run(context.Background(), one, Options{Limits: limits, apart: true})
	assert.ErrorContains(t, err, "bytes")
	parts := func() (n int) {
		for _, known := range seen.parts {
			n += known.Taken()
		}
		return n
	}
	before := parts()
	assert.GreaterOrEqual(t, before, 8)
	_, err = Run(context.Background(), other, Options{Limits: limits, Seen: seen})
	require.NoError(t, err)
	assert.Equal(t, before+10, parts(), "every payload of the other package is known")
	_, err = Run(context.Background(), other, Options{Limits: limits, Seen: seen, Formats: format.Builtin().With()})
	require.NoError(t, err)
	assert.Less(t, parts(), before+20, "what other formats read is not known")
}

// TestSeenIsBounded: what was seen long ago is forgotten.
func TestSeenIsBounded(t *testing.T) {
	s := NewSeen()
	var first seenKey
	for i := range 3 * maxSeen / 100 {
		k := seenKey{view: view{limits: archive.Limits{Depth: i}}}
		if i == 0 {
			first = k
		}
		s.keep(k, &snapshot{of: &archive.Item{}, items: make([]*Item, 100)})
	}
	assert.LessOrEqual(t, s.items, maxSeen)
	assert.Equal(t, s.found.Len(), len(s.of))
	assert.Nil(t, s.known(first))
	assert.NotNil(t, s.known(seenKey{view: view{limits: archive.Limits{Depth: 3*maxSeen/100 - 1}}}))
	s.keep(first, &snapshot{of: &archive.Item{}, items: make([]*Item, maxSnapshot+1)})
	assert.Nil(t, s.known(first), "a package of many items is not kept whole")
}
