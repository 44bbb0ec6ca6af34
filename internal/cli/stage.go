package cli

import (
	"context"
	"errors"
	"flag"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "stage", order: 90, args: "-device D… -into DIR PACKAGE…", tells: true, reads: true, folds: []string{page.Why}, reports: true,
	part: partNight, example: "stage -device depot-core -to latest -into staged",
	short: "which files must the server offer? Lays them out, checked",
	long: `For every hop of the way to what the packages hold, or to -to VERSION: the images that are
installed, unpacked or whole as the rulebook says, each checked in full before and by its
digest after writing, with a SHA256SUMS and a STAGED.json that holds the evidence. Packages
of the kit serve for hops that those given do not. What does not fit is never staged, and
what is not settled only with -even-if unsettled. A second run changes nothing, one that
is broken off leaves no file that is not whole, and a file of somebody else's is never
replaced. The exit status is that of the verdict, or 0.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		var devices names
		f.Var(&devices, "device", "the `device`: a file, a name in the kit's devices/, or a folder; may be given several times")
		into := f.String("into", "", "the `folder` that the server offers")
		evenIf := f.String("even-if", "", "unsettled: also stage what is not settled")
		replace := f.Bool("replace", false, "replace what an earlier run staged there")
		w := &wayfinding{}
		w.wayFlags(f)
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case len(devices) == 0:
				return 0, usagef("stage needs -device: a device file, or a name in the kit's devices/")
			case *into == "":
				return 0, usagef("stage needs -into: the folder that the server offers")
			case *evenIf != "" && *evenIf != "unsettled":
				return 0, usagef("-even-if takes unsettled, not %q; a misfit is never staged", *evenIf)
			case len(args) == 0 && w.goal.Version == "":
				return 0, usagef("stage takes packages, or -to with a version")
			}
			if err := w.check(); err != nil {
				return 0, err
			}
			p, err := newPlanning(ctx, c, w, args)
			if err != nil {
				return 0, err
			}
			doc, status, err := p.stage(ctx, c, devices, *into, *evenIf != "", *replace)
			if err != nil {
				return 0, err
			}
			doc.Asked, doc.Packages = devices.String(), args
			return status, c.tell(present.StageJSON(*doc), present.StagePage(*doc))
		}
	},
})

// In one piece: the steps of the call, each of which may end it.
func (p *planning) stage(ctx context.Context, c *call, devices names, into string, evenIf, replace bool) (*present.Stage, int, error) {
	doc := &present.Stage{Into: into}
	p.evenIf = evenIf
	status := exitFits
	var files []plan.Serving
	transfers := map[string]*rulebook.Transfer{}
	all, err := p.k.Devices(devices)
	if err != nil {
		return nil, 0, err
	}
	unused := map[string]int{} // for how many devices a package has no use
	for _, d := range all {
		t, err := p.target(ctx, c, d)
		if err != nil {
			return nil, 0, err
		}
		doc.Targets = append(doc.Targets, t)
		for _, v := range t.Unused {
			unused[v.Path]++
		}
	}
	var sound []*plan.Target // of several devices, those that are staged
	for _, t := range doc.Targets {
		t.Unused = slices.DeleteFunc(t.Unused, func(v *fit.Verdict) bool { return unused[v.Path] < len(all) })
		why, st := refusal(t, evenIf)
		doc.Refused = append(doc.Refused, why...)
		if st == exitMisfit || status == exitFits {
			status = st
		}
		if st != exitFits {
			continue
		}
		sound = append(sound, t)
		for _, b := range t.Device.All() {
			if rb := t.Rules(b.Model.Text); rb != nil && rb.Transfer != nil {
				transfers[t.Device.Name.Text] = rb.Transfer
			}
		}
		files = append(files, t.Files()...)
	}
	if len(sound) == 0 {
		return doc, status, nil
	}
	doc.Targets = sound
	files, err = plan.Arrange(files, func(device string) *rulebook.Transfer { return transfers[device] })
	if err != nil {
		doc.Refused = append(doc.Refused, present.Refused{Outcome: "misfit", Because: []string{err.Error()}})
		return doc, exitMisfit, nil
	}
	if missing := plan.Walk(doc.Targets, files); len(missing) > 0 {
		doc.Refused = append(doc.Refused, present.Refused{Outcome: "misfit", Because: missing})
		return doc, exitMisfit, nil
	}
	doc.Files = files
	if len(files) == 0 {
		return doc, status, nil
	}
	var record strings.Builder
	if err := present.WriteJSON(&record, present.StagedRecord(doc.Targets, files)); err != nil {
		return nil, 0, err
	}
	s := plan.Staging{Dir: into, Files: files, Record: []byte(record.String()), Replace: replace, Limits: c.limits}
	done, err := s.Run(ctx)
	var foreign *plan.ForeignError
	if errors.As(err, &foreign) {
		return nil, 0, err
	}
	doc.Done = done
	return doc, status, err
}
