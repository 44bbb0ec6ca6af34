package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"fitcheck/core/notes"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// What release notes say of the way from release to release is read sentence by sentence. Each
// becomes at most a few lines of the rulebook, which ask whether that is what it says.

// moves reads tables and notes.
func (d *Draft) moves(in Input) {
	d.Moves = Moves{Upward: "open", Downward: "closed",
		UpGuess:   Guess{"may every older release go straight to a newer one, where no rule and no need says otherwise?", ""},
		DownGuess: Guess{"is going back to an older release forbidden, where no rule allows it?", ""}}
	if len(in.Tables) > 0 {
		d.tables(in.Tables)
	}
	rb := d.rules()
	if rb == nil {
		return
	}
	for _, n := range d.documents(in) {
		key := d.source(n.Name, n.title())
		t := &told{d: d, rb: rb, note: n, key: key, release: d.about(rb, n)}
		for _, s := range n.Document.Sentences() {
			if s.Heading && !t.heading(s) {
				continue
			}
			t.sentence(s)
		}
	}
	// What forbids comes first, then what resets the settings, then the rest.
	rank := func(l Line) int {
		switch {
		case strings.Contains(l.Text, "allow: false"):
			return 0
		case strings.Contains(l.Text, "resets_config: true"):
			return 1
		}
		return 2
	}
	slices.SortStableFunc(d.Moves.Rules, func(a, b Line) int { return rank(a) - rank(b) })
}

// tables takes the rules of makers' tables.
func (d *Draft) tables(all []Text) {
	for _, t := range all {
		tables, err := ReadTables(t.Name, t.Data)
		if err != nil {
			d.Notes = append(d.Notes, fmt.Sprintf("%s does not read as a table", t.Name))
			continue
		}
		key := d.source(t.Name, path.Base(t.Name))
		im, err := Import(t.Name, key, tables, d.fitVersion)
		if err != nil {
			d.Notes = append(d.Notes, fmt.Sprintf("%s: %v", t.Name, err))
			continue
		}
		for _, r := range im.Rules {
			text, from, _ := strings.Cut(r, "   # ")
			if m := ranges.FindStringSubmatch(text); m != nil && !d.reads("main", unquote(m[1]), unquote(m[2])) {
				add(&d.Notes, fmt.Sprintf("%s names versions that the pattern does not read, and is left out", from))
				continue
			}
			d.Moves.Rules = append(d.Moves.Rules, Line{text, Guess{"is this what the table says?", from}})
		}
		d.Notes = append(d.Notes, im.Notes...)
		d.Moves.Upward, d.Moves.UpGuess = "listed", Guess{"does the table name every move that is allowed?", t.Name}
	}
}

var ranges = pattern.New(`^- \{from: '((?:[^']|'')*)', to: '((?:[^']|'')*)'`)

func unquote(t string) string { return strings.ReplaceAll(t, "''", "'") }

// reads tells whether ranges read by the versions of a component.
func (d *Draft) reads(component string, ranges ...string) bool {
	return !slices.ContainsFunc(ranges, func(r string) bool {
		_, err := version.ParseRange(d.schemes[component], r)
		return r != "" && err != nil
	})
}

// fitVersion writes a version of a document as the line's own pattern reads it.
func (d *Draft) fitVersion(t string) string {
	s := d.schemes["main"]
	if _, err := s.Parse(t); err == nil {
		return t
	}
	for _, rel := range d.Releases {
		if squeezed(rel.Version) == squeezed(t) {
			return rel.Version
		}
	}
	return t
}

// documents are the notes that were given, and those in the packages, each text once.
func (d *Draft) documents(in Input) []Note {
	out := slices.Clone(in.Notes)
	seen := map[string]bool{}
	for _, p := range d.Packages {
		for _, r := range p.all {
			for _, it := range r.s.Items {
				if it.Text() == nil || it == r.list || it.Kind != "text" && it.Kind != "html" || !notes.Named(it.Name) || seen[string(it.Text())] {
					continue
				}
				seen[string(it.Text())] = true
				doc, err := notes.Read(it.Address, it.Text(), nil)
				if err == nil {
					out = append(out, Note{it.Address, doc})
				}
			}
		}
	}
	return out
}

