package draft

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/notes"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
)

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
	sizes      = pattern.New(`(?i)\b(\d+(?:[.,]\d+)*) ?([kMGT]i?B)\b`)
	minutes    = pattern.New(`(?i)\b(\d+)(?:\s*(?:-|–|to)\s*(\d+))?\s*min(?:utes?|\.)?\b`)
	ofWhich    = pattern.New(`(?i)\b(?:of which|of these|thereof|including)\s+(?:about )?(\d+)(?:\s*min\w*)?\s+(?:are |is |of )?(?:without service|outage|offline|down(?:time)?)\b`)
	outage     = pattern.New(`(?i)\b(?:outage|interrupt\w*|without service|service|traffic|down(?:time)?|offline|unavailable)\b`)
	takes      = pattern.New(`(?i)\b(?:takes?|lasts?|install\w*|upgrade|update|needs?|allow|outage|interrupt\w*|down(?:time)?|duration)\b`)
	remedied   = pattern.New(`(?i)\b(error|message|code)\s+["']?([A-Z]*-?\d+)["']?\s*(?::|,|-|–|means|–|shows)\s*(.+)$`)
	unpacks    = pattern.New(`(?i)\b(?:must|has to|is to|should) (?:first )?be (?:unpacked|extracted|unzipped)\b|^(?:please )?(?:unpack|extract|unzip)\b`)
	whole      = pattern.New(`(?i)\b(?:do not|don't|never|must not be|not to be)\b.{0,20}\b(?:unpack|extract|unzip|untar|decompress)\w*|\b(?:as (?:it was )?downloaded|in one piece|keep .{0,30}whole)\b`)
	afterwards = pattern.New(`(?i)^after (?:the )?(?:upgrade|update|install\w*|restart)[^,]*,?\s+(?:check|verify|make sure|ensure|see)\s+(?:that\s+)?(.+?)\.?$`)
)

// sentence reads one.
//
// In one piece: what a sentence may say, one after the other.
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
	hardware := dropped.MatchString(s.Text) && !movesWord.MatchString(s.Text) && len(t.models()) > 0
	if !lost && !hardware && len(others) == 0 {
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

// sound tells whether what was read in a sentence is what a rulebook may say; what is not is told.
func (t *told) sound(err error) bool {
	if err != nil {
		add(&t.d.Notes, fmt.Sprintf("%s is left out: %v: %s", t.where, err, clip(t.text, 80)))
	}
	return err == nil
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
