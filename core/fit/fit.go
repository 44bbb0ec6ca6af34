// Package fit judges: it holds what is known of a device against what a package
// says of itself, by the rules of a rulebook, and gives a verdict whose every line
// cites both sides.
//
// For each component of the device's image family the items meant for it are the
// candidates. Each candidate goes through the checks of package check; the one
// without a misfit is chosen. Needs, pairs and the like are judged on the state
// after the install. "Fits" is never given on a guess: it needs a source that is
// stronger than a file name, and what is unknown is "unsettled".
package fit

import (
	"fmt"
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fit/check"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	"fitcheck/core/survey"
	"fitcheck/core/version"
)

// What verdicts are made of; package check has them.
type (
	Outcome    = check.Outcome
	Cited      = check.Cited
	Check      = check.Line
	PassedOver = check.PassedOver
)

// The outcomes and the sides of a comparison.
const (
	Fits          = check.Fits
	Misfit        = check.Misfit
	Unsettled     = check.Unsettled
	Note          = check.Note
	NotApplicable = check.NotApplicable

	OfDevice  = check.OfDevice
	OfPackage = check.OfPackage
	OfRule    = check.OfRule
	OfStated  = check.OfStated
)

// Worse returns the worse of two outcomes as far as verdicts go.
func Worse(a, b Outcome) Outcome { return check.Worse(a, b) }

// Chosen is the image picked for a component.
type Chosen struct {
	Component string
	Item      string
	// Config is the configuration of the image to start, where it has several.
	Config  string
	Version string
	Slot    string
	// Coverage cuts the image into stretches, each with what proves it.
	Coverage []digest.Cover
	// From is the version that is installed now; "" where it is not known.
	From string
}

// Proof is the weakest that a verdict rests on: a stretch of an image and what proves it.
type Proof struct {
	Item string
	digest.Cover
}

// Member is the verdict for one device of a group, or for the only one.
type Member struct {
	Name    string
	About   string // model, revision and what runs, in words
	Verdict Outcome
	Chosen  []Chosen
	Checks  []Check
	Others  []PassedOver

	family  string // that the member would run after the install
	release check.Release
	scheme  *version.Scheme
	schemes func(component string) *version.Scheme
}

// Verdict is the whole answer.
type Verdict struct {
	Outcome Outcome
	Device  string
	Group   string // stack, cluster or chassis; "" for a single device
	Package string
	Path    string // as it was given
	Release string // the version that the package stands for, "" when unknown
	Members []Member
	Checks  []Check // about the package as such
	Notes   []string
	Next    []string // what to do after an install, by the rulebook
	// Weakest is the weakest proof that it rests on; nil where no image was chosen.
	Weakest *Proof

	release check.Release
	scheme  *version.Scheme
	against int  // how many kinds of checks decide it
	called  bool // a name says otherwise than stronger sources
}

// Options steer a match.
type Options struct {
	// TrustNames accepts what only file and folder names say.
	TrustNames bool
	// NoRulebook says why there is none for a device, for the advice.
	NoRulebook func(d *device.Device) string
	// Cache, where it is not nil, is shared by matches of the same packages.
	Cache *Cache
}

// Rulebooks finds the rulebook that knows a model; nil when none does.
type Rulebooks func(model string) *rulebook.Rulebook

// checks are the options as the checks take them.
func (o Options) checks() check.Options {
	out := check.Options{TrustNames: o.TrustNames}
	if o.NoRulebook != nil {
		out.NoRulebook = func(m *member.Member) string { return o.NoRulebook(m.Device) }
	}
	if o.Cache != nil {
		out.Keep = o.Cache
	}
	out.Way = func(c *check.Case, release, family string) string { return way(o.Cache, c, release, family) }
	return out
}