// title is the first line of a document.
func (n Note) title() string {
	for _, l := range n.Document.Lines {
		if t := strings.TrimSpace(l.Text); t != "" {
			return clip(t, 80)
		}
	}
	return path.Base(n.Name)
}

func clip(t string, n int) string {
	if r := []rune(t); len(r) > n {
		return strings.TrimSpace(string(r[:n])) + "…"
	}
	return t
}

// source gives a document a key.
func (d *Draft) source(name, title string) string {
	base, _ := split(path.Base(name))
	key := strings.Trim(regexp.MustCompile(`[^A-Za-z0-9]+`).ReplaceAllString(base, "-"), "-")
	if key == "" || isDigit(key[0]) {
		key = "N" + key
	}
	for n := 2; slices.ContainsFunc(d.Sources, func(s [2]string) bool { return s[0] == key }); n++ {
		key = fmt.Sprintf("%s-%d", strings.TrimRight(key, "-0123456789"), n)
	}
	d.Sources = append(d.Sources, [2]string{key, title})
	return key
}

// about is the release that notes are about: the one that they name first, or the one of the
// package in which they lie.
func (d *Draft) about(rb *rulebook.Rulebook, n Note) *Release {
	find := func(text string) *Release {
		for _, v := range notes.Versions(rb, text) {
			if rel := d.release(v.Text); rel != nil {
				return rel
			}
		}
		return nil
	}
	for _, l := range n.Document.Lines[:min(8, len(n.Document.Lines))] {
		if rel := find(l.Text); rel != nil {
			return rel
		}
	}
	for _, p := range d.Packages {
		for _, r := range p.all {
			if strings.HasPrefix(n.Name, r.s.Name) {
				return d.release(or(r.main, r.inName))
			}
		}
	}
	for _, rel := range d.Releases {
		if findVersion(strings.TrimSuffix(path.Base(n.Name), path.Ext(n.Name)), rel.Version) != nil {
			return rel
		}
	}
	return nil
}

// release finds a release by its version: the very one, or the only one that differs in its
// build at most.
func (d *Draft) release(text string) *Release {
	s := d.schemes["main"]
	v, err := s.Parse(text)
	if err != nil {
		return nil
	}
	var alike []*Release
	for _, rel := range d.Releases {
		switch {
		case !rel.known:
		case s.Compare(rel.parsed, v) == 0:
			return rel
		case v.LeavesOpen() && s.Alike(rel.parsed, v):
			alike = append(alike, rel)
		}
	}
	if len(alike) == 1 {
		return alike[0]
	}
	return nil
}

// told is a document as it is gone through.
type told struct {
	d       *Draft
	rb      *rulebook.Rulebook
	note    Note
	key     string
	release *Release // that it is about
	where   string   // of the sentence
	line    int
	// open counts to the rule of the last sentence that forbids a move without naming a stop, in
	// line openLine; 0 for none.
	open, openLine int
	text           string
}

// heading takes the release that a section is about; true when the heading itself says something.
func (t *told) heading(s notes.Sentence) bool {
	var rel *Release
	n := 0
	for _, v := range notes.Versions(t.rb, s.Text) {
		if r := t.d.release(v.Text); r != nil {
			rel, n = r, n+1
		}
	}
	if n == 1 && len(strings.Fields(s.Text)) < 8 {
		t.release = rel
	}
	return released.MatchString(s.Text) || withdraws.MatchString(s.Text) || remedied.MatchString(s.Text) || asks.MatchString(s.Text) && strings.ContainsAny(s.Text, "0123456789")
}

