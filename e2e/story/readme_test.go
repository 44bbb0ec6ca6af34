package story

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/demo"
	"fitcheck/e2e/program"
)

// The README is true to the letter: its first commands, run in an empty folder with a download
// and a capture of a line that nobody has seen, lead to a first verdict.
func TestReadme(t *testing.T) {
	t.Parallel()
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	dir := t.TempDir()
	img := demo.UImage(5, 2, 2, "HX-16P 2.1.0", []byte(strings.Repeat("not the demo's ", 4000)))
	program.Write(t, dir, "my-download.zip", program.ZipOf(t, map[string][]byte{
		"hx-2.1.0/hx16p.img": img, "hx-2.1.0/files.csv": []byte("model;revisions;file;version\nHX-16P;r3,r4;hx16p.img;2.1.0\n"), "hx-2.1.0/README.txt": []byte("Release 2.1.0\n\nUpgrade from 2.0.0 or later only.\n"),
	}))
	program.Write(t, dir, "console.txt", []byte("hx> show version\nProduct name      : HX-16P\nHardware revision : r3\nSoftware version  : 2.0.4\n"))
	blocks := regexp.MustCompile("(?s)<!-- these commands are run by a test.*?```\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	require.Len(t, blocks, 2)
	var last program.Ran
	for i, b := range blocks {
		for _, command := range strings.Split(strings.TrimSpace(b[1]), "\n") {
			args, ok := strings.CutPrefix(command, "fitcheck ")
			require.True(t, ok, command)
			last = program.Call(t, dir, strings.Fields(args)...)
			assert.Contains(t, []int{0, 1, 3}, last.Status, "%s: %s", command, last.Errout)
			assert.NotEmpty(t, last.Out, command)
			if settle := regexp.MustCompile(`fitcheck (device -out \S+ -replace(?: -set \S+)+)`).FindStringSubmatch(last.Out); settle != nil && strings.HasPrefix(args, "device") {
				r := program.Call(t, dir, strings.Fields(settle[1])...) // as it is offered
				assert.Equal(t, 0, r.Status, "%s: %s%s", settle[0], r.Out, r.Errout)
			}
		}
		if i == 0 {
			assert.Equal(t, 3, last.Status, "without a rulebook it is not settled")
		}
	}
	assert.Equal(t, 3, last.Status, "a draft decides nothing yet")
	assert.Contains(t, strings.Join(strings.Fields(last.Out), " "), "take its GUESS away")
	rules := filepath.Join(dir, "rulebooks/line.yaml")
	draft, err := os.ReadFile(rules)
	require.NoError(t, err)
	confirmed := regexp.MustCompile(`\s+# GUESS.*`).ReplaceAllString(string(draft), "")
	require.NoError(t, os.WriteFile(rules, []byte(confirmed), 0o644))
	assert.Contains(t, confirmed, `{component: main, within: ">=2.0.0", source: README}`, "as the notes in it say")
	last = program.Call(t, dir, "match", "-device", "mine", "my-download.zip")
	assert.Equal(t, 0, last.Status, last.Out)

	// What it links to is there.
	for _, m := range regexp.MustCompile(`\]\(([^)#]+)\)`).FindAllStringSubmatch(string(text), -1) {
		_, err := os.Stat(filepath.Join("../..", m[1]))
		assert.NoError(t, err, fmt.Sprint("README.md links to ", m[1]))
	}
}
