package check

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatChecksAre holds every check, with all that is said of it and its codes, against testdata/checks.txt.
func TestWhatChecksAre(t *testing.T) {
	var b strings.Builder
	for _, c := range All() {
		flat := *c
		flat.Codes = nil
		fmt.Fprintf(&b, "%s: %s\n    scopes %v, order %d\n", c.Name, pagetest.Line(flat), c.Scopes(), c.Order)
		var lines []string
		for _, code := range c.Codes {
			one := *code
			one.Check = nil
			lines = append(lines, fmt.Sprintf("    %s: %s", one.Name, pagetest.Line(one)))
		}
		slices.Sort(lines)
		fmt.Fprintln(&b, strings.Join(lines, "\n"))
	}
	pagetest.Hold(t, filepath.Join("testdata", "checks.txt"), b.String())
}