var (
	asks       = pattern.New(`(?i)\b(?:requires?|required|needs?|needed|must|at least|minimum|prerequisites?|only|necessary|or later|or newer|or above|or higher|and later|and newer)\b|≥|>=`)
	forbids    = pattern.New(`(?i)\b(?:not (?:be )?(?:supported|possible|allowed|permitted|recommended|installed|upgraded|updated)|cannot|can not|can't|must not|may not|do not|don't|never|unsupported|impossible|forbidden|refused?|rejects?)\b`)
	permits    = pattern.New(`(?i)\b(?:supported|possible|allowed|permitted|can be|may be|can go|may go)\b`)
	brings     = pattern.New(`(?i)\b(?:includes?|contains?|brings?|ships? with|comes? with|bundled|updates? the|new in|fixed in|since)\b`)
	directly   = pattern.New(`(?i)\b(?:direct(?:ly)?|straight|in one step|at once)\b`)
	stops      = pattern.New(`(?i)\b(?:first|via|through|by way of|intermediate|in two steps|step by step|stop|before (?:this|that|it|going|installing|upgrading|updating|moving|(?:release |version )?\S*\d))\b`)
	stopBefore = pattern.New(`(?i)(?:\bvia|\bthrough|\bby way of|\bfirst (?:to|install|load)|\b(?:install|load|upgrade to|update to|upgraded to|updated to|go to|move to|moved to|pass|stop at|stop on|on|at|goes through))` + noun)
	stopAfter  = pattern.New(`(?i)^\s*(?:first\b|before\b|as an? intermediate|in between|must (?:first )?be (?:installed|passed|loaded|run)|has to be (?:installed|passed|loaded))`)
	fromBefore = pattern.New(`(?i)(?:\bfrom|\bon|\brunning|\bruns?|\bover|\bhave|\bhas|\bwith|\bof|\bstill at)(?:\s+(?:a|an|any|the))?` + noun)
	toBefore   = pattern.New(`(?i)(?:\bto|\bbefore|\breach(?:ing)?|\binto|\binstalling|\bfor)` + noun)
	goesBack   = pattern.New(`(?i)\b(?:down-?grad\w*|roll(?:ed|ing)? ?back|go(?:ing)? back|return(?:ing)? to)\b`)
	loses      = pattern.New(`(?i)\b(?:erase[sd]?|erasing|lose[s]?|lost|wipe[sd]?|discard(?:s|ed)?|delete[sd]?|reset[s]?|factory.default\w*|not (?:be )?(?:kept|preserved|retained|migrated))\b`)
	settings   = pattern.New(`(?i)\b(?:config\w*|settings?|database)\b`)
	keeps      = pattern.New(`(?i)\b(?:no|not|never|without)\b[^.;]{0,30}\b(?:erase\w*|los\w+|lost|wipe\w*|discard\w*|delete\w*|reset\w*)\b|\b(?:kept|preserved|retained|survive)\b`)
	notKept    = pattern.New(`(?i)\bnot (?:be )?(?:kept|preserved|retained)\b`)
	withdraws  = pattern.New(`(?i)\b(?:withdrawn|recalled|revoked|was pulled|has been pulled|do(?:es)? not use)\b`)
	dropped    = pattern.New(`(?i)\b(?:no longer (?:be )?support\w*|not supported|unsupported|end of (?:support|life)|discontinu\w+|drop(?:s|ped)? support|support\b.{1,60}\b(?:removed|dropped|withdrawn|ended|ends))\b`)
	released   = pattern.New(`(?i)\b(?:released?|date|published|issued|available since)\b`)
	sizes      = pattern.New(`(?i)\b(\d+(?:\.\d+)?) ?([kMG]i?B)\b`)
	minutes    = pattern.New(`(?i)\b(\d+)(?:\s*(?:-|–|to)\s*(\d+))?\s*min(?:utes?|\.)?\b`)
	outage     = pattern.New(`(?i)\b(?:outage|interrupt\w*|without service|service|traffic|down(?:time)?|offline|unavailable)\b`)
	takes      = pattern.New(`(?i)\b(?:takes?|lasts?|install\w*|upgrade|update|needs?|allow|outage|interrupt\w*|down(?:time)?|duration)\b`)
	remedied   = pattern.New(`(?i)\b(error|message|code)\s+["']?([A-Z]*-?\d+)["']?\s*(?::|,|-|–|means|–|shows)\s*(.+)$`)
	unpacks    = pattern.New(`(?i)\b(?:must|has to|is to|should) (?:first )?be (?:unpacked|extracted|unzipped)\b|^(?:please )?(?:unpack|extract|unzip)\b`)
	whole      = pattern.New(`(?i)\b(?:do not|don't|never|must not be|not to be)\b.{0,20}\b(?:unpack|extract|unzip|untar|decompress)\w*|\b(?:as (?:it was )?downloaded|in one piece|keep .{0,30}whole)\b`)
	afterwards = pattern.New(`(?i)^after (?:the )?(?:upgrade|update|install\w*|restart)[^,]*,?\s+(?:check|verify|make sure|ensure|see)\s+(?:that\s+)?(.+?)\.?$`)
)

