package notes

import (
	"slices"
	"strings"

	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
)

// Kind is what a statement is about.
type Kind string

// The kinds of statements, in the order in which they matter before an install.
const (
	Loss         Kind = "configuration loss"
	Order        Kind = "order of releases"
	Minimum      Kind = "minimum version"
	Prerequisite Kind = "prerequisite"
	Save         Kind = "save first"
	Handling     Kind = "handling of the download"
	Dropped      Kind = "dropped hardware"
	Supported    Kind = "supported hardware"
	Back         Kind = "way back"
	Remedy       Kind = "error and remedy"
	Fault        Kind = "known fault"
	Fix          Kind = "fix"
	About        Kind = "asked for"
)

// Kinds lists them in that order.
var Kinds = []Kind{Loss, Order, Minimum, Prerequisite, Save, Handling, Dropped, Supported, Back, Remedy, Fault, Fix, About}

// Statement is a sentence of the notes that bears on the install.
type Statement struct {
	File     string
	Line     int
	Page     int // 0 where there are no pages
	Section  string
	Kind     Kind
	Text     string
	Versions []Version
	Models   []string // in the rulebook's spelling
	// Rule is what the rulebook says of the same; nil where it says nothing.
	Rule *Rule
	// Unsaid: it is of a kind that rulebooks hold, and this one does not say it.
	Unsaid bool
	// Add is what could be written into the rulebook, where that is plain.
	Add string
}

// Place is where in a rulebook the statement belongs.
func (s *Statement) Place(release string) string {
	if s.Kind == Handling {
		return "packages:"
	}
	return "needs: of " + release
}

// Version is a version text that was recognised.
type Version struct {
	Text  string
	Known bool // the rulebook lists a release of it
}

// sign is a way of wording by which a kind is recognised.
type sign struct {
	kind Kind
	re   *pattern.Pattern
}

func words(kind Kind, re string) sign { return sign{kind, pattern.New(`(?i)` + re)} }

