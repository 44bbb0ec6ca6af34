package cli

import (
	"context"
	"flag"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"fitcheck/core/device"
	"fitcheck/core/fault"
	"fitcheck/core/fit"
	"fitcheck/core/kit"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
	"fitcheck/internal/present/page"
)

var _ = register(&command{
	name: "path", order: 80, args: "-device D… -to VERSION", tells: true, reads: true, folds: []string{page.Why}, reports: true, draws: true,
	part: partDecide, example: "path -device depot-core -to latest",
	short: "how does the device get there, and back?",
	long: `VERSION is a release of the rulebook, or latest, or channel:NAME, or certified:NAME for what
a certified set of the rulebooks wants of this model. The path is the one that
resets the configuration least often, then has the fewest hops, then the least outage, then
the newest releases. Each hop says why it is there, by which rule, and which package of the
kit carries it. Members of a group that must run one version move together. The exit status
is 0 with a path, 1 without one, and 3 when something that is not known decides.`,
	setup: func(f *flag.FlagSet) func(context.Context, *call, []string) (int, error) {
		w := &wayfinding{}
		w.flags(f)
		f.BoolVar(&w.onHand, "on-hand", false, "only by releases of which the kit has a package")
		f.StringVar(&w.format, "format", "text", "text, json or csv")
		f.IntVar(&w.options.All, "all", 1, "the `N` best ways that are really different")
		return func(ctx context.Context, c *call, args []string) (int, error) {
			switch {
			case len(args) > 0:
				return 0, usagef("path takes no package: it finds the kit's own; unexpected %q", args[0])
			case !slices.Contains([]string{"text", "json", "csv"}, w.format):
				return 0, usagef("-format takes text, json or csv, not %q", w.format)
			case len(w.devices) == 0:
				return 0, usagef("path needs -device: a device file, or a name in the kit's devices/")
			case w.goal.Version == "":
				return 0, usagef("path needs -to: a version, latest, channel:NAME or certified:NAME")
			case w.options.All < 1 || w.options.All > 20:
				return 0, usagef("-all takes a number from 1 to 20")
			}
			if err := w.check(); err != nil {
				return 0, err
			}
			c.json = c.json || w.format == "json"
			return w.run(ctx, c)
		}
	},
})

// wayfinding is one call of path, and the part of other commands that finds the
// way.
type wayfinding struct {
	devices names
	device  string // as it is named
	format  string
	goal    path.Goal
	prefer  string
	options path.Options
	avoid   names
	onHand  bool

	k     *kit.Kit
	d     *device.Device
	rules plan.Rules
	shelf *plan.Shelf
	// looked are packages of the kit after a quick look, by path; nil for one that cannot be read.
	looked map[string]*survey.Survey
	cache  *fit.Cache // of what is worked out of packages alone, for all devices
}

// flags declares what every command takes that finds a way.
func (w *wayfinding) flags(f *flag.FlagSet) {
	f.Var(&w.devices, "device", "the `device`: a file, a name in the kit's devices/, a folder or a pattern; may be given several times")
	w.wayFlags(f)
}

// wayFlags are those that say where to go and how.
func (w *wayfinding) wayFlags(f *flag.FlagSet) {
	f.StringVar(&w.goal.Version, "to", "", "the `version` to go to, latest, channel:NAME or certified:NAME")
	f.StringVar(&w.goal.Family, "family", "", "the image `family` to go to; else the one that it runs")
	f.StringVar(&w.prefer, "prefer", "resets", "what to have least of: resets, hops or outage")
	f.Var(&w.avoid, "avoid", "a `version` that may not be on the way; may be given several times")
	f.IntVar(&w.options.MaxStates, "max-states", path.MaxStates, "give up after so many `states`")
}

func (w *wayfinding) check() error {
	if !slices.Contains([]path.Prefer{path.Resets, path.Hops, path.Outage}, path.Prefer(w.prefer)) {
		return usagef("-prefer takes resets, hops or outage, not %q", w.prefer)
	}
	if w.options.MaxStates < 1 {
		return usagef("-max-states takes a number from 1")
	}
	w.options.Prefer, w.options.Avoid = path.Prefer(w.prefer), w.avoid
	return nil
}