// sentence reads one.
func (t *told) sentence(s notes.Sentence) {
	t.text, t.where, t.line = s.Text, whereLine(t.note.Name, s.Line), s.Line
	var main, others []*mention
	for _, m := range mentions(t.rb, t.d, s.Text) {
		if m.component != "" || m.companion != "" {
			others = append(others, m)
		} else {
			main = append(main, m)
		}
	}
	if withdraws.MatchString(s.Text) && t.withdrawn(main) {
		return
	}
	t.date()
	switch {
	case goesBack.MatchString(s.Text):
		t.back(main)
		return
	case whole.MatchString(s.Text):
		t.handling("whole")
	case unpacks.MatchString(s.Text):
		t.handling("unpacked")
	}
	if m := remedied.FindStringSubmatch(s.Text); m != nil {
		t.d.Moves.Remedies = append(t.d.Moves.Remedies, Line{fmt.Sprintf("- {shows: %s, do: %s, source: %s}", single(strings.ToLower(m[1])+" "+m[2]+`\b`), quote(strings.TrimSpace(m[3])), t.key), t.asked()})
		return
	}
	if m := afterwards.FindStringSubmatch(s.Text); m != nil && t.release != nil {
		t.add(&t.release.Lines, fmt.Sprintf("checks_after: [%s]", quote(m[1])))
		return
	}
	lost := loses.MatchString(s.Text) && settings.MatchString(s.Text) && (!keeps.MatchString(s.Text) || notKept.MatchString(s.Text))
	for _, m := range others {
		t.need(m)
	}
	if lost {
		t.loss(main)
	}
	if len(main) > 0 && t.order(main) {
		return
	}
	if !lost && len(others) == 0 {
		for _, m := range main {
			t.minimum(m)
		}
	}
	if dropped.MatchString(s.Text) && len(others) == 0 {
		t.drops(main)
	}
	t.space()
	t.time()
}

// asked is the question behind what a sentence became.
func (t *told) asked() Guess {
	return Guess{fmt.Sprintf("is this what %q says?", clip(strings.ReplaceAll(t.text, `"`, "'"), 100)), t.where}
}

// add adds a line, unless another document said the same already.
func (t *told) add(to *[]Line, text string) {
	bare := strings.TrimSuffix(text, ", source: "+t.key+"}")
	if !slices.ContainsFunc(*to, func(l Line) bool { return l.Text == text || strings.HasPrefix(l.Text, bare+", source: ") }) {
		*to = append(*to, Line{text, t.asked()})
	}
}

// readable tells whether ranges read by the versions of a component; what does not is told.
func (t *told) readable(component string, ranges ...string) bool {
	if t.d.reads(component, ranges...) {
		return true
	}
	add(&t.d.Notes, fmt.Sprintf("%s names versions that the pattern does not read, and is left out: %s", t.where, clip(t.text, 80)))
	return false
}

// rule adds a rule on moves.
func (t *told) rule(from, to, rest string) {
	if !t.readable("main", from, to) {
		return
	}
	text := "- {"
	if from != "" {
		text += "from: " + quote(from) + ", "
	}
	if to != "" {
		text += "to: " + quote(to) + ", "
	}
	t.add(&t.d.Moves.Rules, text+rest+", source: "+t.key+"}")
}

// here is where the notes' own release is in a range: it and what is newer, where nothing else
// is said.
func (t *told) here() string {
	if t.release == nil {
		return ""
	}
	return ">=" + unspaced(t.release.Version)
}

// own tells whether a mention is of the release that the notes are about.
func (t *told) own(m *mention) bool {
	return t.release != nil && m.op == "" && m.span == "" && t.d.release(m.text) == t.release
}

