package survey

import (
	"context"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/manifest"
	"fitcheck/core/rulebook"
	"fitcheck/core/sign"
)

// describe finds the rulebook's entry for the package and reads manifests,
// checksum lists, names and titles by it.
func (s *Survey) describe(rulebooks []*rulebook.Rulebook) {
	s.choose(rulebooks)
	s.byDigest(rulebooks)
	if e := s.Entry; e != nil {
		s.readName()
		s.readManifests()
		s.markRoles()
		s.applyItemRules()
	}
	if s.Entry == nil || s.Entry.Manifest == nil {
		s.guessManifests()
	}
	s.readSums()
}

// plain is the text of an item, without the armour of a clear signature.
func (it *Item) plain() []byte {
	if clear := sign.ClearText(it.text.data); clear != nil {
		return clear
	}
	return it.text.data
}

// guessManifests reads what is plainly a manifest without a rulebook that
// describes it: a document whose records, by their own keys, name files of
// the package.
func (s *Survey) guessManifests() {
	for _, it := range s.Items {
		if it.text == nil || it.Role != "" {
			continue
		}
		m, form, ok := manifest.Guess(it.Address, it.Kind, it.plain(), s.limits)
		if !ok || !slices.ContainsFunc(m.Records, func(r manifest.Record) bool { return s.resolve(it.Address, r.File) != nil }) {
			continue
		}
		if m.Refused != nil {
			s.refused = m.Refused
			return
		}
		it.Role = "manifest"
		s.Notes = append(s.Notes, fmt.Sprintf("no rulebook describes the manifest %s; it is read as %s by its own keys", it.Address, strings.ToUpper(form)))
		s.Manifests = append(s.Manifests, m)
		s.join(m)
	}
}

// choose picks the entry whose file pattern reads the package's name; else the
// only one whose manifest is found inside.
func (s *Survey) choose(rulebooks []*rulebook.Rulebook) {
	for _, rb := range rulebooks {
		for i := range rb.Packages {
			if p := &rb.Packages[i]; p.File.Set() && p.File.MatchString(s.Name) {
				s.Rulebook, s.Entry = rb, p
				return
			}
		}
	}
	type found struct {
		rb *rulebook.Rulebook
		p  *rulebook.Package
	}
	var all []found
	for _, rb := range rulebooks {
		for i := range rb.Packages {
			if p := &rb.Packages[i]; p.Manifest != nil && len(s.matching(p.Manifest.Item.Match)) > 0 {
				all = append(all, found{rb, p})
			}
		}
	}
	switch {
	case len(all) == 1:
		s.Rulebook, s.Entry = all[0].rb, all[0].p
		s.Notes = append(s.Notes, fmt.Sprintf("no file pattern of a rulebook reads the name %s; it was recognised as %q by the manifest inside (%s)",
			s.Name, all[0].p.Title.Text, all[0].rb.Source(all[0].p.Spot).Where()))
	case len(all) > 1:
		s.Notes = append(s.Notes, fmt.Sprintf("no file pattern of a rulebook reads the name %s, and the manifest inside suits %d entries, so none is used", s.Name, len(all)))
	case len(rulebooks) > 0:
		s.Notes = append(s.Notes, "no rulebook of the kit describes it (packages:)")
	}
}

// byDigest finds images that a rulebook knows by their digest.
func (s *Survey) byDigest(rulebooks []*rulebook.Rulebook) {
	for _, rb := range rulebooks {
		for i := range rb.ByDigest {
			b := &rb.ByDigest[i]
			for _, it := range s.Items {
				if sum := b.Sum(); it.Digests.Of(digest.SHA256) == sum.Hex {
					src := rb.Source(b.Spot)
					it.publish(Published{Sum: sum, Source: src, Got: sum.Hex})
					it.Witnesses = append(it.Witnesses, fact.Witness{Kind: fact.Rulebook, Name: src.Where(), Claims: []fact.Claim{b.Claim(rb)}})
				}
			}
		}
	}
}

// matching lists the items whose address a glob matches.
func (s *Survey) matching(match func(string) bool) []*Item {
	var out []*Item
	for _, it := range s.Items {
		if match(globPath(it.Address)) {
			out = append(out, it)
		}
	}
	return out
}

