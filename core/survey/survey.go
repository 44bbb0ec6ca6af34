// Package survey tells what is in a package: it walks the archive once and
// turns each item into facts. Digests, header reading and header checksums
// ride on that pass; manifests and checksum lists, kept aside while they
// passed, are read afterwards and their words joined to the items they name.
package survey

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/maruel/natural"

	"fitcheck/core/archive"
	"fitcheck/core/content"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/image/format"
	"fitcheck/core/manifest"
	"fitcheck/core/rulebook"
)

// Options steer a survey.
type Options struct {
	Limits archive.Limits
	// Rulebooks that may know the package, the preferred one first.
	Rulebooks []*rulebook.Rulebook
	// Quick reads no more of an item than it takes to tell what it is: no
	// digests, no checksums over what lies further on.
	Quick bool
	// Digests are computed of every item beside those that are needed anyway.
	Digests []digest.Algorithm
	// Undigested says that nobody asks for the digests of items: those alone are computed that
	// a rulebook or a list may speak of.
	Undigested bool
	// Progress, where it is not nil, lets others see how far the survey is.
	Progress *archive.Progress
	// Texts keeps small texts whatever they are called; see Item.Text.
	Texts bool
	// Deep looks for images at any offset of items of no known format.
	Deep bool
	// Contents lists the files of file systems, with their digests.
	Contents bool
	// Seen is what equal content was found to be in other packages; nil where there are none.
	Seen *Seen
	// apart looks at equal items one by one, too.
	apart bool
	// promote are addresses of files in file systems that lists of the package name.
	promote map[string]bool
	// Formats that items are told by; nil stands for the built-in ones.
	Formats *image.Set
	// Keys finds the kit's keys; nil leaves signatures alone.
	Keys Keys
	// Now is the time at which signatures are judged; zero is the real one.
	Now time.Time
	// Expect are digests that were published for the package file itself,
	// with where they come from.
	Expect []Expected
}

// Expected is a digest published for the package file.
type Expected struct {
	Sum    digest.Sum
	Source fact.Source
}

// Survey is what is in a package.
type Survey struct {
	Path    string
	Name    string // first level of every address
	Folder  bool
	Size    int64
	Digests digest.Set // of the file; none for a folder
	Items   []*Item    // the package file itself first, then as the archives list them

	// Rulebook and Entry describe the download, where one does.
	Rulebook *rulebook.Rulebook
	Entry    *rulebook.Package
	Notes    []string // how the entry was found, and the like

	// NameClaim is what the entry's file pattern reads out of the package's name.
	NameClaim fact.Claim
	Manifests []*manifest.Manifest
	Sums      []*manifest.Sums
	// Signatures are those that the rulebook tells of.
	Signatures []Signed
	Missing    []Missing
	// Problems is everything wrong, items' problems included.
	Problems []archive.Problem

	// Parts are the packages of a set that are judged together; see Join.
	Parts []*Survey

	limits    archive.Limits
	absent    []absent
	refused   error // the bound that a text passes
	byAddress map[string]*Item
	beside    map[string][]string // archives by what they lie in
}

// Item is one file of the package.
type Item struct {
	*archive.Item
	Kind    string // as in JSON: "uimage", "zip", "text", "unknown"
	Role    string // "manifest", "checksums", "notes" or ""
	Size    int64
	Digests digest.Set
	Image   *image.Image // nil when it has no header that is read
	// Witnesses are the sources that speak of the item.
	Witnesses []fact.Witness
	Published []Published
	Problems  []archive.Problem
	// Signed are the signatures that its header carries.
	Signed []Signed
	// Contents are the files of a file system; nil of anything else, and where they could not
	// be listed.
	Contents *image.Contents
	// Versions are what a version file of a root file system says.
	Versions []fact.Fact
	// Map tells what lies where, from the first byte to the last, where the
	// survey was a deep one.
	Map []image.Region
	// Quick: only its first bytes were read, so that nothing is known of the
	// rest.
	Quick bool
	// Unread: its content cannot be read by this program; nothing is known of it but
	// its name and the size that its archive gives.
	Unread bool
	// Nature says what can be said of an item of no known format.
	Nature string

	sniffed string // its kind by its first bytes
	listed  bool   // by those it looks like a list of digests, or a signed text
	// shown are the files of it, where that may be asked; tooMany: they were too many to keep.
	shown   []shownFile
	tooMany bool

	format   *image.Format
	programs []fact.Fact // of what lies in its parts
	text     *textBuffer
	coverage *coverage
}

