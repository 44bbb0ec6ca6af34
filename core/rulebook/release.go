package rulebook

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"fitcheck/core/duration"
	"fitcheck/core/truth"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Release is one published version of the line.
type Release struct {
	y.Spot
	Version      y.String        `yaml:"version"`
	Date         y.Date          `yaml:"date"`
	Channel      OneOf           `yaml:"channel" doc:"free text: current, long-term, beta …; a list where it is in several"`
	Families     []y.String      `yaml:"families" doc:"image families it is of; none means all"`
	Models       []y.String      `yaml:"models" doc:"models it is for; none means all"`
	Revisions    []y.String      `yaml:"revisions" doc:"hardware revisions it is for; none means all"`
	Brings       y.Map[y.String] `yaml:"brings" doc:"component to version"`
	Needs        []Need          `yaml:"needs" doc:"what must hold before it is installed"`
	Drops        []y.String      `yaml:"drops" doc:"attached models that it no longer supports"`
	Withdrawn    y.String        `yaml:"withdrawn" doc:"why it was withdrawn"`
	Source       y.String        `yaml:"source" doc:"key of a document under sources"`
	Minutes      *Minutes        `yaml:"minutes"`
	ResetsConfig bool            `yaml:"resets_config" doc:"installing it resets the configuration"`
	ChecksAfter  []AfterCheck    `yaml:"checks_after" doc:"what to see to afterwards"`

	parsed version.Version
	doubt  string // what its drops or revisions name that the rulebook does not know
}

// Doubt says what the release drops, or is for, that the rulebook does not know;
// "" for nothing.
func (rel *Release) Doubt() string { return rel.doubt }

// Minutes is how long an install takes and how much of it is outage.
type Minutes struct {
	Install MinuteSpan `yaml:"install" doc:"minutes of the whole install: 12, or 10-20"`
	Outage  MinuteSpan `yaml:"outage" doc:"minutes without service: 8, or 5-10"`
}

// Known tells whether both are given: what is not is unknown, and not zero.
func (m *Minutes) Known() bool { return m != nil && m.Install.Given && m.Outage.Given }

// MinuteSpan is a number of minutes, or a range of them.
type MinuteSpan struct {
	From, To int
	Given    bool
}

// AMinute is a number of minutes that is no range.
func AMinute(n int) MinuteSpan { return MinuteSpan{n, n, true} }

// ReadScalar implements yamlfile.Scalar.
func (m *MinuteSpan) ReadScalar(text string, _ y.Spot) error {
	from, to, ranged := strings.Cut(strings.ReplaceAll(text, "–", "-"), "-")
	if !ranged {
		to = from
	}
	a, err := strconv.Atoi(strings.TrimSpace(from))
	b, err2 := strconv.Atoi(strings.TrimSpace(to))
	if err != nil || err2 != nil || a < 0 || a > b || b > 1<<20 {
		return fmt.Errorf("%q is not a number of minutes; write 12, or 10-20", text)
	}
	*m = MinuteSpan{a, b, true}
	return nil
}

// Schema implements yamlfile.Described.
func (MinuteSpan) Schema() map[string]any {
	return map[string]any{"type": []string{"integer", "string"}, "pattern": `^\d+(\s*[-–]\s*\d+)?$`, "description": "minutes: 12, or 10-20"}
}

// Plus adds spans that follow each other.
func (m MinuteSpan) Plus(o MinuteSpan) MinuteSpan {
	return MinuteSpan{m.From + o.From, m.To + o.To, m.Given || o.Given}
}

// Beside joins spans that go on at the same time: the longer counts.
func (m MinuteSpan) Beside(o MinuteSpan) MinuteSpan {
	return MinuteSpan{max(m.From, o.From), max(m.To, o.To), m.Given || o.Given}
}

// Text writes it for reading: "10–20 min".
func (m MinuteSpan) Text() string {
	return duration.Range(time.Duration(m.From)*time.Minute, time.Duration(m.To)*time.Minute)
}

