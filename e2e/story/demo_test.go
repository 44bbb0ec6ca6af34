package story

import (
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
	"fitcheck/e2e/program"
)

func TestDemo(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "kit")
	r := program.Call(t, t.TempDir(), "demo", "-all", dir)
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	assert.NotContains(t, r.Out, "OTHERWISE")
	assert.NotContains(t, r.Out, "\x1b", "no colour in a pipe")
	first := r.Out
	before := snapshot(t, dir)
	r = program.Call(t, t.TempDir(), "demo", "-all", dir)
	require.Equal(t, 0, r.Status, r.Errout)
	assert.Equal(t, steady(first), steady(r.Out), "the same story at every run")
	again := snapshot(t, dir)
	delete(before, filepath.Join(dir, "tonight.jsonl")) // which tells the time
	delete(again, filepath.Join(dir, "tonight.jsonl"))
	assert.Equal(t, before, again, "the same bytes at every run")

	program.Write(t, dir, "devices/cabinet-07.yaml", []byte("mine"))
	r = program.Call(t, t.TempDir(), "demo", "-all", dir)
	assert.Equal(t, 4, r.Status)
	assert.Contains(t, r.Errout, "cabinet-07.yaml")
	assert.Contains(t, r.Errout, "-replace")
	mine, err := os.ReadFile(filepath.Join(dir, "devices/cabinet-07.yaml"))
	require.NoError(t, err)
	assert.Equal(t, "mine", string(mine), "a file in the way stays")
}

// Without more, the demo is five scenes, none longer than a screen; with a folder alone it
// writes the kit and says where to begin.
func TestDemoScenes(t *testing.T) {
	t.Parallel()
	r := program.Call(t, t.TempDir(), "demo")
	require.Equal(t, 0, r.Status, r.Out+r.Errout)
	scenes := strings.Split(r.Out, strings.Repeat("=", 100)+"\n")[1:]
	assert.Len(t, scenes, 5)
	for _, s := range scenes {
		assert.LessOrEqual(t, strings.Count(s, "\n"), 25+4, s) // the tale and the command besides
	}
	assert.Contains(t, r.Out, "demo -all")

	dir := filepath.Join(t.TempDir(), "my kit")
	r = program.Call(t, t.TempDir(), "demo", dir)
	require.Equal(t, 0, r.Status, r.Errout)
	assert.Contains(t, r.Out, "cd '"+dir+"'", "a name with a blank can be pasted")
	for _, line := range strings.Split(r.Out, "\n") {
		if args, ok := strings.CutPrefix(strings.TrimSpace(line), "fitcheck "); ok && !strings.HasPrefix(args, "help") {
			got := program.Call(t, dir, strings.Fields(args)...)
			assert.NotEqual(t, 2, got.Status, "%s works as it is printed: %s", args, got.Errout)
			assert.NotEqual(t, 4, got.Status, "%s works as it is printed: %s", args, got.Errout)
		}
	}
	doc := program.Document(t, program.Call(t, t.TempDir(), "demo", "-json", dir))
	assert.Equal(t, dir, doc["kit"])
}

// steady takes out what differs from run to run: what happens live, and that staged files
// are there already.
func steady(text string) string {
	scenes := strings.Split(text, strings.Repeat("=", 100)+"\n")
	scenes = slices.DeleteFunc(scenes, func(s string) bool { return strings.Contains(s, "-watch") || strings.Contains(s, "-follow") })
	text = strings.Join(strings.Fields(strings.Join(scenes, "\n")), " ") // wherever lines end
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

// Every case of the story comes out by its exit status, verdict and deciding
// check when its command is typed by hand.
func TestStoryByHand(t *testing.T) {
	kit := program.WriteKit(t)
	for _, c := range demo.Story() {
		t.Run(c.Name, func(t *testing.T) {
			if c.Console != "" {
				t.Skip("somebody sits at its console")
			}
			args := append(append([]string{}, c.Args...), "-json")
			if len(c.Beside) > 0 {
				fill := program.FreePorts(t)
				args = fill(args)
				other := exec.Command(program.Path, fill(c.Beside)...)
				other.Dir = kit
				require.NoError(t, other.Start())
				defer other.Wait()
				defer other.Process.Kill()
			}
			r := program.Call(t, kit, args...)
			assert.Equal(t, c.Exit, r.Status, r.Out+r.Errout)
			doc := program.Document(t, r)
			assert.Equal(t, c.Args[0], doc["fitcheck"].(map[string]any)["document"])
			if c.Verdict != "" {
				assert.Equal(t, c.Verdict, doc["verdict"])
				assert.Subset(t, program.Deciding(doc), c.Deciding)
			}
		})
	}
}