// Published is a digest that a list or manifest gives for an item.
type Published struct {
	Sum    digest.Sum
	Source fact.Source
	Got    string // the item's own, "" when it was not computed
}

// publish adds a published digest. One that the same list gives a second time is one.
func (it *Item) publish(p Published) {
	if n := len(it.Published); n >= maxPublished || slices.ContainsFunc(it.Published, func(o Published) bool { return o.Sum == p.Sum && o.Source.File == p.Source.File }) {
		return
	}
	it.Published = append(it.Published, p)
}

// maxPublished is how many different digests are held against one item.
const maxPublished = 1000

// OK tells whether the published digest is the item's.
func (p Published) OK() bool { return p.Got == p.Sum.Hex }

// Wrong tells whether it is not; a digest that was not computed is neither.
func (p Published) Wrong() bool { return p.Got != "" && p.Got != p.Sum.Hex }

// Missing is a file that a manifest lists and the package does not hold.
type Missing struct {
	File   string
	Source fact.Source
	Claim  fact.Claim
}

// Firmware tells whether the item is of a format that devices run or install.
func (it *Item) Firmware() bool { return it.format != nil && it.format.Firmware }

// Text is the item's content where it was kept: texts that may be manifests,
// lists or signatures, and all small ones where the survey was to keep them.
func (it *Item) Text() []byte {
	if it.text == nil {
		return nil
	}
	return it.plain()
}

// Title names the item's kind for people.
func (it *Item) Title() string {
	switch {
	case it.format != nil:
		return it.format.Title
	case it.Nature != "":
		return "of no known format; " + it.Nature
	}
	return map[string]string{"empty": "the file is empty", "blank": "every byte is FF", "zeros": "every byte is zero"}[it.Kind]
}

// Witness returns what one kind of source says of the item.
func (it *Item) Witness(kind fact.Kind) (fact.Witness, bool) {
	for _, w := range it.Witnesses {
		if w.Kind == kind {
			return w, true
		}
	}
	return fact.Witness{}, false
}

// Facts lists all that is said of the item.
func (it *Item) Facts() []fact.Fact {
	var out []fact.Fact
	if it.Image != nil {
		out = it.Image.All()
	}
	for _, w := range it.Witnesses {
		for _, c := range w.Claims {
			for _, f := range c {
				if !slices.Contains(out, f) {
					out = append(out, f)
				}
			}
		}
	}
	if it.Contents != nil {
		out = append(out, it.Contents.Facts...)
	}
	return append(out, it.Versions...)
}

// Damage lists the problems that keep the item from being intact.
func (it *Item) Damage() []archive.Problem { return ofClass(it.Problems, archive.Damaged) }

func ofClass(all []archive.Problem, c archive.Class) []archive.Problem {
	var out []archive.Problem
	for _, p := range all {
		if p.Class == c {
			out = append(out, p)
		}
	}
	return out
}

// Find returns the item of an address.
func (s *Survey) Find(address string) *Item { return s.byAddress[address] }

// Broken tells whether the package file itself is damaged, so that what is
// missing in it says nothing more.
func (s *Survey) Broken() bool {
	for _, part := range s.Each() {
		if root := part.Root(); root != nil && len(root.Damage()) > 0 {
			return true
		}
	}
	return false
}

// Around lists the archives that an item lies in, the innermost first.
func (s *Survey) Around(it *Item) []*Item {
	var out []*Item
	address := it.Address
	for {
		i := strings.LastIndex(address, "::")
		if i < 0 {
			return out
		}
		address = address[:i]
		if a := s.Find(address); a != nil {
			out = append(out, a)
		}
	}
}

