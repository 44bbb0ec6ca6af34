package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"fitcheck/core/follow"
)

// bookStep is a step of the runbook as JSON has it.
type bookStep struct {
	Number  int
	Step    string
	Hop     int
	Capture bool `json:"by_capture"`
}

func bookSteps(t *testing.T, kit string) []bookStep {
	_, out, errout := run("runbook", "-kit", kit, "-json", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	require.Empty(t, errout)
	var doc struct{ Results []struct{ Steps []bookStep } }
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	return doc.Results[0].Steps
}

// console is what cabinet-07 shows, with some of it changed.
func console(change ...string) string {
	text := "cabinet-07> show system\nTramline OS 8.2.1\nModel       : QM-8T\nBoard rev   : A2\nSerial      : 0417-221\nBoot loader : 3.1.4\nRunning     : 8.2.1\nPoE firmware: 2.1\nSlot A  8.2.1  *\nSlot B  7.9.1\n"
	return strings.NewReplacer(change...).Replace(text)
}

// shows is what proves each step that a capture can prove.
func shows(s bookStep, sums map[string]string) string {
	written := []string{"Slot B  7.9.1", "Slot B  8.4.2"}
	file := map[int]string{9: "qm8t-boot-a.bin 184384", 11: "qm8t-a.img 655424", 13: "qm-poe-a.qmi 41008"}
	switch s.Step {
	case "transfer":
		return console() + file[s.Number] + "\n"
	case "verify":
		return console() + sums[fmt.Sprint(s.Number)] + "\n"
	case "install":
		return console(written...) + "Job : done\n"
	case "activate", "save":
		return console("Slot B  7.9.1", "Slot B  8.4.2  next") + "Start choice : saved\n"
	}
	return console("8.2.1\nModel", "8.4.2\nModel", "3.1.4", "3.2.0", "Running     : 8.2.1", "Running     : 8.4.2", "2.1\nSlot", "2.2\nSlot", "8.2.1  *", "8.2.1", "Slot B  7.9.1", "Slot B  8.4.2  *")
}

func sumsOf(t *testing.T, kit string) map[string]string {
	_, out, _ := run("runbook", "-kit", kit, "-json", "-device", "cabinet-07", "qm-tram-8.4.2.zip")
	var doc struct {
		Results []struct {
			Steps []struct {
				Number int
				Step   string
				See    []string
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(out), &doc))
	sums := map[string]string{}
	for _, s := range doc.Results[0].Steps {
		if s.Step == "verify" {
			sums[fmt.Sprint(s.Number)] = strings.Join(s.See, "\n")
		}
	}
	return sums
}

// good answers every step as it should be.
func good(s bookStep, sums map[string]string) string {
	if !s.Capture {
		return "done\n"
	}
	return shows(s, sums) + ".\n"
}

func followed(t *testing.T, kit, record, answers string) (int, []follow.Line) {
	at := filepath.Join(t.TempDir(), "answers.txt")
	require.NoError(t, os.WriteFile(at, []byte(answers), 0o644))
	status, out, errout := run("runbook", "-kit", kit, "-json", "-device", "cabinet-07", "-follow", "-record", record, "-answers", at, "qm-tram-8.4.2.zip")
	require.Empty(t, errout)
	var lines []follow.Line
	for l := range strings.Lines(out) {
		var x follow.Line
		require.NoError(t, json.Unmarshal([]byte(l), &x), l)
		lines = append(lines, x)
	}
	return status, lines
}

// A night that goes as planned, killed behind every step, is taken up there, and ends.
func TestFollowIsTakenUp(t *testing.T) {
	kit := kitDir(t)
	steps, sums := bookSteps(t, kit), sumsOf(t, kit)
	record := filepath.Join(kit, "night.jsonl")
	for i, s := range steps {
		_, lines := followed(t, kit, record, good(s, sums))
		want := s.Number
		if s.Step == "restart" { // what was proven before it is proven once more
			assert.Equal(t, "save", lines[1].Name)
			_, lines = followed(t, kit, record, good(steps[lines[1].Step-1], sums)+good(s, sums))
		}
		var answered []int
		for _, l := range lines {
			if l.Event == follow.Answered && l.Outcome == follow.GoOn {
				answered = append(answered, l.Step)
			}
		}
		require.NotEmpty(t, answered, "step %d: %v", want, lines)
		assert.Equal(t, want, answered[len(answered)-1])
		if i > 0 {
			assert.Equal(t, follow.TakenUp, lines[0].Event)
		}
		last := lines[len(lines)-1]
		assert.Equal(t, i == len(steps)-1, last.Event == follow.Ended, "%v", last)
	}
	// A record that a crash cut off in the middle of a line is read as far as it goes.
	data, err := os.ReadFile(record)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(record, data[:len(data)*2/3], 0o644))
	_, lines := followed(t, kit, record, "")
	assert.Equal(t, follow.TakenUp, lines[0].Event)
	// Where the steps are others, it is not taken up.
	status, _, errout := run("runbook", "-kit", kit, "-device", "cabinet-07", "-follow", "-server", "192.0.2.1", "-record", record, "qm-tram-8.4.2.zip")
	assert.Equal(t, exitUnreadable, status)
	assert.Contains(t, errout, "begun for this device with other steps")
}

// Whatever is answered, in whatever order, and wherever it is broken off: a restart is only
// offered when each step before it was shown to be done, and at last that the new slot starts.
func TestFollowNeverOffersAnUnprovenRestart(t *testing.T) {
	kit := kitDir(t)
	steps, sums := bookSteps(t, kit), sumsOf(t, kit)
	wrong := []string{
		"done\n", "show\n", "help\n", "\n", "file " + filepath.Join(kit, "captures", "cab07.txt") + "\n", "file gone.txt\n",
		console() + ".\n", "nothing of use\n.\n",
		console("0417-221", "0417-999", "cabinet-07", "cabinet-08") + "qm8t-a.img 655424\n.\n", // the neighbour
		console("Slot B  7.9.1", "Slot B  8.4.2", "8.2.1  *", "8.2.1  * next") + ".\n",         // the old one starts next
		console("Slot B  7.9.1", "Slot B  8.4.2  next") + "Start choice : unsaved\n.\n",
		console() + "Job : running\n.\n", console() + "Job : failed\nJob failed : error 7\n.\n",
		console() + "sha256 " + strings.Repeat("0", 64) + "  qm8t-a.img\n.\n",
	}
	seeds := uint64(12)
	if testing.Short() {
		seeds = 4
	}
	restarts := 0
	for seed := range seeds {
		r := rand.New(rand.NewPCG(seed, 16))
		record := filepath.Join(kit, fmt.Sprintf("n%d.jsonl", seed))
		proven := map[int]bool{} // by a capture, since the last restart was answered
		at := 0
		for range 6 { // six evenings
			var b strings.Builder
			for i := at; i < len(steps) && r.IntN(12) > 0; i++ {
				for r.IntN(3) == 0 {
					b.WriteString(wrong[r.IntN(len(wrong))])
				}
				b.WriteString(good(steps[i], sums))
			}
			_, lines := followed(t, kit, record, b.String())
			fresh := false // the slot that starts next was shown this evening
			for _, l := range lines {
				switch {
				case l.Event == follow.Answered && l.Outcome == follow.GoOn:
					at = max(at, l.Step)
					if s := steps[l.Step-1]; s.Capture {
						require.False(t, l.ByWord, "seed %d: %v", seed, l)
						require.NotEmpty(t, l.Seen)
						proven[l.Step] = true
						fresh = fresh || s.Step == "save"
					}
				case l.Event == follow.Shown && l.Name == "restart":
					restarts++
					require.True(t, fresh, "seed %d: a restart is offered, and what starts next was not shown this evening", seed)
					for _, s := range steps[:l.Step-1] {
						require.True(t, !s.Capture || proven[s.Number], "seed %d: a restart is offered, and step %d is not proven", seed, s.Number)
					}
				}
			}
		}
	}
	assert.NotZero(t, restarts, "some get there")
}

// Pasted by hand, without a terminal: a dot, or the end of the input, ends a capture.
func TestFollowFromTheInput(t *testing.T) {
	kit := kitDir(t)
	steps, sums := bookSteps(t, kit), sumsOf(t, kit)
	var in strings.Builder
	for _, s := range steps[:8] {
		in.WriteString(good(s, sums))
	}
	in.WriteString(shows(steps[8], sums)) // and no dot
	var out strings.Builder
	status := Run(context.Background(), []string{"runbook", "-kit", kit, "-device", "cabinet-07", "-follow", "-record", filepath.Join(kit, "r.jsonl"), "qm-tram-8.4.2.zip"}, Env{Stdout: &out, Stderr: os.Stderr, Stdin: strings.NewReader(in.String()), Width: 100})
	assert.Equal(t, exitUnsettled, status)
	assert.Contains(t, out.String(), "GO ON  step 9 is done, as the capture shows")
	assert.Contains(t, out.String(), "LEFT  cabinet-07 at step 10 of 24")
	for _, args := range [][]string{{"-answers", "x"}, {"-serve", "x"}, {"-follow", "-tftp", ":69"}} {
		status, _, _ := run(append([]string{"runbook", "-kit", kit, "-device", "cabinet-07", "qm-tram-8.4.2.zip"}, args...)...)
		assert.Equal(t, exitUsage, status, args)
	}
}
