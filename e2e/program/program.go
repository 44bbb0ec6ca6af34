// Package program builds the program for tests, and runs it on files in a
// temporary folder, the way a user would.
package program

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
	_ "fitcheck/internal/cli" // what the program is built from: a change there makes results of earlier runs stale
)

// Path is where the program lies while tests run.
var Path string

// Main builds the program and runs the tests of a package with it.
func Main(m *testing.M) int {
	dir, err := os.MkdirTemp("", "fitcheck-e2e-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	Path = filepath.Join(dir, "fitcheck")
	if runtime.GOOS == "windows" {
		Path += ".exe"
	}
	args := []string{"build", "-o", Path}
	if os.Getenv("GOCOVERDIR") != "" { // .ci/coverage counts what the program runs
		args = append(args, "-cover", "-coverpkg=fitcheck/...")
	}
	build := exec.Command("go", append(args, "fitcheck/cmd/fitcheck")...)
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "%s\n%v\n", out, err)
		return 1
	}
	// After the build, whose cache lies there, too.
	for _, name := range []string{"XDG_CACHE_HOME", "HOME", "LocalAppData"} { // what the program remembers is this test's alone
		if name != "HOME" || runtime.GOOS == "darwin" {
			os.Setenv(name, filepath.Join(dir, "cache"))
		}
	}
	return m.Run()
}

// Ran is what one call of the program gave.
type Ran struct {
	Status      int
	Out, Errout string
}

// Text is what was printed in one line, so that it does not matter where lines end.
func (r Ran) Text() string { return strings.Join(strings.Fields(r.Out), " ") }

// Call runs the program in a folder.
func Call(t *testing.T, dir string, args ...string) Ran {
	t.Helper()
	var out, errout bytes.Buffer
	c := exec.Command(Path, args...)
	c.Dir, c.Stdout, c.Stderr = dir, &out, &errout
	c.Env = append(os.Environ(), "FITCHECK_KIT=")
	err := c.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	assert.NotContains(t, errout.String(), "goroutine", "no stack trace reaches the user")
	if slices.Contains(args, "-json") {
		holdAgainstSchemas(t, out.Bytes(), args)
	}
	return Ran{c.ProcessState.ExitCode(), out.String(), errout.String()}
}

// Document parses the one JSON document that a call with -json prints.
func Document(t *testing.T, r Ran) map[string]any {
	t.Helper()
	var doc map[string]any
	require.NoError(t, json.Unmarshal([]byte(r.Out), &doc), r.Out+r.Errout)
	return doc
}

// Result is the only result of a document that has a list of them (match, path, runbook,
// confirm), as JSON.
func Result(t *testing.T, out string) []byte {
	t.Helper()
	var doc struct{ Results []json.RawMessage }
	require.NoError(t, json.Unmarshal([]byte(out), &doc), out)
	require.Len(t, doc.Results, 1, out)
	return doc.Results[0]
}

// One parses the only result of such a document.
func One(t *testing.T, r Ran) map[string]any {
	t.Helper()
	var doc map[string]any
	require.NoError(t, json.Unmarshal(Result(t, r.Out), &doc), r.Out+r.Errout)
	return doc
}

// WriteKit lays the demo kit out in a temporary folder.
func WriteKit(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		Write(t, dir, f.Path, f.Data)
	}
	return dir
}

func Write(t *testing.T, dir, name string, data []byte) string {
	t.Helper()
	p := filepath.Join(dir, filepath.FromSlash(name))
	require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
	require.NoError(t, os.WriteFile(p, data, 0o644))
	return p
}

// ZipOf packs files, sorted by name.
func ZipOf(t *testing.T, files map[string][]byte) []byte {
	t.Helper()
	var names []string
	for n := range files {
		names = append(names, n)
	}
	sort.Strings(names)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	w.RegisterCompressor(zip.Deflate, func(out io.Writer) (io.WriteCloser, error) { return flate.NewWriter(out, flate.BestSpeed) })
	for _, n := range names {
		e, err := w.Create(n)
		require.NoError(t, err)
		_, err = e.Write(files[n])
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Unzip returns the files of the demo's good bundle.
func Unzip(t *testing.T, kit, name string) map[string][]byte {
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
func Deciding(doc map[string]any) []string {
	var out []string
	verdict := doc["verdict"]
	if results, _ := doc["results"].([]any); len(results) > 0 { // the best one
		doc = results[0].(map[string]any)
	}
	add := func(checks any) {
		list, _ := checks.([]any)
		for _, c := range list {
			m := c.(map[string]any)
			if m["outcome"] == verdict {
				out = append(out, m["check"].(string))
			}
		}
	}
	add(doc["checks"])
	members, _ := doc["members"].([]any)
	for _, m := range members {
		add(m.(map[string]any)["checks"])
	}
	return out
}

// FreePorts fills two ports into arguments.
func FreePorts(t *testing.T) func([]string) []string {
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
