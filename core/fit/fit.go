// Package fit judges: it holds what is known of a device against what a
// package says of itself, by the rules of a rulebook, and gives a verdict
// whose every line cites both sides.
//
// For each component of the device's image family the items meant for it are
// the candidates. Each candidate goes through the checks; the one without a
// misfit is chosen. "Fits" is never given on a guess: it needs a source that
// is stronger than a file name, and what is unknown is "unsettled".
package fit

import (
	"fmt"
	"slices"

	"fitcheck/core/device"
	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/core/version"
)

// Outcome is how a check came out, or a whole verdict.
type Outcome string

// The outcomes. Note and NotApplicable change no verdict.
const (
	Fits          Outcome = "fits"
	Misfit        Outcome = "misfit"
	Unsettled     Outcome = "unsettled"
	Note          Outcome = "note"
	NotApplicable Outcome = "n/a"
)

// rank orders outcomes by how bad they are.
func (o Outcome) rank() int {
	switch o {
	case Misfit:
		return 2
	case Unsettled:
		return 1
	}
	return 0
}

// Worse returns the worse of two outcomes as far as verdicts go.
func Worse(a, b Outcome) Outcome {
	switch max(a.rank(), b.rank()) {
	case 2:
		return Misfit
	case 1:
		return Unsettled
	}
	return Fits
}

// The sides of a comparison. Where the device has no say, such as in digests,
// what a header or list states is held against the package's content.
const (
	OfDevice  = "device"
	OfPackage = "package"
	OfRule    = "rule"
	OfStated  = "stated"
)

// Cited is one side of a comparison with the place it was read from.
type Cited struct {
	Side   string
	Value  string
	Source fact.Source
}

// Check is one line of a verdict.
type Check struct {
	Check     string // "revision"
	Component string // "" when it is about the whole package
	Outcome   Outcome
	Device    string // the device's side as text, or what is stated
	Package   string // the package's side
	Because   string
	Sources   []Cited
	Advice    string // what would settle it; for misfit and unsettled
}

// Chosen is the image picked for a component.
type Chosen struct {
	Component string
	Item      string
	// Config is the configuration of the image to start, where it has several.
	Config  string
	Version string
	Slot    string
}

// PassedOver is a candidate that was not picked, and why.
type PassedOver struct {
	Component string
	Item      string
	Because   string
}

// Member is the verdict for one device of a group, or for the only one.
type Member struct {
	Name    string
	About   string // model, revision and what runs, in words
	Verdict Outcome
	Chosen  []Chosen
	Checks  []Check
	Others  []PassedOver

	family string // that the member would run after the install
}

