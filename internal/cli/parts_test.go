package cli

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaidOfPackagesInPart holds what verdicts say of packages of the demo kit of which something is missing, lies under
// another name, or in the place of something else, against testdata/parts.txt.
func TestWhatIsSaidOfPackagesInPart(t *testing.T) {
	page, err := filepath.Abs("testdata/parts.txt")
	require.NoError(t, err)
	kit := kitDir(t)
	t.Chdir(kit)
	var b strings.Builder
	for _, c := range []struct {
		pkg     string
		devices []string
	}{
		{"qm-tram-8.4.2", []string{"cabinet-07", "cabinet-12"}},
		{"qm-core-6.4.1", []string{"depot-core"}},
		{"qm-core-6.3.0", []string{"depot-core"}},
		{"vg20-5.1.0", []string{"ops-gateways"}},
		{"vr510-recovery-3.4.0", []string{"platform-2"}},
	} {
		name := "packages/" + c.pkg + ".zip"
		sound := entriesOf(t, name)
		for _, device := range c.devices {
			fmt.Fprintf(&b, "## %s for %s\n", c.pkg, device)
			judge := func(content []zipped) []string {
				require.NoError(t, os.WriteFile(name, zipOfAll(t, content), 0o644))
				status, out, errout := run("match", "-why", "-device", device, name)
				return append(strings.Split(steadily(out+errout, kit), "\n"), fmt.Sprintf("exit %d", status))
			}
			changes := pagetest.Changes{Sound: judge(sound), Alike: anyDigest, Most: 120}
			for i, e := range sound {
				look := func(what string, content []zipped) {
					changes.Tell(&b, fmt.Sprintf("%s %s", path.Base(e.name), what), judge(content))
				}
				look("missing", slices.Delete(slices.Clone(sound), i, i+1))
				look("alone", sound[i:i+1])
				look("twice", append(slices.Clone(sound), zipped{"again/" + path.Base(e.name), e.data}))
				other := slices.Clone(sound)
				other[i].name = path.Join(path.Dir(e.name), "x"+path.Base(e.name))
				look("under another name", other)
				other = slices.Clone(sound)
				other[i].data = sound[(i+1)%len(sound)].data
				look("holds what the next one does", other)
				other = slices.Clone(sound)
				other[i].data = e.data[:len(e.data)/2]
				look("cut", other)
				changes.End(&b, path.Base(e.name))
			}
		}
		require.NoError(t, os.WriteFile(name, zipOfAll(t, sound), 0o644))
	}
	pagetest.Hold(t, page, b.String())
}

var anyDigest = regexp.MustCompile(`\b[0-9a-f]{8,}\b|\d+`)

type zipped struct {
	name string
	data []byte
}

func entriesOf(t *testing.T, name string) []zipped {
	t.Helper()
	z, err := zip.OpenReader(name)
	require.NoError(t, err)
	defer z.Close()
	var out []zipped
	for _, f := range z.File {
		if f.FileInfo().IsDir() {
			continue
		}
		r, err := f.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		out = append(out, zipped{f.Name, data})
	}
	return out
}

func zipOfAll(t *testing.T, content []zipped) []byte {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, e := range content {
		f, err := w.Create(e.name)
		require.NoError(t, err)
		_, err = f.Write(e.data)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}