// Inside lists the items that lie in an archive directly.
func (s *Survey) Inside(it *Item) []*Item {
	var out []*Item
	for _, o := range s.PartOf(it.Address).Items {
		if rest, ok := strings.CutPrefix(o.Address, it.Address+"::"); ok && !strings.Contains(rest, "::") {
			out = append(out, o)
		}
	}
	return out
}

// NotFirmware begins what is said of something that is no firmware at all.
const NotFirmware = "not firmware: "

// Root is the item of the package file itself; nil for a folder.
func (s *Survey) Root() *Item { return s.Find(s.Name) }

// Run surveys the package at path. Its error says that the system would not
// open it, that a bound was passed, or that the context ended; what is wrong
// inside the package is in Problems.
func Run(ctx context.Context, path string, o Options) (*Survey, error) {
	if o.Formats == nil {
		o.Formats = format.Builtin()
	}
	s, err := walk(ctx, path, o)
	if err != nil {
		return nil, err
	}
	s.whole(o)
	if s.describe(o.Rulebooks); s.refused != nil {
		return nil, s.refused
	}
	if o.promote == nil && !o.Quick {
		if o.promote = s.withinFileSystems(); len(o.promote) > 0 {
			return Run(ctx, path, o) // once more: now it is known which files matter
		}
	}
	s.readVersionFiles()
	s.settleParts()
	s.judgeRoot(o.Formats)
	s.judgeManifests()
	if err := s.prove(ctx, o); err != nil {
		return nil, err
	}
	s.collectProblems()
	return s, nil
}

// walk opens the package, and makes an item of everything in it.
func walk(ctx context.Context, path string, o Options) (*Survey, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, &archive.OpenError{Path: path, Err: err}
	}
	if info.IsDir() && len(o.Expect) > 0 {
		return nil, &archive.OpenError{Path: path, Err: errors.New("a folder has no digest to compare; give the downloaded file")}
	}
	c := &collector{options: o, digests: newWanted(o), seen: o.Seen, across: o.Seen != nil && !o.Quick}
	if c.seen == nil {
		c.seen = NewSeen()
	}
	c.view = view{o.Deep, o.Contents, o.Texts, o.Undigested, c.names(), o.Formats, o.Limits}
	if !o.apart {
		c.options.Formats = o.Formats.Knowing(c.seen.partsOf(c.view))
	}
	var visitor archive.Visitor = c
	if o.apart {
		visitor = struct{ archive.Visitor }{c}
	}
	if err := archive.WalkShown(ctx, path, o.Limits, visitor, o.Progress); err != nil {
		return nil, err
	}
	if c.err != nil {
		return nil, c.err
	}
	s := &Survey{Path: path, Name: archive.NameOf(path), Folder: info.IsDir(), Items: c.items, Problems: c.reports, limits: o.Limits}
	slices.SortFunc(s.Items, func(a, b *Item) int {
		if a.Before(b.Item) {
			return -1
		}
		return 1
	})
	s.byAddress = make(map[string]*Item, len(s.Items))
	for _, it := range s.Items {
		if s.byAddress[it.Address] == nil {
			s.byAddress[it.Address] = it
		}
	}
	return s, nil
}

// whole tells of the package as one file: its size, its digests, what is published of it.
func (s *Survey) whole(o Options) {
	root := s.Root()
	if root == nil || s.Folder {
		for _, it := range s.Items {
			if it.Depth == 0 {
				s.Size += it.Size
			}
		}
		return
	}
	s.Size, s.Digests = root.Size, root.Digests
	for _, e := range o.Expect {
		root.Published = append(root.Published, Published{Sum: e.Sum, Source: e.Source})
	}
	s.readBeside(root)
}

// readVersionFiles reads those items by which a system says what it is.
func (s *Survey) readVersionFiles() {
	for _, it := range s.Items {
		if it.text != nil && image.IsVersionFile(it.Name) {
			it.Versions = image.VersionFacts(it.Name, it.text.data, fact.Source{Kind: fact.Content, File: it.Address})
		}
	}
}

