package plan

import (
	"cmp"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/kit"
	"fitcheck/core/path"
)

// worked is a bench whose rulebook says how its line is worked.
func worked(t *testing.T, rules, more string, packages ...string) *bench {
	t.Helper()
	b := newBench(t)
	file := filepath.Join(b.dir, "rulebooks", rules)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(text, []byte("\n"+more)...), 0o644))
	b.k, err = kit.Open(b.dir)
	require.NoError(t, err)
	for _, x := range b.k.Broken {
		require.NoError(t, x.Err)
	}
	for _, p := range packages {
		b.shelf.Surveys = append(b.shelf.Surveys, b.survey(t, p))
	}
	return b
}

// night writes the runbook of a device of a bench.
func night(t *testing.T, b *bench, name, to string, edits ...string) (*Target, *Runbook) {
	t.Helper()
	x := b.target(t, b.device(t, name, edits...), path.Goal{Version: to})
	files, err := Arrange(x.Files(), x.Transfer)
	require.NoError(t, err)
	return x, Write(x, files, RunbookOptions{Server: "192.0.2.1"})
}

// taken are the steps of the hops, as "step member component".
func taken(b *Runbook) (out []string) {
	for _, s := range b.Sections {
		for _, i := range s.Steps {
			if i.Hop > 0 && i.Step != "" {
				out = append(out, strings.TrimRight(fmt.Sprintf("%s %s %s", i.Step, i.Member, i.Component), " "))
			}
		}
	}
	return out
}

const ownSequence = `
sequence:
  - {step: drain, do: 'hold services 60', see: 'no sessions'}
  - {step: restart, do: 'restart', wait: 3m-6m, each: hop}
  - {step: drain}
  - {step: transfer, do: 'fetch {{.Base}} from {{.Server}}', wait: 2m-5m, tries: 3, if_not: 'stop; the device is as it was'}
  - {step: verify, do: 'digest {{.Base}}', see: '{{.MD5}}'}
  - {step: dry_run, do: 'check images {{.Files}}', each: member, see: 'all images agree', if_not: 'do not go on'}
  - {step: install, restart: automatic, wait: 10m-20m}
  - {step: ready, shows: {next: '{{.Slot}}', start.saved: 'true'}, each: member}
  - {step: erase, when: crosses_family, act: 'hold the reset button for 10 s', see: 'first start page'}
  - {step: check, shows: {installed.main: '{{.Release}}'}, must_not_show: 'ALARM'}
remedies:
  - {shows: 'error 28', do: "go by way of 8.5 first"}
`

func TestOwnSequence(t *testing.T) {
	b := worked(t, "quillmere.yaml", ownSequence, "qm-tram-8.4.2.zip")
	x, book := night(t, b, "cabinet-07", "8.4.2")
	assert.Equal(t, []string{"drain", "restart", "drain", "transfer  boot", "verify  boot", "transfer  main", "verify  main", "transfer  poe", "verify  poe", "dry_run", "install  boot", "install  main", "install  poe", "ready", "check"}, taken(book),
		"what it says, as often as it says it; what is for a crossing only is left out")
	var fetch, dry, install, drained *Instruction
	for i := range book.Sections[1].Steps {
		switch s := &book.Sections[1].Steps[i]; {
		case s.Step == "transfer" && s.Component == "main":
			fetch = s
		case s.Step == "dry_run":
			dry = s
		case s.Step == "install" && s.Component == "main":
			install = s
		case s.Step == "drain":
			drained = s
		}
	}
	assert.Equal(t, []string{"hold services 60"}, drained.Commands, "said once, it is said again")
	assert.Equal(t, []string{"fetch qm8t-a.img from 192.0.2.1"}, fetch.Commands)
	assert.Equal(t, "stop; the device is as it was", fetch.Back)
	assert.Equal(t, 3, fetch.Tries)
	assert.Contains(t, strings.Join(fetch.See, "; "), "it takes 2–5 min")
	assert.Equal(t, []string{"check images qm8t-boot-a.bin qm8t-a.img qm-poe-a.qmi"}, dry.Commands)
	assert.Contains(t, install.Text, "it restarts by itself")
	assert.NotEmpty(t, x.Files()[0].Digests.Of(digest.SHA256))
}

