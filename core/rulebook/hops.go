package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/truth"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Hops says which moves from one version to another are allowed.
type Hops struct {
	y.Spot
	Upward   y.String  `yaml:"upward" enum:"open,listed" doc:"open: any newer release unless a rule forbids; listed: only what a rule allows"` // open or listed
	Downward y.String  `yaml:"downward" enum:"open,closed"`                                                                                    // open or closed
	Rules    []HopRule `yaml:"rules" doc:"the first that matches decides"`
}

// HopRule allows or forbids moves; the first rule that matches decides.
type HopRule struct {
	y.Spot
	From         y.String   `yaml:"from" doc:"range over the version that is left"`
	To           y.String   `yaml:"to" doc:"range over the version that is installed"`
	FromFamily   y.String   `yaml:"from_family"`
	ToFamily     y.String   `yaml:"to_family"`
	Models       []y.String `yaml:"models"`
	Revisions    []y.String `yaml:"revisions"`
	Allow        *bool      `yaml:"allow"`
	ResetsConfig bool       `yaml:"resets_config"`
	Via          y.String   `yaml:"via" doc:"a hint where to stop on the way"`
	Source       y.String   `yaml:"source" doc:"key of a document under sources"`
	Why          y.String   `yaml:"why"`

	from, to *version.Range
	doubt    string // what it names that the rulebook does not know, where it forbids
}

// Ranges are the ranges of From and To; nil where the rule gives none.
func (h *HopRule) Ranges() (from, to *version.Range) { return h.from, h.to }

// Speaks tells whether the rule speaks of moves between two families on some
// hardware, whatever the versions. It is not known when that depends on the
// hardware revision and that is not known, and when a rule that forbids names a
// model, revision or family that the rulebook does not know: it may be meant for
// this one.
func (h *HopRule) Speaks(r *Rulebook, m Move) truth.Truth {
	t := truth.Yes
	if h.FromFamily.Set() || h.ToFamily.Set() {
		t = h.family(r, h.FromFamily, m.FromFamily).And(h.family(r, h.ToFamily, m.ToFamily))
	} else if !strings.EqualFold(m.FromFamily, m.ToFamily) {
		return truth.No
	}
	if len(h.Models) > 0 && !r.names(h.Models, m.Model) {
		t = t.And(h.misspelt(func() bool {
			return slices.ContainsFunc(h.Models, func(t y.String) bool { return !r.knowsModel(t.Text) })
		}))
	}
	if t == truth.No {
		return t
	}
	return t.And(r.holdsRevision(h.Revisions, m.Model, m.Revision))
}

// family tells whether a side of the rule is of a family.
func (h *HopRule) family(r *Rulebook, rule y.String, family string) truth.Truth {
	if !rule.Set() || strings.EqualFold(rule.Text, family) {
		return truth.Yes
	}
	return h.misspelt(func() bool { return !r.knowsFamily(rule.Text) })
}

// misspelt is no for a name that is another's, and unknown for one that is
// nobody's, where the rule forbids.
func (h *HopRule) misspelt(nobodys func() bool) truth.Truth {
	if h.Allow != nil && !*h.Allow && nobodys() {
		return truth.Unknown
	}
	return truth.No
}

// knowsModel tells whether a name is a model's, where models are listed at all.
func (r *Rulebook) knowsModel(name string) bool {
	_, ok := r.FindModel(name)
	return ok || len(r.Models.Entries) == 0
}

// knowsFamily tells whether a family is described, or some model runs it.
func (r *Rulebook) knowsFamily(name string) bool {
	if _, ok := r.family(name); ok {
		return true
	}
	listed := len(r.Families.Entries) > 0
	for _, e := range r.Models.Entries {
		if contains(e.Value.Families, name) {
			return true
		}
		listed = listed || len(e.Value.Families) > 0
	}
	return !listed
}

// Move is one hop that is asked about.
type Move struct {
	From, To             version.Version // of the main component
	FromFamily, ToFamily string
	Model, Revision      string
}

// Ruling is the answer to a Move.
type Ruling struct {
	Allowed bool
	// Settled is false when the rulebook does not say, or a rule depends on
	// the hardware revision and that is not known.
	Settled      bool
	Because      string
	Source       fact.Source
	Document     string
	Via          string
	ResetsConfig bool
	// Default says that no rule speaks of the move, and the policy allows it.
	Default bool
	// Unlisted says that no rule speaks of the move, and only listed ones are allowed.
	Unlisted bool
}