// readName takes facts out of the package's own name.
func (s *Survey) readName() {
	re := s.Entry.File.Regexp
	if re == nil {
		return
	}
	for _, g := range named(re, s.Name) {
		src := fact.Source{Kind: fact.FileName, File: s.Name}
		name, text := s.Entry.Meaning(g.name, g.text)
		s.NameClaim = append(s.NameClaim, facts(name, text, src)...)
	}
	if f := s.Entry.StandsFor; f != nil && f.Family.Set() {
		src := fact.Source{Kind: fact.FileName, File: s.Name, Via: s.Rulebook.Source(f.Family.Spot).Origin()}
		s.NameClaim = append(s.NameClaim, fact.Fact{About: fact.Family, Value: f.Family.Text, Source: src})
	}
	for i, f := range s.NameClaim {
		if f.About == fact.Version {
			s.NameClaim[i] = s.expand(f)
		}
	}
}

// expand resolves a version that a name writes compactly, against the known
// releases only.
func (s *Survey) expand(f fact.Fact) fact.Fact {
	scheme := s.Rulebook.Scheme("main")
	if _, err := scheme.Parse(f.Value); err == nil {
		return f
	}
	switch known := scheme.Expand(f.Value, s.Rulebook.Known()); len(known) {
	case 0:
	case 1:
		s.Notes = append(s.Notes, fmt.Sprintf("the name's %q stands for the known release %s", f.Value, known[0]))
		f.Value = known[0]
	default:
		s.Notes = append(s.Notes, fmt.Sprintf("the name's %q could stand for %s", f.Value, strings.Join(known, " or ")))
		f.Value, f.Open = strings.Join(known, "|"), true
	}
	return f
}

type group struct {
	name, text string
	at         int
}

// named lists the named groups of a match with their texts and places.
func named(re *regexp.Regexp, text string) []group {
	m := re.FindStringSubmatchIndex(text)
	if m == nil {
		return nil
	}
	var out []group
	for i, name := range re.SubexpNames() {
		if name != "" && m[2*i] >= 0 && m[2*i+1] > m[2*i] {
			out = append(out, group{name, text[m[2*i]:m[2*i+1]], m[2*i]})
		}
	}
	return out
}

func facts(group, text string, src fact.Source) []fact.Fact {
	about, list, ok := fact.Lookup(group)
	if !ok {
		return nil
	}
	values := []string{text}
	if list {
		values = fact.Split(about, text)
	}
	var out []fact.Fact
	for _, v := range values {
		out = append(out, fact.Fact{About: about, Value: strings.TrimSpace(v), Source: src})
	}
	return out
}

func (s *Survey) readManifests() {
	rule := s.Entry.Manifest
	if rule == nil {
		return
	}
	items := s.matching(rule.Item.Match)
	for _, it := range items {
		it.Role = "manifest"
		if it.text == nil {
			continue
		}
		m := rule.Read(it.Address, it.plain(), s.limits)
		if m.Refused != nil {
			s.refused = m.Refused
			return
		}
		s.Manifests = append(s.Manifests, m)
		it.addProblems(m.Problems)
		s.join(m)
	}
}

// UnreadLine is the class of lines of a manifest or list that nothing reads.
const UnreadLine archive.Class = "unread line"

func (it *Item) addProblems(all []manifest.Problem) {
	for _, p := range all {
		it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: UnreadLine, What: fmt.Sprintf("line %d: %s", p.Line, p.What), Advice: p.Advice})
	}
}

