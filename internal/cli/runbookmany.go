package cli

import (
	"context"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/internal/present"
)

// runbookMany writes one runbook for several devices: what fits is planned, in waves, and what
// does not is listed with its reason.
func (p *planning) runbookMany(ctx context.Context, c *call, devices []*device.Device, o plan.RunbookOptions, night plan.Night, out string, replace bool) (int, error) {
	doc := present.Runbooks{Slots: map[string]string{}, Night: night}
	status := exitFits
	var jobs []plan.Job
	for _, d := range devices {
		inner := *p
		t, err := inner.target(ctx, c, d)
		if err != nil {
			return 0, err
		}
		t.Name = d.Name.Text
		why, st := refusal(t, p.evenIf)
		if st == exitMisfit || status == exitFits {
			status = st
		}
		if st != exitFits {
			doc.Refused = append(doc.Refused, refusedAs(d, why, st))
			continue
		}
		book, err := writeRunbook(t, o)
		if err != nil {
			return 0, err
		}
		doc.Books = append(doc.Books, book)
		doc.Slots[d.Name.Text] = slotsOf(t)
		jobs = append(jobs, jobOf(d, book))
	}
	doc.Waves, doc.Left = night.Waves(jobs)
	if status == exitFits && len(doc.Left) > 0 {
		status = exitUnsettled
	}
	if out != "" {
		err := writeNew(out, replace, func(b *strings.Builder) error {
			r := present.Report{Page: present.ManyRunbooksPage(doc), Version: Version}
			switch kindOf(out) {
			case ".md":
				return r.Markdown(b)
			case ".txt":
				return r.Text(b)
			}
			return r.HTML(b)
		})
		if err != nil {
			return 0, err
		}
		if !c.json {
			c.show(present.Wrote("the runbook", out))
			return status, nil
		}
	}
	return status, c.tell(present.ManyRunbooksJSON(doc), present.ManyRunbooksPage(doc))
}

// refusedAs is a device that the runbook leaves out, and why.
func refusedAs(d *device.Device, why []present.Refused, status int) present.Refused {
	x := present.Refused{Device: d.Name.Text, Outcome: fit.Misfit}
	if status == exitUnsettled {
		x.Outcome = fit.Unsettled
	}
	for _, w := range why {
		x.Because = append(x.Because, w.Because...)
	}
	return x
}

// jobOf is how long a device takes, and with which others it must not be worked on.
func jobOf(d *device.Device, book *plan.Runbook) plan.Job {
	j := plan.Job{Name: d.Name.Text}
	if book.Known {
		j.Minutes, j.Outage = book.Install.To, book.Outage.To
	}
	for _, b := range append([]*device.Device{d}, d.All()...) {
		for _, t := range b.NotTogether {
			j.Apart = append(j.Apart, t.Text)
		}
	}
	return j
}

// slotsOf names the slots that are written.
func slotsOf(t *plan.Target) string {
	var slots []string
	for _, f := range t.Files() {
		for _, u := range f.For {
			if u.Slot != "" && !strings.Contains(strings.Join(slots, ","), u.Slot) {
				slots = append(slots, u.Slot)
			}
		}
	}
	return strings.Join(slots, ", ")
}