// Rule decides a move by the first rule that matches it, else by the upgrade
// policy. Moves between families are forbidden unless a rule allows them.
func (r *Rulebook) Rule(m Move) Ruling {
	if r == nil || r.Hops == nil {
		return Ruling{Because: "the rulebook does not say which moves are allowed (no hops)"}
	}
	h := r.Hops
	for i := range h.Rules {
		rule := &h.Rules[i]
		if match := rule.matches(r, m); match != truth.No {
			return rule.Ruling(r, match == truth.Unknown)
		}
	}
	return r.Policy(m)
}

// Ruling is what a rule that matches says.
func (h *HopRule) Ruling(r *Rulebook, unsure bool) Ruling {
	res := Ruling{Allowed: *h.Allow, Settled: true, Source: r.Source(h.Spot), Document: r.Document(h.Source), Via: h.Via.Text, ResetsConfig: h.ResetsConfig}
	if unsure {
		res.Settled = false
		if res.Because = h.doubt; res.Because == "" {
			res.Because = fmt.Sprintf("whether the rule in line %d speaks of it (%s) depends on the hardware revision or on a build, which is not known", h.Line, h.describe())
		}
		return res
	}
	verb := "forbids"
	if res.Allowed {
		verb = "allows"
	}
	res.Because = fmt.Sprintf("a rule %s %s", verb, h.describe())
	if h.Why.Set() {
		res.Because += ": " + h.Why.Text
	}
	return res
}

// Policy is what holds for moves of which no rule speaks.
func (r *Rulebook) Policy(m Move) Ruling {
	h := r.Hops
	src := r.Source(h.Spot)
	if !strings.EqualFold(m.FromFamily, m.ToFamily) {
		return Ruling{Settled: true, Source: src, Document: "hops", Because: fmt.Sprintf("no rule allows the move from family %s to %s", m.FromFamily, m.ToFamily)}
	}
	d, known := r.Scheme(r.Main(m.ToFamily)).Rank(m.To, m.From)
	if !known {
		if h.Upward.Text == "open" && h.Downward.Text == "open" {
			d = 1
		} else {
			return Ruling{Source: src, Document: "hops", Because: fmt.Sprintf("one of %s and %s leaves its build open, so that nobody can say whether it goes up or down", m.From.Text, m.To.Text)}
		}
	}
	switch {
	case d > 0 && h.Upward.Text == "open":
		return Ruling{Allowed: true, Settled: true, Source: r.Source(h.Upward.Spot), Document: "upward: " + h.Upward.Text, Default: true, Because: "any newer release is allowed unless a rule forbids it (upward: open)"}
	case d > 0 && h.Upward.Text == "listed":
		return Ruling{Settled: true, Source: r.Source(h.Upward.Spot), Document: "upward: " + h.Upward.Text, Unlisted: true, Because: "no rule allows it, and only listed moves are (upward: listed)"}
	case d > 0:
		return Ruling{Source: src, Document: "hops", Because: "no rule speaks of this move, and hops does not say whether upward is open or listed"}
	case d == 0:
		return Ruling{Allowed: true, Settled: true, Source: src, Document: "hops", Because: "the version stays the same"}
	case h.Downward.Text == "open":
		return Ruling{Allowed: true, Settled: true, Source: r.Source(h.Downward.Spot), Document: "downward: " + h.Downward.Text, Default: true, Because: "older releases are allowed unless a rule forbids it (downward: open)"}
	}
	if h.Downward.Set() {
		src = r.Source(h.Downward.Spot)
	}
	return Ruling{Settled: true, Source: src, Document: "hops", Because: "it goes down, and no rule allows that (downward: closed)"}
}

func (h *HopRule) matches(r *Rulebook, m Move) truth.Truth {
	t := h.from.Holds(m.From).And(h.to.Holds(m.To))
	if t == truth.No {
		return t
	}
	return t.And(h.Speaks(r, m))
}

// describe names the moves that the rule speaks of.
func (h *HopRule) describe() string {
	var parts []string
	if h.FromFamily.Set() || h.ToFamily.Set() {
		parts = append(parts, "family "+orAny(h.FromFamily.Text)+" to "+orAny(h.ToFamily.Text))
	}
	if h.From.Set() || h.To.Set() || len(parts) == 0 {
		parts = append(parts, "moves from "+orAny(h.From.Text)+" to "+orAny(h.To.Text))
	}
	return strings.Join(parts, ", ")
}

func orAny(s string) string {
	if s == "" || s == "*" {
		return "any"
	}
	return s
}
