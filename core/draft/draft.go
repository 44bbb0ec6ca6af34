// Package draft makes a first rulebook out of what packages say of
// themselves: manifests, headers, names. All of it is guessed, and each guess
// says from what; people go through it before anything is judged by it.
package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
	"fitcheck/core/version"
)

// Draft is a rulebook that is still to be gone through.
type Draft struct {
	Title      string
	Models     []*Model
	Components []*Component
	Packages   []*Package
	Releases   []*Release
	Versions   []Versions
	Notes      []string
}

// Model is a model that some source names.
type Model struct {
	Name      string
	From      string
	Revisions []*Revision
	Board     // of the model where no revisions are named
}

// Revision is a hardware revision of a model.
type Revision struct {
	Name string
	From string
	Board
}

// Board is what is known of the hardware.
type Board struct {
	Arch     string
	Boards   []string
	archFrom string
}

// Component is what some images are for.
type Component struct {
	Name string
	From string
}

// Package is a kind of download.
type Package struct {
	Title    string
	File     string // pattern
	From     string
	Manifest *Manifest
	Sums     string // glob
	Notes    []string
	Items    []*Items
	Signed   string // glob of what looks like a signature
}

// Manifest says how the list of a download reads.
type Manifest struct {
	Glob, Form, From string
	Heading, Record  string // of the form lines
	// Of the other forms; fields are pairs of a fact and its key.
	Groups, Records     string
	GroupFields, Fields [][2]string
}

// Items are images of one component.
type Items struct {
	Glob, Component, Title, From string
}

// Release is a version that some package brings.
type Release struct {
	Version string
	Built   string // what a header says
	Brings  [][2]string
	From    string
}

// Versions says how the versions of a component read.
type Versions struct {
	Component, Pattern string
	Order              []string // none for the natural order
}

// New drafts a rulebook from packages, which were surveyed without one and with
// their texts kept.
func New(all []*survey.Survey) *Draft {
	d := &Draft{}
	for _, s := range all {
		d.add(s)
	}
	if len(d.Models) == 0 {
		d.Notes = append(d.Notes, "nothing in the packages names a model")
	}
	d.order()
	d.versions()
	return d
}

// reading is one package as it is gone through.
type reading struct {
	d       *Draft
	s       *survey.Survey
	pkg     *Package
	claims  map[*survey.Item][]fact.Claim
	listed  map[*survey.Item]string // where a manifest lists it
	version string                  // of the main image
}

func (d *Draft) add(s *survey.Survey) {
	r := &reading{d: d, s: s, claims: map[*survey.Item][]fact.Claim{}, listed: map[*survey.Item]string{}}
	r.pkg = &Package{Title: "download such as " + s.Name, From: s.Name}
	r.manifests()
	r.beside()
	r.images()
	r.name()
	r.release()
	for _, p := range d.Packages { // another version of the same download
		if p.File == r.pkg.File {
			return
		}
	}
	d.Packages = append(d.Packages, r.pkg)
}

// beside finds checksum lists, notes and signatures.
func (r *reading) beside() {
	for _, it := range r.s.Items {
		name := path.Base(it.Name)
		lower := strings.ToLower(name)
		switch {
		case it.Role == "checksums" && r.pkg.Sums == "":
			r.pkg.Sums = globOf(name)
		case it.Kind == "text" && (strings.Contains(lower, "note") || strings.Contains(lower, "readme")):
			r.pkg.Notes = append(r.pkg.Notes, "**/"+name)
		case slices.Contains([]string{".sig", ".asc", ".p7s", ".sign"}, path.Ext(lower)) && r.pkg.Signed == "":
			r.pkg.Signed = globOf(name)
		}
	}
}

// globOf matches a file by its ending; without one, by its name.
func globOf(name string) string {
	if ext := path.Ext(name); ext != "" && ext != name {
		return "**/*" + ext
	}
	return "**/" + name
}

// bootLike are words in the names of boot loaders.
var bootLike = regexp.MustCompile(`(?i)(^|[^a-z])(u-?boot|boot|bootloader|loader|bl[123]?)([^a-z]|$)`)

