package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/pattern"
	"fitcheck/core/survey"
)

// spelling is one way in which a model is written, and where.
type spelling struct {
	text, from string
	weight     int
}

// Weights of sources: what a manifest or header says names a model; a capture shows how the
// device writes itself; a file's name is the weakest.
const (
	byName = iota
	byBoard
	byCapture
	byHeader
	byManifest
)

// squeezed is a name without what spellings of it differ by.
func squeezed(name string) string {
	return notLetters.ReplaceAllString(strings.ToLower(name), "")
}

// models gathers the models that anything names, their spellings, revisions and hardware.
func (d *Draft) models(all []*reading, captures []Text) {
	names := modelNames{}
	for _, r := range all {
		for _, it := range r.firmware() {
			names.item(r, it)
		}
	}
	names.packages(all)
	d.captureModels(captures, names)
	for _, spellings := range names {
		d.Models = append(d.Models, modelOf(spellings))
	}
	d.otherSpellings()
	for _, r := range all {
		for _, it := range r.firmware() {
			d.hardware(r, it)
		}
	}
	d.nameRevisions(all)
	for _, m := range d.Models {
		m.settle()
	}
}

// modelNames are the spellings of models that were seen, by what they have in common.
type modelNames map[string][]spelling

// say takes a spelling; of one that is said several times the strongest source counts.
func (seen modelNames) say(text, from string, weight int) {
	key := squeezed(text)
	if key == "" {
		return
	}
	i := slices.IndexFunc(seen[key], func(s spelling) bool { return s.text == text })
	switch {
	case i < 0:
		seen[key] = append(seen[key], spelling{text, from, weight})
	case seen[key][i].weight < weight:
		seen[key][i] = spelling{text, from, weight}
	}
}

// item takes what a manifest, a header or its title says of one image; a board only where nothing else does.
func (seen modelNames) item(r *reading, it *survey.Item) {
	claimed := false
	for _, c := range r.claims[it] {
		for _, f := range c.About(fact.Model) {
			seen.say(f.Value, f.Source.Where(), byManifest)
			claimed = true
		}
	}
	if it.Image == nil {
		return
	}
	for _, f := range it.Image.All() {
		switch {
		case f.About == fact.Model:
			seen.say(f.Value, f.Source.Where(), byHeader)
			claimed = true
		case f.About == fact.Title:
			if w := modelIn(f.Value); w != "" {
				seen.say(w, "the title "+f.Value+" in the header of "+it.Address, byHeader)
				claimed = true
			}
		}
	}
	if claimed {
		return
	}
	for _, f := range it.Image.All() { // a board is all that is named
		if f.About == fact.Board && !f.Open {
			seen.say(f.Value[strings.LastIndexByte(f.Value, ',')+1:], "the board "+f.Value+" in "+it.Address, byBoard)
		}
	}
}

// packages takes what the names of packages say; as a guess, where nothing else names a model.
func (seen modelNames) packages(all []*reading) {
	named := len(seen) > 0
	for _, r := range all {
		for _, w := range nameWords(r.s.Name) {
			guess := !named && nameModel.MatchString(w)
			if seen[squeezed(w)] != nil || guess {
				seen.say(w, "the name "+r.s.Name, byName)
			}
			if guess { // what follows is a revision, or a region
				break
			}
		}
	}
}

// modelOf makes a model of its spellings.
func modelOf(spellings []spelling) *Model {
	slices.SortStableFunc(spellings, func(a, b spelling) int { return b.weight - a.weight })
	best := spellings[0]
	m := &Model{Name: best.text, Guess: Guess{"is this a model of the line?", best.from}}
	for _, s := range spellings[1:] {
		if !strings.EqualFold(s.text, m.Name) && !slices.ContainsFunc(m.Also, func(a string) bool { return strings.EqualFold(a, s.text) }) {
			m.Also = append(m.Also, s.text)
			m.AlsoGuess = Guess{fmt.Sprintf("%s and %s are one model?", s.text, m.Name), s.from}
		}
	}
	if n := len(m.Also); n > 1 {
		m.AlsoGuess.Question = fmt.Sprintf("%s and %s are all %s?", strings.Join(m.Also[:n-1], ", "), m.Also[n-1], m.Name)
	}
	return m
}