// join hands what a manifest says to the items it names.
func (s *Survey) join(m *manifest.Manifest) {
	claims := map[*Item][]fact.Claim{}
	var order []*Item
	missing := 0
	for _, r := range m.Records {
		src := fact.Source{Kind: fact.Manifest, File: m.Address, Line: r.Line}
		it := s.resolve(m.Address, r.File)
		if it == nil {
			s.Missing = append(s.Missing, Missing{r.File, src, r.Claim})
			s.absent = append(s.absent, absent{m.Address, r.File})
			if missing++; missing <= manifest.MaxTold {
				s.problem(m.Address, archive.Problem{Item: m.Address, Class: Absent,
					What: fmt.Sprintf("line %d lists %s, which is not in the package", r.Line, r.File), Advice: "download the package again, or get the missing file"})
			}
			continue
		}
		if claims[it] == nil {
			order = append(order, it)
		}
		claims[it] = append(claims[it], r.Claim)
		for _, sum := range r.Digests {
			it.publish(Published{Sum: sum, Source: src})
		}
		if r.Size >= 0 && r.Size != it.Size {
			it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: Mismatch,
				What: fmt.Sprintf("it has %d bytes, and %s says %d", it.Size, src.Where(), r.Size), Advice: "download the package again"})
		}
	}
	s.moreAbsent(m.Address, missing)
	for _, it := range order {
		it.Witnesses = append(it.Witnesses, fact.Witness{Kind: fact.Manifest, Name: m.Address, Claims: claims[it]})
	}
}

// Unlisted lists what might be firmware and is in no manifest, where the
// archive it lies in, or one around that, has one. What lies inside a listed
// item came with that.
func (s *Survey) Unlisted() []*Item {
	listed := func(it *Item) bool {
		_, ok := it.Witness(fact.Manifest)
		return ok
	}
	var out []*Item
	for _, it := range s.Items {
		spoken := slices.ContainsFunc(s.Manifests, func(m *manifest.Manifest) bool {
			scope := m.Address[:max(0, strings.LastIndex(m.Address, "::"))]
			return strings.HasPrefix(it.Address, scope+"::")
		})
		if !spoken || it.Role != "" || it.inner() || listed(it) || !it.Firmware() && it.Kind != "unknown" || slices.ContainsFunc(s.Around(it), listed) {
			continue
		}
		out = append(out, it)
	}
	return out
}

// moreAbsent counts the files that a list names and the package does not hold, beyond
// those that were told one by one.
func (s *Survey) moreAbsent(list string, n int) {
	if n -= manifest.MaxTold; n > 0 {
		s.problem(list, archive.Problem{Item: list, Class: Absent, What: fmt.Sprintf("and %d more files that it lists are not in the package", n), Advice: "download the package again, or get the missing files"})
	}
}

// Absent is the class of files that are listed and not there.
const Absent archive.Class = "absent"

func (s *Survey) problem(address string, p archive.Problem) {
	if it := s.Find(address); it != nil {
		it.Problems = append(it.Problems, p)
		return
	}
	s.Problems = append(s.Problems, p)
}

