package cli

import (
	"context"
	"flag"
	"fmt"

	"fitcheck/core/archive"
	"fitcheck/core/kit"
	"fitcheck/core/shell"
	"fitcheck/core/unpack"
	"fitcheck/core/yamlfile"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "unpack", order: 40, args: "-into DIR PACKAGE", tells: true, reads: true, folds: []string{page.All},
	part: partDownload, example: "unpack -into unpacked packages/qm-tram-8.4.2.zip",
	short: "write the items out as files, safely",
	long: `Writes everything that is in the package below DIR, which is made when it is missing.
What a nested archive holds goes into a folder beside it, NAME.unpacked; with -parts,
what is inside an image into NAME.parts; with -contents, the files of file systems, too,
which otherwise are written as the one file that they are. Names that lead out of the
folder, links and devices are never written; nor is what is damaged, or of a part that is
cut short what is there of it. Files are writable by their owner only, whatever the package
says. A different file in the way is not replaced without -replace, and then nothing is
written at all. Each file is printed with its SHA-256. The exit status is 1 when something
was left out.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		into := f.String("into", "", "the `folder` to write to")
		only := f.String("only", "", "write only items whose address matches this `glob`; :: is / in it, ** spans levels")
		parts := f.Bool("parts", false, "write what is inside images, too: payloads, partitions, inflated where they are compressed")
		contents := f.Bool("contents", false, "write the files of file systems, too; links and devices never, set-id bits dropped")
		replace := f.Bool("replace", false, "replace files that differ")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case *into == "":
				return 0, usagef("unpack needs -into: the folder to write to")
			case len(args) != 1:
				return 0, usagef("unpack takes one package, and %d are given", len(args))
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			o := unpack.Options{Limits: c.limits, Formats: k.Formats, Into: *into, Parts: *parts, Contents: *contents, Replace: *replace}
			if *only != "" {
				if err := o.Only.ReadScalar(*only, yamlfile.Spot{Line: 1, Column: 1}); err != nil {
					return 0, usagef("-only: %v", err)
				}
			}
			progress, stop := c.watch("unpacking " + page.Safe(archive.NameOf(args[0])))
			defer stop()
			o.Progress = progress
			res, err := unpack.Run(ctx, k.Package(args[0]), o)
			stop()
			if err != nil {
				return 0, err
			}
			if *only != "" && len(res.Files) == 0 {
				return 0, fmt.Errorf("no item of %s matches -only %s; fitcheck survey -all %s lists the addresses (:: is / in the pattern)", archive.NameOf(args[0]), shell.Quote(*only), shell.Quote(args[0]))
			}
			res.Problems = append(res.Problems, mustStayWhole(k, args[0])...)
			u := present.Unpacked{Package: archive.NameOf(args[0]), Into: *into, Result: res}
			err = c.tell(present.UnpackedJSON(u), present.UnpackedPage(u))
			for _, p := range res.Problems {
				if p.Class != archive.Note {
					return exitMisfit, err
				}
			}
			return exitFits, err
		}
	},
})

// mustStayWhole notes that a download must be served as it was downloaded.
func mustStayWhole(k *kit.Kit, name string) []archive.Problem {
	base := archive.NameOf(name)
	for _, rb := range k.Rulebooks {
		for _, p := range rb.Packages {
			if p.Handling.Text == "whole" && p.File.Set() && p.File.MatchString(base) {
				return []archive.Problem{{Item: base, Class: archive.Note,
					What: fmt.Sprintf("by the rulebook (%s) it must be served whole: these files are to look at, not to install", rb.Source(p.Handling.Spot).Where())}}
			}
		}
	}
	return nil
}