// Match judges whether a package fits a device, or every member of a group.
func Match(d *device.Device, rules Rulebooks, s *survey.Survey, o Options) *Verdict {
	v := &Verdict{Device: d.Name.Text, Package: s.Name, Path: s.Path, Group: d.Group.Text, Notes: slices.Clone(s.Notes), Outcome: Fits}
	var cases []*check.Case
	for _, m := range member.Of(d, rules) {
		cases = append(cases, check.New(m, s, o.checks()))
	}
	v.Checks = slices.Clone(o.Cache.lines(check.Key{What: "package", Survey: s}, func() []Check { return check.Package(s) }))
	for _, c := range cases {
		m := judge(c)
		v.Members = append(v.Members, m)
		v.Outcome = Worse(v.Outcome, m.Verdict)
	}
	v.Checks = check.Sort(append(v.Checks, check.Group(d, cases)...))
	v.Outcome = Worse(v.Outcome, check.Worst(v.Checks))
	v.standsFor(cases)
	v.Weakest = v.weakest()
	v.against = len(v.Deciding())
	for _, c := range cases {
		note := ""
		if faults := c.Rules.Faults(); len(faults) > 0 {
			note = fmt.Sprintf("%s has statements that cannot apply (line %d on): fitcheck rulebook check %s tells more", c.Rules.File, faults[0].Spot.Line, shell.Quote(c.Rules.File))
		} else if idle := c.Rules.Idle(); len(idle) > 0 {
			note = fmt.Sprintf("%s names models or families that it does not know (line %d on): what it says of them never applies; fitcheck rulebook check %s tells more", c.Rules.File, idle[0].Spot.Line, shell.Quote(c.Rules.File))
		}
		if note != "" && !slices.Contains(v.Notes, note) {
			v.Notes = append(v.Notes, note)
		}
	}
	if o.TrustNames {
		v.Notes = append(v.Notes, "file and folder names were trusted (-trust-names): what only they say counts as said")
	}
	return v
}

// weakest finds the weakest proof of all chosen images.
func (v *Verdict) weakest() *Proof {
	var out *Proof
	for _, m := range v.Members {
		for _, c := range m.Chosen {
			w, ok := digest.Weakest(c.Coverage)
			if ok && (out == nil || out.Holds && !w.Holds || out.Holds == w.Holds && w.By < out.By) {
				out = &Proof{c.Item, w}
			}
		}
	}
	return out
}

// standsFor takes over the release that the package stands for, and what to check
// after it is installed.
func (v *Verdict) standsFor(cases []*check.Case) {
	for _, c := range cases {
		if v.Release == "" {
			v.Release, v.release = c.Release.Text, c.Release
			v.scheme = c.Rules.Scheme(c.Main())
		}
		if rel := c.Release.Rule; rel != nil && v.Outcome == Fits {
			for _, a := range c.Rules.AfterChecks(rel) {
				if t := a.Text(); !slices.Contains(v.Next, t) {
					v.Next = append(v.Next, t)
				}
			}
		}
	}
	for c := range v.All() {
		v.called = v.called || c.Stands()
	}
}

// judge judges one device: images first, then what the release asks for, on the
// state after the install.
func judge(c *check.Case) Member {
	m := Member{Name: c.Device.Name.Text, About: c.About()}
	pick(c)
	for _, k := range c.Components() { // in the order in which they are installed
		r := c.Results[k.Name]
		m.Checks = append(m.Checks, r.Lines...)
		m.Others = append(m.Others, r.Others...)
	}
	m.Checks = append(m.Checks, c.Install()...)
	for _, k := range c.Components() {
		if best := c.Chosen[k.Name]; best != nil {
			m.Chosen = append(m.Chosen, Chosen{k.Name, best.Item.Address, c.Configuration(best.Item), best.Version().Value, best.Slot, c.Proofs(best.Item), installedText(c, k.Name)})
		}
	}
	m.Checks = c.Verdict(m.Checks)
	m.Verdict, m.family = check.Worst(m.Checks), c.ToFamily()
	m.release, m.scheme, m.schemes = c.Release, c.Rules.Scheme(c.Main()), c.Rules.Scheme
	return m
}

// installedText is the version that is installed of a component, where it is known.
func installedText(c *check.Case, component string) string {
	if v := c.Installed(component); v.Known() {
		return v.Text()
	}
	return ""
}

// pick chooses an image for every component. The main image says which release the
// package stands for, and the others are judged in its light.
func pick(c *check.Case) {
	c.Release = c.ByName()
	main := c.Main()
	choose := func(k check.Component) {
		r := c.Component(k)
		c.Results[k.Name] = r
		if r.Best != nil {
			c.Chosen[k.Name] = r.Best
			if k.Name == main {
				c.Release = r.Best.Release
			}
		}
	}
	for _, first := range []bool{true, false} {
		for _, k := range c.Components() {
			if (k.Name == main) == first {
				choose(k)
			}
		}
	}
	c.LeaveOut()
}
