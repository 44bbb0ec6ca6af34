// Package draft makes a first rulebook out of what is at hand of a line of
// products: packages with their manifests, headers and names, release notes,
// console captures, makers' tables. All of it is guessed; each guess is marked,
// says from what, and asks what a person can answer before anything is judged
// by it.
package draft

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/notes"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
	"fitcheck/core/version"
)

// Input is what a draft is made from.
type Input struct {
	// Packages were surveyed without a rulebook of the line, with their texts kept.
	Packages []*survey.Survey
	Notes    []Note
	Captures []Text
	Tables   []Text
}

// Note is a document of release notes.
type Note struct {
	Name string
	*notes.Document
}

// Text is a file and what it holds.
type Text struct {
	Name string
	Data []byte
}

// Guess is what somebody has to confirm: a question, and from what it arose.
type Guess struct{ Question, From string }

// Draft is a rulebook that is still to be gone through.
type Draft struct {
	Title      string
	Sources    [][2]string // key and title
	Models     []*Model
	Components []*Component
	Versions   []*Versions
	Packages   []*Package
	Releases   []*Release
	Moves      Moves
	Captures   []*Capture
	// Notes are what was seen and stands in no line of the rulebook.
	Notes []string

	schemes map[string]*version.Scheme // by component
	words   map[string]string          // what manifests call components, in lower case, to the component
}

// Model is a model that some source names.
type Model struct {
	Name      string
	Guess     Guess
	Also      []string // other spellings of it
	AlsoGuess Guess
	Revisions []*Revision
	Board     // of the model where no revisions are named
}

// Revision is a hardware revision of a model.
type Revision struct {
	Name  string
	Guess Guess
	Board
}

// Board is what is known of the hardware.
type Board struct {
	Arch, ArchFrom string
	Boards         []string
	BoardFrom      string
	severalArchs   bool
	ByteOrder      bool // the header leaves it open
}

// Component is what some images are for.
type Component struct {
	Name     string
	Optional bool
	Guess    Guess
}

// Versions says how the versions of a component read.
type Versions struct {
	Component, Pattern string
	Order              []string // none for the natural order
	Compact            bool
}

// Package is a kind of download.
type Package struct {
	Title      string
	File       string // pattern
	Guess      Guess
	Components []string // that such downloads bring alone
	Handling   string
	HandGuess  Guess
	Manifest   *Manifest
	Sums       string // glob
	Signed     string // glob of what looks like a signature
	Notes      []string
	Items      []*Items
	Codes      [][2]string // what the manifest calls a component, and the component

	all []*reading
}

// Release is a version that some package brings.
type Release struct {
	Version  string
	Guess    Guess
	Date     string
	DateOf   Guess
	Families []string    // of a rulebook that is there
	Brings   [][2]string // component and version
	Lines    []Line      // needs, drops and the like, as they are written
	Needs    []Line

	parsed version.Version
	known  bool // it parsed
	there  bool // a rulebook lists it
}

// Line is a line of the rulebook that rests on a guess.
type Line struct {
	Text  string
	Guess Guess
}

// Moves are what is known of the way from release to release.
type Moves struct {
	Upward, Downward   string
	UpGuess, DownGuess Guess
	Rules              []Line
	Remedies           []Line
}

// New drafts a rulebook.
func New(in Input) *Draft {
	d := &Draft{schemes: map[string]*version.Scheme{}, words: map[string]string{}}
	var all []*reading
	for _, s := range in.Packages {
		all = append(all, newReading(s))
	}
	d.entries(all)
	d.models(all, in.Captures)
	d.components(all)
	d.releases(all)
	d.versions(all, d.documents(in))
	d.names()
	d.items()
	d.order()
	d.moves(in)
	d.captures(in.Captures)
	if len(d.Models) == 0 {
		d.Notes = append(d.Notes, "nothing in the packages names a model")
	}
	return d
}

// reading is one package as it is gone through.
type reading struct {
	s      *survey.Survey
	claims map[*survey.Item][]fact.Claim
	listed map[*survey.Item]string // where a manifest lists it
	list   *survey.Item            // the manifest
	main   string                  // version of the main image
	from   string                  // where that was read
	inName string                  // what of its name says the version
	images []*survey.Item          // what it brings, once that is known
	boot   bool                    // it brings the boot loader alone
}

func newReading(s *survey.Survey) *reading {
	return &reading{s: s, claims: map[*survey.Item][]fact.Claim{}, listed: map[*survey.Item]string{}}
}

// firmware lists what a package brings: what a manifest lists, and images that lie in no
// other.
func (r *reading) firmware() []*survey.Item {
	if r.images == nil {
		r.images = r.findFirmware()
	}
	return r.images
}

func (r *reading) findFirmware() []*survey.Item {
	var out []*survey.Item
	for _, it := range r.s.Items {
		if r.listed[it] != "" || it.Firmware() && !r.inside(it) {
			out = append(out, it)
		}
	}
	if len(out) > 0 || len(r.s.Items) != 1 {
		return out
	}
	return r.s.Items // a download of an unknown form is what it brings
}

// inside tells whether an item lies in another that is firmware itself, or that a manifest lists.
func (r *reading) inside(it *survey.Item) bool {
	return slices.ContainsFunc(r.s.Around(it), func(a *survey.Item) bool { return a != it && (a.Firmware() || r.listed[a] != "") })
}

// claim is the first fact that manifests give of an item.
func (r *reading) claim(it *survey.Item, about fact.Name) (text, from string) {
	for _, c := range r.claims[it] {
		for _, f := range c.About(about) {
			return f.Value, f.Source.Where()
		}
	}
	return "", ""
}

// order puts models by name and releases newest first.
func (d *Draft) order() {
	slices.SortFunc(d.Models, func(a, b *Model) int { return natural(a.Name, b.Name) })
	for _, m := range d.Models {
		slices.SortFunc(m.Revisions, func(a, b *Revision) int { return natural(a.Name, b.Name) })
	}
	s := d.schemes["main"]
	slices.SortStableFunc(d.Releases, func(a, b *Release) int {
		if a.known && b.known {
			return -s.Compare(a.parsed, b.parsed)
		}
		return -natural(a.Version, b.Version)
	})
}

func natural(a, b string) int {
	var s *version.Scheme
	x, err1 := s.Parse(a)
	y, err2 := s.Parse(b)
	if err1 != nil || err2 != nil {
		return strings.Compare(a, b)
	}
	return s.Compare(x, y)
}

// rules is the draft as a rulebook, as far as it is made; nil where it does not read.
func (d *Draft) rules() *rulebook.Rulebook {
	rb, err := rulebook.Read("draft.yaml", []byte(d.YAML()))
	if err != nil {
		return nil
	}
	return rb
}
