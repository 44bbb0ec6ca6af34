package cli

import (
	"context"
	"flag"
	"path/filepath"
	"slices"
	"strings"

	"fitcheck/core/plan"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "runbook", order: 110, args: "-device D… PACKAGE…", tells: true, reads: true, folds: []string{page.Why},
	part: partNight, example: "runbook -device cabinet-07 packages/qm-tram-8.4.2.zip",
	short: "which steps, in which order, and what to look for at each?",
	long: `For the whole way to what the packages hold, or to -to VERSION: what to do before, the
transfer, the digest to compare on the device, which slot, the order of components, restart
and what to see, checks afterwards, and what to do when it goes wrong. In the device's own
words where the rulebook's procedure has them. -out writes text, Markdown or a page to tick
off and print, by the ending of its name. Refuses what does not fit. -follow goes through
the steps with you: it shows one, takes what the device shows (pasted and ended by a line
with a single dot, or file NAME), holds it against the step and says go on (0 when all is
done), wait or left (3), or stop (1). It never offers a restart before the state is proven.
Every answer goes into a record, and the same command takes it up where it was left.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		var deviceNames, notDuring names
		f.Var(&deviceNames, "device", "the `device`: a file, a name in the kit's devices/, a folder or a pattern; may be given several times")
		f.Var(&notDuring, "not-during", "of several devices: nothing is installed at this `time`, as \"02:00-03:00 nightly backup\"; may be given several times")
		parallel := f.Int("parallel", 0, "of several devices: at most `N` at one time")
		window := f.String("window", "", "the time that there is: `MINUTES`, or 22:00-04:00")
		out := f.String("out", "", "write it to this `file`: .txt, .md or .html")
		replace := f.Bool("replace", false, "replace a file that is there")
		evenIf := f.String("even-if", "", "unsettled: also for what is not settled; it says what is not")
		var o plan.RunbookOptions
		f.StringVar(&o.Server, "server", "", "the `address` of the server, as the device reaches it")
		f.StringVar(&o.Dir, "staged", "", "the `folder` that stage wrote")
		w := &wayfinding{}
		w.wayFlags(f)
		follow := &following{}
		follow.flags(f)
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case *parallel < 0:
				return 0, usagef("-parallel takes a number from 1")
			case len(deviceNames) == 0:
				return 0, usagef("runbook needs -device: a device file, or a name in the kit's devices/")
			case len(args) == 0 && w.goal.Version == "":
				return 0, usagef("runbook takes packages, or -to with a version")
			case *evenIf != "" && *evenIf != "unsettled":
				return 0, usagef("-even-if takes unsettled, not %q", *evenIf)
			case *out != "" && !slices.Contains([]string{".txt", ".md", ".html", ".htm"}, strings.ToLower(filepath.Ext(*out))):
				return 0, usagef("-out takes a file whose name ends in .txt, .md or .html")
			}
			if err := w.check(); err != nil {
				return 0, err
			}
			if err := follow.check(); err != nil {
				return 0, err
			}
			night, err := plan.ReadWindow(*window)
			if err != nil {
				return 0, usagef("-window: %v", err)
			}
			night.Parallel, o.Window = *parallel, night.Minutes
			for _, t := range notDuring {
				if err := night.Exclude(t); err != nil {
					return 0, usagef("-not-during: %v", err)
				}
			}
			p, err := newPlanning(ctx, c, w, args)
			if err != nil {
				return 0, err
			}
			all, err := p.k.Devices(deviceNames)
			if err != nil {
				return 0, err
			}
			p.evenIf = *evenIf != ""
			if len(all) > 1 {
				if follow.on {
					return 0, usagef("-follow goes through the runbook of one device, and -device names %d", len(all))
				}
				return p.runbookMany(ctx, c, all, o, night, *out, *replace)
			}
			d := all[0]
			t, err := p.target(ctx, c, d)
			if err != nil {
				return 0, err
			}
			t.Name = deviceNames[0]
			why, status := refusal(t, *evenIf != "")
			if status != exitFits {
				return status, c.tell(present.RunbookJSON(nil, why), present.RefusedPage(why, "planned"))
			}
			book, err := writeRunbook(t, o)
			if err != nil {
				return 0, err
			}
			if follow.on {
				return follow.run(ctx, c, p, t, book)
			}
			if *out != "" {
				err = writeNew(*out, *replace, func(b *strings.Builder) error {
					r := present.Report{Page: present.RunbookPage(book), Version: Version}
					switch kindOf(*out) {
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
			}
			switch {
			case c.json:
				return exitFits, present.WriteJSON(c.env.Stdout, present.RunbookJSON(book, nil))
			case *out != "":
				c.show(present.Wrote("the runbook", *out))
			default:
				c.show(present.RunbookPage(book))
			}
			return exitFits, nil
		}
	},
})

// writeRunbook gives the files the names under which they are staged.
func writeRunbook(t *plan.Target, o plan.RunbookOptions) (*plan.Runbook, error) {
	files, err := plan.Arrange(t.Files(), t.Transfer)
	if err != nil {
		return nil, err
	}
	o.Keep = t.Keep
	return plan.Write(t, files, o), nil
}
