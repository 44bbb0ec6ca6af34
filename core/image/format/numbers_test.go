package format_test

import (
	"bytes"
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"fitcheck/core/image"
	"fitcheck/internal/pagetest"
)

// TestWhatEachNumberIsCalled puts every number into each short field that says what it means, and holds what the
// numbers are called against the page testdata/numbers.txt.
func TestWhatEachNumberIsCalled(t *testing.T) {
	var b strings.Builder
	seen, swept := map[string]bool{}, map[string]int{}
	for _, s := range turnable() {
		if len(s.data) > 64<<10 {
			continue
		}
		m := readSample(t, s.data)
		for _, f := range m.Fields {
			if f.Meaning == "" || len(f.Raw) > 2 || f.Offset+int64(len(f.Raw)) > int64(len(s.data)) || strings.ContainsAny(f.Name, "[/") {
				continue
			}
			called, last, kinds, lines := "", "", map[string]bool{}, 0
			field := m.Format + " " + f.Name
			if swept[field]++; swept[field] > 4 || swept[field] > 1 && m.Format == "pe" { // the others say the same
				continue
			}
			for n := range numbersFor(field) {
				other := bytes.Clone(s.data)
				for i := range f.Raw {
					other[f.Offset+int64(i)] = byte(n >> (8 * i))
				}
				now := fieldOf(readSample(t, other), f.Name)
				if now == nil {
					last = ""
					continue
				}
				if said := numbers.ReplaceAllString(now.Meaning, "N"); said != last && lines < 64 { // neighbours of one name are told once
					last, kinds[said], lines = said, true, lines+1
					called += now.Value + ": " + now.Meaning + "\n"
				}
			}
			if page := fmt.Sprintf("%s %s\n%s\n", m.Format, f.Name, called); len(kinds) > 1 && !seen[page] {
				seen[page] = true
				b.WriteString("## " + page)
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "numbers.txt"), b.String())
}

// numbersFor is how many numbers a field (named by format and field) is tried with; the other byte of a wide one stays 0 then.
func numbersFor(field string) int {
	switch field {
	case "pe machine":
		return 1 << 16 // machines are spread over all of them
	case "pe optional_magic":
		return 1 << 10
	}
	return 1 << 8
}

func fieldOf(m *image.Image, name string) *image.Field {
	if m == nil {
		return nil
	}
	for i := range m.Fields {
		if m.Fields[i].Name == name {
			return &m.Fields[i]
		}
	}
	return nil
}