// images goes through the firmware: what it is for, on what hardware.
func (r *reading) images() {
	var all []*survey.Item
	for _, it := range r.s.Items {
		if it.Firmware() && !r.inside(it) || r.listed[it] != "" {
			all = append(all, it)
		}
	}
	for _, it := range all {
		component, from := r.component(it, all)
		r.d.component(component, from)
		title := ""
		if it.Image != nil {
			if t, ok := it.Image.First(fact.Title); ok {
				title = r.title(t.Value, fmt.Sprintf("the header of %s", it.Address))
			}
		}
		r.items(it, component, title, from)
		r.hardware(it)
	}
}

// inside tells whether an item lies in another that is firmware itself.
func (r *reading) inside(it *survey.Item) bool {
	return slices.ContainsFunc(r.s.Around(it), func(a *survey.Item) bool { return a.Firmware() })
}

// component is what an image seems to be for.
func (r *reading) component(it *survey.Item, all []*survey.Item) (name, from string) {
	for _, c := range r.claims[it] {
		for _, f := range c.About(fact.Component) {
			return strings.ToLower(f.Value), f.Source.Where()
		}
	}
	if bootLike.MatchString(strings.TrimSuffix(it.Name, path.Ext(it.Name))) && len(all) > 1 {
		return "boot", "the name " + it.Name
	}
	return "main", "it is firmware: " + it.Address
}

func (d *Draft) component(name, from string) {
	if !slices.ContainsFunc(d.Components, func(c *Component) bool { return c.Name == name }) {
		d.Components = append(d.Components, &Component{name, from})
	}
}

// items adds a rule for files like this one.
func (r *reading) items(it *survey.Item, component, title, from string) {
	glob := globOf(path.Base(it.Name))
	if dir := path.Base(path.Dir(it.Name)); dir != "." && dir != "/" && path.Dir(path.Dir(it.Name)) != "." {
		glob = "**/" + dir + "/*" + path.Ext(it.Name)
	}
	if r.s.IsRoot(it) {
		glob = "*" + path.Ext(it.Name)
	}
	for _, have := range r.pkg.Items {
		if have.Glob == glob {
			if have.Component != component { // the ending does not tell them apart
				glob = "**/" + path.Base(it.Name)
				break
			}
			if have.Title == "" {
				have.Title = title
			}
			return
		}
	}
	rule := &Items{glob, component, title, from}
	if strings.Contains(glob, "/*.") || strings.HasPrefix(glob, "*") || strings.HasPrefix(glob, "**/*") {
		r.pkg.Items = append(r.pkg.Items, rule)
	} else { // the narrower one first
		r.pkg.Items = append([]*Items{rule}, r.pkg.Items...)
	}
}

// words of a title or name.
var (
	modelWord   = regexp.MustCompile(`^[A-Z][A-Za-z]*-?\d[\w-]*$`)
	versionWord = regexp.MustCompile(`^[vV]?\d+(?:\.\d+)+[\w().-]*$`)
)

// title makes a pattern of a header's title, and takes a model's name from it.
func (r *reading) title(title, from string) string {
	words := strings.Fields(title)
	model, ver := -1, -1
	for i, w := range words {
		switch {
		case ver < 0 && versionWord.MatchString(w):
			ver = i
		case model < 0 && (modelWord.MatchString(w) || r.d.model(w) != nil):
			model = i
		}
	}
	if model < 0 {
		return ""
	}
	if r.d.model(words[model]) == nil {
		r.d.Models = append(r.d.Models, &Model{Name: words[model], From: from})
	}
	var parts []string
	for i, w := range words {
		switch i {
		case model:
			parts = append(parts, `(?P<model>\S+)`)
		case ver:
			parts = append(parts, `(?P<version>\S+)`)
		default:
			parts = append(parts, regexp.QuoteMeta(w))
		}
	}
	return "^" + strings.Join(parts, " ") + "$"
}

func (d *Draft) model(name string) *Model {
	for _, m := range d.Models {
		if strings.EqualFold(m.Name, name) {
			return m
		}
	}
	return nil
}