// The members of a group restart one by one, in turn through all steps, or together.
func TestMembersOfASequence(t *testing.T) {
	count := func(of []string, begins string) (n int) {
		for _, s := range of {
			if strings.HasPrefix(s, begins) {
				n++
			}
		}
		return n
	}
	for how, check := range map[string]func(steps []string){
		"each": func(steps []string) {
			assert.Equal(t, 3, count(steps, "restart"))
			assert.Less(t, strings.Index(strings.Join(steps, ","), "install core-3"), strings.Index(strings.Join(steps, ","), "restart core-1"), "all hold the image before the first restarts")
		},
		"rolling": func(steps []string) {
			assert.Equal(t, 3, count(steps, "restart"))
			assert.Greater(t, strings.Index(strings.Join(steps, ","), "install core-3"), strings.Index(strings.Join(steps, ","), "restart core-1"), "one is done before the next begins")
		},
		"together": func(steps []string) {
			assert.Equal(t, 1, count(steps, "restart"), "one restart for all")
			assert.Equal(t, "restart", steps[len(steps)-2])
			assert.Equal(t, 3, count(steps, "activate"))
		},
	} {
		b := worked(t, "quillmere-core.yaml", "install: {members: "+how+"}\n", "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip")
		x, book := night(t, b, "depot-core", "6.4.1")
		var steps []string
		for _, i := range book.Sections[3].Steps { // of a hop of all three
			if i.Step != "" {
				steps = append(steps, strings.TrimRight(fmt.Sprintf("%s %s %s", i.Step, i.Member, i.Component), " "))
			}
		}
		check(steps)
		// Times add up: members that take their turns take theirs one after the other.
		install, outage := 0, 0
		for _, st := range x.Steps {
			each := st.Releases[0].Minutes
			n := 1
			if how == "rolling" {
				n = cmp.Or(len(st.Members), 3)
			}
			install += n * each.Install.To
			outage += n * each.Outage.To
		}
		assert.Equal(t, install, book.Install.To, how)
		assert.Equal(t, outage, book.Outage.To, how)
	}
}

// A member that is to be let in is brought to the release by itself, through all steps, before
// any other is touched; a hop of the others does not speak of it.
func TestJoiningMemberComesFirst(t *testing.T) {
	for how, restarts := range map[string]int{"each": 3, "rolling": 3, "together": 2} {
		b := worked(t, "quillmere-core.yaml", "install: {members: "+how+"}\n", "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip")
		_, book := night(t, b, "depot-core", "6.4.1", "name: core-3", "name: core-3\n    joining: true")
		var steps []string
		for _, i := range book.Sections[3].Steps {
			if i.Step != "" {
				steps = append(steps, i.Step+" "+i.Member)
			}
		}
		require.Contains(t, steps, "apart core-3", how)
		others := slices.IndexFunc(steps, func(s string) bool { return strings.HasSuffix(s, "core-1") || strings.HasSuffix(s, "core-2") })
		last := 0
		n := 0
		for i, s := range steps {
			if strings.HasSuffix(s, "core-3") {
				last = i
			}
			if strings.HasPrefix(s, "restart") {
				n++
			}
		}
		assert.Equal(t, restarts, n, how)
		assert.Less(t, last, others, "%s: %v", how, steps)
		assert.Contains(t, steps[:others], "restart core-3", how)
	}
}

// Who fetches decides what is written down, and whether there is a server at all.
func TestWhoInstalls(t *testing.T) {
	for name, c := range map[string]struct {
		install string
		edits   []string
		says    []string
		never   []string
	}{
		"the device":             {"install: {root: /images}", nil, []string{"fetch images/qm8t-a.img", "from 192.0.2.1", "restart; it is without service"}, []string{"by itself"}},
		"a person":               {"install: {fetched_by: person}", nil, []string{"choose qm8t-a.img", "in the device's page"}, []string{"from 192.0.2.1"}},
		"the maker":              {"install: {fetched_by: maker, restart: automatic}", nil, []string{"it restarts by itself"}, []string{"fetch qm", "compare the digest", "room for"}},
		"a manager":              {"install: {fetched_by: [manager, device]}", []string{"\nrevision:", "\nmanaged_by: tunnel-controller\nrevision:"}, []string{"have tunnel-controller fetch", "room for", "on tunnel-controller"}, nil},
		"some steps are skipped": {"skip: [space, save]", nil, []string{"fetch qm"}, []string{"room for", "save the settings."}},
	} {
		b := worked(t, "quillmere.yaml", c.install+"\n", "qm-tram-8.4.2.zip")
		_, book := night(t, b, "cabinet-07", "8.4.2", c.edits...)
		var text strings.Builder
		for _, i := range book.Sections[1].Steps {
			text.WriteString(i.Text + "\n")
		}
		for _, want := range c.says {
			assert.Contains(t, text.String(), want, name)
		}
		for _, no := range c.never {
			assert.NotContains(t, text.String(), no, name)
		}
	}
}