// signs are tried one after the other; the first that is found decides.
var signs = []sign{
	words(Loss, `\b(?:erase[sd]?|lose[s]?|lost|wipe[sd]?|discard(?:s|ed)?|delete[sd]?|overwrit\w+|reset[s]?|factory.default\w*)\b.*\b(?:config\w*|settings?|database|licen[cs]es?)\b`),
	words(Loss, `\b(?:config\w*|settings?|database)\b.*\b(?:erased|lost|wiped|discarded|deleted|not (?:be )?(?:kept|preserved|retained|migrated)|reset|factory.default\w*)\b`),
	words(Remedy, `\b(?:error|message|code) ["']?\w*\d+\w*\b.*\b(?:install|use|go by way|restart|reload|repeat|free|first)\b`),
	words(Remedy, `\b(?:if|when) the (?:install|upgrade|update) (?:fails|stops|aborts)\b`),
	words(Save, `\b(?:save|back ?up|export|copy)\b.*\b(?:config\w*|settings?|licen[cs]es?)\b.*\b(?:before|first|beforehand)\b`),
	words(Save, `\b(?:before|first)\b.*\b(?:save|back ?up|export|copy)\b.*\b(?:config\w*|settings?|licen[cs]es?)\b`),
	words(Handling, `\b(?:do not|don't|never)\b.{0,20}\b(?:unpack|extract|unzip|untar|decompress|rename)\b`),
	words(Handling, `\b(?:must|is to|has to) (?:be )?(?:unpacked|extracted|unzipped)\b|\b(?:unpack|extract|unzip) (?:it|the \w+|this \w+)\b`),
	words(Handling, `\b(?:as (?:it was )?downloaded|in one piece|keep .{0,30}whole)\b`),
	words(Back, `\b(?:down-?grad\w+|roll(?:ed|ing)? ?back|go(?:ing)? back)\b.*\b(?:not|no longer) (?:be )?(?:support\w*|possible|allowed)`),
	words(Order, `\b(?:up-?grad\w+|updat\w+|going|moving|com(?:e|ing))\b.*\b(?:from|to|between)\b.*\d.*\b(?:not|no longer) (?:be )?(?:support\w*|possible|allowed)`),
	words(Dropped, `\b(?:no longer (?:be )?support\w*|not supported any ?more|end of (?:support|life)|discontinu\w+|support (?:for|of) .{1,60} (?:is|was|has been) (?:removed|dropped|withdrawn)|drop(?:s|ped)? support|(?:is|are) not supported)\b`),
	words(Back, `\b(?:down-?grad\w+|roll(?:ed|ing)? ?back|go(?:ing)? back|return(?:ing)? to (?:an? )?(?:older|earlier|previous))\b`),
	words(Order, `\b(?:straight|direct(?:ly)?|intermediate|in two steps|step by step|stepwise)\b.*\d`),
	words(Order, `\d.*\b(?:straight|direct(?:ly)?|intermediate|in two steps|step by step|stepwise)\b`),
	words(Order, `\b(?:install|load|upgrade(?:d)? to|update(?:d)? to|go to)\b.*\d.*\bfirst\b`),
	words(Order, `\b(?:by way of|via|through)\s+(?:(?:the|release|version)\s+)*v?\d+\.\d`),
	words(Order, `\b(?:install|load)\b.*\d.*\bbefore\b.*\d`),
	words(Minimum, `\d[^.]*\b(?:or|and) (?:later|newer|above|higher|up)\b`),
	words(Minimum, `\b(?:at least|minimum|not (?:older|earlier) than|no (?:older|earlier) than|(?:later|newer|higher) than)\b.*\d`),
	words(Minimum, `(?:>=|≥)\s*v?\d`),
	words(Minimum, `\b(?:requires?|required|needs?|must (?:be|run|have))\b.*\d+\.\d+`),
	words(Minimum, `\d+\.\d+\S*\s+(?:is|are) (?:required|needed|necessary)\b`),
	words(Prerequisite, `\b(?:pre-?requisites?|requires?|required|must|needed|necessary|make sure|ensure|before (?:you )?(?:install|upgrad|updat|begin|start)\w*|do not (?:install|interrupt|power|switch))\b`),
	words(Supported, `\b(?:support(?:s|ed)?|compatible|applies to|applicable to|intended for|for use (?:on|with)|runs on|available for)\b`),
	words(Fault, `\b(?:known (?:issue|fault|problem|defect|bug|limitation)s?|workaround|caveats?|may (?:fail|stay|stop|restart|reboot|flap|hang|crash)|does not work|stops? working)\b`),
	words(Fix, `\b(?:fix(?:ed|es)?|resolv(?:ed|es)|correct(?:ed|s)|no longer|repaired)\b`),
}

// sections give what stands under a heading its kind, where its own words give
// none.
var sections = []sign{
	words(Dropped, `\b(?:un|no longer |not )supported\b|\bend of (?:life|support)\b|\bdropped\b|\bdiscontinued\b`),
	words(Supported, `\bsupported\b|\bcompatib\w+\b|\bhardware\b|\bapplies to\b|\bmodels?\b`),
	words(Fault, `\b(?:known|open|outstanding) (?:issues?|faults?|problems?|defects?|bugs?)\b|\bcaveats?\b|\blimitations?\b|\berrata\b`),
	words(Fix, `\b(?:fix(?:ed|es)?|resolved|corrected|closed)\b|\bbug ?fixes\b`),
	words(Prerequisite, `\bbefore\b|\bpre-?requisites?\b|\brequirements?\b|\bimportant\b|\bread (?:this )?first\b`),
}