// resolve finds the item that a list means by a file name: relative to the
// list's folder, else to the root of the archive it lies in, else to the root
// of the package; else in the one archive that holds such a file, of those that
// lie beside the list or beside the archive it lies in, as where one archive of
// a package holds the lists and another the files.
func (s *Survey) resolve(list, file string) *Item {
	level, name := "", list
	if i := strings.LastIndex(list, "::"); i >= 0 {
		level, name = list[:i], list[i+2:]
	}
	file = strings.ReplaceAll(file, `\`, "/")
	for _, base := range []string{path.Dir(name), "."} {
		p := path.Join(base, file)
		if p == ".." || strings.HasPrefix(p, "../") || path.IsAbs(p) {
			continue
		}
		for _, l := range []string{level, s.Name} {
			if it := s.inside(l, p); it != nil {
				return it
			}
		}
		var found *Item
		for _, l := range s.neighbours(level) {
			if it := s.inside(l, p); it != nil {
				if found != nil {
					return nil // nobody says which is meant
				}
				found = it
			}
		}
		if found != nil {
			return found
		}
	}
	return nil
}

// neighbours lists the archives that lie in one, and those that lie beside it.
func (s *Survey) neighbours(level string) []string {
	if s.beside == nil {
		s.beside = map[string][]string{}
		for _, it := range s.Items {
			if it.Container == archive.None && it.Contents == nil {
				continue
			}
			around := ""
			if i := strings.LastIndex(it.Address, "::"); i >= 0 {
				around = it.Address[:i]
			}
			s.beside[around] = append(s.beside[around], it.Address)
		}
	}
	out := s.beside[level]
	if i := strings.LastIndex(level, "::"); i >= 0 {
		for _, l := range s.beside[level[:i]] {
			if l != level {
				out = append(slices.Clip(out), l)
			}
		}
	}
	return out[:min(len(out), maxNeighbours)]
}

// maxNeighbours is how many archives a list may speak of.
const maxNeighbours = 32

// inside finds an item by its path below a level; names that are written
// with a leading "./" are the same.
func (s *Survey) inside(level, p string) *Item {
	for _, prefix := range []string{"", "./"} {
		address := prefix + p
		if level != "" {
			address = level + "::" + prefix + p
		}
		if it := s.Find(address); it != nil {
			return it
		}
	}
	return nil
}

// markRoles tells signatures and notes, as the rulebook names them.
func (s *Survey) markRoles() {
	if rule := s.Entry.Signature; rule != nil && rule.Item.Set() {
		for _, it := range s.matching(rule.Item.Match) {
			if it.Role == "" {
				it.Role = "signature"
			}
		}
	}
	for _, g := range s.Entry.Notes {
		for _, it := range s.matching(g.Match) {
			if it.Role == "" {
				it.Role = "notes"
			}
		}
	}
}

// applyItemRules takes the component from an item's name and reads the
// header's own title, as the rulebook says.
func (s *Survey) applyItemRules() {
	for i, it := range s.Items {
		if rule := s.ruleFor(it); rule != nil {
			if rule.Component.Set() {
				src := fact.Source{Kind: fact.FileName, File: it.Address}
				it.Witnesses = append(it.Witnesses, fact.Witness{Kind: fact.FileName, Name: it.Name,
					Claims: []fact.Claim{{{About: fact.Component, Value: rule.Component.Text, Source: src}}}})
			}
			it.readTitle(s.Entry, rule.Title.Regexp)
			s.readTitlesIn(i, rule.Title.Regexp)
			s.readVersion(it, rule.VersionFrom.Text)
		}
	}
}

// readTitlesIn reads the titles of the images that the item at a place packs, where it is no image itself and no rule of
// their own says how.
func (s *Survey) readTitlesIn(at int, re *regexp.Regexp) {
	it := s.Items[at]
	if re == nil || it.Container == archive.None || it.Firmware() {
		return
	}
	for _, in := range s.Items[at+1:] {
		if !strings.HasPrefix(in.Address, it.Address+"::") {
			return
		}
		if !in.Within && in.Image != nil && s.ruleFor(in) == nil {
			in.readTitle(s.Entry, re)
		}
	}
}

// ruleFor is the first rule of the package that matches an item; nil for none.
func (s *Survey) ruleFor(it *Item) *rulebook.ItemRule {
	path := globPath(it.Address)
	for i := range s.Entry.Items {
		if rule := &s.Entry.Items[i]; rule.Match.Match(path) {
			return rule
		}
	}
	return nil
}

// readVersion takes the version of an item from what lies inside it: from the release of
// its kernel, or from the os-release of its root file system.
func (s *Survey) readVersion(it *Item, from string) {
	var version func(f fact.Fact) string
	switch from {
	case "kernel":
		version = func(f fact.Fact) string {
			if f.About == image.Linux {
				return f.Value
			}
			return ""
		}
	case "os-release":
		version = func(f fact.Fact) string {
			if text, ok := strings.CutPrefix(f.Value, "VERSION_ID="); ok && f.About == image.OSRelease {
				return text
			}
			return ""
		}
	default:
		return
	}
	var inside []fact.Fact
	for _, o := range s.Items {
		if o == it || strings.HasPrefix(o.Address, it.Address+"::") {
			if o.Image != nil {
				inside = append(inside, o.Image.All()...)
			}
			if o.Contents != nil {
				inside = append(inside, o.Contents.Facts...)
			}
		}
	}
	for _, f := range inside {
		v := version(f)
		if v == "" {
			continue
		}
		f.About, f.Value, f.Payload = fact.Version, v, true
		for i, w := range it.Witnesses {
			if w.Kind == fact.Header {
				for k, c := range w.Claims {
					it.Witnesses[i].Claims[k] = append(slices.Clip(c), f)
				}
				return
			}
		}
		it.Witnesses = append(it.Witnesses, fact.Witness{Kind: fact.Header, Name: it.Kind, Claims: []fact.Claim{{f}}})
		return
	}
}

func (it *Item) readTitle(entry *rulebook.Package, re *regexp.Regexp) {
	if it.Image == nil || re == nil {
		return
	}
	if title, ok := it.Image.First(fact.Title); ok {
		it.takeTitle(entry, re, title)
	}
	for _, f := range it.Image.Started(nil) {
		if f.About == fact.Title {
			it.takeTitle(entry, re, f)
		}
	}
}

// takeTitle adds what a title says to the claims of the header.
func (it *Item) takeTitle(entry *rulebook.Package, re *regexp.Regexp, title fact.Fact) {
	for i, w := range it.Witnesses {
		if w.Kind != fact.Header {
			continue
		}
		for _, g := range named(re, title.Value) {
			src := title.Source
			src.Offset, src.Size = src.Offset+int64(g.at), int64(len(g.text))
			name, text := entry.Meaning(g.name, g.text)
			for _, f := range facts(name, text, src) {
				f.Protected, f.Payload = title.Protected, title.Payload
				for k, c := range w.Claims {
					it.Witnesses[i].Claims[k] = append(slices.Clip(c), f)
				}
			}
		}
	}
}

// readSums reads the checksum lists: those that the rulebook names, and every
// text that plainly is one.
func (s *Survey) readSums() {
	for _, it := range s.Items {
		if it.text == nil || it.Role == "manifest" {
			continue
		}
		named := s.Entry != nil && s.Entry.Checksums.Set() && s.Entry.Checksums.Match(globPath(it.Address))
		if !named && !((it.Kind == "text" || it.Kind == "pem") && manifest.IsSums(it.plain())) {
			continue
		}
		it.Role = "checksums"
		list := manifest.ReadSums(it.Address, it.plain())
		s.Sums = append(s.Sums, list)
		it.addProblems(list.Problems)
		missing := 0
		for _, e := range list.Entries {
			src := fact.Source{Kind: fact.Checksums, File: it.Address, Line: e.Line}
			if target := s.resolve(it.Address, e.File); target != nil {
				target.publish(Published{Sum: e.Sum, Source: src})
				continue
			}
			s.absent = append(s.absent, absent{it.Address, e.File})
			if missing++; missing <= manifest.MaxTold {
				it.Problems = append(it.Problems, archive.Problem{Item: it.Address, Class: Absent,
					What: fmt.Sprintf("line %d lists %s, which is not in the package", e.Line, e.File), Advice: "download the package again, or get the missing file"})
			}
		}
		s.moreAbsent(it.Address, missing)
	}
}

// lateDigests computes digests that a list asks for and the first pass did
// not yield, because nobody could know then.
func (s *Survey) lateDigests(ctx context.Context, o Options) error {
	need := map[string][]digest.Algorithm{}
	for _, it := range s.Items {
		for _, p := range it.Published {
			if it.Digests.Of(p.Sum.Algorithm) == "" && !slices.Contains(need[it.Address], p.Sum.Algorithm) {
				need[it.Address] = append(need[it.Address], p.Sum.Algorithm)
			}
		}
	}
	if len(need) == 0 {
		return nil
	}
	return archive.Walk(ctx, s.Path, o.Limits, &lateHashes{s: s, need: need})
}

// lateHashes visits the package again for the sake of some digests.
type lateHashes struct {
	mu   sync.Mutex
	s    *Survey
	need map[string][]digest.Algorithm
}

func (l *lateHashes) Report(archive.Problem) {}

func (l *lateHashes) Begin(a *archive.Item, _ []byte) archive.Sink {
	want := l.need[a.Address]
	if len(want) == 0 {
		return nothing{}
	}
	return &lateSink{digest.NewMulti(want...), l, l.s.Find(a.Address)}
}

type nothing struct{}

func (nothing) Write(p []byte) (int, error)                   { return len(p), nil }
func (nothing) End(*archive.Content, []archive.Problem) error { return nil }

type lateSink struct {
	*digest.Multi
	all *lateHashes
	it  *Item
}

func (l *lateSink) End(*archive.Content, []archive.Problem) error {
	l.all.mu.Lock()
	defer l.all.mu.Unlock()
	l.it.Digests = append(l.it.Digests, l.Sums()...)
	return nil
}