// otherSpellings proposes for every model what one of them shows: that a hyphen is left out, or
// put in.
func (d *Draft) otherSpellings() {
	hyphen := regexp.MustCompile(`^([A-Za-z]+)(\d.*)$`)
	without := func(name string) string { return strings.ReplaceAll(name, "-", "") }
	with := func(name string) string { return hyphen.ReplaceAllString(name, "$1-$2") }
	for _, write := range []func(string) string{without, with} {
		i := slices.IndexFunc(d.Models, func(m *Model) bool { return write(m.Name) != m.Name && slices.Contains(m.Also, write(m.Name)) })
		if i < 0 {
			continue
		}
		for _, m := range d.Models {
			other := write(m.Name)
			if strings.EqualFold(other, m.Name) || slices.ContainsFunc(m.Also, func(t string) bool { return strings.EqualFold(t, other) }) {
				continue
			}
			if m.Also = append(m.Also, other); m.AlsoGuess.Question == "" {
				m.AlsoGuess = Guess{fmt.Sprintf("may %s be written %s, as %s is %s?", m.Name, other, d.Models[i].Name, write(d.Models[i].Name)), d.Models[i].AlsoGuess.From}
			}
		}
	}
}

var nameRevision = pattern.New(`(?i)^(?:(?:rev|hw)[.-]?[a-z0-9]{1,3}|[a-z]\d{1,2})$`)

// nameRevisions takes the words behind a model in the names of its images for revisions, where
// nothing better names any and there are several.
func (d *Draft) nameRevisions(all []*reading) {
	type found struct {
		r    *reading
		it   *survey.Item
		word string
	}
	of := map[*Model][]found{}
	for _, r := range all {
		for _, it := range r.firmware() {
			words := nameCut.Split(strings.TrimSuffix(path.Base(it.Name), path.Ext(it.Name)), -1)
			for i, w := range words[:len(words)-1] {
				if m := d.model(w); m != nil && len(m.Revisions) == 0 && nameRevision.MatchString(words[i+1]) && words[i+1] != r.inName {
					of[m] = append(of[m], found{r, it, words[i+1]})
				}
			}
		}
	}
	for m, list := range of {
		var words []string
		for _, f := range list {
			add(&words, strings.ToLower(f.word))
		}
		if len(words) < 2 {
			continue
		}
		for _, f := range list {
			name := f.word
			if m.Name == strings.ToUpper(m.Name) && name[0] != 'v' && name[0] != 'r' {
				name = strings.ToUpper(name)
			}
			var b Board
			if f.it.Image != nil {
				if x, ok := f.it.Image.First(fact.Arch); ok {
					b.Arch, b.ArchFrom = fact.CanonicalArch(x.Value), x.Source.Where()
				}
			}
			rev := m.revision(name, fact.Fact{Value: name, Source: fact.Source{Kind: fact.FileName, File: f.it.Address}})
			if rev.Arch == "" {
				rev.Arch, rev.ArchFrom = b.Arch, b.ArchFrom
			}
		}
	}
}

var (
	nameModel   = pattern.New(`^(?:[A-Za-z]{2,8}-?\d{1,5}|[A-Za-z]\d{2,5})[A-Za-z]{0,3}$`)
	nameCut     = pattern.New(`[_ .]+|-`)
	notAModel   = pattern.New(`(?i)^(?:v|r|rev|rel|b|build|rc|boot|fw|md|sha|crc|x|arm|armv|mips|ppc|riscv|aarch|mtd|part|n|p|t)-?\d+[a-z]?$`)
	modelNumber = pattern.New(`^\d{1,5}[A-Za-z]{0,3}$`)
)

// nameWords are the words of a file's name, and each with a number behind it: "pw-2" is one.
func nameWords(name string) []string {
	var out []string
	words := nameCut.Split(name, -1)
	for i, w := range words {
		if !notAModel.MatchString(w) {
			out = append(out, w)
		}
		if i+1 < len(words) && word.MatchString(w) && modelNumber.MatchString(words[i+1]) && strings.Contains(name, w+"-"+words[i+1]) {
			out = append(out, w+"-"+words[i+1])
		}
	}
	return out
}

