// Package pagetest holds what a program says, as a whole, against a page that stands in testdata or docs, so that a change
// of it is seen in a diff, and read. A page is written again by the flag -update of the test.
package pagetest

import (
	"encoding/json"
	"flag"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write the pages that the test holds")

// Update tells whether pages are to be written.
func Update() bool { return *update }

// Hold compares a text with a page, or writes it there.
func Hold(t *testing.T, page, text string) {
	t.Helper()
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(page), 0o755))
		require.NoError(t, os.WriteFile(page, []byte(text), 0o644))
		return
	}
	want, err := os.ReadFile(page)
	require.NoError(t, err)
	if string(want) != text {
		t.Errorf("%s is out of date from line %s\nif it is meant so, add -update: go test -run '^%s$' -update", page, difference(string(want), text), t.Name())
	}
}

// difference shows the lines from the first on that differs, on either side. A page may be long, and all that differs in it more
// than a person reads.
func difference(want, got string) string {
	const most = 12
	w, g := strings.Split(want, "\n"), strings.Split(got, "\n")
	same := 0
	for same < min(len(w), len(g)) && w[same] == g[same] {
		same++
	}
	out := fmt.Sprintf("%d on\n", same+1)
	for _, side := range []struct {
		sign  string
		lines []string
	}{{"- ", w[same:]}, {"+ ", g[same:]}} {
		for _, l := range side.lines[:min(most, len(side.lines))] {
			out += side.sign + l + "\n"
		}
	}
	return out
}

// Line is a value as JSON in one line, without what is empty. What cannot be written so is told by its fault.
func Line(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	var tree any
	if err := json.Unmarshal(text, &tree); err != nil {
		return err.Error()
	}
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(filled(tree)); err != nil {
		return err.Error()
	}
	return strings.TrimSpace(b.String())
}

// filled takes away what is empty; nil for what is empty itself.
func filled(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for key, of := range v {
			if of = filled(of); of == nil {
				delete(v, key)
			} else {
				v[key] = of
			}
		}
		if len(v) == 0 {
			return nil
		}
	case []any:
		out := []any{}
		for _, of := range v {
			if of = filled(of); of != nil {
				out = append(out, of)
			}
		}
		if len(out) == 0 {
			return nil
		}
		return out
	case string:
		if v == "" {
			return nil
		}
	case float64:
		if v == 0 {
			return nil
		}
	case bool:
		if !v {
			return nil
		}
	}
	return v
}

// Cut shortens a line that is longer than most bytes, and ends it with a sum over the whole: what changes behind the cut changes the
// page, too.
func Cut(line string, most int) string {
	if len(line) <= most {
		return line
	}
	for most > 0 && !utf8.RuneStart(line[most]) {
		most--
	}
	return fmt.Sprintf("%s … %08x", line[:most], crc32.ChecksumIEEE([]byte(line)))
}