// hardware takes models, revisions, boards and architectures that speak of an
// image.
func (r *reading) hardware(it *survey.Item) {
	var archs, boards, titled []string
	archFrom := ""
	if it.Image != nil {
		for _, f := range it.Image.All() {
			switch {
			case f.About == fact.Arch && !f.Open && !slices.Contains(archs, f.Value):
				archs, archFrom = append(archs, f.Value), f.Source.Where()
			case f.About == fact.Board && !f.Open && !slices.Contains(boards, f.Value):
				boards = append(boards, f.Value)
			case f.About == fact.Title:
				for _, w := range strings.Fields(f.Value) {
					if m := r.d.model(w); m != nil {
						titled = append(titled, m.Name)
					}
				}
			}
		}
	}
	set := func(b *Board) {
		if len(archs) == 1 && b.Arch == "" {
			b.Arch, b.archFrom = archs[0], archFrom
		}
		for _, t := range boards {
			if !slices.Contains(b.Boards, t) {
				b.Boards = append(b.Boards, t)
			}
		}
	}
	claimed := false
	for _, c := range r.claims[it] {
		for _, mf := range c.About(fact.Model) {
			claimed = true
			m := r.d.model(mf.Value)
			if m == nil {
				m = &Model{Name: mf.Value, From: mf.Source.Where()}
				r.d.Models = append(r.d.Models, m)
			}
			revisions := c.About(fact.Revision)
			for _, rf := range revisions {
				for _, name := range spelled(rf.Value) {
					set(&m.revision(name, rf.Source.Where()).Board)
				}
			}
			if len(revisions) == 0 {
				set(&m.Board)
			}
		}
	}
	if claimed {
		return
	}
	for _, name := range titled {
		set(&r.d.model(name).Board)
	}
	if len(titled) == 0 && len(boards) > 0 { // a board is all that is named
		for _, b := range boards {
			name := b[strings.LastIndexByte(b, ',')+1:]
			m := r.d.model(name)
			if m == nil {
				m = &Model{Name: name, From: "the board " + b + " in " + it.Address}
				r.d.Models = append(r.d.Models, m)
			}
			if len(archs) == 1 && m.Arch == "" {
				m.Arch, m.archFrom = archs[0], archFrom
			}
			if !slices.Contains(m.Boards, b) {
				m.Boards = append(m.Boards, b)
			}
		}
	}
}

// spelled lists the ends of a range of revisions; what lies between is not
// known.
func spelled(text string) []string {
	if from, to, ok := strings.Cut(text, "-"); ok && from != "" && to != "" {
		return []string{from, to}
	}
	return []string{text}
}

func (m *Model) revision(name, from string) *Revision {
	for _, r := range m.Revisions {
		if strings.EqualFold(r.Name, name) {
			return r
		}
	}
	r := &Revision{Name: name, From: from}
	m.Revisions = append(m.Revisions, r)
	return r
}

// name makes a pattern of the download's name.
func (r *reading) name() {
	base := r.s.Name
	stem, tail := base, ""
	for ext := path.Ext(stem); ext != "" && len(ext) <= 5 && !versionWord.MatchString(strings.TrimPrefix(ext, ".")+".0"); ext = path.Ext(stem) {
		stem, tail = strings.TrimSuffix(stem, ext), ext+tail
	}
	found := nameVersion.FindStringIndex(stem)
	pattern := "^" + regexp.QuoteMeta(stem) + regexp.QuoteMeta(tail) + "$"
	if found != nil {
		r.version = strings.TrimPrefix(stem[found[0]:found[1]], "v")
		pattern = "^" + regexp.QuoteMeta(stem[:found[0]]) + `v?(?P<version>\d[\w.]*?)` + regexp.QuoteMeta(stem[found[1]:]+tail) + "$"
	}
	r.pkg.File = pattern
}

var nameVersion = regexp.MustCompile(`v?\d+(?:\.\d+)+[a-z]?`)

