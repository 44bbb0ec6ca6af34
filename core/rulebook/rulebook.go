// Package rulebook holds what is known of a product line: its models and
// hardware revisions, image families, releases, and the moves that are allowed
// between them. A rulebook is a YAML file that people write from release
// notes; Read checks it strictly, so that judging never meets a text that its
// own patterns do not read.
package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/device"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/manifest"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Rulebook is one rulebook file.
type Rulebook struct {
	File string

	Kind     y.String              `yaml:"kind" enum:"rulebook"`
	Title    y.String              `yaml:"title" doc:"title of the line, or of this kind of entry"`
	Maker    y.String              `yaml:"maker" doc:"who makes it"`
	Revised  y.Date                `yaml:"revised" doc:"day of the last change to this file"`
	Sources  y.Map[y.String]       `yaml:"sources" doc:"key to the title of the document that rules cite"`
	Layouts  []y.String            `yaml:"layouts" doc:"files in the kit's layouts/"` // files in the kit's layouts/
	Models   y.Map[Model]          `yaml:"models" doc:"name to what is known of the model"`
	Families y.Map[Family]         `yaml:"families"`
	Versions y.Map[VersionPattern] `yaml:"versions" doc:"component, or default, to how its version texts are read and ordered"`
	Packages []Package             `yaml:"packages" doc:"how downloads of this line are put together"`
	Releases []Release             `yaml:"releases"`

	ByDigest  []ByDigest  `yaml:"by_digest" doc:"images that carry no identity of their own, known by their digest"`
	Examples  []Example   `yaml:"examples" doc:"questions with their right answers, which fitcheck rulebook test holds"`
	Certified []Certified `yaml:"certified" doc:"sets of versions that are certified to work together"`

	Hops *Hops `yaml:"hops" doc:"which moves from one version to another are allowed"`

	Transfer  *Transfer       `yaml:"transfer" doc:"what the device's way of fetching a file can carry"`
	Captures  []Capture       `yaml:"captures" doc:"how console output is read into a device file"`
	Recovery  []Recovery      `yaml:"recovery" doc:"how a device that does not start is brought back"`
	Procedure y.Map[y.String] `yaml:"procedure" doc:"step to the device's own wording of it, a text/template"`

	Install     *Install       `yaml:"install" doc:"how images get onto a device"`
	Sequence    []SequenceStep `yaml:"sequence" doc:"the steps of a hop, in their order, in place of the built-in ones"`
	Skip        []y.String     `yaml:"skip" doc:"built-in steps that are left out"`
	Remedies    []Remedy       `yaml:"remedies" doc:"what helps against failures that the device reports"`
	ChecksAfter []AfterCheck   `yaml:"checks_after" doc:"what to see to after every install"`

	schemes map[string]*version.Scheme
	idle    y.Errors
	guesses guesses
	faults  y.Errors
}

// Model is a model of the line.
type Model struct {
	Also     []y.String   `yaml:"also" doc:"other spellings of the name"`
	Families []y.String   `yaml:"families"`
	Revs     y.Map[Board] `yaml:"revisions"`
	Board                 // what holds where a revision does not say otherwise
}

// Board is what the hardware of a model or of one revision is.
type Board struct {
	Arch   y.String   `yaml:"arch" doc:"processor architecture"`
	Boards []y.String `yaml:"boards" doc:"board identifiers"`
	Slot   y.Size     `yaml:"slot" doc:"size of a slot"`
	Memory y.Size     `yaml:"memory"`
}

// Family is an image family. Its components stand in the order in which they
// are installed.
type Family struct {
	Title      y.String         `yaml:"title" doc:"title of the line, or of this kind of entry"`
	Components y.Map[Component] `yaml:"components" doc:"in the order in which they are installed"`
	Paired     [][]y.String     `yaml:"paired" doc:"groups of components that carry one version and move together"`
	Install    *Install         `yaml:"install" doc:"how images get onto a device, where that differs from the rulebook's"`
	// FactoryReset is what a factory reset leaves running.
	FactoryReset FactoryReset `yaml:"factory_reset" doc:"what a factory reset leaves running: running, other-slot, or a version"`
}

// Component is what one image of a family is for.
type Component struct {
	Title    y.String `yaml:"title" doc:"title of the line, or of this kind of entry"`
	Optional bool     `yaml:"optional" doc:"a package need not bring it"`
	Slotted  bool     `yaml:"slotted" doc:"it has slots, of which one is active"`
	// Formats are those that it takes: "squashfs", "uimage/kernel".
	Formats []y.String `yaml:"formats" doc:"formats that it takes, as fitcheck survey names them, with / and the type where that matters; none means any that starts"`
}

// VersionPattern says how the version texts of a component are read; the bare
// word "natural" stands for the natural order.
type VersionPattern struct {
	y.Spot
	Natural bool
	Pattern y.Pattern  `yaml:"pattern" doc:"reads a version text; its named groups are put in order"`
	Order   []y.String `yaml:"order" doc:"groups of the pattern, the most significant first"`
	Compact bool       `yaml:"compact" doc:"842c in a file name may stand for the known release 8.4.2c"`
}