// order reads what has to be installed on the way; false where the sentence says nothing of it.
//
// In one piece: the forms of a sentence, one after the other.
func (t *told) order(main []*mention) bool {
	if !stops.MatchString(t.text) && !directly.MatchString(t.text) {
		return false
	}
	var from, to, stop *mention
	for _, m := range main {
		// The notes' own release is where one goes, unless another is.
		elsewhere := !t.own(m) || slices.ContainsFunc(main, func(o *mention) bool {
			return o != m && toBefore.MatchString(o.before) && !stopAfter.MatchString(o.after)
		})
		switch {
		case m.wide && toBefore.MatchString(m.before) && !stopAfter.MatchString(m.after):
			to = m
		case m.op == "<" || m.op == "<=" || m.span != "":
			from = m
		case stopAfter.MatchString(m.after) && elsewhere, stopBefore.MatchString(m.before) && stop == nil && elsewhere && stops.MatchString(t.text) && !fromOnly.MatchString(m.before) && !toOnly.MatchString(m.before):
			stop = m
		case fromBefore.MatchString(m.before):
			from = m
		case toBefore.MatchString(m.before) || t.own(m):
			to = m
		case stop == nil && stops.MatchString(t.text) && m.op == "":
			stop = m
		}
	}
	target := t.here()
	if to != nil {
		target = ">=" + unspaced(t.d.spelt(to.text))
	}
	switch {
	case stop != nil && (stop.op == "" || stop.op == ">="):
		via := t.d.spelt(stop.text)
		source := "<" + unspaced(stop.text)
		if from != nil {
			source = from.within()
		}
		if target == "" || to == nil && !t.newer(t.release, via) {
			target = ">" + unspaced(via)
		}
		if from == nil && to == nil && t.completes(via) {
			return true
		}
		t.rule(source, target, "allow: false, via: "+quote(via))
		return true
	case from != nil && forbids.MatchString(t.text) && directly.MatchString(t.text):
		if target == "" {
			return false
		}
		t.rule(from.within(), target, "allow: false")
		t.open, t.openLine = len(t.d.Moves.Rules), t.line
		return true
	case directly.MatchString(t.text) && permits.MatchString(t.text):
		for _, m := range main {
			if m.op == ">=" && !t.own(m) {
				t.needs("component: main", m.within(), "")
				return true
			}
		}
	}
	return false
}

// completes gives a stop to the rule of the sentence before, which forbids a move and names none.
func (t *told) completes(via string) bool {
	if t.open == 0 || t.line-t.openLine > 2 {
		return false
	}
	rule := &t.d.Moves.Rules[t.open-1]
	rule.Text = strings.Replace(rule.Text, "allow: false", "allow: false, via: "+quote(via), 1)
	t.open = 0
	return true
}

var toOnly = pattern.New(`(?i)\b(?:direct(?:ly)?|straight)\s+to` + noun)

var fromOnly = pattern.New(`(?i)\b(?:from|running|runs?|still)` + noun)

// spelt is a version as the releases have it, where one is meant.
func (d *Draft) spelt(text string) string {
	if rel := d.release(text); rel != nil {
		return rel.Version
	}
	return text
}

// newer tells whether a release is newer than a version.
func (t *told) newer(rel *Release, text string) bool {
	s := t.d.schemes["main"]
	v, err := s.Parse(text)
	return rel != nil && rel.known && err == nil && s.Compare(rel.parsed, v) > 0
}

// needs adds a need of the release that the notes are about, scoped to what the sentence names.
func (t *told) needs(what, within, scope string) {
	if t.release == nil {
		t.d.Notes = append(t.d.Notes, fmt.Sprintf("%s says what a release needs, and not which: %s", t.where, clip(t.text, 80)))
		return
	}
	text := "- {" + what
	if within != "" {
		text += ", within: " + quote(within)
	}
	t.add(&t.release.Needs, text+scope+", source: "+t.key+"}")
}

var revisionNames = pattern.New(`(?i)\b(?:revisions?|revs?\.?|boards?)\s+([A-Z0-9]{1,4}(?:(?:,\s*|\s+and\s+|\s+or\s+|\s*/\s*)[A-Z0-9]{1,4})*)\b`)