// open reads the kit and the device, and takes a quick look at the kit's
// packages.
func (w *wayfinding) open(ctx context.Context, c *call) error {
	var err error
	if w.k == nil {
		if w.k, err = c.kit(); err != nil {
			return err
		}
	}
	if w.d == nil {
		devices, err := w.k.Devices(w.devices)
		if err != nil {
			return err
		}
		if len(devices) != 1 {
			return usagef("-device names %d devices here, and one is wanted", len(devices))
		}
		w.d = devices[0]
	}
	found, err := w.k.RulebooksFor(w.d)
	if err != nil {
		return err
	}
	w.rules = func(model string) *rulebook.Rulebook { return found[model] }
	looked, err := w.look(ctx, c, w.d)
	if err != nil {
		return err
	}
	if w.cache == nil {
		w.cache = fit.NewCache()
	}
	w.shelf = &plan.Shelf{Rules: w.rules, Surveys: looked, Options: fit.Options{Cache: w.cache}}
	return nil
}

// look takes a quick look, once, at each of the kit's packages that by its name may serve a device.
func (w *wayfinding) look(ctx context.Context, c *call, d *device.Device) ([]*survey.Survey, error) {
	paths, err := w.k.Packages(filepath.Join(w.k.Dir, "packages"), true)
	if err != nil {
		return nil, nil // the kit has none
	}
	paths = w.k.MayServe(paths, d)
	if w.looked == nil {
		w.looked = map[string]*survey.Survey{}
	}
	inner := *c
	inner.quick, inner.quiet = true, true
	all := make([]*survey.Survey, len(paths))
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range paths {
		if s, done := w.looked[p]; done {
			all[i] = s
			continue
		}
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			one := inner
			if s, err := one.survey(within, w.k, p, nil, nil); err == nil && denied(s) == nil {
				all[i] = s
			}
			return within.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for i, s := range all {
		w.looked[paths[i]] = s
	}
	return slices.DeleteFunc(all, func(s *survey.Survey) bool { return s == nil }), nil
}

func (w *wayfinding) find() (*path.Result, error) {
	if w.onHand {
		w.options.OnHand = w.shelf.Has(w.d)
	}
	if name, ok := strings.CutPrefix(w.goal.Version, "certified:"); ok {
		w.goal.Set = w.k.Certified(strings.TrimSpace(name))
	}
	w.options.NoRulebook = func(d *device.Device) string { return noRulebook(w.k, d) }
	return path.Find(path.Request{Device: w.d, Rules: w.rules, Goal: w.goal, Options: w.options})
}

func (w *wayfinding) run(ctx context.Context, c *call) (int, error) {
	var err error
	if w.k, err = c.kit(); err != nil {
		return 0, err
	}
	devices, err := w.k.Devices(w.devices)
	if err != nil {
		return 0, err
	}
	var all []present.Paths
	status := exitFits
	like := kinds(devices)
	w.cache = fit.NewCache()
	for i, d := range devices {
		if k := like[i]; k < i && len(devices) > manyDevices { // the way of the one that it is like
			p := all[k]
			p.Device, p.Like = d.Name.Text, devices[k].Name.Text
			all = append(all, p)
			continue
		}
		one := *w
		one.d, one.device = d, d.Name.Text
		if len(devices) == 1 {
			one.device = w.devices[0]
		}
		if err := one.open(ctx, c); err != nil {
			return 0, err
		}
		w.looked = one.looked
		one.options.Picture = c.report != "" && len(devices) == 1
		res, err := one.find()
		if err != nil {
			return 0, err
		}
		all = append(all, one.present(res))
		if s := pathStatus(res); s == exitMisfit || status == exitFits {
			status = s
		}
	}
	if w.format == "csv" {
		return status, present.PathsCSV(c.env.Stdout, all)
	}
	return status, c.tell(present.PathJSON(all), present.ManyPathsPage(all))
}

// manyDevices is from how many devices on the way of those that are alike is found once.
const manyDevices = 50

func pathStatus(res *path.Result) int {
	status := exitFits
	for _, a := range res.Plans {
		switch {
		case a.Found:
		case len(a.Unsettled) > 0:
			if status == exitFits {
				status = exitUnsettled
			}
		default:
			status = exitMisfit
		}
	}
	return status
}

// present gives every hop the packages that carry it.
func (w *wayfinding) present(res *path.Result) present.Paths {
	out := present.Paths{Device: w.device, Notes: res.Notes, Prefer: w.options.Prefer}
	for _, a := range res.Plans {
		p := present.PathAnswer{Answer: a, Steps: w.shelf.Steps(w.d, a.Hops), Maybe: w.shelf.Steps(w.d, a.Maybe)}
		for _, alt := range a.Alternatives {
			p.Alternatives = append(p.Alternatives, w.shelf.Steps(w.d, alt.Hops))
		}
		if a.Back != nil {
			p.Back = w.shelf.Steps(plan.After(w.d, w.rules, a.Hops), a.Back.Hops)
		}
		out.Plans = append(out.Plans, p)
	}
	return out
}
