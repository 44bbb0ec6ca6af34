package cli

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/kit"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "confirm", order: 120, args: "-device D -after CAPTURE…", tells: true, reads: true, folds: []string{page.Why}, reports: true,
	part: partNight, example: "confirm -device cabinet-07 -to 8.4.2 -after captures/cab07-after.txt",
	short: "did the install do what the plan said?",
	long: `D is the device as it was before. CAPTURE is what its console says now, or any other source
that fitcheck device reads. Held against the plan to -to VERSION (without it, to what the
device runs now): versions of all components, the active slot and what the other one holds,
members all there and at one version, what is attached, the settings, and what must not have
changed. Only what the captures say counts. -record appends a line to a file: who checked
what, against which digests, when. The exit status is 0, 1 or 3, as for a verdict.
-step N holds the captures against one step of the runbook instead: go on (0), wait (3), it
failed, with what the rulebook knows of it, or do not go on (1), not known (3). With -runbook FILE,
which runbook -json wrote, it is refused where that step is no longer the one of the plan.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		var devices names
		f.Var(&devices, "device", "the `device` as it was before: a file, a name in the kit's devices/, a folder or a pattern; may be given several times")
		format := f.String("format", "text", "text, json or csv")
		var after names
		f.Var(&after, "after", "what was `captured` afterwards, or a folder of it; may be given several times")
		record := f.String("record", "", "append a line of JSON to this `file`")
		by := f.String("by", "", "the `name` for the record; else the user's")
		step := f.Int("step", 0, "hold the captures against step `N` of the runbook: may one go on from here? Arguments are then the runbook's packages")
		runbook := f.String("runbook", "", "the runbook that is followed, a `file` of runbook -json: its step must be that of the plan as it is made now")
		var before names
		f.Var(&before, "before", "what was `captured` before, for what must not be new; may be given several times")
		evenIf := f.String("even-if", "", "unsettled: a step of what is not settled, as the runbook has it")
		w := &wayfinding{}
		w.wayFlags(f)
		return func(ctx context.Context, c *call, args []string) (int, error) {
			var packages []string
			if *step != 0 {
				packages = args
			} else {
				after = append(after, args...)
			}
			var written *present.WrittenRunbook
			if *runbook != "" {
				if *step == 0 {
					return 0, usagef("confirm -runbook needs -step: the number of the step in it")
				}
				var err error
				if written, err = readRunbook(*runbook); err != nil {
					return 0, err
				}
				if w.goal.Version == "" && len(packages) == 0 {
					w.goal.Version = written.To()
				}
			}
			switch {
			case *step < 0:
				return 0, usagef("-step counts from 1")
			case *step > 0 && len(packages) == 0 && w.goal.Version == "":
				return 0, usagef("confirm -step takes the runbook's packages, or -to with a version, or -runbook with its file")
			case *evenIf != "" && *evenIf != "unsettled":
				return 0, usagef("-even-if takes unsettled, not %q", *evenIf)
			case !slices.Contains([]string{"text", "json", "csv"}, *format):
				return 0, usagef("-format takes text, json or csv, not %q", *format)
			case len(devices) == 0:
				return 0, usagef("confirm needs -device: the device file as it was before")
			case len(after) == 0:
				return 0, usagef("confirm needs -after: what was captured afterwards")
			}
			if err := w.check(); err != nil {
				return 0, err
			}
			p, err := newPlanning(ctx, c, w, packages)
			if err != nil {
				return 0, err
			}
			c.json = c.json || *format == "json"
			all, err := p.k.Devices(devices)
			if err != nil {
				return 0, err
			}
			if *step == 0 && (len(all) > 1 || *format == "csv") {
				if len(all) > 1 { // of one device, a folder is a device tree
					if after, err = captureFiles(after); err != nil {
						return 0, err
					}
				}
				return p.confirmMany(ctx, c, all, after, before, *format, *record, *by)
			}
			if len(all) > 1 {
				return 0, usagef("confirm -step is for one device, and -device names %d", len(all))
			}
			d := all[0]
			if *step > 0 {
				p.evenIf = *evenIf != ""
				return p.confirmStep(ctx, c, d, *step, written, after, before)
			}
			return p.confirm(ctx, c, d, after, before, *record, *by)
		}
	},
})

func (p *planning) confirm(ctx context.Context, c *call, d *device.Device, after, before []string, record, by string) (int, error) {
	doc, t, err := p.confirmed(ctx, c, d, after, before)
	if err != nil {
		return 0, err
	}
	if record != "" {
		if err := appendRecord(record, by, t, doc, after); err != nil {
			return 0, err
		}
		doc.Record = record
	}
	return statusOf(doc.Verdict()), c.tell(present.ConfirmJSON(doc), present.ConfirmPage(doc))
}

// confirmed holds captures against the plan of one device.
func (p *planning) confirmed(ctx context.Context, c *call, d *device.Device, after, before []string) (doc present.Confirmed, t *plan.Target, err error) {
	said := &plan.Captured{}
	var readings []*device.Reading
	for _, a := range after {
		r, err := readSource(p.k, a)
		if err != nil {
			return doc, nil, err
		}
		readings = append(readings, r)
		said.Recognised = said.Recognised || r.ByRule
		if said.Lines, err = appendLines(said.Lines, a); err != nil {
			return doc, nil, err
		}
	}
	for _, b := range p.before(d, before) {
		lines, err := appendLines(said.Before, b)
		if err != nil {
			return doc, nil, err
		}
		said.Before = append([]device.TextLine{}, lines...)
	}
	draft := device.Merge(readings, nil, nil, p.k)
	said.Draft = draft
	note := ""
	if p.goal.Version == "" {
		v, family := runsNow(p.k, d, draft)
		if v == "" {
			return doc, nil, fmt.Errorf("the captures do not tell what %s runs now, and -to does not say what it should; give -to", d.Name.Text)
		}
		p.goal = path.Goal{Version: v, Family: family}
		note = fmt.Sprintf("nobody said where it was to go: held against the plan to %s, which it runs", v)
	}
	if t, err = p.target(ctx, c, d); err != nil {
		return doc, nil, err
	}
	doc = present.Confirmed{Note: note, After: after}
	doc.Confirmation = plan.ConfirmCaptured(t, *said)
	if !t.Result.Found() { // there was no plan; what is there is told all the same
		why, _ := refusal(t, true)
		doc.NoPlan = why
	}
	return doc, t, nil
}

// runsNow is the version of the main component that captures tell.
func runsNow(k *kit.Kit, d *device.Device, draft *device.Draft) (version, family string) {
	for _, b := range d.All() {
		rb, err := k.RulebookFor(b.Model.Text)
		if err != nil || rb == nil {
			continue
		}
		box := path.NewBox(b, rb)
		for _, f := range draft.Findings {
			if f.Key == "family" && !f.Guess() && (f.Member == "" || strings.EqualFold(f.Member, b.Name.Text)) {
				family = f.Values[0].Text
			}
		}
		for _, f := range draft.Findings {
			if f.Key == "installed."+rb.Main(box.Family) && !f.Guess() && (f.Member == "" || strings.EqualFold(f.Member, b.Name.Text)) {
				return f.Values[0].Text, family
			}
		}
	}
	return "", ""
}

// recordLine is one line of a record.
type recordLine struct {
	Time     time.Time    `json:"time"`
	By       string       `json:"by"`
	Host     string       `json:"host,omitempty"`
	Device   string       `json:"device"`
	From     string       `json:"from"`
	To       string       `json:"to"`
	Verdict  string       `json:"verdict"`
	Checks   []string     `json:"checks"`
	Captures []recordFile `json:"captures"`
	Images   []recordFile `json:"images"`
	Program  string       `json:"fitcheck"`
}

type recordFile struct {
	File   string `json:"file"`
	SHA256 string `json:"sha256"`
}

// appendRecord adds a line to a record, in one write: lines that are there are
// never touched.
func appendRecord(file, by string, t *plan.Target, doc present.Confirmed, after []string) error {
	line := recordLine{Time: time.Now().UTC().Truncate(time.Second), By: by, Device: doc.Confirmation.Device, From: doc.Confirmation.From, To: doc.Confirmation.To, Verdict: string(doc.Verdict()), Program: Version,
		Checks: doc.Lines(), Captures: []recordFile{}, Images: []recordFile{}}
	if line.By == "" {
		if u, err := user.Current(); err == nil {
			line.By = u.Username
		}
	}
	line.Host, _ = os.Hostname()
	for _, a := range after {
		data, err := kit.ReadText(a)
		if err != nil {
			continue // a folder; its files are not listed one by one
		}
		line.Captures = append(line.Captures, recordFile{a, fmt.Sprintf("%x", sha256.Sum256(data))})
	}
	for _, f := range t.Files() {
		line.Images = append(line.Images, recordFile{f.Address, f.Digests.Of(digest.SHA256)})
	}
	text, err := json.Marshal(line)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	out, err := os.OpenFile(file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = out.Write(append(text, '\n'))
	if err == nil {
		err = out.Sync()
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return fmt.Errorf("%s: the record could not be written: %w", file, err)
	}
	return nil
}