// scope is whom a clause is about, or its sentence, where it names models or revisions that are
// not all.
func (t *told) scope(clause string) string {
	out := ""
	models := notes.Models(t.rb, clause)
	if len(models) == 0 {
		models = t.models()
	}
	if len(models) > 0 && len(models) < len(t.d.Models) {
		out += ", models: [" + strings.Join(quoted(models), ", ") + "]"
	}
	if revs := t.revisions(); len(revs) > 0 {
		out += ", revisions: [" + strings.Join(quoted(revs), ", ") + "]"
	}
	return out
}

func quoted(list []string) []string {
	var out []string
	for _, t := range list {
		out = append(out, quote(t))
	}
	return out
}

func (t *told) models() []string { return notes.Models(t.rb, t.text) }

// revisions are those that the sentence names and some model has.
func (t *told) revisions() []string {
	var out []string
	for _, m := range revisionNames.FindAllStringSubmatch(t.text, -1) {
		for _, w := range regexp.MustCompile(`[^A-Za-z0-9]+`).Split(m[1], -1) {
			for _, model := range t.d.Models {
				for _, r := range model.Revisions {
					if strings.EqualFold(r.Name, w) {
						add(&out, r.Name)
					}
				}
			}
		}
	}
	return out
}

// need reads what a component or companion must have.
func (t *told) need(m *mention) {
	if !asks.MatchString(t.text) && m.op == "" || brings.MatchString(t.text) && m.op == "" {
		return
	}
	within := m.within()
	switch m.op {
	case "":
		if m.span == "" {
			within = ">=" + within
		}
	case "<", "<=":
		if !forbids.MatchString(t.text) && !asks.MatchString(t.text) {
			return
		}
		within = map[string]string{"<": ">=", "<=": ">"}[m.op] + unspaced(m.text) // what is older has to be updated
	}
	if m.companion != "" {
		t.needs("companion: "+quote(m.companion), within, t.scope(m.clause))
		return
	}
	if t.readable(m.component, within) {
		t.needs("component: "+quote(m.component), within, t.scope(m.clause))
	}
}

// minimum reads from which release on one may be installed.
func (t *told) minimum(m *mention) {
	switch {
	case t.own(m) || t.release == nil || !t.newer(t.release, m.text):
	case m.op == ">=" && asks.MatchString(t.text) && !brings.MatchString(t.text):
		t.needs("component: main", m.within(), t.scope(m.clause))
	case m.op == "<" && forbids.MatchString(t.text):
		t.needs("component: main", ">="+unspaced(m.text), t.scope(m.clause))
	case m.op == "" && m.span == "" && regexp.MustCompile(`(?i)\b(?:requires?|needs?|must (?:run|be at|have))\b`).MatchString(m.before):
		t.needs("component: main", ">="+unspaced(m.text), t.scope(m.clause))
	}
}

// loss reads which moves lose the settings.
func (t *told) loss(main []*mention) {
	for _, m := range main {
		if t.own(m) {
			continue
		}
		if m.op != "" || m.span != "" || fromBefore.MatchString(m.before) {
			t.rule(m.within(), t.here(), "allow: true, resets_config: true")
			return
		}
	}
	if t.release != nil {
		t.add(&t.release.Lines, "resets_config: true")
	}
}

// back reads whether older releases may follow.
func (t *told) back(main []*mention) {
	lost := loses.MatchString(t.text) && settings.MatchString(t.text) && !keeps.MatchString(t.text)
	if forbids.MatchString(t.text) {
		t.d.Moves.Downward, t.d.Moves.DownGuess = "closed", t.asked()
		return
	}
	if !permits.MatchString(t.text) && !lost {
		return
	}
	rest := "allow: true"
	if lost {
		rest += ", resets_config: true"
	}
	var from, to *mention
	for _, m := range main {
		switch {
		case fromBefore.MatchString(m.before) || t.own(m):
			from = m
		default:
			to = m
		}
	}
	source := ""
	switch {
	case from != nil && from.op == "":
		source = ">=" + unspaced(from.text)
	case from != nil:
		source = from.within()
	case t.release != nil:
		source = t.here()
	}
	switch {
	case to != nil && (to.op == "<" || to.op == "<="):
		t.rule(map[string]string{"<": ">=", "<=": ">"}[to.op]+unspaced(to.text), to.within(), rest)
	case to != nil:
		within := to.within()
		if source == "" {
			source = ">" + unspaced(to.text)
		} else if to.op == ">=" { // and no further up than where it comes from
			within += " <" + strings.TrimLeft(source, "<>=")
		}
		t.rule(source, within, rest)
	case source != "":
		t.rule(source, "<"+strings.TrimLeft(source, "<>="), rest)
	default:
		t.d.Moves.Downward, t.d.Moves.DownGuess = "open", t.asked()
	}
}