// seen makes captures of a console.
func seen(t *testing.T, b *bench, lines ...string) Captured {
	t.Helper()
	text := []byte("Tramline OS\n" + strings.Join(lines, "\n") + "\n")
	r, err := device.ReadSource("now.txt", text, b.k.CaptureRules())
	require.NoError(t, err)
	all, err := device.Lines("now.txt", text)
	require.NoError(t, err)
	return Captured{Draft: device.Merge([]*device.Reading{r}, nil, nil, b.k), Lines: all, Recognised: r.ByRule}
}

// What captures say of each step: done, wait, failed, stop, or not known.
func TestConfirmSteps(t *testing.T) {
	captures := `
captures:
  - recognise: '^Tramline OS'
    read: {name: '^Name: (\S+)', serial: '^Serial\s*: (\S+)', model: '^Model\s*: (\S+)', installed.main: '^Running\s*: (\S+)', installed.boot: '^Boot loader\s*: (\S+)', installed.poe: '^PoE firmware: (\S+)', job.state: '^Job: (\w+)', job.percent: '^Job: \w+ (\d+)', job.reason: '^Job: failed, (.+)', start.saved: '^Saved: (\w+)'}
    each: {slots: '^Slot (?P<name>\w)\s+(?P<main>\S+)(?:\s+(?P<active>\*))?(?:\s+(?P<next>next))?$', files: '^File (?P<file>\S+) (?P<size>\d+)'}
`
	b := worked(t, "quillmere.yaml", ownSequence)
	file := filepath.Join(b.dir, "rulebooks", "quillmere.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	i := strings.Index(string(text), "\ncaptures:")
	j := i + 1 + strings.Index(string(text[i+1:]), "\n\n")
	require.Positive(t, i)
	require.NoError(t, os.WriteFile(file, []byte(string(text[:i])+captures+string(text[j:])), 0o644))
	b.k, err = kit.Open(b.dir)
	require.NoError(t, err)
	require.Empty(t, b.k.Broken)
	b.shelf.Surveys = append(b.shelf.Surveys, b.survey(t, "qm-tram-8.4.2.zip"))
	x, book := night(t, b, "cabinet-07", "8.4.2")
	number := func(step, component string) int {
		n := 0
		for _, s := range book.Sections {
			for _, i := range s.Steps {
				if n++; i.Step == step && i.Component == component {
					return n
				}
			}
		}
		t.Fatal(step)
		return 0
	}
	var main Serving
	for _, f := range x.Files() {
		if f.For[0].Component == "main" {
			main = f
		}
	}
	us := []string{"Serial : 0417-221", "Model : QM-8T"}
	with := func(lines ...string) []string { return append(append([]string{}, us...), lines...) }
	sum := main.Digests.Of(digest.SHA256)
	for name, c := range map[string]struct {
		step, component string
		lines           []string
		outcome         string
		reason          string
	}{
		"arrived":                       {"transfer", "main", with(fmt.Sprintf("File qm8t-a.img %d", main.Size)), StepDone, ""},
		"arrived in half":               {"transfer", "main", with("File qm8t-a.img 4711"), StepFailed, "4711 bytes"},
		"not shown":                     {"transfer", "main", with(), StepUnknown, "does not show"},
		"the digest":                    {"verify", "main", with("digest qm8t-a.img", strings.ToUpper(sum)), StepDone, ""},
		"another digest":                {"verify", "main", with("digest qm8t-a.img", strings.Repeat("ab", 32)), StepStop, "digest of qm8t-a.img"},
		"still running":                 {"install", "main", with("Job: running 22"), StepRunning, "still works"},
		"failed, with a remedy":         {"install", "main", with("Job: failed, error 28"), StepFailed, "error 28"},
		"ready":                         {"ready", "", with("Slot A 8.2.1 *", "Slot B 8.4.2 next", "Saved: yes"), StepDone, ""},
		"the choice is not saved":       {"ready", "", with("Slot A 8.2.1 *", "Slot B 8.4.2 next", "Saved: no"), StepStop, "is stored"},
		"the old one starts next":       {"ready", "", with("Slot A 8.2.1 * next", "Slot B 8.4.2", "Saved: yes"), StepStop, "slot B starts next"},
		"nothing says what starts next": {"ready", "", with("Slot A 8.2.1 *", "Slot B 8.4.2", "Saved: yes"), StepUnknown, "starts next"},
		"the neighbour":                 {"ready", "", []string{"Serial : 0417-999", "Slot B 8.4.2 next", "Saved: yes"}, StepStop, "another device"},
		"nobody":                        {"ready", "", []string{"Slot A 8.2.1 *", "Slot B 8.4.2 next", "Saved: yes"}, StepUnknown, "which device"},
		"dry run":                       {"dry_run", "", with("All images agree."), StepDone, ""},
		"a dry run that denies it":      {"dry_run", "", with("Not all images agree."), StepUnknown, "does not show"},
		"a dry run that fails":          {"dry_run", "", with("check that all images agree: failed"), StepUnknown, "does not show"},
		"half a word of a dry run":      {"dry_run", "", with("small images agree"), StepUnknown, "does not show"},
		"the size of another file":      {"transfer", "main", with("qm8t-a.img", fmt.Sprintf("other.img %d", main.Size)), StepUnknown, "does not show"},
		"a number that is the size":     {"transfer", "main", with(fmt.Sprintf("%d bytes free", main.Size)), StepUnknown, "does not show"},
		"arrived, as the console tells": {"transfer", "main", with("fetch qm8t-a.img", fmt.Sprintf("%d bytes received", main.Size)), StepDone, ""},
		"a digest typed, another told":  {"verify", "main", with("digest qm8t-a.img "+sum, "computed "+strings.Repeat("ab", 32)), StepUnknown, "give only what the device answered"},
		"digests of several files":      {"verify", "main", with("other.img "+strings.Repeat("cd", 32), "qm8t-a.img "+sum, "more.img "+strings.Repeat("ab", 32)), StepDone, ""},
		"the job is done":               {"install", "main", with("Job: done", "Running : 8.4.2"), StepDone, ""},
		"failed, and of whom":           {"check", "", []string{"Running : 8.2.1"}, StepUnknown, "which device"},
		"two that start next":           {"ready", "", with("Slot A 8.2.1 * next", "Slot B 8.4.2 next", "Saved: yes"), StepUnknown, "starts next"},
		"dry run that says something":   {"dry_run", "", with("image 2 does not agree"), StepUnknown, "does not show"},
		"as it should be":               {"check", "", with("Running : 8.4.2", "Boot loader : 3.2.0", "PoE firmware: 2.2", "Slot A 8.2.1", "Slot B 8.4.2 *"), StepDone, ""},
		"of the time before":            {"check", "", with("Running : 8.2.1", "Boot loader : 3.1.4", "PoE firmware: 2.1", "Slot A 8.2.1 *", "Slot B 7.9.1"), StepFailed, "8.2.1"},
		"with an alarm":                 {"check", "", with("Running : 8.4.2", "Boot loader : 3.2.0", "PoE firmware: 2.2", "Slot A 8.2.1", "Slot B 8.4.2 *", "ALARM fan"), StepFailed, "ALARM"},
	} {
		a, err := JudgeStep(x, book, number(c.step, c.component), seen(t, b, c.lines...))
		require.NoError(t, err, name)
		assert.Equal(t, c.outcome, a.Outcome, "%s: %+v", name, a)
		assert.Contains(t, a.Reason, c.reason, name)
		if name == "still running" {
			assert.Equal(t, 22, a.Percent)
		}
		if name == "failed, with a remedy" {
			assert.Equal(t, "go by way of 8.5 first", a.Remedy)
		}
	}
	_, err = JudgeStep(x, book, 999, seen(t, b))
	assert.ErrorContains(t, err, "no step 999")
}

// Where a hop resets the settings, the runbook says how the device is reached then.
func TestReachedAfterAReset(t *testing.T) {
	b := newBench(t)
	file := filepath.Join(b.dir, "rulebooks", "quillmere-core.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	changed := strings.Replace(string(text), "factory_reset: other-slot", "factory_reset: {starts: other-slot, address: 192.0.2.1, login: the name and word on the label}", 1)
	changed = strings.Replace(changed, "  - version: 6.3.0\n", "  - version: 6.3.0\n    resets_config: true\n", 1)
	require.NoError(t, os.WriteFile(file, []byte(changed), 0o644))
	b.k, err = kit.Open(b.dir)
	require.NoError(t, err)
	require.Empty(t, b.k.Broken)
	for _, p := range []string{"qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip"} {
		b.shelf.Surveys = append(b.shelf.Surveys, b.survey(t, p))
	}
	_, book := night(t, b, "depot-core", "6.4.1")
	assert.Contains(t, all(book), "with the settings of the factory, it answers at 192.0.2.1; log in with the name and word on the label")
}

// Whatever step it is: a capture of the neighbour stops, one of a running job waits, one of a
// failed one fails, and one of the time before is never taken for done where the step changes
// what it shows.
func TestEveryStepAgainstEveryCapture(t *testing.T) {
	b := worked(t, "quillmere.yaml", "", "qm-tram-8.4.2.zip")
	x, book := night(t, b, "cabinet-07", "8.4.2")
	before := []string{"cabinet-07> show system", "Model : QM-8T", "Board rev : A2", "Serial : 0417-221", "Boot loader : 3.1.4", "Running : 8.2.1", "PoE firmware: 2.1", "Slot A  8.2.1  *", "Slot B  7.9.1"}
	neighbour := strings.Split(strings.ReplaceAll(strings.Join(before, "\n"), "0417-221", "0417-999"), "\n")
	n, judged := 0, 0
	for _, s := range book.Sections {
		for _, in := range s.Steps {
			n++
			if in.Hop == 0 || len(in.Proofs) == 0 {
				continue
			}
			judged++
			ask := func(lines ...string) *StepAnswer {
				a, err := JudgeStep(x, book, n, seen(t, b, lines...))
				require.NoError(t, err)
				return a
			}
			assert.Equal(t, StepStop, ask(neighbour...).Outcome, "%d %s: the neighbour", n, in.Step)
			assert.Equal(t, StepRunning, ask(append(before, "Job: running")...).Outcome, "%d %s: a running job", n, in.Step)
			failed := ask(append(before, "Job: failed", "Job failed: disk full")...)
			assert.Equal(t, StepFailed, failed.Outcome, "%d %s: a failed job", n, in.Step)
			assert.Equal(t, "disk full", failed.Reason)
			if a := ask(before...); in.Step != "check" || a.Outcome != StepFailed {
				assert.NotEqual(t, StepDone, a.Outcome, "%d %s: of the time before", n, in.Step)
			}
		}
	}
	assert.Greater(t, judged, 8)
}

// Runbooks of all devices of the demo: no step is written twice, each says what to see or what
// to do when it is not seen, and the times add up.
func TestRunbooksAddUp(t *testing.T) {
	b := newBench(t, "qm-tram-8.4.2.zip", "qm-core-6.1.2.zip", "qm-core-6.3.0.zip", "qm-core-6.4.1.zip", "vg20-5.1.0.zip", "vp12-5.3.0.bin", "vr310-4.2.0.itb", "vr510-lantern-initial-23.4.0.bin", "vr510-lantern-23.4.2.bin")
	written := 0
	for device, goal := range map[string]path.Goal{"cabinet-07": {Version: "8.4.2"}, "cabinet-12": {Version: "8.4.2"}, "depot-core": {Version: "6.4.1"}, "ops-gateways": {Version: "5.1.0"}, "tunnel-3": {Version: "4.2.0"}, "platform-9": {Version: "23.4.2", Family: "lantern"}} {
		x := b.target(t, b.device(t, device), goal)
		files, err := Arrange(x.Files(), x.Transfer)
		require.NoError(t, err, device)
		book := Write(x, files, RunbookOptions{})
		minutes := 0
		for _, s := range book.Sections {
			told := map[string]bool{}
			for _, i := range s.Steps {
				assert.False(t, told[i.Text], "%s: written twice: %s", device, i.Text)
				told[i.Text] = true
				assert.NotContains(t, i.Text, "  ", device)
				assert.NotContains(t, strings.Join(i.Commands, " "), "<no value>", device)
				if i.Step == "transfer" || i.Step == "verify" || i.Step == "restart" || i.Step == "check" {
					assert.NotEmpty(t, i.See, "%s: %s", device, i.Text)
				}
				if i.Step == "transfer" || i.Step == "verify" || i.Step == "install" || i.Step == "restart" {
					assert.NotEmpty(t, i.Back, "%s: %s", device, i.Text)
				}
				written++
			}
			minutes += s.Minutes
		}
		if book.Known {
			assert.Equal(t, book.Install.To, minutes, device)
			assert.LessOrEqual(t, book.Outage.To, book.Install.To, device)
		}
	}
	assert.Greater(t, written, 60)
}