// modelIn is the word of a title that looks like a model.
func modelIn(title string) string {
	for _, w := range strings.Fields(title) {
		if modelWord.MatchString(w) && !versionWord.MatchString(w) && !notAModel.MatchString(w) {
			return w
		}
	}
	return ""
}

// model finds a model by any spelling.
func (d *Draft) model(name string) *Model {
	key := squeezed(name)
	for _, m := range d.Models {
		if squeezed(m.Name) == key {
			return m
		}
	}
	return nil
}

// hardware takes revisions, boards and architectures that speak of an image.
func (d *Draft) hardware(r *reading, it *survey.Item) {
	var facts []fact.Fact
	for _, c := range r.claims[it] {
		facts = append(facts, c...)
	}
	byClaim := slices.ContainsFunc(facts, func(f fact.Fact) bool { return f.About == fact.Model })
	if it.Image != nil {
		facts = append(facts, it.Image.All()...)
	}
	models := d.spokenOf(r, facts, !byClaim)
	said := toldOf(facts)
	for _, m := range models {
		byRevision := false
		for _, f := range facts {
			if f.About != fact.Revision {
				continue
			}
			byRevision = true
			for _, name := range spelled(f.Value) {
				said.onto(&m.revision(name, f).Board, models, false)
			}
		}
		if !byRevision {
			said.onto(&m.Board, models, true)
		}
	}
}

// spokenOf lists the models that the facts of an image name: models, else titles, else boards, else the name of the
// package.
func (d *Draft) spokenOf(r *reading, facts []fact.Fact, titles bool) (models []*Model) {
	speaks := func(name string) {
		if m := d.model(name); m != nil && !slices.Contains(models, m) {
			models = append(models, m)
		}
	}
	var boards []string
	for _, f := range facts {
		switch {
		case f.Open:
		case f.About == fact.Board:
			boards = append(boards, f.Value)
		case f.About == fact.Model:
			speaks(f.Value)
		case f.About == fact.Title && titles:
			if w := modelIn(f.Value); w != "" {
				speaks(w)
			}
		}
	}
	if len(models) == 0 {
		for _, b := range boards {
			speaks(b[strings.LastIndexByte(b, ',')+1:])
		}
	}
	if len(models) == 0 {
		for _, w := range nameWords(r.s.Name) {
			speaks(w)
		}
	}
	return models
}

// hardwareSaid is what an image says of the hardware, and where it says so first.
type hardwareSaid struct {
	archs, boards       []string
	archFrom, boardFrom string
	// left: its header leaves the byte order open.
	left bool
}

func toldOf(facts []fact.Fact) hardwareSaid {
	var t, open hardwareSaid
	for _, f := range facts {
		switch {
		case f.Open && f.About == fact.Arch:
			one, _, _ := strings.Cut(f.Value, "|") // "mips|mipsel"
			open.arch(one, f)
		case f.Open:
		case f.About == fact.Arch:
			t.arch(f.Value, f)
		case f.About == fact.Board:
			if add(&t.boards, f.Value); t.boardFrom == "" {
				t.boardFrom = f.Source.Where()
			}
		}
	}
	if t.left = len(t.archs) == 0 && len(open.archs) == 1; t.left {
		t.archs, t.archFrom = open.archs, open.archFrom
	}
	return t
}

func (t *hardwareSaid) arch(name string, f fact.Fact) {
	if add(&t.archs, fact.CanonicalArch(name)); t.archFrom == "" {
		t.archFrom = f.Source.Where()
	}
}

// onto adds it to a board of one of the models that the image is for; whole: it is that of the model as a whole.
func (t *hardwareSaid) onto(b *Board, models []*Model, whole bool) {
	b.ByteOrder = b.ByteOrder || t.left
	switch {
	case len(t.archs) != 1:
	case b.Arch == "" && !b.severalArchs:
		b.Arch, b.ArchFrom = t.archs[0], t.archFrom
	case b.Arch != t.archs[0]:
		b.Arch, b.severalArchs = "", true
	}
	for _, text := range t.boards {
		if len(models) > 1 && !strings.Contains(squeezed(text), squeezed(models[0].Name)) && whole {
			continue
		}
		if add(&b.Boards, text); b.BoardFrom == "" {
			b.BoardFrom = t.boardFrom
		}
	}
}