// withdrawn marks a release that was taken back.
func (t *told) withdrawn(main []*mention) bool {
	for _, m := range main {
		if m.op != "" || m.span != "" {
			continue
		}
		rel := t.d.release(m.text)
		if rel == nil {
			rel = &Release{Version: m.text, Guess: Guess{"is this a release of the line?", t.where}}
			v, err := t.d.schemes["main"].Parse(m.text)
			rel.parsed, rel.known = v, err == nil
			t.d.Releases = append(t.d.Releases, rel)
			t.d.order()
		}
		t.takeBack(rel)
		return true
	}
	if len(main) == 0 && t.release != nil && regexp.MustCompile(`(?i)\bthis release\b`).MatchString(t.text) {
		t.takeBack(t.release)
		return true
	}
	return false
}

// takeBack marks a release as withdrawn, unless it is marked already.
func (t *told) takeBack(rel *Release) {
	if slices.ContainsFunc(rel.Lines, func(l Line) bool { return strings.HasPrefix(l.Text, "withdrawn: ") }) {
		return
	}
	t.add(&rel.Lines, "withdrawn: "+quote(clip(t.text, 200)))
	rel.Lines = append(rel.Lines, Line{Text: "source: " + t.key})
}

// drops reads which hardware a release does not support any more.
//
// In one piece: the forms of a sentence, one after the other.
func (t *told) drops(main []*mention) {
	if t.release == nil {
		return
	}
	if slices.ContainsFunc(main, func(m *mention) bool { return !t.own(m) }) && regexp.MustCompile(`(?i)\b(?:upgrad\w*|updat\w*|install\w*|moves?)\b`).MatchString(t.text) {
		return // it is about a move
	}
	models, revs := t.models(), t.revisions()
	switch {
	case len(revs) == 0 && revisionNames.MatchString(t.text):
		add(&t.d.Notes, fmt.Sprintf("%s speaks of a hardware revision that no package names: %s", t.where, clip(t.text, 80)))
		return
	case len(revs) > 0:
		// Revisions are listed for all models at once: only a name that no other model has can be
		// left out.
		var rest []string
		for _, m := range t.d.Models {
			meant := len(models) == 0 || slices.Contains(models, m.Name)
			for _, r := range m.Revisions {
				switch gone := slices.Contains(revs, r.Name); {
				case gone && !meant:
					add(&t.d.Notes, fmt.Sprintf("%s drops a revision that another model has, too: %s", t.where, clip(t.text, 80)))
					return
				case !gone:
					add(&rest, r.Name)
				}
			}
			if len(m.Revisions) == 0 {
				rest = nil
				break
			}
		}
		if len(rest) > 0 {
			t.add(&t.release.Lines, "revisions: ["+strings.Join(quoted(rest), ", ")+"]")
		}
		return
	case len(models) > 0:
		var rest []string
		for _, m := range t.d.Models {
			if !slices.Contains(models, m.Name) {
				rest = append(rest, m.Name)
			}
		}
		if len(rest) > 0 {
			t.add(&t.release.Lines, "models: ["+strings.Join(quoted(rest), ", ")+"]")
		}
		return
	}
	var gone []string
	for _, w := range strings.Fields(t.text) {
		w = strings.Trim(w, `.,;:()"'`)
		if modelWord.MatchString(w) && !versionWord.MatchString(w) && t.d.model(w) == nil {
			add(&gone, w)
		}
	}
	if len(gone) == 0 {
		return
	}
	t.add(&t.release.Lines, "drops: ["+strings.Join(quoted(gone), ", ")+"]")
	for _, w := range gone {
		t.d.Models = append(t.d.Models, &Model{Name: w, Guess: Guess{"is this a model that is attached to others, and has no images of its own here?", t.where}})
	}
	t.d.order()
}