// Verdict is the whole answer.
type Verdict struct {
	Verdict Outcome
	Device  string
	Group   string // stack, cluster or chassis; "" for a single device
	Package string
	Path    string // as it was given
	Release string // the version that the package stands for, "" when unknown
	Members []Member
	Checks  []Check // about the package as such
	Notes   []string
	Next    []string // what to do after an install, by the rulebook

	release release
	scheme  *version.Scheme
	against int // how many kinds of checks decide it
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

// Match judges whether a package fits a device, or every member of a group.
func Match(d *device.Device, rules Rulebooks, s *survey.Survey, o Options) *Verdict {
	v := &Verdict{Device: d.Name.Text, Package: s.Name, Path: s.Path, Group: d.Group.Text, Notes: slices.Clone(s.Notes), Verdict: Fits}
	var judges []*judge
	for _, box := range d.All() {
		rb := rules(box.Model.Text)
		judges = append(judges, &judge{subject: newSubject(box, rb), s: s, rb: rb, o: o})
	}
	first := judges[0]
	v.Checks = slices.Clone(o.Cache.keptChecks(about{what: "package", survey: s}, first.packageChecks))
	for _, j := range judges {
		m := j.member()
		v.Members = append(v.Members, m)
		v.Verdict = Worse(v.Verdict, m.Verdict)
	}
	v.Checks = append(v.Checks, uniform(d, judges)...)
	for _, c := range v.Checks {
		v.Verdict = Worse(v.Verdict, c.Outcome)
	}
	v.standsFor(judges)
	v.against = len(v.Deciding())
	for _, j := range judges {
		if idle := j.rb.Idle(); len(idle) > 0 {
			note := fmt.Sprintf("%s names models or families that it does not know (line %d on): what it says of them never applies; fitcheck rulebook check tells more", j.rb.File, idle[0].Spot.Line)
			if !slices.Contains(v.Notes, note) {
				v.Notes = append(v.Notes, note)
			}
		}
	}
	if o.TrustNames {
		v.Notes = append(v.Notes, "file and folder names were trusted (-trust-names): what only they say counts as said")
	}
	return v
}

// standsFor takes over the release that the package stands for, and what to
// check after it is installed.
func (v *Verdict) standsFor(judges []*judge) {
	for _, j := range judges {
		if v.Release == "" {
			v.Release, v.release = j.release.text, j.release
			v.scheme = j.rb.Scheme(j.mainComponent())
		}
		if rel := j.release.rule; rel != nil && v.Verdict == Fits {
			for _, t := range rel.ChecksAfter {
				if !slices.Contains(v.Next, t.Text) {
					v.Next = append(v.Next, t.Text)
				}
			}
		}
	}
}

// judge is the state of one match.
type judge struct {
	*subject
	s       *survey.Survey
	rb      *rulebook.Rulebook
	o       Options
	release release
	chosen  map[string]*candidate
}

// member judges the device: images first, then what the release asks for.
func (j *judge) member() Member {
	m := Member{Name: j.d.Name.Text, About: j.aboutDevice()}
	j.chosen = map[string]*candidate{}
	components := j.components()
	main := j.mainComponent()
	// The main image says which release the package stands for, and the other
	// components are judged in its light.
	slices.SortStableFunc(components, func(a, b component) int {
		return boolOrder(b.name == main) - boolOrder(a.name == main)
	})
	j.release = j.releaseByName()
	results := map[string]result{}
	for _, c := range components {
		r := j.component(c)
		results[c.name] = r
		if c.name == main && r.best != nil {
			j.release = j.releaseOf(r.best)
		}
	}
	for _, c := range j.components() { // in the order in which they are installed
		r := results[c.name]
		m.Checks = append(m.Checks, r.checks...)
		m.Others = append(m.Others, r.others...)
		if r.best != nil {
			m.Chosen = append(m.Chosen, Chosen{c.name, r.best.item.Address, j.configuration(r.best.item), j.versionOf(r.best).Value, r.best.slot})
			j.chosen[c.name] = r.best
		}
	}
	m.Checks = append(m.Checks, j.completeChecks(results)...)
	m.Checks = append(m.Checks, j.nothing(m.Checks)...)
	m.Checks = append(m.Checks, j.elsewhere()...)
	m.Checks = append(m.Checks, j.releaseChecks()...)
	m.Checks = append(m.Checks, j.paired()...)
	m.Checks = append(m.Checks, j.carried()...)
	m.Checks = sortChecks(m.Checks)
	m.Verdict, m.family = Fits, j.toFamily()
	for i := range m.Checks {
		m.Verdict = Worse(m.Verdict, m.Checks[i].Outcome)
	}
	return m
}

// aboutDevice says in words which device this is.
func (j *judge) aboutDevice() string {
	t := j.d.Name.Text + " is of a model that is not known"
	if j.sides[fact.Model].known() {
		t = fmt.Sprintf("%s is a %s", j.d.Name.Text, j.first(fact.Model))
		if j.sides[fact.Revision].known() {
			t += " of revision " + j.first(fact.Revision)
		}
	}
	if f, ok := j.d.Version(j.mainComponent()); ok {
		t += fmt.Sprintf(" and runs %s %s", j.mainComponent(), f.Value)
	}
	return t
}

func boolOrder(b bool) int {
	if b {
		return 1
	}
	return 0
}

// order is the order of checks within a verdict.
var order = []string{"intact", "digest", "signature", "complete", "agreement", "model", "revision", "arch", "board", "family", "region", "platform", "feature",
	"withdrawn", "path", "needs", "paired", "slot", "room", "memory", "uniform", "attached", "entitled", "transfer", "handling", "version"}

func sortChecks(all []Check) []Check {
	out := make([]Check, 0, len(all))
	for _, name := range order {
		for i := range all {
			if all[i].Check == name {
				out = append(out, all[i])
			}
		}
	}
	return out
}