// release is what the package brings: by its manifest or headers, else by its
// name.
func (r *reading) release() {
	rel := &Release{From: r.s.Name}
	seen := map[string]bool{}
	for _, it := range r.s.Items {
		if !it.Firmware() && r.listed[it] == "" || r.inside(it) {
			continue
		}
		component, _ := r.component(it, r.s.Items)
		text := r.versionOf(it)
		if text == "" || seen[component] {
			continue
		}
		seen[component] = true
		rel.Brings = append(rel.Brings, [2]string{component, text})
		if component == "main" {
			rel.Version, rel.From = text, it.Address
		}
		if it.Image != nil && rel.Built == "" {
			if f, ok := it.Image.First(fact.Built); ok && len(f.Value) >= 10 {
				rel.Built = f.Value[:10]
			}
		}
	}
	if rel.Version == "" {
		rel.Version = r.version
	}
	if rel.Version == "" && len(rel.Brings) > 0 {
		rel.Version = rel.Brings[0][1]
	}
	if rel.Version == "" || slices.ContainsFunc(r.d.Releases, func(o *Release) bool { return o.Version == rel.Version }) {
		return
	}
	r.d.Releases = append(r.d.Releases, rel)
}

// versionOf is what a manifest, or the title of a header, says.
func (r *reading) versionOf(it *survey.Item) string {
	for _, c := range r.claims[it] {
		for _, f := range c.About(fact.Version) {
			return f.Value
		}
	}
	if it.Image == nil {
		return ""
	}
	if f, ok := it.Image.First(fact.Version); ok {
		return f.Value
	}
	if f, ok := it.Image.First(fact.Title); ok {
		for _, w := range strings.Fields(f.Value) {
			if versionWord.MatchString(w) {
				return w
			}
		}
	}
	return ""
}

// order puts components in the order in which they are mostly installed, and
// models by name.
func (d *Draft) order() {
	rank := func(c *Component) int {
		switch {
		case bootLike.MatchString(c.Name):
			return 0
		case c.Name == "main":
			return 1
		}
		return 2
	}
	if len(d.Components) == 0 {
		d.Components = []*Component{{"main", "every device has one"}}
	}
	slices.SortStableFunc(d.Components, func(a, b *Component) int { return rank(a) - rank(b) })
	slices.SortFunc(d.Models, func(a, b *Model) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range d.Models {
		slices.SortFunc(m.Revisions, func(a, b *Revision) int { return natural(a.Name, b.Name) })
	}
	slices.SortStableFunc(d.Releases, func(a, b *Release) int { return -natural(a.Version, b.Version) })
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

// shapes are the patterns that are tried, the plainest first.
var shapes = []Versions{
	{Pattern: `^v?(?P<major>\d+)\.(?P<minor>\d+)\.(?P<patch>\d+)(?P<fix>[a-z])?$`, Order: []string{"major", "minor", "patch", "fix"}},
	{Pattern: `^v?(?P<major>\d+)\.(?P<minor>\d+)$`, Order: []string{"major", "minor"}},
	{Pattern: `^v?(?P<major>\d+)\.(?P<minor>\d+)\.(?P<patch>\d+)\.(?P<build>\d+)$`, Order: []string{"major", "minor", "patch", "build"}},
}

// versions finds a pattern for the versions of each component.
func (d *Draft) versions() {
	texts := map[string][]string{}
	for _, rel := range d.Releases {
		texts["default"] = append(texts["default"], rel.Version)
		for _, b := range rel.Brings {
			if b[0] != "main" {
				texts[b[0]] = append(texts[b[0]], b[1])
			}
		}
	}
	for _, name := range append([]string{"default"}, componentNames(d)...) {
		if len(texts[name]) == 0 {
			continue
		}
		v := Versions{Component: name}
		for _, s := range shapes {
			re := regexp.MustCompile(s.Pattern)
			if !slices.ContainsFunc(texts[name], func(t string) bool { return !re.MatchString(t) }) {
				v.Pattern, v.Order = s.Pattern, s.Order
				break
			}
		}
		d.Versions = append(d.Versions, v)
	}
}

func componentNames(d *Draft) []string {
	var out []string
	for _, c := range d.Components {
		out = append(out, c.Name)
	}
	return out
}