// Need is something that must hold before a release is installed. Exactly one
// of Component, Companion, StorageFree, Memory, Feature and Attached is set.
type Need struct {
	y.Spot
	Component   y.String `yaml:"component"`
	Companion   y.String `yaml:"companion" doc:"a system whose version is tied to this one"`
	StorageFree y.Size   `yaml:"storage_free"`
	Memory      y.Size   `yaml:"memory"`
	Feature     y.String `yaml:"feature"`
	Attached    y.String `yaml:"attached" doc:"a model of which one must be attached"` // a model of which one must be attached
	Within      y.String `yaml:"within" doc:"a range of versions: \">=8.2.1 <9 || 7.9.1\""`
	Source      y.String `yaml:"source" doc:"key of a document under sources"`
	Why         y.String `yaml:"why"`
	// Families, Models and Revisions say of whom it is asked; none of them means all.
	Families  []y.String `yaml:"families" doc:"asked of members of these image families only"`
	Models    []y.String `yaml:"models" doc:"asked of these models only"`
	Revisions []y.String `yaml:"revisions" doc:"asked of these hardware revisions only"`

	Range *version.Range // of Within, nil where there is none

	doubt string // what it names that the rulebook does not know
}

// Parsed is the release's version, read by the scheme of its main component.
func (rel *Release) Parsed() version.Version { return rel.parsed }

// For tells whether a release is meant for a model and revision; an empty list
// means all. It is not known when the release names revisions, and the device's
// is not known or a text of the list is none that the rulebook knows.
func (rel *Release) For(r *Rulebook, model, revision string) truth.Truth {
	if len(rel.Models) > 0 && !r.names(rel.Models, model) {
		return truth.No
	}
	return r.holdsRevision(rel.Revisions, model, revision)
}

// holdsRevision tells whether a list of revisions holds one of a model.
func (r *Rulebook) holdsRevision(list []y.String, model, revision string) truth.Truth {
	if len(list) == 0 {
		return truth.Yes
	}
	if revision == "" {
		return truth.Unknown
	}
	var of *Model
	if m, ok := r.FindModel(model); ok {
		of = &m.Value
	}
	held := truth.No
	for _, t := range list {
		held = held.Or(of.HoldsRevision(t.Text, revision))
	}
	return held
}

// OfFamily tells whether the release is one of a family; a release that names
// none is one of every family.
func (rel *Release) OfFamily(family string) bool {
	return len(rel.Families) == 0 || contains(rel.Families, family)
}

// names tells whether a list names a model by any spelling.
func (r *Rulebook) names(list []y.String, model string) bool {
	for _, t := range list {
		if r.CanonicalModel(t.Text) == r.CanonicalModel(model) {
			return true
		}
	}
	return false
}

func contains(list []y.String, text string) bool {
	for _, t := range list {
		if strings.EqualFold(t.Text, text) {
			return true
		}
	}
	return false
}

// FindRelease finds the release of a version: best the one for the family and
// hardware, else any of that version. A version without its build stands for the
// only release that it may be.
func (r *Rulebook) FindRelease(text, family, model, revision string) *Release {
	if r == nil {
		return nil
	}
	scheme := r.Scheme(r.Main(family))
	v, err := scheme.Parse(text)
	if err != nil {
		return nil
	}
	var best *Release
	score := -1
	versions := map[string]bool{}
	exact := false
	for i := range r.Releases {
		rel := &r.Releases[i]
		order, known := scheme.Rank(rel.parsed, v)
		if order != 0 || exact && !known {
			continue
		}
		if known && !exact { // it goes before all that it may be
			exact, best, score = true, nil, -1
		}
		versions[scheme.Key(rel.parsed)] = true
		s := 0
		if rel.For(r, model, revision) != truth.No {
			s += 2
		}
		if rel.OfFamily(family) {
			s++
		}
		if s > score {
			best, score = rel, s
		}
	}
	if !exact && len(versions) > 1 {
		return nil // the build would tell which
	}
	return best
}

// Known lists the versions of all releases, as written.
func (r *Rulebook) Known() []string {
	var out []string
	if r != nil {
		for _, rel := range r.Releases {
			out = append(out, rel.Version.Text)
		}
	}
	return out
}
