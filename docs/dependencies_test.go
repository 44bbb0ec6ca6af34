package docs

import (
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the licences into dependencies.md")

// licences are told by phrases of their texts. A file may hold several, of different parts of the module.
var licences = []struct{ phrase, name string }{
	{"Mozilla Public License Version 2.0", "MPL-2.0"},
	{"Mozilla Public License, version 2.0", "MPL-2.0"},
	{"Apache License", "Apache-2.0"},
	{"CC0 1.0 Universal", "CC0-1.0"},
	{"public domain", "public domain"},
	{"Neither the name", "BSD-3-Clause"},
	{"Redistributions of source code", "BSD-2-Clause"},
	{"Permission is hereby granted, free of charge", "MIT"},
}

func licenceOf(dir string) string {
	var names []string
	files, _ := filepath.Glob(filepath.Join(dir, "[LC][IO][CP][EY]*"))
	for _, f := range files {
		text, err := os.ReadFile(f)
		if err != nil {
			continue
		}
		flat := strings.Join(strings.Fields(string(text)), " ")
		for _, l := range licences {
			if strings.Contains(flat, l.phrase) && !slices.Contains(names, l.name) {
				names = append(names, l.name)
			}
		}
	}
	if slices.Contains(names, "BSD-3-Clause") {
		names = slices.DeleteFunc(names, func(n string) bool { return n == "BSD-2-Clause" }) // its beginning is the same
	}
	if len(names) == 0 {
		return "not told"
	}
	return strings.Join(names, " and ")
}

// modules are those that packages come from, with their folders.
func modules(t *testing.T, args ...string) map[string]string {
	out, err := exec.Command("go", append([]string{"list", "-deps", "-f", "{{with .Module}}{{.Path}} {{.Dir}}{{end}}"}, args...)...).Output()
	require.NoError(t, err)
	all := map[string]string{}
	for line := range strings.Lines(string(out)) {
		if path, dir, ok := strings.Cut(strings.TrimSpace(line), " "); ok && path != "fitcheck" {
			all[path] = dir
		}
	}
	return all
}

// Each module that is asked for has its line, and the licences of all that the program is linked with are
// listed.
func TestDependencies(t *testing.T) {
	const page = "dependencies.md"
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	mod, err := os.ReadFile("../go.mod")
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`(?m)^(?:require |\t)(\S+\.\S+/\S+) v\S+$`).FindAllStringSubmatch(string(mod), -1) {
		assert.Contains(t, string(text), "| `"+m[1]+"` |", "%s has no line of %s", page, m[1])
	}
	var b strings.Builder
	b.WriteString("\n| module | licence |\n|---|---|\n")
	linked := modules(t, "../cmd/fitcheck")
	for _, path := range slices.Sorted(maps.Keys(linked)) {
		name := licenceOf(linked[path])
		assert.NotEqual(t, "not told", name, "the licence of %s", path)
		fmt.Fprintf(&b, "| `%s` | %s |\n", path, name)
	}
	b.WriteString("\n")
	const begin, end = "<!-- licences: go test ./docs -run TestDependencies -update -->\n", "<!-- end of licences -->"
	before, rest, ok := strings.Cut(string(text), begin)
	require.True(t, ok)
	_, after, ok := strings.Cut(rest, end)
	require.True(t, ok)
	want := before + begin + b.String() + end + after
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(want), 0o644))
		return
	}
	assert.Equal(t, want, string(text), "out of date: go test ./docs -run TestDependencies -update")
}
