package cli

import (
	"context"

	"fitcheck/core/device"
	"fitcheck/core/kit"
	"fitcheck/core/plan"
	"fitcheck/internal/present"
)

// stepStatus is what a call ends with, by what a step has come to.
var stepStatus = map[string]int{plan.StepDone: exitFits, plan.StepRunning: exitUnsettled, plan.StepUnknown: exitUnsettled, plan.StepFailed: exitMisfit, plan.StepStop: exitMisfit}

// confirmStep holds captures against one step of the runbook.
func (p *planning) confirmStep(ctx context.Context, c *call, d *device.Device, number int, after, before []string) (int, error) {
	t, err := p.target(ctx, c, d)
	if err != nil {
		return 0, err
	}
	why, status := refusal(t, p.evenIf)
	if status != exitFits {
		return status, c.tell(present.StepRefusedJSON(why), present.RefusedPage(why, "confirmed: there is no runbook"))
	}
	book, err := writeRunbook(t, plan.RunbookOptions{})
	if err != nil {
		return 0, err
	}
	said, err := captures(p.k, after)
	if err != nil {
		return 0, err
	}
	if len(before) > 0 {
		was, err := captures(p.k, before)
		if err != nil {
			return 0, err
		}
		said.Before = append([]device.TextLine{}, was.Lines...)
	}
	a, err := plan.JudgeStep(t, book, number, *said)
	if err != nil {
		return 0, usagef("%v", err)
	}
	return stepStatus[a.Outcome], c.tell(present.StepJSON(a), present.StepPage(a))
}

// captures reads what was captured, as what it tells of the device and line by line. One of
// which no value is known still has its lines.
func captures(k *kit.Kit, files []string) (*plan.Captured, error) {
	out := &plan.Captured{}
	var readings []*device.Reading
	for _, f := range files {
		data, err := kit.ReadText(f)
		if err != nil {
			return nil, err
		}
		lines, err := device.Lines(f, data)
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
