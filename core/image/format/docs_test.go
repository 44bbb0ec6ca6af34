package format_test

import (
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/content"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/internal/pagetest"
)

// The tables of docs/formats.md are what the formats say of themselves.
func TestFormatsPage(t *testing.T) {
	const page = "../../../docs/formats.md"
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	tables := map[string]string{"files": files()}
	for _, room := range []image.Room{image.Boot, image.FileSystem, image.Disk, image.Update, image.Stream} {
		tables[string(room)] = rows(room)
	}
	between := regexp.MustCompile(`(?s)(<!-- table (\w+) -->\n).*?(<!-- end -->)`)
	told := map[string]bool{}
	want := between.ReplaceAllStringFunc(string(text), func(old string) string {
		m := between.FindStringSubmatch(old)
		told[m[2]] = true
		return m[1] + tables[m[2]] + m[3]
	})
	for name := range tables {
		assert.True(t, told[name], "docs/formats.md has no place for the table %s", name)
	}
	if pagetest.Update() {
		require.NoError(t, os.WriteFile(page, []byte(want), 0o644))
		return
	}
	assert.Equal(t, want, string(text), "out of date: go test ./core/image/format -run TestFormatsPage -update")
}

var cell = strings.NewReplacer("|", "\\|", "\n", " ")

func rows(room image.Room) string {
	var b strings.Builder
	b.WriteString("\n| format | recognised by | checksums recomputed | facts | definition |\n|---|---|---|---|---|\n")
	for _, f := range format.Builtin().Formats() {
		if f.Room == room {
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", f.Name, cell.Replace(f.Doc.Told), cell.Replace(f.Doc.Sums), cell.Replace(f.Doc.Facts), cell.Replace(f.Doc.From))
		}
	}
	return b.String() + "\n"
}

func files() string {
	var b strings.Builder
	b.WriteString("\n| file system | what is read | what is not |\n|---|---|---|\n")
	for _, k := range content.Kinds() {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", k.Title, cell.Replace(k.Reads), cell.Replace(k.Lacks))
	}
	b.WriteString("| ISO 9660 | Rock Ridge of any length, Joliet, files in several pieces; both trees are held against each other | files packed by zisofs |\n| tar, zip | as archives | |\n")
	return b.String() + "\n"
}
