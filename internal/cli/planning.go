package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fit"
	"fitcheck/core/member"
	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	"fitcheck/core/survey"
	"fitcheck/internal/present"
)

// planning finds the way of a device with the packages given, and judges every
// step of it in full.
type planning struct {
	*wayfinding
	full  map[string]*survey.Survey // by path
	given []*survey.Survey          // named one by one: each serves, or is refused
	// offered are those of folders that were named, to choose among.
	offered []*survey.Survey
	// evenIf accepts what is not settled.
	evenIf bool
}

// newPlanning reads the packages given.
func newPlanning(ctx context.Context, c *call, w *wayfinding, args []string) (*planning, error) {
	p := &planning{wayfinding: w, full: map[string]*survey.Survey{}}
	c.seen = survey.NewSeen()
	var err error
	if w.k, err = c.kit(); err != nil {
		return nil, err
	}
	for _, a := range args {
		paths, err := w.k.Packages(a, false)
		if err != nil {
			return nil, err
		}
		for _, one := range paths {
			s, err := p.read(ctx, c, one)
			if err != nil {
				return nil, err
			}
			to := &p.given
			if len(paths) > 1 {
				to = &p.offered
			}
			if !slices.Contains(*to, s) {
				*to = append(*to, s)
			}
		}
	}
	return p, nil
}

// read surveys a package in full, once.
func (p *planning) read(ctx context.Context, c *call, file string) (*survey.Survey, error) {
	if s := p.full[file]; s != nil {
		return s, nil
	}
	inner := *c
	inner.digests = []digest.Algorithm{digest.CRC32, digest.MD5, digest.SHA1, digest.SHA512} // which the device computes, nobody knows
	s, err := inner.survey(ctx, p.k, file, nil, nil)
	if err != nil {
		return nil, err
	}
	if err := denied(s); err != nil {
		return nil, err
	}
	p.full[file] = s
	return s, nil
}

// target plans for one device.
func (p *planning) target(ctx context.Context, c *call, d *device.Device) (*plan.Target, error) {
	if _, err := p.look(ctx, c, d); err != nil { // which all devices share
		return nil, err
	}
	if p.cache == nil {
		p.cache = fit.NewCache()
	}
	w := *p.wayfinding
	w.d = d
	if err := w.open(ctx, c); err != nil {
		return nil, err
	}
	for _, m := range member.Of(d, w.rules) {
		if state, yes := m.DoesNotStart(); yes {
			why := fmt.Sprintf("%s does not start (state: %s): fitcheck recover -device %s tells what its boot loader takes", m.Device.Name.Text, state, shell.Quote(d.File))
			return &plan.Target{Name: d.File, Device: d, Rules: w.rules, Result: &path.Result{Plans: []*path.Answer{{Name: d.Name.Text, To: w.goal.Version, Unsettled: []string{why}}}}, EvenIf: false}, nil
		}
	}
	// What is given comes before what the kit has.
	var others []*survey.Survey
	for _, s := range w.shelf.Surveys {
		if p.full[s.Path] == nil {
			others = append(others, s)
		}
	}
	w.shelf.Given = p.given
	w.shelf.Surveys = append(slices.Concat(p.given, p.offered), others...)
	if w.goal.Version == "" {
		release, family := p.stands(w.d, w.rules)
		if release == "" {
			return p.asGiven(&w), nil
		}
		w.goal = path.Goal{Version: release, Family: family}
	}
	res, err := w.find()
	if err != nil {
		return nil, err
	}
	t := &plan.Target{Name: d.File, Device: d, Rules: w.rules, Result: res, EvenIf: p.evenIf}
	t.Keep = w.shelf.Keeps(w.d)
	t.Steps = w.shelf.Steps(w.d, t.Hops())
	t.Unused = w.shelf.Unused(w.d, t.Steps)
	for i := range t.Steps {
		s := &t.Steps[i]
		for k, pkg := range s.Packages { // a quick look is not enough here
			if s.Packages[k], err = p.read(ctx, c, pkg.Path); err != nil {
				return nil, err
			}
		}
		var v *fit.Verdict
		if len(s.Packages) > 0 {
			v = s.Judge(w.rules, fit.Options{NoRulebook: func(d *device.Device) string { return noRulebook(w.k, d) }})
		}
		t.Verdicts = append(t.Verdicts, v)
	}
	return t, nil
}

// asGiven is for packages that bring no main image for the device: what they
// hold is judged, and installed, as it is.
func (p *planning) asGiven(w *wayfinding) *plan.Target {
	v := fit.MatchAll(w.d, fit.Rulebooks(w.rules), slices.Concat(p.given, p.offered), fit.Options{NoRulebook: func(d *device.Device) string { return noRulebook(w.k, d) }})[0]
	hop := path.Hop{Release: v.Release}
	for _, m := range v.Members {
		for _, b := range w.d.All() {
			if b.Name.Text != m.Name {
				continue
			}
			hop.Family, hop.FromFamily = m.Family(), m.Family()
			for _, c := range m.Chosen {
				have := path.NewBox(b, w.rules(b.Model.Text)).Installed(c.Component)
				hop.Components = append(hop.Components, path.Change{Member: m.Name, Component: c.Component, From: have.First(), To: c.Version})
			}
			if v := path.NewBox(b, w.rules(b.Model.Text)).Installed(w.rules(b.Model.Text).Main(m.Family())); v.Known() {
				hop.From, hop.To = v.First(), v.First()
			}
		}
	}
	step := plan.Step{Hop: hop, Before: w.d, Given: true}
	for _, s := range slices.Concat(p.given, p.offered) {
		if strings.Contains(" + "+v.Path+" + ", " + "+s.Path+" + ") {
			step.Packages = append(step.Packages, s)
		}
	}
	return &plan.Target{Name: w.d.File, Device: w.d, Rules: w.rules, Result: &path.Result{}, Steps: []plan.Step{step}, Verdicts: []*fit.Verdict{v}}
}

