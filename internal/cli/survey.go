package cli

import (
	"context"
	"flag"
	"path/filepath"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/kit"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "survey", order: 20, args: "PACKAGE", tells: true, reads: true, folds: []string{page.All}, reports: true,
	part: partDownload, example: "survey packages/qm-tram-8.4.2.zip",
	short: "what is in this download, and is it whole?",
	long: `PACKAGE is an archive, a bare image or a folder; a name that is no path is looked up
in the kit's packages/. Archives inside it are opened, too. Each item is shown with its
kind, size and SHA-256, what its header says with each checksum recomputed, and what the
manifest and the checksum lists say of it. The exit status is 1 when something is wrong.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		expect := expectFlag(f)
		quick := quickFlag(f)
		contents := f.Bool("contents", false, "list the files of file systems, too, with their digests")
		deep := f.Bool("deep", false, "look for images at any offset of what has no header of its own, and map it")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			if len(args) != 1 {
				return 0, usagef("survey takes one package, and %d are given", len(args))
			}
			k, err := c.kit()
			if err != nil {
				return 0, err
			}
			if *contents && *quick {
				return 0, usagef("the files of file systems are read to list them; leave -quick out")
			}
			c.deep, c.quick, c.contents = *deep, *quick, *contents
			c.undigested = !c.json && c.report == "" && !*contents && !*c.open[page.All]
			defer sparing()()
			s, err := c.survey(ctx, k, args[0], nil, *expect)
			if err != nil {
				return 0, err
			}
			if *contents { // asked for, so it is shown
				*c.open[page.All] = true
			}
			return surveyStatus(s), c.tell(present.SurveyJSON(s), present.SurveyPage(s))
		}
	},
})

// survey runs a survey with the rulebooks of the kit, the preferred one first.
func (c *call) survey(ctx context.Context, k *kit.Kit, name string, prefer *rulebook.Rulebook, expect digests) (*survey.Survey, error) {
	o := survey.Options{Limits: c.limits, Formats: k.Formats, Keys: k.Key, Deep: c.deep, Contents: c.contents, Digests: c.digests, Undigested: c.undigested, Seen: c.seen}
	if prefer != nil {
		o.Rulebooks = append(o.Rulebooks, prefer)
	}
	for _, rb := range k.Rulebooks {
		if rb != prefer {
			o.Rulebooks = append(o.Rulebooks, rb)
		}
	}
	for _, sum := range expect {
		o.Expect = append(o.Expect, survey.Expected{Sum: sum, Source: fact.Source{Kind: fact.Command, File: "-digest"}})
	}
	if c.quick && len(expect) > 0 {
		return nil, usagef("a digest is taken over the whole file; leave -quick out")
	}
	progress, stop := c.watch("reading " + page.Safe(archive.NameOf(name)))
	defer stop()
	o.Quick, o.Progress = c.quick, progress
	s, err := survey.Run(ctx, k.Package(name), o)
	if err == nil {
		for _, b := range k.Broken {
			if s.Entry != nil {
				s.Notes = append(s.Notes, b.Note())
				continue
			}
			s.Problems = append(s.Problems, archive.Problem{Item: b.File, Class: archive.Unreadable, What: b.Note() + "; it may be the one that describes this package", Advice: "fitcheck rulebook check " + shell.Quote(filepath.Join(k.Dir, b.File)) + " tells what is wrong with it"})
		}
	}
	return s, err
}

// surveyStatus: 4 when nothing could be read, 1 when something is wrong, 3 when something
// in it cannot be read by this program. A file of which nothing at all is known is a
// problem.
func surveyStatus(s *survey.Survey) int {
	status, denied := exitFits, false
	for _, p := range s.Problems {
		switch {
		case p.Class == archive.Note:
		case p.Class != archive.Unreadable, s.Root() != nil && p.Item == s.Name && s.Root().Kind == "unknown":
			status = exitMisfit
		case status == exitFits:
			status = exitUnsettled
		}
		denied = denied || p.Class == archive.Denied
	}
	if denied && len(s.Items) == 0 {
		return exitUnreadable
	}
	return status
}

func quickFlag(f *flag.FlagSet) *bool {
	return f.Bool("quick", false, "read only the first bytes of each item: no digests, and nothing is called intact")
}

// digests is the value of the flag -digest.
type digests []digest.Sum

func (d *digests) String() string {
	var out []string
	for _, s := range *d {
		out = append(out, s.String())
	}
	return strings.Join(out, " ")
}

func (d *digests) Set(text string) error {
	s, err := digest.Parse(text)
	*d = append(*d, s)
	return err
}

func expectFlag(f *flag.FlagSet) *digests {
	d := &digests{}
	f.Var(d, "digest", "a digest published for the package, as `ALGORITHM:HEX`; may be given several times")
	return d
}
