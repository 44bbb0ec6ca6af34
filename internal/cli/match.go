package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/fault"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/rulebook"
	"fitcheck/core/spelling"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "match", order: 70, args: "-device D… PACKAGE… | -certified NAME", tells: true, reads: true, folds: []string{page.Why}, reports: true,
	part: partDecide, example: "match -device cabinet-07 packages/qm-tram-8.4.2.zip",
	short: "does it fit this device?",
	long: `D is a device file, the name of one in the kit's devices/, or a folder of them; -device may
be given several times. PACKAGE is an archive, a bare image or an unpacked folder, the name
of one in the kit's packages/, or a folder of packages. The verdict is fits, misfit or
unsettled; it never says "fits" on a guess, and each line of it cites where both sides of
the comparison were read. Of several packages the best comes first; those that complete
each other are judged together, and it says so. The exit status is 0, 1 or 3: for several
packages, that of the best one for the device that comes off worst. With -certified NAME it
takes no package: it tells whether each device runs what that certified set of the rulebooks
wants of its model (0), something below or beyond it (1), or what is not known (3), and what
it takes to get there.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		m := &matching{}
		f.Var(&m.devices, "device", "the `device`: a file, a name in the kit's devices/, or a folder; may be given several times")
		f.BoolVar(&m.trust, "trust-names", false, "accept what only file and folder names say; the verdict says so")
		f.BoolVar(&m.each, "each", false, "every file and folder in the folder given is a package of its own")
		f.BoolVar(&m.others, "others", true, "when nothing given fits, look in the kit's packages/ for one that does")
		f.BoolVar(&m.noCache, "no-cache", false, "with -others, look at every package again, and remember nothing of it")
		f.BoolVar(&m.brief, "brief", false, "one line a device: the verdict, the best package, the reason")
		f.BoolVar(&m.evidence, "evidence", false, "show each source itself: bytes of the header, lines of files and rules")
		f.BoolVar(&m.example, "example", false, "also add the verdict to the rulebook's examples")
		f.StringVar(&m.certified, "certified", "", "hold what the devices run against the certified set of this `name`; no packages then")
		f.StringVar(&m.format, "format", "text", "text, json, junit or csv")
		expect := expectFlag(f)
		quick := quickFlag(f)
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case len(m.devices) == 0:
				return 0, usagef("match needs -device: a device file, or a name in the kit's devices/")
			case m.certified != "" && len(args) > 0:
				return 0, usagef("-certified holds what runs against a set, and takes no packages; unexpected %q", args[0])
			case m.certified != "" && m.format != "text" && m.format != "json":
				return 0, usagef("-certified tells text or json, not %s", m.format)
			case len(args) == 0 && m.certified == "":
				return 0, usagef("match takes packages, and none is given; or hold what runs against a certified set with -certified NAME")
			case !slices.Contains([]string{"text", "json", "junit", "csv"}, m.format):
				return 0, usagef("-format takes text, json, junit or csv, not %q", m.format)
			}
			if c.json {
				m.format = "json"
			}
			c.json = m.format == "json"
			c.quick, m.expect = *quick, *expect
			if m.certified != "" {
				return m.runCertified(ctx, c)
			}
			return m.run(ctx, c, args)
		}
	},
})

// matching is one call of match.
type matching struct {
	devices                       names
	trust, each, others, evidence bool
	noCache                       bool
	brief, example                bool
	format, certified             string
	expect                        digests
	k                             *kit.Kit
	surveys                       []*survey.Survey
	cache                         *fit.Cache
	refused                       []present.RefusedPackage
}

// names is a flag that may be given several times.
type names []string

func (n *names) String() string { return strings.Join(*n, " ") }
func (n *names) Set(text string) error {
	*n = append(*n, text)
	return nil
}

// In one piece: the steps of the call, each of which may end it.
func (m *matching) run(ctx context.Context, c *call, args []string) (int, error) {
	var err error
	if m.k, err = c.kit(); err != nil {
		return 0, err
	}
	devices, err := m.k.Devices(m.devices)
	if err != nil {
		return 0, err
	}
	if len(devices) > 1 || len(devices[0].Members) > 1 { // one alone has nothing to share
		m.cache = fit.NewCache()
	}
	paths, err := m.paths(args)
	if err != nil {
		return 0, err
	}
	if len(paths) > 1 && len(m.expect) > 0 {
		return 0, usagef("-digest is of one package, and %d are given", len(paths))
	}
	prefer, err := m.k.RulebookFor(devices[0].Model.Text)
	if err != nil {
		return 0, err
	}
	if err := m.surveyAll(ctx, c, paths, prefer); err != nil {
		return 0, err
	}
	answers, err := m.judge(ctx, devices)
	if err != nil {
		return 0, err
	}
	if m.others && !c.quick {
		if err := m.advise(ctx, c, devices, answers); err != nil {
			return 0, err
		}
	}
	status := exitFits
	for _, a := range answers {
		if s := statusOf(a.Verdicts[0].Outcome); s == exitMisfit || status == exitFits {
			status = s
		}
	}
	if m.example {
		if len(answers) != 1 || len(answers[0].Verdicts) != 1 || c.quick {
			return 0, usagef("-example takes one device and one package, read in full")
		}
		if err := m.addExample(c, devices[0], answers[0].Verdicts[0], args[0]); err != nil {
			return 0, err
		}
	}
	return status, m.tell(ctx, c, answers)
}

// surveyAll surveys the packages. Of several, a refusal of one is told, and the others are judged.
func (m *matching) surveyAll(ctx context.Context, c *call, paths []string, prefer *rulebook.Rulebook) error {
	if len(paths) > 1 {
		c.seen = survey.NewSeen()
	}
	for _, p := range paths {
		if _, err := m.survey(ctx, c, p, prefer); err != nil {
			if len(paths) == 1 || ctx.Err() != nil {
				return err
			}
			err = advised(err)
			m.refused = append(m.refused, present.RefusedPackage{Package: p, Because: err.Error()})
			fmt.Fprintln(c.env.Stderr, "fitcheck: refused, and the others are judged: "+page.Safe(err.Error()))
		}
	}
	if len(m.surveys) == 0 {
		return errors.New("none of the packages could be read; what is wrong with each is told above")
	}
	return nil
}

// advise says of misfits what else of the kit would fit.
func (m *matching) advise(ctx context.Context, c *call, devices []*device.Device, answers []present.Answer) error {
	o := newOffering(c, m)
	for i := range answers {
		if answers[i].Shared {
			continue
		}
		if err := o.advise(ctx, devices[i], &answers[i]); err != nil {
			return err
		}
	}
	o.save()
	return nil
}

// tell writes the report, if one is asked for, and the answer.
func (m *matching) tell(ctx context.Context, c *call, answers []present.Answer) error {
	evidence, err := m.sources(ctx, c, answers)
	if err != nil {
		return err
	}
	var shown present.Evidence
	if m.evidence {
		shown = evidence
	}
	report := present.AnswersPage(answers, evidence, false)
	if m.format == "junit" {
		if c.report != "" {
			if err := c.writeReport(report, m.surveys); err != nil {
				return err
			}
		}
		return present.JUnit(c.env.Stdout, answers)
	}
	if m.format == "csv" {
		return present.AnswersCSV(c.env.Stdout, answers)
	}
	return c.tellWith(present.AnswersJSON(answers, m.refused), present.AnswersPage(answers, shown, m.brief), report, m.surveys)
}

// paths lists the packages that the arguments stand for, each once.
func (m *matching) paths(args []string) ([]string, error) {
	var out []string
	for _, a := range args {
		paths, err := m.k.Packages(a, m.each)
		if err != nil {
			return nil, err
		}
		for _, p := range paths {
			if !slices.Contains(out, p) {
				out = append(out, p)
			}
		}
	}
	return out, nil
}

// survey reads a package once, whatever number of devices it is held against.
func (m *matching) survey(ctx context.Context, c *call, path string, prefer *rulebook.Rulebook) (*survey.Survey, error) {
	s, err := c.survey(ctx, m.k, path, prefer, m.expect)
	if err != nil {
		return nil, err
	}
	if err := denied(s); err != nil {
		return nil, err
	}
	m.surveys = append(m.surveys, s)
	return s, nil
}

func (m *matching) options() fit.Options {
	return fit.Options{TrustNames: m.trust, Cache: m.cache, NoRulebook: func(d *device.Device) string { return noRulebook(m.k, d) }}
}

// maxFull is how many verdicts are kept whole; of more, the best one for each
// device is, and of the others what decides them.
const maxFull = 2000

// manyMemory is how much memory garbage may take where there are very many verdicts.
const manyMemory = 220 << 20

// judge holds every device against every package, devices side by side. Of very many, those that
// are alike in all that a verdict rests on are judged once.
func (m *matching) judge(ctx context.Context, devices []*device.Device) ([]present.Answer, error) {
	answers := make([]present.Answer, len(devices))
	many := len(devices)*len(m.surveys) > maxFull
	if many {
		// Nearly all of it is garbage at once; memory stays small all the same.
		defer debug.SetGCPercent(debug.SetGCPercent(400))
		defer debug.SetMemoryLimit(debug.SetMemoryLimit(manyMemory))
	}
	like := kinds(devices)
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, d := range devices {
		if like[i] < i {
			answers[i].Like = devices[like[i]]
			if many {
				continue
			}
		}
		rules, err := m.rules(d)
		if err != nil {
			return nil, err
		}
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			verdicts := fit.MatchAll(d, rules, m.surveys, m.options())
			if many {
				for _, v := range verdicts[1:] {
					v.Brief()
				}
			}
			answers[i].Verdicts = verdicts
			return ctx.Err()
		})
	}
	err := group.Wait()
	for i, d := range devices {
		answers[i].Device = d
		if answers[i].Verdicts == nil {
			answers[i].Verdicts, answers[i].Shared = answers[like[i]].Verdicts, true
		}
	}
	return answers, err
}

// kinds gives, for each device, the first that is like it in all that a judgement rests on: its
// own place, where none before it is.
func kinds(devices []*device.Device) []int {
	first := map[string]int{}
	out := make([]int, len(devices))
	for i, d := range devices {
		key := d.Likeness()
		if _, ok := first[key]; !ok {
			first[key] = i
		}
		out[i] = first[key]
	}
	return out
}

func (m *matching) rules(d *device.Device) (fit.Rulebooks, error) {
	found, err := m.k.RulebooksFor(d)
	return func(model string) *rulebook.Rulebook { return found[model] }, err
}

// denied refuses a package of which the system would not open a part: no
// verdict can speak for what was not read.
func denied(s *survey.Survey) error {
	for _, p := range s.Problems {
		if p.Class == archive.Denied {
			return fmt.Errorf("%s: %s; %s", p.Item, p.What, p.Advice)
		}
	}
	return nil
}

// noRulebook says why no rulebook knows the device.
func noRulebook(k *kit.Kit, d *device.Device) string {
	if rb, err := k.RulebookFor(d.Model.Text); rb != nil || err != nil {
		return ""
	}
	switch {
	case len(k.Rulebooks) == 0:
		return fmt.Sprintf("the kit %s has no rulebooks; name another with -kit, or write one", k.Dir)
	case !d.Model.Set():
		return "add model: to " + d.File
	}
	var known []string
	for _, rb := range k.Rulebooks {
		known = append(known, rb.Models.Keys()...)
	}
	meant := ""
	if near := spelling.Nearest(d.Model.Text, known); near != "" {
		meant = fmt.Sprintf("did you mean %s? ", near)
	}
	return fmt.Sprintf("no rulebook knows the model %s; %scorrect model: in %s, or add the model to a rulebook in %s", d.Model.Text, meant, d.File, filepath.Join(k.Dir, "rulebooks"))
}
