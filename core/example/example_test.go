package example

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// open writes the demo kit, and opens it.
func open(t *testing.T) *kit.Kit {
	t.Helper()
	dir := t.TempDir()
	for _, f := range demo.Kit() {
		at := filepath.Join(dir, filepath.FromSlash(f.Path))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, f.Data, 0o644))
	}
	k, err := kit.Open(dir)
	require.NoError(t, err)
	return k
}

// reader surveys the packages of a kit, each once.
func reader(k *kit.Kit) func(ctx context.Context, name string) (*survey.Survey, error) {
	seen := map[string]*survey.Survey{}
	return func(ctx context.Context, name string) (*survey.Survey, error) {
		if s, ok := seen[name]; ok {
			return s, nil
		}
		s, err := survey.Run(ctx, k.Package(name), survey.Options{Limits: archive.DefaultLimits(), Formats: k.Formats, Keys: k.Key, Rulebooks: k.Rulebooks})
		seen[name] = s
		return s, err
	}
}

// with is a rulebook to which examples are added.
func with(t *testing.T, rb *rulebook.Rulebook, dir string, lines ...string) *rulebook.Rulebook {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(rb.File)))
	require.NoError(t, err)
	text := string(data)
	for _, l := range lines {
		var ok bool
		text, ok = Add(text, l)
		require.True(t, ok, l)
	}
	out, err := rulebook.Read(rb.File, []byte(text))
	require.NoError(t, err, text)
	require.Len(t, out.Examples, len(lines))
	return out
}

// An example that is written of what came of a device and a package of the demo kit holds, and one that wants something
// else does not: testdata/ran.txt tells what comes of them.
func TestWhatExamplesBring(t *testing.T) {
	k := open(t)
	read := reader(k)
	devices, err := k.Devices([]string{filepath.Join(k.Dir, "devices")})
	require.NoError(t, err)
	packages, err := k.Packages(filepath.Join(k.Dir, "packages"), true)
	require.NoError(t, err)
	require.NotEmpty(t, packages)
	ctx := context.Background()
	var b strings.Builder
	for _, d := range devices {
		rb, err := k.RulebookFor(d.All()[0].Model.Text)
		require.NoError(t, err)
		if rb == nil {
			continue
		}
		var lines, wrong []string
		for _, p := range packages {
			name := "packages/" + filepath.Base(p)
			s, err := read(ctx, name)
			require.NoError(t, err)
			v := fit.MatchAll(d, rulesOf(rb), []*survey.Survey{s}, fit.Options{})[0]
			line := Line(d, func(b *device.Device) *member.Member { return member.Resolve(b, rb) }, v, name)
			lines = append(lines, line)
			want := "want: " + string(v.Outcome)
			for _, other := range []string{"fits", "misfit", "model.other"} {
				if other != string(v.Outcome) && (other != "misfit" || v.Outcome == fit.Fits) {
					wrong = append(wrong, strings.Replace(line, want, "want: "+other, 1))
				}
			}
		}
		ran, err := Run(ctx, k, with(t, rb, k.Dir, lines...), read)
		require.NoError(t, err)
		for i, r := range ran {
			assert.True(t, r.OK, "%s: %s: %s came", r.Source.Where(), lines[i], r.Came)
		}
		fmt.Fprintf(&b, "## %s\n%s\n", d.Name.Text, lines[0][:strings.Index(lines[0], ", package:")])
		ran, err = Run(ctx, k, with(t, rb, k.Dir, wrong...), read)
		require.NoError(t, err)
		for _, r := range ran {
			b.WriteString(pagetest.Cut(fmt.Sprintf("%s, want %s: %v, %s", r.Asks, r.Want, r.OK, r.Came), 300) + "\n")
		}
		b.WriteString(ways(t, k, rb, lines[0], read))
	}
	pagetest.Hold(t, filepath.Join("testdata", "ran.txt"), b.String())
}

// ways tells of the ways from a device to every release; those that are wanted as they came hold, and others do not.
func ways(t *testing.T, k *kit.Kit, rb *rulebook.Rulebook, line string, read func(context.Context, string) (*survey.Survey, error)) string {
	t.Helper()
	var b strings.Builder
	head := line[:strings.Index(line, ", package:")]
	to := []string{"certified:none", "99.9"}
	for _, rel := range rb.Releases {
		to = append(to, rel.Version.Text)
	}
	var lines []string
	for _, v := range to {
		lines = append(lines, head+", to: "+quote(v)+", want: [nothing]}")
	}
	ran, err := Run(context.Background(), k, with(t, rb, k.Dir, lines...), read)
	require.NoError(t, err)
	var held []string
	for i, r := range ran {
		fmt.Fprintf(&b, "%s: %v, %s\n", r.Asks, r.OK, r.Came)
		want := "[" + r.Came + "]"
		switch {
		case r.Came == "runs it already":
			want = "[]"
		case strings.HasPrefix(r.Came, "unsettled: "):
			want = "unsettled"
		case r.Came == "none":
			want = "none"
		case strings.Contains(r.Came, "certified") || !strings.ContainsAny(r.Came, "0123456789"):
			continue // it could not be asked
		}
		held = append(held, head+", to: "+quote(to[i])+", want: "+want+"}")
	}
	ran, err = Run(context.Background(), k, with(t, rb, k.Dir, held...), read)
	require.NoError(t, err)
	for i, r := range ran {
		assert.True(t, r.OK, "%s: %s came", held[i], r.Came)
	}
	return b.String()
}

// What is wanted of a capture is held against what it tells; what is not at hand is not known.
func TestWhatExamplesOfCapturesBring(t *testing.T) {
	k := open(t)
	rb, err := k.RulebookFor("QM-8T")
	require.NoError(t, err)
	captures, err := filepath.Glob(filepath.Join(k.Dir, "captures", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, captures)
	var lines []string
	for _, c := range captures {
		if info, err := os.Stat(c); err == nil && !info.IsDir() {
			lines = append(lines, "- {capture: captures/"+filepath.Base(c)+", want: {model: qm-8t, revision: A2, installed.main: '8.2.1', serial: x}}")
		}
	}
	lines = append(lines, "- {capture: captures/none.txt, want: {model: QM-8T}}", "- {capture: captures, want: {model: QM-8T}}", "- {device: {model: QM-8T}, package: packages/none.zip, want: fits}", "- {device: {model: QM-8T}, package: devices/cabinet-07.yaml, want: fits}")
	ran, err := Run(context.Background(), k, with(t, rb, k.Dir, lines...), reader(k))
	require.NoError(t, err)
	var b strings.Builder
	for _, r := range ran {
		fmt.Fprintf(&b, "%s, want %s: %v, missing %v, %s\n", r.Asks, r.Want, r.OK, r.Missing, strings.ReplaceAll(r.Came, k.Dir, "KIT"))
	}
	pagetest.Hold(t, filepath.Join("testdata", "captures.txt"), b.String())
	over, stop := context.WithCancel(context.Background())
	stop()
	_, err = Run(over, k, with(t, rb, k.Dir, lines...), reader(k))
	assert.ErrorIs(t, err, context.Canceled)
}
