package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/kit"
	"fitcheck/core/plan"
	"fitcheck/internal/present"
)

// stepStatus is what a call ends with, by what a step has come to.
var stepStatus = map[string]int{plan.StepDone: exitFits, plan.StepRunning: exitUnsettled, plan.StepUnknown: exitUnsettled, plan.StepFailed: exitMisfit, plan.StepStop: exitMisfit}

// confirmStep holds captures against one step of the runbook.
func (p *planning) confirmStep(ctx context.Context, c *call, d *device.Device, number int, written *present.WrittenRunbook, after, before []string) (int, error) {
	t, err := p.target(ctx, c, d)
	if err != nil {
		return 0, err
	}
	why, status := refusal(t, p.evenIf)
	if status != exitFits {
		return status, c.tell(present.StepRefusedJSON(why), present.RefusedPage(why, "confirmed: there is no runbook"))
	}
	var o plan.RunbookOptions
	if written != nil {
		o.Server = written.Server()
	}
	book, err := writeRunbook(t, o)
	if err != nil {
		return 0, err
	}
	if written != nil {
		if err := written.Agrees(book, number); err != nil {
			return 0, err
		}
	}
	said, err := captures(p.k, after)
	if err != nil {
		return 0, err
	}
	for _, f := range p.before(d, before) {
		lines, err := appendLines(said.Before, f)
		if err != nil {
			return 0, err
		}
		said.Before = append([]device.TextLine{}, lines...)
	}
	a, err := plan.JudgeStep(t, book, number, *said)
	if err != nil {
		return 0, usagef("%v", err)
	}
	return stepStatus[a.Outcome], c.tell(present.StepJSON(a), present.StepPage(a))
}

// readRunbook reads a runbook that was written as JSON.
func readRunbook(name string) (*present.WrittenRunbook, error) {
	data, err := kit.ReadText(name)
	if err != nil {
		return nil, err
	}
	return present.ReadRunbook(name, data)
}

// captures reads what was captured, as what it tells of the device and line by line. One of
// which no value is known still has its lines.
func captures(k *kit.Kit, files []string) (*plan.Captured, error) {
	out := &plan.Captured{}
	var readings []*device.Reading
	for _, f := range files {
		lines, err := appendLines(nil, f)
		if err != nil {
			return nil, err
		}
		out.Lines = append(out.Lines, lines...)
		r, err := readSource(k, f)
		switch {
		case err == nil:
			readings = append(readings, r)
			out.Recognised = out.Recognised || r.ByRule
		case len(lines) == 0:
			return nil, err
		}
	}
	out.Draft = device.Merge(readings, nil, nil, k)
	return out, nil
}

// before are captures from before: those that are given, else those of which the device file
// says that it was read from them, where they are still there.
func (p *planning) before(d *device.Device, given []string) []string {
	if len(given) > 0 {
		return given
	}
	var out []string
	for _, b := range d.All() {
		for _, e := range b.ReadFrom.Entries {
			file := e.Value.Text
			if i := strings.LastIndexByte(file, ':'); i > 0 {
				file = file[:i]
			}
			for _, at := range []string{file, filepath.Join(p.k.Dir, file)} {
				if info, err := os.Stat(at); err == nil && info.Mode().IsRegular() && !slices.Contains(out, at) {
					out = append(out, at)
					break
				}
			}
		}
	}
	return out
}

// appendLines adds the lines of a capture; what is no text has none.
func appendLines(to []device.TextLine, file string) ([]device.TextLine, error) {
	if info, err := os.Stat(file); err == nil && info.IsDir() { // a device tree
		return to, nil
	}
	data, err := kit.ReadText(file)
	if err != nil {
		return nil, err
	}
	lines, err := device.Lines(file, data)
	return append(to, lines...), err
}