// judgeManifests tells what no manifest lists, and of a manifest that is missing.
func (s *Survey) judgeManifests() {
	for _, it := range s.Unlisted() {
		it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: archive.Note, What: "no manifest of the package lists it"})
	}
	if e := s.Entry; e != nil && e.Manifest != nil && len(s.Manifests) == 0 && !s.Broken() {
		s.problem(s.Name, archive.Problem{Item: s.Name, Class: Absent,
			What: fmt.Sprintf("the rulebook expects a manifest (%s), and there is none", e.Manifest.Item.Pattern), Advice: "download the whole package again"})
	}
}

// prove computes what digests are asked for by now, verifies signatures, and holds what is published
// against the content.
func (s *Survey) prove(ctx context.Context, o Options) error {
	if !o.Quick {
		if err := s.lateDigests(ctx, o); err != nil {
			return err
		}
		if root := s.Root(); root != nil && !s.Folder {
			s.Digests = root.Digests
		}
	}
	if err := s.verify(ctx, o); err != nil {
		return err
	}
	s.comparePublished()
	return nil
}

// collectProblems makes the list of all that is wrong, in order.
func (s *Survey) collectProblems() {
	if len(s.Items) == 0 && len(s.Problems) == 0 {
		s.problem(s.Name, archive.Problem{Item: s.Name, Class: Absent, What: "there is nothing in it", Advice: "look whether this is the right folder"})
	}
	for _, it := range s.Items {
		for _, p := range it.Problems {
			if !it.inner() || p.Class != archive.Damaged && p.Class != archive.Unreadable { // those are told of the image around it
				s.Problems = append(s.Problems, p)
			}
		}
	}
	slices.SortStableFunc(s.Problems, func(a, b archive.Problem) int {
		return cmp.Or(natural.Compare(a.Item, b.Item), cmp.Compare(a.What, b.What))
	})
}

// judgeRoot says so when the download itself is nothing that could be
// installed.
func (s *Survey) judgeRoot(formats *image.Set) {
	root := s.Root()
	if root == nil {
		s.judgeFiles(formats)
		return
	}
	if root.Container != archive.None || root.Firmware() || len(root.Damage()) > 0 {
		return
	}
	add := func(c archive.Class, what, advice string) {
		root.Problems = append(root.Problems, archive.Problem{Item: root.Address, Class: c, What: what, Advice: advice})
	}
	if said, ok := noDownloads[root.Kind]; ok {
		add(archive.Damaged, NotFirmware+said.what, said.advice)
		return
	}
	switch root.Kind {
	case "unknown":
		what := "of no format that fitcheck knows"
		if root.Nature != "" {
			what += "; " + root.Nature
		}
		add(archive.Unreadable, what, "check it against a digest that the maker published (-digest sha256:…)")
	default:
		if f := root.format; f != nil && !slices.Contains(archive.Containers(), archive.Container(f.Name)) {
			add(archive.Damaged, NotFirmware+"it is "+article(f.Title), downloadAgain)
		}
	}
}

func article(noun string) string {
	if strings.HasPrefix(noun, "text") {
		return noun
	}
	if strings.ContainsRune("AEIOUHX", rune(noun[0])) && noun[0] != 'U' && noun[:2] != "HT" || strings.HasPrefix(noun, "XML") || strings.HasPrefix(noun, "HTML") {
		return "an " + noun
	}
	return "a " + noun
}

// comparePublished holds each published digest against the item's own.
func (s *Survey) comparePublished() {
	for _, it := range s.Items {
		for i := range it.Published {
			p := &it.Published[i]
			if p.Got = it.Digests.Of(p.Sum.Algorithm); p.Wrong() {
				it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: Mismatch,
					What:   fmt.Sprintf("its %s is not the published one: %s says %s, the content gives %s", p.Sum.Algorithm, p.Source.Where(), p.Sum.Hex, p.Got),
					Advice: "download the package again; if it stays so, ask the maker"})
			}
		}
	}
}

// Mismatch is the class of items that differ from a published digest or size.
const Mismatch archive.Class = "mismatch"

// collector takes the items while the package is walked.
type collector struct {
	options Options
	digests *wanted
	seen    *Seen
	across  bool // other packages are surveyed, too
	view    view

	mu      sync.Mutex
	items   []*Item
	led     map[*archive.Item][]*Item // at and below an item that others may equal
	reports []archive.Problem
	kept    int64
	err     error
}