// FromScalar reads the bare word.
func (v *VersionPattern) FromScalar(text string, at y.Spot) error {
	v.Spot = at
	v.Natural = text == "natural"
	if !v.Natural {
		return fmt.Errorf(`write natural, or a mapping with pattern and order; %q is neither`, text)
	}
	return nil
}

// Package says how one kind of download is put together.
type Package struct {
	y.Spot
	Title      y.String      `yaml:"title" doc:"title of the line, or of this kind of entry"`
	File       y.Pattern     `yaml:"file" doc:"reads the download's name; groups are names of facts"`
	Handling   y.String      `yaml:"handling" enum:"unpacked,whole" doc:"how a server must offer it"`
	Components []y.String    `yaml:"components" doc:"in the order in which they are installed"`
	Manifest   *ManifestRule `yaml:"manifest"`
	Checksums  y.Glob        `yaml:"checksums" doc:"glob: the checksum lists"`
	Notes      []y.Glob      `yaml:"notes" doc:"globs: release notes and readme files"`
	Items      []ItemRule    `yaml:"items" doc:"what the items are for"`
	Outer      y.String      `yaml:"outer" doc:"the kind of the whole file: tar, zip …; another is a misfit"`
	StandsFor  *StandsFor    `yaml:"stands_for" doc:"what a file of this name is, by the rulebook's word"`
	Codes      y.Map[Code]   `yaml:"codes" doc:"group of a pattern to what its texts mean"`

	Signature *SignatureRule `yaml:"signature"`
}

// Transfer says what the device's way of fetching a file can carry.
type Transfer struct {
	y.Spot
	Protocol    y.String `yaml:"protocol" doc:"tftp, http …"`
	Largest     y.Size   `yaml:"largest" doc:"largest file that can be carried"`           // of one file
	LongestName int      `yaml:"longest_name" doc:"bytes of the longest file name"`        // in bytes; 0 is no bound
	Blocksize   *bool    `yaml:"blocksize" doc:"the device negotiates the size of blocks"` // the device negotiates the size of blocks
}

// Capture says how the console output of the line is read into a device file.
type Capture struct {
	y.Spot
	Recognise y.Pattern        `yaml:"recognise" doc:"a pattern that every such capture holds"`                                    // found in every such capture
	Member    y.Pattern        `yaml:"member" doc:"a pattern that begins what is said of one member; its first group is the name"` // begins what is said of one member of a group
	Read      y.Map[y.Pattern] `yaml:"read" doc:"key of the device file to a pattern whose first group is the value"`              // key of the device file to a pattern whose first group is its value
	Each      y.Map[y.Pattern] `yaml:"each" doc:"list of the device file to the pattern of one entry"`                             // list of the device file to the pattern of one entry
}

// CaptureRules are the captures in the form in which they are applied.
func (r *Rulebook) CaptureRules() []device.CaptureRule {
	var out []device.CaptureRule
	for i := range r.Captures {
		c := &r.Captures[i]
		rule := device.CaptureRule{Recognise: c.Recognise.Regexp, Member: c.Member.Regexp, Name: r.Source(c.Spot).Where()}
		for _, e := range c.Read.Entries {
			rule.Read = append(rule.Read, device.KeyPattern{Key: e.Key, Pattern: e.Value.Regexp})
		}
		for _, e := range c.Each.Entries {
			rule.Each = append(rule.Each, device.KeyPattern{Key: e.Key, Pattern: e.Value.Regexp})
		}
		out = append(out, rule)
	}
	return out
}

// SignatureRule says what of a download is signed, and by whom.
type SignatureRule struct {
	y.Spot
	Item   y.Glob   `yaml:"item" doc:"glob: which item it is"`                                  // the signature; the signed text itself where it is clear-signed
	Of     y.String `yaml:"of" doc:"manifest, checksums, package, image, or a glob over items"` // manifest, checksums, package, image (its own), or a glob over items
	Key    y.String `yaml:"key" doc:"file in the kit's keys/"`                                  // file in the kit's keys/
	Scheme y.String `yaml:"scheme"`                                                             // see sign.Schemes
}

// OfGlob takes Of as a glob over items.
func (r *SignatureRule) OfGlob() y.Glob { return y.Glob{Pattern: r.Of.Text, Spot: r.Of.Spot} }

// ManifestRule says where the manifest is and how it reads.
type ManifestRule struct {
	y.Spot
	Item    y.Glob    `yaml:"item" doc:"glob: which item it is"`
	Form    y.String  `yaml:"form" enum:"lines,ini,csv,json,yaml,xml"`
	Heading y.Pattern `yaml:"heading" doc:"form lines: reads a heading, whose facts hold for the records under it"`
	Record  y.Pattern `yaml:"record" doc:"form lines: reads one record"`

	// Of the other forms: where groups and records are, and which key is what.
	Groups      y.String        `yaml:"groups" doc:"path to the groups"`
	GroupFields y.Map[y.String] `yaml:"group_fields" doc:"fact to key of a group"`
	Records     y.String        `yaml:"records" doc:"path to the records"`
	Fields      y.Map[y.String] `yaml:"fields" doc:"fact to key of a record"`

	entry *Package // whose it is
}

