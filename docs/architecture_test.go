// Package docs holds the pages on the program against the program.
package docs

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Data flows one way: no package imports one that docs/architecture.md puts above it, each package has
// a row, and core knows neither flags nor what shows results.
func TestHouse(t *testing.T) {
	page, err := os.ReadFile("architecture.md")
	require.NoError(t, err)
	table, _, ok := strings.Cut(string(page), "## Three walks")
	require.True(t, ok)
	floor := map[string]int{}
	named := regexp.MustCompile("`((?:core|internal|cmd)/[^`]*|xzarm)`")
	for n, line := range strings.Split(table, "\n") {
		if cells := strings.Split(line, "|"); len(cells) > 3 {
			for _, m := range named.FindAllStringSubmatch(strings.Join(cells[2:], "|"), -1) {
				if floor[m[1]] == 0 {
					floor[m[1]] = n
				}
			}
		}
	}
	of := func(pkg string) int {
		switch {
		case strings.HasPrefix(pkg, "core/image/format"):
			return floor["core/image/format/…"]
		case pkg == "core/xzarm":
			return floor["xzarm"]
		}
		return floor[pkg]
	}
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "fitcheck/core/...", "fitcheck/internal/...", "fitcheck/cmd/...").Output()
	require.NoError(t, err)
	for line := range strings.Lines(string(out)) {
		imports := strings.Fields(line)
		pkg := strings.TrimPrefix(imports[0], "fitcheck/")
		if strings.HasSuffix(pkg, "test") {
			continue // what tests import
		}
		if !assert.NotZero(t, of(pkg), "docs/architecture.md has no row of %s", pkg) {
			continue
		}
		for _, i := range imports[1:] {
			if i == "flag" || i == "fitcheck/demo" {
				assert.False(t, strings.HasPrefix(pkg, "core/"), "%s imports %s", pkg, i)
			}
			other, ours := strings.CutPrefix(i, "fitcheck/")
			if ours && other != "demo" {
				assert.GreaterOrEqual(t, of(other), of(pkg), "%s imports %s, which docs/architecture.md puts above it", pkg, other)
			}
		}
	}
}

// What the three walks name is there under that name.
func TestWalksNameWhatIsThere(t *testing.T) {
	page, err := os.ReadFile("architecture.md")
	require.NoError(t, err)
	_, walks, ok := strings.Cut(string(page), "## Three walks")
	require.True(t, ok)
	walks, _, _ = strings.Cut(walks, "\n## ")
	folders := map[string]string{"present": "../internal/present", "check": "../core/fit/check", "boot": "../core/image/format/boot"}
	step := regexp.MustCompile(`(?m)^([a-z]+)\.(?:\(\*)?(\w+)\)?(?:\.(\w+))? `)
	found := step.FindAllStringSubmatch(walks, -1)
	assert.Greater(t, len(found), 15)
	for _, m := range found {
		dir := folders[m[1]]
		if dir == "" {
			dir = "../core/" + m[1]
		}
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		require.NoError(t, err)
		var code strings.Builder
		for _, f := range files {
			text, err := os.ReadFile(f)
			require.NoError(t, err)
			code.Write(text)
		}
		for _, name := range m[2:] {
			if name != "" {
				assert.Regexp(t, `(?m)^(func (\([^)]*\) )?|type |\t)`+name+`\b`, code.String(), "%s: there is no %s", strings.TrimSpace(m[0]), name)
			}
		}
	}
}