func (c *collector) Report(p archive.Problem) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.reports = append(c.reports, p)
}

func (c *collector) Begin(a *archive.Item, head []byte) archive.Sink {
	s := &sink{c: c, it: &Item{Item: a, coverage: &coverage{}}}
	s.reading = image.Begin(c.options.Formats, head, a.Size, a.Container != archive.None)
	s.sums = digest.NewMulti(c.digests.of(a, s.reading.Kind())...)
	if !c.options.Quick {
		s.reading.Opened()
	}
	if a.Container == archive.None && content.Knows(s.reading.Kind()) {
		s.reading.Listed()
		s.files()
	}
	s.it.sniffed, s.it.listed = s.reading.Kind(), manifest.IsSums(head) || bytes.HasPrefix(head, []byte("-----BEGIN PGP SIGNED"))
	if a.Container == archive.None && c.wantsText(a, s.it.sniffed, s.it.listed) {
		s.it.text = &textBuffer{}
	}
	return s
}

// wantsText tells whether the text of an item may be needed once the package is
// known: a manifest, a checksum list. listed says that by its first bytes it is a list of digests,
// or a signed text.
func (c *collector) wantsText(a *archive.Item, kind string, listed bool) bool {
	if c.namesText(globPath(a.Address)) {
		return true
	}
	if kind == "text" && c.options.Texts || kind == "json" || kind == "xml" || kind == "yaml" || kind == "text" && manifestName.MatchString(a.Name) {
		return a.Size >= 0 && a.Size <= maxGuessed
	}
	return kind == "pem" && listed || kind == "text" && (listed || image.IsVersionFile(a.Name))
}

// namesText tells whether a rulebook names a file as a manifest, a list of checksums or a signature.
func (c *collector) namesText(path string) bool {
	for _, rb := range c.options.Rulebooks {
		for _, p := range rb.Packages {
			if p.Manifest != nil && p.Manifest.Item.Match(path) || p.Checksums.Set() && p.Checksums.Match(path) || p.Signature != nil && p.Signature.Item.Set() && p.Signature.Item.Match(path) {
				return true
			}
		}
	}
	return false
}

// manifestName is what texts are named that may be manifests without a
// rulebook that says so.
var manifestName = regexp.MustCompile(`(?i)manifest|contents|filelist|packing|release\.(?:csv|ini|yaml|yml)$`)

// maxGuessed is how large such a text may be.
const maxGuessed = 1 << 20

// globPath is an address as globs see it: levels joined by "/".
func globPath(address string) string { return strings.ReplaceAll(address, "::", "/") }

// sink takes the content of one item.
type sink struct {
	c       *collector
	it      *Item
	sums    *digest.Multi
	reading *image.Reading
	once    sync.Once // it.Contents
	members []archive.Member
}

// Skip implements archive.Skipper.
func (s *sink) Skip() bool { return s.c.options.Quick && s.it.text == nil }

// Sum implements archive.Summer.
func (s *sink) Sum() string { return s.it.Digests.Of(digest.SHA256) }

// Keep implements archive.Keeper.
func (s *sink) Keep() bool { return s.reading.Keep() || s.deep() }

// deep tells whether the item is looked through at every offset: what is
// opened as an archive or plainly no firmware is not.
func (s *sink) deep() bool {
	f := s.c.options.Formats.ByName(s.reading.Kind())
	return s.c.options.Deep && s.it.Container == archive.None && (f == nil || f.Firmware && !s.it.inner())
}

func (s *sink) Write(p []byte) (int, error) {
	s.sums.Write(p)
	s.reading.Write(p)
	if t := s.it.text; t != nil {
		t.add(s.it.Address, p, s.c)
	}
	return len(p), nil
}