// Read reads a manifest as the rule says.
func (m *ManifestRule) Read(address string, data []byte, l archive.Limits) *manifest.Manifest {
	if m.Form.Text == "lines" {
		return manifest.Lines{Heading: m.Heading.Regexp, Record: m.Record.Regexp, Means: m.entry.Meaning}.Read(address, data, l)
	}
	return m.document().Read(address, data, l)
}

// Digests lists the digests that the manifest may give.
func (m *ManifestRule) Digests() []digest.Algorithm {
	if m.Form.Text == "lines" {
		return manifest.Digests(m.Record.Regexp)
	}
	return m.document().DigestsOf()
}

func (m *ManifestRule) document() manifest.Document {
	return manifest.Document{Form: m.Form.Text, Groups: m.Groups.Text, GroupFields: plain(m.GroupFields), Records: m.Records.Text, Fields: plain(m.Fields), Means: m.entry.Meaning}
}

func plain(m y.Map[y.String]) map[string]string {
	out := map[string]string{}
	for _, e := range m.Entries {
		out[e.Key] = e.Value.Text
	}
	return out
}

// ItemRule says what the items of a download are for.
type ItemRule struct {
	y.Spot
	Match     y.Glob    `yaml:"match" doc:"glob over items"`
	Component y.String  `yaml:"component"`
	Title     y.Pattern `yaml:"title" doc:"title of the line, or of this kind of entry"` // reads facts out of the header's own title
	// VersionFrom takes the version from what lies inside, for lines whose headers give none.
	VersionFrom y.String `yaml:"version_from" enum:"kernel,os-release" doc:"what inside the image its version is read from"`
}

// Read reads a rulebook. All that is wrong with it is in the error.
func Read(file string, data []byte) (*Rulebook, error) {
	r := &Rulebook{File: file, guesses: findGuesses(data)}
	if err := y.Read(file, data, r); err != nil {
		return nil, err
	}
	c := &checker{r: r}
	c.all()
	if len(c.errs) > 0 {
		slices.SortStableFunc(c.errs, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
		return nil, c.errs
	}
	r.findFaults()
	r.idle = r.findIdle()
	return r, nil
}

// Source is the place of something in the rulebook.
func (r *Rulebook) Source(at y.Spot) fact.Source {
	return fact.Source{Kind: fact.Rulebook, File: r.File, Line: at.Line, Column: at.Column}
}

func (r *Rulebook) fact(about fact.Name, t y.String) fact.Fact {
	return fact.Fact{About: about, Value: t.Text, Source: r.Source(t.Spot)}
}

// Document is the title of the document that a rule cites, with its key.
func (r *Rulebook) Document(source y.String) string {
	if !source.Set() {
		return ""
	}
	if d, ok := r.Sources.Get(source.Text); ok {
		return fmt.Sprintf("%s: %s", source.Text, d.Value.Text)
	}
	return source.Text
}

// Scheme is how the versions of a component are read. Components without an
// entry of their own use "default"; without that, the natural order.
func (r *Rulebook) Scheme(component string) *version.Scheme {
	if r == nil {
		return nil
	}
	if s, ok := r.schemes[component]; ok {
		return s
	}
	return r.schemes["default"]
}

// Main is the component whose version stands for the release in a family: the
// one named main; else the first of the pair; else the only slotted one; else
// the last that is installed.
func (r *Rulebook) Main(family string) string {
	f, ok := r.family(family)
	if !ok || len(f.Components.Entries) == 0 {
		return "main"
	}
	if _, ok := f.Components.Get("main"); ok {
		return "main"
	}
	if len(f.Paired) > 0 && len(f.Paired[0]) > 0 {
		return f.Paired[0][0].Text
	}
	var slotted []string
	for _, c := range f.Components.Entries {
		if c.Value.Slotted {
			slotted = append(slotted, c.Key)
		}
	}
	if len(slotted) == 1 {
		return slotted[0]
	}
	return f.Components.Entries[len(f.Components.Entries)-1].Key
}

func (r *Rulebook) family(name string) (*Family, bool) {
	if r == nil {
		return nil, false
	}
	for _, e := range r.Families.Entries {
		if strings.EqualFold(e.Key, name) {
			return &e.Value, true
		}
	}
	return nil, false
}

// Family returns a family of the line by its name.
func (r *Rulebook) Family(name string) (*Family, bool) { return r.family(name) }

// Globs lists the globs by which the entry names items.
func (p *Package) Globs() []y.Glob {
	var out []y.Glob
	add := func(g y.Glob) {
		if g.Set() {
			out = append(out, g)
		}
	}
	if p.Manifest != nil {
		add(p.Manifest.Item)
	}
	if p.Signature != nil {
		add(p.Signature.Item)
	}
	add(p.Checksums)
	for _, i := range p.Items {
		add(i.Match)
	}
	return out
}
