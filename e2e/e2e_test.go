// Package e2e drives the built program on files in a temporary folder, the
// way a user would.
package e2e

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/crc32"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
	_ "fitcheck/internal/cli" // what the program is built from: a change there makes results of earlier runs stale
)

var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "fitcheck-e2e-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "fitcheck")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	build := exec.Command("go", "build", "-o", program, "../cmd/fitcheck")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n%v\n", out, err)
		os.Exit(1)
	}
	status := m.Run()
	os.RemoveAll(dir)
	os.Exit(status)
}

// ran is what one call of the program gave.
type ran struct {
	status      int
	out, errout string
}

// call runs the program in a folder.
func call(t *testing.T, dir string, args ...string) ran {
	t.Helper()
	var out, errout bytes.Buffer
	c := exec.Command(program, args...)
	c.Dir, c.Stdout, c.Stderr = dir, &out, &errout
	c.Env = append(os.Environ(), "FITCHECK_KIT=")
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	assert.NotContains(t, errout.String(), "goroutine", "no stack trace reaches the user")
	return ran{c.ProcessState.ExitCode(), out.String(), errout.String()}
}

// document parses the one JSON document that a call with -json prints.
func document(t *testing.T, r ran) map[string]any {
	t.Helper()
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc), r.out+r.errout)
	return doc
}

// writeKit lays the demo kit out in a temporary folder.
func writeKit(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		write(t, dir, f.Path, f.Data)
	}
	return dir
}