func (s *sink) End(c *archive.Content, problems []archive.Problem) error {
	it := s.it
	kind, m, err := s.reading.End(c)
	if err != nil {
		return err
	}
	it.settle(c, kind, m, s.sums.Sums(), problems)
	it.suffix(s.c.options.Formats)
	if len(problems) > 0 && kind == "empty" {
		it.Kind = "unknown"
	}
	if it.format = s.c.options.Formats.ByName(kind); kind == "unknown" {
		it.Nature = s.reading.Nature()
	}
	if s.deep() && c.Readable() && c.Size() > 0 {
		if it.Map, err = image.Scan(s.c.options.Formats, c, m); err != nil {
			return err
		}
	}
	if m != nil {
		it.tell(m)
	}
	if err := s.within(c, m); err != nil {
		return err
	}
	if t := it.text; t != nil && kind == "text" && manifest.IsSums(t.data) {
		s.c.digests.learn(t.data)
	}
	s.c.mu.Lock()
	defer s.c.mu.Unlock()
	s.c.take(it)
	return nil
}

// settle takes over what was seen while the item passed.
func (it *Item) settle(c *archive.Content, kind string, m *image.Image, sums digest.Set, problems []archive.Problem) {
	it.Quick, it.Unread = c.Skipped() && !c.Unread(), c.Unread()
	it.Kind, it.Size, it.Digests, it.Problems, it.Image = kind, c.Size(), sums, problems, m
	if c.Unsized() {
		it.Size = 0
	}
	if it.Unread {
		it.Kind, it.Digests, it.text = "unknown", nil, nil
	}
	if it.Container == archive.Shell {
		it.Kind = "text"
	}
	if it.Contents != nil {
		it.Contents.Settle()
		it.Contents.Partial = slices.ContainsFunc(problems, func(p archive.Problem) bool { return p.Class == archive.Damaged || p.Class == archive.Unreadable })
		if it.Quick || it.Unread || it.Contents.Partial && it.Contents.Empty() {
			it.Contents = nil // nothing could be listed
		}
	}
}

// tell takes over what the header says, and what is wrong with the image.
func (it *Item) tell(m *image.Image) {
	m.Forget()
	add := func(class archive.Class, all []string, advice string) {
		for _, what := range all {
			it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: class, What: what, Advice: advice})
		}
	}
	add(archive.Damaged, m.Damaged(), "download the package again, and compare its digest with the published one")
	add(archive.Unreadable, m.AllUnread(), "check it against a digest that the maker published (-digest sha256:…)")
	add(archive.Note, m.AllNotes(), "")
	it.Witnesses = append(it.Witnesses, fact.Witness{Kind: fact.Header, Name: m.Format, Claims: m.Claims()})
}

// within lists what is opened of the item as the members of an archive are: the parts of its image, and
// what the deep scan found.
func (s *sink) within(c *archive.Content, m *image.Image) (err error) {
	if s.members, err = s.c.options.Formats.Members(m, c); err != nil {
		return err
	}
	from := int64(1) // what it begins with is itself
	if len(s.members) > 0 {
		from = max(from, m.Extent) // what lies within is opened already
	}
	for _, r := range s.it.Map {
		if r.Image != nil && r.From >= from || r.Image != nil && r.From == 0 && r.To < c.Size() && m == nil {
			s.members = append(s.members, archive.Member{Name: fmt.Sprintf("%s at 0x%x", r.Kind, r.From), At: io.NewSectionReader(c, r.From, r.To-r.From), Size: r.To - r.From})
		}
	}
	return nil
}

// maxTexts bounds the texts that are kept until the package is known.
const maxTexts = 64 << 20

// textBuffer keeps the text of a manifest or checksum list.
type textBuffer struct{ data []byte }

func (t *textBuffer) add(address string, p []byte, c *collector) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kept += int64(len(p))
	if c.kept > max(maxTexts, 4*c.options.Limits.Text) || int64(len(t.data)+len(p)) > c.options.Limits.Text {
		if c.err == nil {
			c.err = &archive.BoundError{Item: address, Bound: archive.BoundText, Limit: c.options.Limits.Text}
		}
		return
	}
	t.data = append(t.data, p...)
}

// Component is what the item is for, by the first source that says it: a
// manifest, the rulebook's items, the header.
func (it *Item) Component() string {
	for _, kind := range []fact.Kind{fact.Rulebook, fact.Manifest, fact.FileName, fact.Header} {
		if w, ok := it.Witness(kind); ok {
			if f := w.About(fact.Component); len(f) > 0 {
				return f[0].Value
			}
		}
	}
	return ""
}
