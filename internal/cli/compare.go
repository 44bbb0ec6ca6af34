package cli

import (
	"context"
	"flag"

	"fitcheck/core/compare"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "compare", order: 30, args: "A B | -device D PACKAGE", tells: true, reads: true, folds: []string{page.All}, reports: true,
	part: partDownload, example: "compare packages/qm-tram-8.4.1.zip packages/qm-tram-8.4.2.zip",
	short: "what differs between two packages, or a package and what the device runs?",
	long: `Shows for each component both versions and whether the images are the same to the byte, which
models, revisions, architectures and boards only one side names, and which items were added,
removed, changed or moved. With -device, one side is what the device file says it runs.
With -contents, the files of file systems are compared, too. It judges nothing: the exit
status is 0 when it could compare.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		dev := f.String("device", "", "the `device`: a file, or a name in the kit's devices/")
		contents := f.Bool("contents", false, "compare the files of file systems, too")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			want := 2
			if *dev != "" {
				want = 1
			}
			if len(args) != want {
				return 0, usagef("compare takes two packages, or one with -device, and %d are given", len(args))
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			c.contents, c.seen = *contents, survey.NewSeen()
			var sides []*survey.Survey
			for _, a := range args {
				s, err := c.survey(ctx, k, a, nil, nil)
				if err != nil {
					return 0, err
				}
				sides = append(sides, s)
			}
			var results []*compare.Result
			if *dev == "" {
				results = append(results, compare.Packages(sides[0], sides[1]))
			} else {
				d, err := k.Device(*dev)
				if err != nil {
					return 0, err
				}
				for _, m := range d.All() {
					results = append(results, compare.Device(m.Name.Text, &m.Unit, sides[0]))
				}
			}
			return exitFits, c.tell(present.CompareJSON(results), present.ComparePage(results))
		}
	},
})
