package cli

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
	"fitcheck/internal/present"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The example of each command works as it is printed, in the demo kit.
func TestExamplesWork(t *testing.T) {
	t.Chdir(kitDir(t))
	for _, cmd := range commands() {
		require.NotEmpty(t, cmd.example, cmd.name)
		require.NotEmpty(t, cmd.part, cmd.name)
		args := strings.Fields(cmd.example)
		require.Equal(t, cmd.name, args[0])
		if cmd == standInCommand || cmd == serveCommand { // it waits for somebody to talk to
			continue
		}
		status, out, errout := run(append(args, "-q")...)
		assert.Equal(t, exitFits, status, "%s: %s%s", cmd.example, out, errout)
	}
}

// The manual pages say what the help says. `go test ./internal/cli -run TestManPages -update`
// writes them.
func TestManPages(t *testing.T) {
	pages := map[string]string{}
	write := func(name string, args ...string) {
		_, out, _ := run(append([]string{"help", "-man"}, args...)...)
		pages[name+".1"] = out
	}
	write("fitcheck")
	for _, cmd := range commands() {
		write("fitcheck-"+cmd.name, cmd.name)
	}
	dir := filepath.Join("..", "..", "docs", "man")
	if pagetest.Update() {
		require.NoError(t, os.RemoveAll(dir))
		require.NoError(t, os.MkdirAll(dir, 0o755))
		for name, text := range pages {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
		}
	}
	there, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, there, len(pages))
	for name, text := range pages {
		have, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		assert.Equal(t, text, string(have), "out of date: go test ./internal/cli -run TestManPages -update")
	}
	for _, cmd := range commands() {
		cmd.allFlags().VisitAll(func(f *flag.Flag) {
			assert.Contains(t, pages["fitcheck-"+cmd.name+".1"], roff("-"+f.Name))
		})
	}
	if _, err := exec.LookPath("groff"); err != nil {
		t.Skip("no groff to read them")
	}
	for name, text := range pages {
		c := exec.Command("groff", "-man", "-Tutf8", "-ww", "-k")
		c.Stdin = strings.NewReader(text)
		var said bytes.Buffer
		c.Stderr = &said
		shown, err := c.Output()
		require.NoError(t, err, name)
		assert.Empty(t, said.String(), name)
		assert.Contains(t, strings.ReplaceAll(string(shown), "\b", ""), "interrupted", name)
	}
}

// What is misspelt on the command line is answered in plain words, with what was meant.
func TestMisspelt(t *testing.T) {
	kit := kitDir(t)
	for _, c := range []struct{ call, says string }{
		{"mach", "did you mean match?"},
		{"help mach", "did you mean match?"},
		{"match -devise x", "there is no flag -devise; did you mean -device?"},
		{"match -evidence=perhaps", "-evidence takes no value"},
		{"survey p -max-items many", `-max-items takes a number, not "many"`},
		{"match -device", "-device takes a value, and none follows it"},
		{"match ---device x", "is no flag"},
		{"match -device cabinet-7 qm-tram-8.4.2.zip -kit " + kit, "did you mean cabinet-07?"},
		{"confirm -device cabinet-07 -to 8.4.2 -after gone.txt -kit " + kit, "gone.txt"},
	} {
		status, out, errout := run(strings.Fields(c.call)...)
		assert.GreaterOrEqual(t, status, exitUsage, c.call)
		assert.Contains(t, errout+out, c.says, c.call)
	}
	_, out, _ := run("path", "-device", "depot-core", "-to", "lastest", "-kit", kit)
	assert.Contains(t, out, "did you mean latest?")
}

// Below the kit's folder the kit is found all the same.
func TestKitAbove(t *testing.T) {
	kit := kitDir(t)
	deep := filepath.Join(kit, "packages", "of", "ours")
	require.NoError(t, os.MkdirAll(deep, 0o755))
	t.Chdir(deep)
	t.Setenv("FITCHECK_KIT", "")
	status, out, errout := run("match", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	assert.Equal(t, exitFits, status, errout)
	assert.Contains(t, out, "fits cabinet-07")
	status, out, _ = run("path", "-device", "cabinet-07", "-to", "latest")
	assert.Equal(t, exitFits, status)
	at := strings.Index(out, "fitcheck stage")
	require.Positive(t, at)
	status, _, errout = run(strings.Fields(strings.SplitN(out[at:], "\n", 2)[0])[1:]...)
	assert.Equal(t, exitFits, status, "what is offered works from here, too: %s", errout)
}

// Lists are in the order in which people count: 2 before 10.
func TestListsAreInOrder(t *testing.T) {
	dir := t.TempDir()
	device := "kind: device\nname: cab-%d\nmodel: X-1\n"
	for _, n := range []int{10, 2, 1} {
		for _, f := range []struct{ name, text string }{{fmt.Sprintf("devices/cab-%d.yaml", n), fmt.Sprintf(device, n)}, {fmt.Sprintf("packages/p/part-%d.txt", n), "words\n"}} {
			p := filepath.Join(dir, f.name)
			require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
			require.NoError(t, os.WriteFile(p, []byte(f.text), 0o644))
		}
	}
	inOrder := func(text string, of string) {
		t.Helper()
		one, two, ten := strings.Index(text, fmt.Sprintf(of, 1)), strings.Index(text, fmt.Sprintf(of, 2)), strings.Index(text, fmt.Sprintf(of, 10))
		assert.True(t, one >= 0 && one < two && two < ten, text)
	}
	_, out, _ := run("survey", filepath.Join(dir, "packages/p"), "-kit", dir)
	inOrder(out, "part-%d.txt")
	_, out, errout := run("match", "-brief", "-device", filepath.Join(dir, "devices"), filepath.Join(dir, "packages/p"), "-kit", dir)
	inOrder(out+errout, "cab-%d ")
	_, _, errout = run("match", "-device", "nothing-like-them", "p", "-kit", dir)
	inOrder(strings.ReplaceAll(errout, "\n", ",")+",", "cab-%d,")
}

// What a command tells as JSON has a schema.
func TestDocumentsHaveSchemas(t *testing.T) {
	for _, cmd := range commands() {
		has := slices.ContainsFunc(present.Documents(), func(d string) bool { return d == cmd.name || strings.HasPrefix(d, cmd.name+" ") })
		assert.True(t, has || !cmd.tells, "the document of %s has no schema: form(…) beside it in internal/present", cmd.name)
	}
}