var revisionSpan = pattern.New(`^([A-Za-z]*)(\d+)\s*(?:-|\.\.|–)\s*([A-Za-z]*)(\d+)$`)
var letterSpan = pattern.New(`^([A-Za-z])\s*(?:-|\.\.|–)\s*([A-Za-z])$`)

// spelled lists a range of revisions: its ends, and what lies between them where that is plain.
func spelled(text string) []string {
	if m := letterSpan.FindStringSubmatch(text); m != nil && m[1] < m[2] {
		var out []string
		for c := m[1][0]; c <= m[2][0]; c++ {
			out = append(out, string(c))
		}
		return out
	}
	if m := revisionSpan.FindStringSubmatch(text); m != nil && strings.EqualFold(m[1], m[3]) && len(m[2]) < 3 && len(m[4]) < 3 {
		var from, to int
		fmt.Sscan(m[2], &from)
		fmt.Sscan(m[4], &to)
		var out []string
		for n := from; n <= to; n++ {
			out = append(out, fmt.Sprintf("%s%d", m[1], n))
		}
		if len(out) > 1 {
			return out
		}
	}
	if from, to, ok := strings.Cut(text, "-"); ok && from != "" && to != "" && len(from) < 4 && len(to) < 4 {
		return []string{from, to}
	}
	return []string{text}
}

func (m *Model) revision(name string, f fact.Fact) *Revision {
	for _, r := range m.Revisions {
		if strings.EqualFold(r.Name, name) {
			return r
		}
	}
	question := fmt.Sprintf("is %s a hardware revision of %s?", name, m.Name)
	if !strings.EqualFold(f.Value, name) {
		question = fmt.Sprintf("is %s a hardware revision of %s, as one of %s?", name, m.Name, f.Value)
	}
	r := &Revision{Name: name, Guess: Guess{question, f.Source.Where()}}
	m.Revisions = append(m.Revisions, r)
	return r
}

// settle writes what holds for all revisions of a model at the model, and what only some have
// at these.
func (m *Model) settle() {
	if len(m.Revisions) == 0 {
		return
	}
	for _, r := range m.Revisions {
		if r.Arch == "" && !r.severalArchs {
			r.Arch, r.ArchFrom, r.ByteOrder = m.Arch, m.ArchFrom, m.ByteOrder
		}
		if len(r.Boards) == 0 {
			r.Boards, r.BoardFrom = m.Boards, m.BoardFrom
		}
	}
	// An image for all of them names the boards of all: those that each revision has of its own
	// are its boards.
	for _, r := range m.Revisions {
		var own []string
		for _, b := range r.Boards {
			shared := 0
			for _, o := range m.Revisions {
				if slices.Contains(o.Boards, b) {
					shared++
				}
			}
			if shared < len(m.Revisions) {
				own = append(own, b)
			}
		}
		if len(own) > 0 && len(own) < len(r.Boards) {
			r.Boards = own
		}
	}
	first := m.Revisions[0].Arch
	if !slices.ContainsFunc(m.Revisions, func(r *Revision) bool { return r.Arch != first }) {
		m.Arch, m.ArchFrom, m.ByteOrder = first, m.Revisions[0].ArchFrom, m.Revisions[0].ByteOrder
		for _, r := range m.Revisions {
			r.Arch = ""
		}
	} else {
		m.Arch = ""
	}
	boards := strings.Join(m.Revisions[0].Boards, " ")
	if !slices.ContainsFunc(m.Revisions, func(r *Revision) bool { return strings.Join(r.Boards, " ") != boards }) {
		m.Boards, m.BoardFrom = m.Revisions[0].Boards, m.Revisions[0].BoardFrom
		for _, r := range m.Revisions {
			r.Boards = nil
		}
	} else {
		m.Boards = nil
	}
}
