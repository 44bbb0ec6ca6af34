package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"fitcheck/core/device"
	"fitcheck/core/fault"
	"fitcheck/core/fit"
	"fitcheck/core/index"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
)

// offering looks for a package of the kit that fits where none of those given does. What was found
// before, of packages and rules that have not changed since, is taken from the index: it is advice,
// and says when that was.
type offering struct {
	c     *call
	m     *matching
	given map[string]bool
	paths []string // of the kit's packages
	known *index.Index
	rules string // names the state of the program and of the kit's rules
	seen  *survey.Seen

	mu       sync.Mutex
	surveyed map[string]*survey.Survey
}

func newOffering(c *call, m *matching) *offering {
	o := &offering{c: c, m: m, given: map[string]bool{}, surveyed: map[string]*survey.Survey{}, seen: c.seen}
	if o.seen == nil {
		o.seen = survey.NewSeen()
	}
	for _, s := range m.surveys {
		o.given[s.Path] = true
	}
	var err error
	if o.paths, err = m.k.Packages(filepath.Join(m.k.Dir, "packages"), true); err != nil {
		return o // the kit has none
	}
	if c.env.Cache != "" && !m.noCache {
		o.known = index.Open(c.env.Cache, m.k.Dir)
		var folders []string
		for _, name := range []string{"rulebooks", "layouts", "keys", "devices"} {
			folders = append(folders, filepath.Join(m.k.Dir, name))
		}
		o.rules = index.Question(Version, builtFrom().Text(), programState(), index.State(folders...), fmt.Sprint(m.trust, c.limits))
	}
	return o
}

// programState tells one build of the program from another.
func programState() string {
	path, err := os.Executable()
	if err != nil {
		return ""
	}
	info, err := os.Stat(path)
	if err != nil {
		return ""
	}
	return fmt.Sprint(info.Size(), info.ModTime().UnixNano())
}

// save keeps what was found. That it cannot be kept costs time alone.
func (o *offering) save() {
	if o.known == nil {
		return
	}
	if err := o.known.Save(o.m.k.Dir); err != nil {
		slog.Debug("what was found of the kit's packages is not kept", "error", err)
	}
}

// fitting is a package that fits.
type fitting struct {
	verdict *fit.Verdict // nil where only the index says so
	path    string
	outcome index.Outcome
}

// advise names the best of the kit's packages that fit a device.
func (o *offering) advise(ctx context.Context, d *device.Device, a *present.Answer) error {
	if a.Verdicts[0].Outcome == fit.Fits || len(o.paths) == 0 {
		return nil
	}
	rules, err := o.m.rules(d)
	if err != nil {
		return err
	}
	question := index.Question(o.rules, d.Likeness())
	var found, unknown []fitting
	for _, p := range o.m.k.MayServe(o.paths, d) {
		if o.given[p] {
			continue
		}
		f := fitting{path: p}
		if o.known != nil {
			var ok bool
			if f.outcome, ok = o.known.Found(p, question); ok {
				if f.outcome.Fits {
					found = append(found, f)
				}
				continue
			}
		}
		unknown = append(unknown, f)
	}
	slices.SortStableFunc(found, func(a, b fitting) int { return a.outcome.Place - b.outcome.Place })
	looked, err := o.look(ctx, unknown, d, rules)
	if err != nil {
		return err
	}
	if len(looked) > 0 && len(found) > 0 { // the two are compared by what is there now
		again, err := o.look(ctx, found[:1], d, rules)
		if err != nil {
			return err
		}
		looked, found = append(looked, again...), found[1:]
	}
	slices.SortStableFunc(looked, func(a, b fitting) int { return fit.Better(a.verdict, b.verdict) })
	o.remember(question, looked, found, unknown)
	switch {
	case len(looked) > 0:
		v := looked[0].verdict
		a.Instead = &present.Instead{Package: v.Package, Path: v.Path}
	case len(found) > 0:
		a.Instead = &present.Instead{Package: filepath.Base(found[0].path), Path: found[0].path, Looked: found[0].outcome.Looked}
	}
	return nil
}

// remember notes what was found just now: what fits, in its order, before what fitted earlier.
func (o *offering) remember(question string, looked, found, unknown []fitting) {
	if o.known == nil || len(unknown) == 0 {
		return
	}
	now, first := time.Now().UTC().Truncate(time.Second), 0
	if len(found) > 0 {
		first = found[0].outcome.Place - len(looked)
	}
	for _, u := range unknown {
		o.known.Note(u.path, question, index.Outcome{Looked: now})
	}
	for i, f := range looked {
		o.known.Note(f.path, question, index.Outcome{Fits: true, Place: first + i, Looked: now})
	}
}

// look judges packages side by side, and gives those that fit. A quick look at each sorts out most
// of them; only what may fit is read whole.
func (o *offering) look(ctx context.Context, among []fitting, d *device.Device, rules fit.Rulebooks) ([]fitting, error) {
	verdicts := make([]*fit.Verdict, len(among))
	group, inner := errgroup.WithContext(ctx)
	group.SetLimit(runtime.GOMAXPROCS(0))
	for i, f := range among {
		group.Go(func() (err error) {
			defer fault.Catch(&err)
			v := o.judge(inner, f.path, d, rules, true)
			if v != nil && v.Outcome != fit.Misfit {
				v = o.judge(inner, f.path, d, rules, false)
			}
			verdicts[i] = v
			return inner.Err()
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	var out []fitting
	for i, v := range verdicts {
		if v != nil && v.Outcome == fit.Fits && !v.RunsAlready() {
			out = append(out, fitting{verdict: v, path: among[i].path})
		}
	}
	return out, nil
}

// judge judges one package of the kit; nil where it cannot be read: that is no advice.
func (o *offering) judge(ctx context.Context, path string, d *device.Device, rules fit.Rulebooks, quick bool) *fit.Verdict {
	key := fmt.Sprint(quick, path)
	o.mu.Lock()
	s := o.surveyed[key]
	o.mu.Unlock()
	if s == nil {
		inner := *o.c
		inner.seen = o.seen
		inner.quick, inner.quiet = quick, true
		var err error
		if s, err = inner.survey(ctx, o.m.k, path, nil, nil); err != nil {
			return nil
		}
		o.mu.Lock()
		o.surveyed[key] = s
		o.mu.Unlock()
	}
	if denied(s) != nil {
		return nil
	}
	return fit.Match(d, rules, s, o.m.options())
}
