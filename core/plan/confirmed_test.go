package plan

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatIsConfirmed holds what is said of captures put together at random from what a device may show, against
// testdata/confirmed.txt.
func TestWhatIsConfirmed(t *testing.T) {
	main := []string{"8.4-7", "8.4-7", "8.4-7", "8.4", "8.2-4", "8.4-6", "8.4-7?", "newest", ""}
	pool := []struct {
		key    string
		values []string
	}{
		{"serial", []string{"0417", "0417", "0417", "0418", "0417?", ""}},
		{"name", []string{"cab", "cab", "new", "cab?", ""}},
		{"model", []string{"QM-8T", "qm8t", "VR-9", ""}},
		{"revision", []string{"A2", "a2", "B1", "", ""}},
		{"installed.main", main},
		{"installed.boot", []string{"1.1", "1.1", "1.0", "1.1-2", "1.1?", "none", ""}},
		{"slots.A.active", []string{"false", "false", "", "true", "true?"}},
		{"slots.B.active", []string{"true", "true", "true", "", "false", "true?"}},
		{"slots.A.main", []string{"8.2-4", "8.2-4", "8.2", "8.2-5", "corrupt", "8.2-4?", ""}},
		{"slots.B.main", main},
		{"attached", []string{"VR-1", "VR-1", "vr-1", "VR-2", "VR-1?", ""}},
		{"attached", []string{"VR-1", "VR-1", "VR-2", "VR-3", ""}},
		{"attached", []string{"VR-2", "VR-2", "VR-2", ""}},
		{"config.saved", []string{"true", "true", "false", "true?", ""}},
		{"faults", []string{"", "", "", "fan 2"}},
	}
	devices := map[string]string{
		"with slots":    confirmDevice,
		"without slots": strings.Replace(confirmDevice, "slots: [{name: A, main: '8.2-4', active: true}, {name: B, main: '8.1-1'}]\n", "", 1),
		"of no serial":  strings.Replace(confirmDevice, "serial: '0417'\n", "", 1),
		"of no name":    strings.Replace(confirmDevice, "revision: A2\n", "", 1),
		"B is active":   strings.Replace(confirmDevice, "main: '8.2-4', active: true}, {name: B, main: '8.1-1'}", "main: '8.1-1'}, {name: B, main: '8.2-4', active: true}", 1),
		"not attached":  strings.Replace(confirmDevice, "attached: [VR-1, VR-1, VR-2]", "attached: [{model: VR-1, serial: S1}, {model: VR-1, name: x}]", 1),
		"of no version": strings.Replace(confirmDevice, "boot: '1.1'", "boot: '1'", 1),
	}
	var b strings.Builder
	r := rand.New(rand.NewPCG(7, 1))
	for _, name := range []string{"with slots", "without slots", "of no serial", "of no name", "B is active", "not attached", "of no version"} {
		fmt.Fprintf(&b, "## a device %s\n", name)
		changes := pagetest.Changes{Alike: anyPlace}
		for i := range 150 {
			var seen []string
			for _, p := range pool {
				if v := p.values[r.IntN(len(p.values))]; v != "" && (i > 0 || v == p.values[0]) {
					seen = append(seen, p.key+" "+v)
				}
			}
			c := confirmed(t, devices[name], []string{"false", "true"}[r.IntN(2)], seen...)
			lines := []string{fmt.Sprintf("verdict %s", c.Verdict)}
			for _, l := range c.Checks {
				lines = append(lines, pagetest.Line(l))
			}
			for _, m := range c.Members {
				for _, l := range m.Checks {
					lines = append(lines, pagetest.Line(l))
				}
			}
			changes.Tell(&b, fmt.Sprint(i), lines)
			if i%10 == 9 {
				changes.End(&b, fmt.Sprintf("%d to %d", i-9, i))
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "confirmed.txt"), b.String())
}

var anyPlace = regexp.MustCompile(`"(Line|Spot|Column|At)":[^,}]*`)