// space reads how much room or memory is needed.
func (t *told) space() {
	if !asks.MatchString(t.text) && !regexp.MustCompile(`(?i)\bfree\b`).MatchString(t.text) {
		return
	}
	m := sizes.FindStringSubmatchIndex(t.text)
	if m == nil || t.release == nil {
		return
	}
	size := t.text[m[2]:m[3]] + t.text[m[4]:m[5]]
	lower := strings.ToLower(t.text)
	switch {
	case regexp.MustCompile(`\b(?:memory|ram|dram)\b`).MatchString(lower):
		t.needs("memory: "+quote(size), "", t.scope(t.text))
	case regexp.MustCompile(`\b(?:free|storage|flash|space|room|disk)\b`).MatchString(lower):
		t.needs("storage_free: "+quote(size), "", t.scope(t.text))
	}
}

// time reads how long an install takes, and how long the device is without service.
func (t *told) time() {
	if t.release == nil || !takes.MatchString(t.text) {
		return
	}
	install, out := "", ""
	from := 0
	for _, m := range minutes.FindAllStringSubmatchIndex(t.text, -1) {
		span := t.text[m[2]:m[3]]
		if m[4] >= 0 {
			span += "-" + t.text[m[4]:m[5]]
		}
		around := t.text[from:min(len(t.text), m[1]+25)]
		if i := strings.IndexAny(t.text[m[1]:], ",;."); i >= 0 && m[1]+i < m[1]+25 {
			around = t.text[from : m[1]+i]
		}
		if outage.MatchString(around) && out == "" {
			out = span
		} else if install == "" {
			install = span
		}
		from = m[1]
	}
	if install == "" && out == "" {
		return
	}
	var parts []string
	if install != "" {
		parts = append(parts, "install: "+install)
	}
	if out != "" {
		parts = append(parts, "outage: "+out)
	}
	if i := slices.IndexFunc(t.release.Lines, func(l Line) bool { return strings.HasPrefix(l.Text, "minutes: ") }); i >= 0 {
		have := &t.release.Lines[i] // the other half stands in another sentence
		for _, p := range parts {
			if key, _, _ := strings.Cut(p, ":"); !strings.Contains(have.Text, key) {
				have.Text = strings.TrimSuffix(have.Text, "}") + ", " + p + "}"
			}
		}
		return
	}
	t.add(&t.release.Lines, "minutes: {"+strings.Join(parts, ", ")+"}")
}

// handling says how a download is to be served.
func (t *told) handling(how string) {
	for _, p := range t.d.Packages {
		if p.Handling == "" {
			p.Handling, p.HandGuess = how, t.asked()
		}
	}
}

var dayForms = []struct {
	re     *pattern.Pattern
	layout string
}{
	{pattern.New(`\b(\d{4}-\d\d-\d\d)\b`), "2006-01-02"},
	{pattern.New(`\b(\d{1,2}\.\d{1,2}\.\d{4})\b`), "2.1.2006"},
	{pattern.New(`\b(\d{1,2} [A-Z][a-z]+ \d{4})\b`), "2 January 2006"},
	{pattern.New(`\b([A-Z][a-z]+ \d{1,2}, \d{4})\b`), "January 2, 2006"},
	{pattern.New(`\b(\d{1,2} [A-Z][a-z]{2} \d{4})\b`), "2 Jan 2006"},
	{pattern.New(`\b([A-Z][a-z]{2} \d{1,2}, \d{4})\b`), "Jan 2, 2006"},
}

// date reads when the release was published.
func (t *told) date() {
	if t.release == nil || !released.MatchString(t.text) || t.release.DateOf.From != "" && strings.HasPrefix(t.release.DateOf.Question, "is this what") {
		return
	}
	for _, f := range dayForms {
		for _, m := range f.re.FindAllString(t.text, -1) {
			if day, err := time.Parse(f.layout, m); err == nil && t.d.release(m) == nil {
				t.release.Date, t.release.DateOf = day.Format("2006-01-02"), t.asked()
				return
			}
		}
	}
}