// stands is the newest release that the packages given hold for a device.
func (p *planning) stands(d *device.Device, rules plan.Rules) (release, family string) {
	for _, s := range slices.Concat(p.given, p.offered) {
		v := fit.Match(d, fit.Rulebooks(rules), s, fit.Options{})
		for _, b := range d.All() {
			rb := rules(b.Model.Text)
			if rb == nil {
				continue
			}
			for _, m := range v.Members {
				main := rb.Main(m.Family())
				if m.Name != b.Name.Text || !v.Serves(m.Name, v.Release, "", main, "") {
					continue
				}
				if release == "" || newer(rb, main, v.Release, release) {
					release, family = v.Release, m.Family()
				}
			}
		}
	}
	return release, family
}

func newer(rb *rulebook.Rulebook, component, a, b string) bool {
	s := rb.Scheme(component)
	va, err1 := s.Parse(a)
	vb, err2 := s.Parse(b)
	return err1 == nil && (err2 != nil || s.Compare(va, vb) > 0)
}

// refusal says why nothing may be done with a target, and with which status; ""
// when it may. evenIf accepts what is unsettled, but for what nothing covers.
//
// In one piece: the steps of the call, each of which may end it.
func refusal(t *plan.Target, evenIf bool) (why []present.Refused, status int) {
	worse := func(o fit.Outcome) {
		if s := statusOf(o); s == exitMisfit || status == exitFits {
			status = s
		}
	}
	refuse := func(r present.Refused) {
		why = append(why, r)
		worse(r.Outcome)
	}
	for _, v := range t.Unused {
		r := present.Refused{Device: t.Device.Name.Text, Outcome: fit.Misfit}
		for ch := range v.All() {
			if ch.Outcome == v.Outcome && v.Outcome != fit.Fits {
				r.Because = append(r.Because, fmt.Sprintf("%s: %s: %s", v.Package, ch.Check, ch.Because))
			}
		}
		if v.Outcome == fit.Unsettled {
			r.Outcome = fit.Unsettled
		}
		if len(r.Because) == 0 {
			r.Because = []string{fmt.Sprintf("%s: it stands for release %s, which no hop of the way installs; leave it out, or say with -to where to go", v.Package, cmp.Or(v.Release, "that nothing names"))}
		}
		refuse(r)
	}
	for _, a := range t.Result.Plans {
		switch {
		case a.Found, evenIf && len(a.Maybe) > 0:
		case len(a.Unsettled) > 0:
			refuse(present.Refused{Device: a.Name, Outcome: fit.Unsettled, Because: a.Unsettled})
		default:
			r := present.Refused{Device: a.Name, Outcome: fit.Misfit}
			for _, b := range a.Blocked {
				r.Because = append(r.Because, b.Release+": "+b.Because)
			}
			refuse(r)
			return why, status
		}
	}
	for i, v := range t.Verdicts {
		s := t.Steps[i]
		if v == nil {
			refuse(present.Refused{Device: t.Device.Name.Text, Outcome: fit.Misfit, Because: []string{fmt.Sprintf("hop %d: no package at hand carries release %s; download it into the kit's packages/", i+1, s.Release)}})
			continue
		}
		stands := false
		for ch := range v.All() {
			stands = stands || ch.Outcome == fit.Unsettled && ch.Stands()
		}
		if v.Outcome == fit.Fits || v.Outcome == fit.Unsettled && evenIf && !stands {
			continue
		}
		r := present.Refused{Device: t.Device.Name.Text, Outcome: v.Outcome}
		for ch := range v.All() {
			if ch.Outcome == v.Outcome {
				r.Because = append(r.Because, fmt.Sprintf("hop %d, %s: %s: %s", i+1, v.Package, ch.Check, ch.Because))
			}
		}
		refuse(r)
	}
	return why, status
}

// rulesFor finds the rulebooks of a device.
func (p *planning) rulesFor(d *device.Device) (plan.Rules, error) {
	found, err := p.k.RulebooksFor(d)
	return func(model string) *rulebook.Rulebook { return found[model] }, err
}

// one is the device that a command is for.
func (p *planning) one(name, command string) (*device.Device, error) {
	devices, err := p.k.Devices([]string{name})
	if err != nil {
		return nil, err
	}
	if len(devices) != 1 {
		return nil, usagef("%s is for one device, and -device names %d", command, len(devices))
	}
	return devices[0], nil
}
