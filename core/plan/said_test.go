package plan

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds runbooks of lines that are worked in different ways, and what captures say of each of their steps,
// against testdata/said.txt, so that a change of what is said is seen.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	core, tram := []string{"qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip"}, []string{"qm-tram-8.4.2.zip"}
	const restartAlone = "sequence:\n  - {step: transfer, each: member}\n  - {step: apart, each: hop, do: 'hold the stack'}\n  - {step: restart, each: member, do: 'restart'}\n  - {step: check}\n"
	for _, c := range []struct {
		name, device, to, rules, more string
		packages, edits               []string
		captures                      bool
	}{
		{"a switch", "cabinet-07", "8.4.2", "quillmere.yaml", "", tram, nil, true},
		{"a sequence of its own", "cabinet-07", "8.4.2", "quillmere.yaml", ownSequence, tram, nil, true},
		{"fetched by a person", "cabinet-07", "8.4.2", "quillmere.yaml", "install: {fetched_by: person}\n", tram, nil, false},
		{"fetched from the maker", "cabinet-07", "8.4.2", "quillmere.yaml", "install: {fetched_by: maker, restart: automatic}\n", tram, nil, false},
		{"fetched by a manager", "cabinet-07", "8.4.2", "quillmere.yaml", "install: {fetched_by: [manager, device]}\n", tram, []string{"\nrevision:", "\nmanaged_by: tunnel-controller\nrevision:"}, false},
		{"a folder on the server", "cabinet-07", "8.4.2", "quillmere.yaml", "install: {root: /images, written_to: storage}\nskip: [space, save]\n", tram, nil, false},
		{"a stack, one by one", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: each}\n", core, nil, true},
		{"a stack, in turn", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: rolling}\n", core, nil, false},
		{"a stack, together", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: together}\n", core, nil, false},
		{"a stack, with a restart by itself, together", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: together}\n" + restartAlone, core, nil, false},
		{"a stack, with a restart by itself, one by one", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: each}\n" + restartAlone, core, nil, false},
		{"a stack, with a restart by itself, in turn", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: rolling}\n" + restartAlone, core, nil, false},
		{"a stack that one joins", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: rolling}\n", core, []string{"name: core-3", "name: core-3\n    joining: true"}, false},
	} {
		bench := worked(t, c.rules, c.more, c.packages...)
		x, book := night(t, bench, c.device, c.to, c.edits...)
		fmt.Fprintf(&b, "## %s: %s from %s to %s, %s\n", c.name, book.Device, book.From, book.To, pagetest.Line([]any{book.Known, book.Install, book.Outage}))
		n := 0
		for _, s := range book.Sections {
			fmt.Fprintf(&b, "# %s, %d min from %d\n", s.Title, s.Minutes, s.At)
			for _, i := range s.Steps {
				n++
				proofs := len(i.Proofs)
				i.Proofs = nil
				fmt.Fprintf(&b, "%d. %s, %d proofs\n", n, strings.ReplaceAll(pagetest.Line(i), bench.dir, "KIT"), proofs)
			}
		}
		if c.captures {
			b.WriteString("# what captures say\n")
			stepsJudged(t, &b, bench, x, book)
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// stepsJudged tells what captures of many states say of each step; steps of which they say the same stand together,
// and what they say as the first one does is left out.
func stepsJudged(t *testing.T, b *strings.Builder, bench *bench, x *Target, book *Runbook) {
	box := func(serial, boot, runs, poe, a, b string) []string {
		return []string{"Model : QM-8T", "Board rev : A2", "Serial : " + serial, "Boot loader : " + boot, "Running : " + runs, "PoE firmware: " + poe, "Slot A  " + a, "Slot B  " + b}
	}
	before, after := box("0417-221", "3.1.4", "8.2.1", "2.1", "8.2.1  *", "7.9.1"), box("0417-221", "3.2.0", "8.4.2", "2.2", "8.2.1", "8.4.2  *")
	first := map[int]string{}
	for _, c := range []struct {
		name  string
		lines []string
	}{
		{"before", before}, {"after", after}, {"the image written", box("0417-221", "3.2.0", "8.2.1", "2.1", "8.2.1  *", "8.4.2")}, {"the slot chosen", box("0417-221", "3.2.0", "8.2.1", "2.2", "8.2.1  *", "8.4.2  next")},
		{"only the boot loader", box("0417-221", "3.2.0", "8.2.1", "2.1", "8.2.1  *", "7.9.1")}, {"back again", box("0417-221", "3.2.0", "8.2.1", "2.2", "8.2.1  *", "8.4.2")}, {"the neighbour", box("0417-999", "3.2.0", "8.4.2", "2.2", "8.2.1", "8.4.2  *")},
		{"without a serial number", append([]string{"Model : QM-8T"}, after[3:]...)}, {"another model", append([]string{"Model : QM-24T"}, after[2:]...)},
		{"running", append(before, "Job: running")}, {"failed", append(before, "Job: failed", "Job failed: disk full")}, {"an alarm", append(after, "ALARM fan 2")},
		{"a remedy", append(before, "error 28")}, {"words", []string{"no sessions", "all images agree", "first start page"}}, {"nothing", nil},
	} {
		last, from := "", 0
		n := 0
		end := func() {
			if last != "" {
				fmt.Fprintf(b, "%s, step %d to %d: %s\n", c.name, from, n, last)
			}
		}
		for _, s := range book.Sections {
			for _, i := range s.Steps {
				said := ""
				if i.Hop > 0 {
					a, err := JudgeStep(x, book, n+1, seen(t, bench, c.lines...))
					require.NoError(t, err)
					said = fmt.Sprintf("%s %d%% %q %q", a.Outcome, a.Percent, a.Reason, a.Remedy)
					for _, p := range a.Shown {
						said += fmt.Sprintf("; %s: %q at line %d, %v", p.Want, p.Found, p.At.Line, p.Holds)
					}
				}
				if c.name == "before" {
					first[n] = said
				} else if said == first[n] {
					said = "" // as before
				}
				if said != last {
					end()
					last, from = said, n+1
				}
				n++
			}
		}
		end()
	}
}