func write(t *testing.T, dir, name string, data []byte) string {
	t.Helper()
	p := filepath.Join(dir, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(t, os.WriteFile(p, data, 0o644))
	return p
}

// zipOf packs files, sorted by name.
func zipOf(t *testing.T, files map[string][]byte) []byte {
	t.Helper()
	var names []string
	for n := range files {
		names = append(names, n)
	}
	sort.Strings(names)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, n := range names {
		e, err := w.Create(n)
		require.NoError(t, err)
		_, err = e.Write(files[n])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// unzip returns the files of the demo's good bundle.
func unzip(t *testing.T, kit, name string) map[string][]byte {
	t.Helper()
	z, err := zip.OpenReader(filepath.Join(kit, "packages", name))
	require.NoError(t, err)
	defer z.Close()
	out := map[string][]byte{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		var b bytes.Buffer
		_, err = b.ReadFrom(r)
		require.NoError(t, err)
		out[f.Name] = b.Bytes()
	}
	return out
}

// worst lists the checks of a match document that have its verdict.
func deciding(doc map[string]any) []string {
	var out []string
	add := func(checks any) {
		list, _ := checks.([]any)
		for _, c := range list {
			m := c.(map[string]any)
			if m["outcome"] == doc["verdict"] {
				out = append(out, m["check"].(string))
			}
		}
	}
	add(doc["checks"])
	members, _ := doc["members"].([]any) // of several packages there is a list of verdicts
	for _, m := range members {
		add(m.(map[string]any)["checks"])
	}
	return out
}

func TestDemo(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "kit")
	r := call(t, t.TempDir(), "demo", dir)
	require.Equal(t, 0, r.status, r.out+r.errout)
	assert.NotContains(t, r.out, "OTHERWISE")
	assert.NotContains(t, r.out, "\x1b", "no colour in a pipe")
	first := r.out
	before := snapshot(t, dir)
	r = call(t, t.TempDir(), "demo", dir)
	require.Equal(t, 0, r.status, r.errout)
	assert.Equal(t, steady(first), steady(r.out), "the same story at every run")
	assert.Equal(t, before, snapshot(t, dir), "the same bytes at every run")

	write(t, dir, "devices/cabinet-07.yaml", []byte("mine"))
	r = call(t, t.TempDir(), "demo", dir)
	assert.Equal(t, 4, r.status)
	assert.Contains(t, r.errout, "cabinet-07.yaml")
	assert.Contains(t, r.errout, "-replace")
	mine, err := os.ReadFile(filepath.Join(dir, "devices/cabinet-07.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(mine), "a file in the way stays")
	assert.Equal(t, 0, call(t, t.TempDir(), "demo", "-replace", dir).status)
}

// steady takes out what differs from run to run: the ports that are free, the
// times of what happens live, and that staged files are there already.
func steady(text string) string {
	text = regexp.MustCompile(`(?m)^ +\d+\.\ds  .*\n`).ReplaceAllString(text, "")
	text = regexp.MustCompile(`(port |-port |udp:)\d+`).ReplaceAllString(text, "$1")
	return strings.ReplaceAll(text, ", all there already, as they should be", "")
}

func snapshot(t *testing.T, dir string) map[string]uint32 {
	out := map[string]uint32{}
	require.NoError(t, filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			b, err := os.ReadFile(p)
			require.NoError(t, err)
			out[p] = crc32.ChecksumIEEE(b)
		}
		return err
	}))
	return out
}

// freePorts fills two ports into arguments.
func freePorts(t *testing.T) func([]string) []string {
	var ports []string
	for range 2 {
		c, err := net.ListenUDP("udp4", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
		require.NoError(t, err)
		ports = append(ports, fmt.Sprint(c.LocalAddr().(*net.UDPAddr).Port))
		defer c.Close()
	}
	return func(args []string) []string {
		var out []string
		for _, a := range args {
			out = append(out, strings.NewReplacer("PORT", ports[0], "ECHO", ports[1]).Replace(a))
		}
		return out
	}
}

// Every case of the story comes out by its exit status, verdict and deciding
// check when its command is typed by hand.
func TestStoryByHand(t *testing.T) {
	kit := writeKit(t)
	for _, c := range demo.Story() {
		t.Run(c.Name, func(t *testing.T) {
			args := append(append([]string{}, c.Args...), "-json")
			if len(c.Beside) > 0 {
				fill := freePorts(t)
				args = fill(args)
				other := exec.Command(program, fill(c.Beside)...)
				other.Dir = kit
				require.NoError(t, other.Start())
				defer other.Wait()
				defer other.Process.Kill()
			}
			r := call(t, kit, args...)
			assert.Equal(t, c.Exit, r.status, r.out+r.errout)
			doc := document(t, r)
			assert.Equal(t, c.Args[0], doc["fitcheck"].(map[string]any)["document"])
			if c.Verdict != "" {
				assert.Equal(t, c.Verdict, doc["verdict"])
				assert.Subset(t, deciding(doc), c.Deciding)
			}
		})
	}
}

// A flipped bit anywhere in the chosen image, header or payload, makes a
// misfit that names the checksum, also where no digest was published.
func TestFlippedBit(t *testing.T) {
	kit := writeKit(t)
	files := unzip(t, kit, "qm-tram-8.4.2.zip")
	delete(files, "qm-tram-8.4.2/qm.sha256")
	rules, err := os.ReadFile(filepath.Join(kit, "rulebooks/quillmere.yaml"))
	require.NoError(t, err)
	write(t, kit, "rulebooks/quillmere.yaml", bytes.Replace(rules, []byte("    checksums: '**/*.sha256'\n"), nil, 1))
	write(t, kit, "packages/qm-tram-8.4.2.zip", zipOf(t, files))
	require.Equal(t, 0, call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip").status)
	const name = "qm-tram-8.4.2/qm8t-a.img"
	good := files[name]
	for _, at := range []int{0, 3, 5, 8, 13, 25, 28, 29, 30, 31, 32, 45, 63, 64, 1000, len(good) / 2, len(good) - 1} {
		bad := bytes.Clone(good)
		bad[at] ^= 1 << (at % 8)
		files[name] = bad
		write(t, kit, "packages/qm-tram-8.4.2.zip", zipOf(t, files))
		r := call(t, kit, "match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
		require.Equal(t, 1, r.status, "byte %d\n%s", at, r.out)
		require.Contains(t, r.out, "crc32 does not match", "byte %d", at)
	}
}

// A file that is only renamed is never a fit.
func TestRenamed(t *testing.T) {
	kit := writeKit(t)
	img := unzip(t, kit, "qm-tram-8.4.2.zip")["qm-tram-8.4.2/qm24t.img"]
	for _, name := range []string{"QM-8T-8.4.2.img", "qm-tram-8.4.2.zip", "qm8t-a.img", "x.bin"} {
		dir := t.TempDir()
		p := write(t, dir, name, img)
		r := call(t, dir, "match", "-kit", kit, "-device", "cabinet-07", p)
		assert.NotEqual(t, 0, r.status, "%s\n%s", name, r.out)
		assert.Contains(t, r.out, "QM-24T")
	}
}

// uimage builds a U-Boot legacy image with right checksums.
func uimage(arch byte, title string, payload []byte) []byte {
	h := make([]byte, 64)
	binary.BigEndian.PutUint32(h[0:], 0x27051956)
	binary.BigEndian.PutUint32(h[12:], uint32(len(payload)))
	binary.BigEndian.PutUint32(h[24:], crc32.ChecksumIEEE(payload))
	h[28], h[29], h[30] = 5, arch, 2
	copy(h[32:], title)
	binary.BigEndian.PutUint32(h[4:], crc32.ChecksumIEEE(h))
	return append(h, payload...)
}