// Find picks the statements out of a document. about, where it is not empty, is
// a text whose every mention is shown.
func Find(file string, d *Document, rb *rulebook.Rulebook, about string) []Statement {
	r := newRecogniser(rb)
	about = strings.ToLower(strings.TrimSpace(about))
	var out []Statement
	section := ""
	under := Kind("")
	for _, s := range sentences(d.Lines) {
		if s.heading {
			section, under = s.text, kindOf(sections, s.text)
			if k := kindOf(signs, s.text); k != Loss && k != Order && k != Minimum && k != Dropped {
				continue // a heading that says something is quoted, too
			}
		}
		kind := kindOf(signs, s.text)
		// What is found in a list of faults or fixes is one, unless it warns of a
		// loss.
		if (under == Fault || under == Fix) && kind != Loss || kind == "" {
			kind = under
		}
		if about != "" && strings.Contains(strings.ToLower(s.text), about) && (kind == "" || kind == Fix) {
			kind = About
		}
		if kind == Fix || kind == "" || kind == Prerequisite && under == Prerequisite && saysNothing(s.text) {
			continue // fixes are shown when they are asked for
		}
		out = append(out, Statement{File: file, Line: s.line, Page: s.page, Section: section, Kind: kind, Text: s.text, Versions: r.versions(s.text), Models: r.models(s.text)})
	}
	return out
}

// saysNothing tells an item of a list of prerequisites that names none, such as "None".
func saysNothing(text string) bool {
	return len(text) < 8 && !signed(text) && !strings.ContainsAny(text, "0123456789")
}

func kindOf(all []sign, text string) Kind {
	for _, s := range all {
		if s.re.MatchString(text) {
			return s.kind
		}
	}
	return ""
}

func signed(text string) bool { return kindOf(signs, text) != "" }

// Sentence is a sentence, a list item or a heading of a document.
type Sentence struct {
	Text    string
	Line    int // on which it begins
	Heading bool
}

// Sentences cuts a document into them.
func (d *Document) Sentences() []Sentence {
	var out []Sentence
	for _, s := range sentences(d.Lines) {
		out = append(out, Sentence{s.text, s.line, s.heading})
	}
	return out
}

// sentence is a sentence, a list item or a heading, with the line it begins on.
type sentence struct {
	text    string
	line    int
	page    int
	heading bool
}

// longestSentence bounds what is quoted at a time, in bytes.
const longestSentence = 1000

// sentences joins the lines of paragraphs and cuts them into sentences.
func sentences(lines []Line) []sentence {
	var out []sentence
	for i := 0; i < len(lines); {
		if lines[i].Heading {
			out = append(out, sentence{lines[i].Text, lines[i].Number, lines[i].Page, true})
			i++
			continue
		}
		k := i + 1
		for k < len(lines) && !lines[k].Heading && !lines[k].Begins && lines[k].Page == lines[i].Page {
			k++
		}
		out = append(out, cut(lines[i:k])...)
		i = k
	}
	return out
}

// end is where a sentence may end: a mark, and a blank before a capital; or before a version, where what ends is a
// word and no short form of one, such as "rel. 6.4".
var end = pattern.New(`[.!?]["')]?\s+([A-Z"(])|[a-z]{4}[.!?]["')]?\s+(v?\d+\.\d)`)

// abbreviations after whose point no sentence ends.
var abbreviation = pattern.New(`(?i)\b(?:e\.g|i\.e|etc|vs|no|rev|ver|fig|approx|incl)\.["')]?\s+[A-Z"(]$`)

func cut(lines []Line) []sentence {
	var text strings.Builder
	var starts []int // of each line in the text
	for i, l := range lines {
		if i > 0 {
			text.WriteByte(' ')
		}
		starts = append(starts, text.Len())
		text.WriteString(l.Text)
	}
	all := text.String()
	var out []sentence
	add := func(from, to int) {
		t := strings.TrimSpace(all[from:to])
		if t == "" {
			return
		}
		from += strings.Index(all[from:to], t)
		i, found := slices.BinarySearch(starts, from)
		if !found {
			i--
		}
		if len(t) > longestSentence {
			t = strings.ToValidUTF8(t[:longestSentence], "") + " …"
		}
		out = append(out, sentence{text: t, line: lines[i].Number, page: lines[i].Page})
	}
	from := 0
	for _, m := range end.FindAllStringSubmatchIndex(all, -1) {
		next := max(m[2], m[4]) // where the next one begins
		if m[0] < from || abbreviation.MatchString(all[max(from, m[1]-16):m[1]]) {
			continue
		}
		add(from, next)
		from = next
	}
	add(from, len(all))
	return out
}
