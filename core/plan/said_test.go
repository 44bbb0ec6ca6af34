package plan

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
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
		{"a stack, member by member", "depot-core", "6.4.1", "quillmere-core.yaml", "install: {members: each}\n" + stackCaptures, core, nil, false},
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
		if strings.Contains(c.more, stackCaptures) {
			b.WriteString("# what captures say\n")
			judged(t, &b, x, book, stackStates(t, bench))
		}
		b.WriteString("\n")
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

const stackCaptures = `captures:
  - recognise: '^Core stack'
    member: '^-- (\S+)'
    read: {name: '^Name: (\S+)', model: '^Model: (\S+)', revision: '^Board: (\S+)', serial: '^Serial: (\S+)', installed.main: '^Main: (\S+)', installed.boot: '^Boot: (\S+)'}
    each: {slots: '^Slot (?P<name>\d) (?P<main>\S+)(?P<active> \*)?(?P<next> next)?'}
`

// stackStates are what a stack shows: of all members, of some, of one alone, and of others.
func stackStates(t *testing.T, bench *bench) []state {
	t.Helper()
	of := func(serial, model, boot, runs, one, two string) []string {
		return []string{"Model: " + model, "Serial: " + serial, "Boot: " + boot, "Main: " + runs, "Slot 1 " + one, "Slot 2 " + two}
	}
	old := [][]string{of("1109-007", "QM-48C", "1.9.3", "6.1.2", "6.1.2 *", "6.0.4"), of("1207-031", "QM-48C", "1.9.3", "6.1.2", "6.1.2 *", "6.0.4"), of("1311-002", "QM-48F", "1.9.3", "6.0.4", "6.0.4 *", "none")}
	now := [][]string{of("1109-007", "QM-48C", "2.0.1", "6.4.1", "6.1.2", "6.4.1 *"), of("1207-031", "QM-48C", "2.0.1", "6.4.1", "6.1.2", "6.4.1 *"), of("1311-002", "QM-48F", "2.0.1", "6.4.1", "6.0.4", "6.4.1 *")}
	all := func(parts ...[]string) []string {
		var out []string
		for i, p := range parts {
			if p != nil {
				out = append(append(out, fmt.Sprintf("-- core-%d", i+1)), p...)
			}
		}
		return out
	}
	stranger := of("9999-999", "QM-48C", "2.0.1", "6.4.1", "6.4.1 *", "6.1.2")
	var out []state
	for _, c := range []struct {
		name  string
		lines []string
	}{
		{"before", all(old...)}, {"after", all(now...)}, {"the first is done", all(now[0], old[1], old[2])}, {"the last is left", all(now[0], now[1], old[2])}, {"one is not shown", all(now[0], nil, now[2])}, {"a stranger in its place", all(now[0], stranger, now[2])},
		{"one alone, without its name", now[0]}, {"another alone", now[1]}, {"a stranger alone", stranger}, {"the stack by its name", append([]string{"Name: depot-core"}, now[0][3:]...)}, {"nothing", nil},
	} {
		text := []byte("Core stack\n" + strings.Join(c.lines, "\n") + "\n")
		r, err := device.ReadSource("now.txt", text, bench.k.CaptureRules())
		require.NoError(t, err)
		lines, err := device.Lines("now.txt", text)
		require.NoError(t, err)
		out = append(out, state{c.name, Captured{Draft: device.Merge([]*device.Reading{r}, nil, nil, bench.k), Lines: lines, Recognised: r.ByRule}})
	}
	return out
}

// state is what a capture shows.
type state struct {
	name string
	said Captured
}

// stepsJudged tells what captures of many states say of each step; steps of which they say the same stand together,
// and what they say as the first one does is left out.
func stepsJudged(t *testing.T, b *strings.Builder, bench *bench, x *Target, book *Runbook) {
	box := func(serial, boot, runs, poe, a, b string) []string {
		return []string{"Model : QM-8T", "Board rev : A2", "Serial : " + serial, "Boot loader : " + boot, "Running : " + runs, "PoE firmware: " + poe, "Slot A  " + a, "Slot B  " + b}
	}
	before, after := box("0417-221", "3.1.4", "8.2.1", "2.1", "8.2.1  *", "7.9.1"), box("0417-221", "3.2.0", "8.4.2", "2.2", "8.2.1", "8.4.2  *")
	var all []state
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
		all = append(all, state{c.name, seen(t, bench, c.lines...)})
	}
	judged(t, b, x, book, all)
}

// judged tells what is said of each step by what is shown.
func judged(t *testing.T, b *strings.Builder, x *Target, book *Runbook, all []state) {
	t.Helper()
	first := map[int]string{}
	for _, c := range all {
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
					a, err := JudgeStep(x, book, n+1, c.said)
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
