package draft

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"fitcheck/core/pattern"
	"fitcheck/core/version"
)

// A pattern for versions is made of the texts that were seen: each is cut into numbers and what
// stands before each, and what all have in common becomes the pattern; what only some have may
// be left out.

// segment is a number of a version, or letters at its end, and what stands before it.
type segment struct {
	lead   string // punctuation and words before it, in lower case
	letter bool   // letters at the end
	digits int
}

// cut cuts a version text: what stands before the first digit, the segments, and punctuation
// behind the last. ok is false where it holds no digit.
func cut(text string) (prefix string, segments []segment, tail string, ok bool) {
	first := strings.IndexAny(text, "0123456789")
	if first < 0 {
		return "", nil, "", false
	}
	prefix = strings.ToLower(text[:first])
	for i := first; i < len(text); {
		k := i
		for k < len(text) && !isDigit(text[k]) {
			k++
		}
		lead := strings.ToLower(text[i:k])
		n := k
		for n < len(text) && isDigit(text[n]) {
			n++
		}
		if n == k { // no number follows
			if m := finalLetters.FindStringSubmatch(lead); m != nil {
				return prefix, append(segments, segment{m[1], true, 0}), m[3], true
			}
			return prefix, segments, lead, true
		}
		segments = append(segments, segment{lead, false, n - k})
		i = n
	}
	return prefix, segments, "", true
}

var finalLetters = pattern.New(`^([^a-z]*)([a-z]+)([^a-z]*)$`)

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// place is a segment that some of the texts have, in its place.
type place struct {
	key    string
	leads  []string // that it was seen with
	letter bool
	digits []int
	seen   int
}

// early are words after which a version comes before the one without them; only the natural
// order knows that.
var early = pattern.New(`alpha|beta|pre|rc|dev`)

// shape makes a pattern of version texts. ok is false where they have no shape in common, or one
// whose order no pattern gives.
//
// In one piece: the parts of a version in their order.
func shape(texts []string) (v Versions, ok bool) {
	var places []*place
	var prefixes, tails []string
	// Those with the most parts first: they say in what order parts stand.
	texts = slices.SortedStableFunc(slices.Values(texts), func(a, b string) int {
		_, x, _, _ := cut(a)
		_, y, _, _ := cut(b)
		return len(y) - len(x)
	})
	for _, t := range texts {
		prefix, segments, tail, ok := cut(t)
		if !ok || early.MatchString(strings.ToLower(t)) {
			return v, false
		}
		add(&prefixes, prefix)
		add(&tails, tail)
		at, dots := -1, 0
		for _, s := range segments {
			key := s.key(&dots)
			found := slices.IndexFunc(places, func(p *place) bool { return p.key == key })
			switch {
			case found < 0:
				at++
				places = slices.Insert(places, at, &place{key: key, letter: s.letter})
				found = at
			case found <= at:
				return v, false // the order of the parts differs
			default:
				at = found
			}
			p := places[found]
			add(&p.leads, s.lead)
			p.digits = append(p.digits, s.digits)
			p.seen++
		}
	}
	if len(tails) > 2 || len(places) == 0 {
		return v, false
	}
	var b strings.Builder
	b.WriteString("^" + prefixPattern(prefixes))
	used := map[string]bool{}
	date := dated(places, texts)
	for i, p := range places {
		name := p.name(i, date, used)
		used[name] = true
		v.Order = append(v.Order, name)
		group := fmt.Sprintf(`(?P<%s>\d+)`, name)
		if p.letter {
			group = fmt.Sprintf(`(?P<%s>[A-Za-z]+)`, name)
		}
		if kind, varies := p.kinds(); varies {
			used[kind] = true
			v.Order = append(v.Order[:len(v.Order)-1], kind, name)
			group = fmt.Sprintf(`(?P<%s>[A-Za-z])`, kind) + group
		}
		text := p.leadPattern() + group
		if p.seen < len(texts) || name == "build" && i > 0 {
			text = "(?:" + text + ")?"
		}
		b.WriteString(text)
	}
	if n := len(places); n >= 3 && !slices.ContainsFunc(places, func(p *place) bool { return !strings.HasPrefix(p.key, ".") }) && date == "" {
		b.WriteString(`(?P<fix>[a-z])?`)
		v.Order = append(v.Order, "fix")
	}
	for _, t := range tails {
		if t != "" {
			b.WriteString(literal(t))
			if len(tails) > 1 {
				return v, false
			}
		}
	}
	v.Pattern = b.String() + "$"
	re, err := regexp.Compile(v.Pattern)
	if err != nil || slices.ContainsFunc(texts, func(t string) bool { return !re.MatchString(t) }) {
		return Versions{}, false
	}
	return v, true
}

// key tells which segments of several texts are the same one: numbers behind points by their
// place, others by what stands before them.
func (s segment) key(dots *int) string {
	switch {
	case s.letter:
		return "letters" + s.lead
	case s.lead == "" || s.lead == "." || s.lead == "_":
		*dots++
		return fmt.Sprintf(".%d", *dots)
	case buildWord.MatchString(s.lead):
		return "build"
	case singleLetter.MatchString(s.lead) && !buildWord.MatchString(s.lead):
		return singleLetter.ReplaceAllString(s.lead, "${1}?") // which letter, may differ
	}
	return s.lead
}

var (
	singleLetter = pattern.New(`^([^a-z]*)[a-z]$`)
	buildWord    = pattern.New(`(?:^|[^a-z])(?:b|bld|build)[^a-z]*$`)
	leadWord     = pattern.New(`[a-z]+`)
)

// kinds tells whether the letter before a number differs from text to text: it counts, too.
func (p *place) kinds() (name string, varies bool) {
	return "train", strings.HasSuffix(p.key, "?") && len(p.leads) > 1
}

// leadPattern reads what stands before the number.
func (p *place) leadPattern() string {
	if _, varies := p.kinds(); varies {
		return literal(strings.TrimSuffix(p.key, "?"))
	}
	var all []string
	for _, l := range p.leads {
		t := strings.ReplaceAll(literal(l), `\s+`, `\s*`) // ranges are written without blanks
		if leadWord.MatchString(l) {
			t = "(?i:" + t + ")"
		}
		add(&all, t)
	}
	if len(all) == 1 {
		return all[0]
	}
	return "(?:" + strings.Join(all, "|") + ")"
}

// literal is a text as a pattern; blanks may be several.
func literal(t string) string {
	if strings.TrimSpace(t) == "" && t != "" {
		return `\s+`
	}
	return blanks.ReplaceAllString(regexp.QuoteMeta(t), `\s+`)
}

var blanks = pattern.New(`[ \t]+`)

func prefixPattern(seen []string) string {
	var words []string
	for _, p := range seen {
		if p != "" {
			words = append(words, literal(p))
		}
	}
	if len(words) == 0 {
		return "v?"
	}
	slices.SortFunc(words, func(a, b string) int { return len(b) - len(a) })
	return "(?i:" + strings.Join(words, "|") + ")?"
}

// numbers are the names of the numbers behind points.
var numbers = []string{"major", "minor", "patch", "micro"}

func (p *place) name(i int, date string, used map[string]bool) string {
	name := ""
	switch {
	case date != "" && i < len(dateNames[date]):
		name = dateNames[date][i]
	case p.letter:
		name = "fix"
	case strings.HasPrefix(p.key, ".") && len(p.key) == 2 && int(p.key[1]-'1') < len(numbers):
		name = numbers[p.key[1]-'1']
	case buildWord.MatchString(p.key):
		name = "build"
	default:
		if w := leadWord.FindString(strings.TrimSuffix(p.key, "?")); len(w) > 1 {
			name = w
		}
	}
	if name == "" || used[name] || name == "train" {
		name = fmt.Sprintf("n%d", i+1)
	}
	return name
}

// dateNames are those of the parts of versions that are dates.
var dateNames = map[string][]string{"day": {"year", "month", "day"}, "month": {"year", "month"}, "run": {"date"}}

// dated tells whether versions are dates, and of what form: "day", "month" or "run" together.
func dated(places []*place, texts []string) string {
	year := regexp.MustCompile(`^\D*(?:19|20)\d\d[.\-_](\d\d?)(?:[.\-_](\d\d?))?(?:\D|$)`)
	run := regexp.MustCompile(`^\D*(?:19|20)\d\d[01]\d[0-3]\d(?:\D|$)`)
	days, months, runs := 0, 0, 0
	for _, t := range texts {
		switch m := year.FindStringSubmatch(t); {
		case run.MatchString(t):
			runs++
		case m == nil:
		case m[2] != "":
			days++
		default:
			months++
		}
	}
	switch n := len(texts); {
	case days == n && len(places) >= 3:
		return "day"
	case months == n:
		return "month"
	case runs == n:
		return "run"
	}
	return ""
}

func add(list *[]string, t string) {
	if !slices.Contains(*list, t) {
		*list = append(*list, t)
	}
}

// versions finds a pattern for the versions of each component, and reads the releases by it.
func (d *Draft) versions(all []*reading, documents []Note) {
	texts := map[string][]string{}
	say := func(component, t string) {
		list := texts[component]
		add(&list, t)
		texts[component] = list
	}
	for _, rel := range d.Releases {
		say("main", rel.Version)
		for _, b := range rel.Brings {
			say(b[0], b[1])
		}
	}
	for _, t := range shortForms(texts["main"], documents) {
		say("main", t)
	}
	// A name may write a version in words of its own.
	for _, r := range all {
		if rel := or(r.main, r.inName); r.inName != "" && squeezed(rel) != squeezed(r.inName) && strings.Join(digitRun.FindAllString(rel, -1), " ") == strings.Join(digitRun.FindAllString(r.inName, -1), " ") {
			say("main", r.inName)
		}
	}
	for _, c := range d.Components {
		if len(texts[c.Name]) == 0 {
			continue
		}
		v, _ := shape(texts[c.Name])
		v.Component = c.Name
		if c.Name == "main" {
			v.Component = "default"
			d.Versions = slices.Insert(d.Versions, 0, &v)
		} else {
			d.Versions = append(d.Versions, &v)
		}
		d.schemes[c.Name] = v.scheme()
	}
	// What reads like the main image's versions needs no entry of its own.
	for i := len(d.Versions) - 1; i > 0; i-- {
		if d.Versions[i].Pattern == d.Versions[0].Pattern {
			d.Versions = slices.Delete(d.Versions, i, i+1)
		}
	}
	for _, rel := range d.Releases {
		p, err := d.schemes["main"].Parse(rel.Version)
		rel.parsed, rel.known = p, err == nil
	}
}

// scheme is how the versions of a component are read: as those of the main image, where nothing else is known.
func (d *Draft) scheme(component string) *version.Scheme {
	if s, ok := d.schemes[component]; ok {
		return s
	}
	return d.schemes["main"]
}

// learn takes a version of a component of which no other is known, and which does not read as those of the main image do.
func (d *Draft) learn(component, text string) {
	if _, ok := d.schemes[component]; ok || d.reads(component, text) {
		return
	}
	v, _ := shape([]string{text})
	v.Component = component
	d.Versions = append(d.Versions, &v)
	d.schemes[component] = v.scheme()
}

// shortForms are the versions in notes that leave out the last parts of those that are known:
// "8.4" where releases are 8.4.1 and 8.4.2.
func shortForms(known []string, documents []Note) []string {
	var out []string
	for _, n := range documents {
		for _, l := range n.Document.Lines {
			for _, w := range strings.Fields(l.Text) {
				w = strings.Trim(w, `.,;:"'()[]<>=`)
				if isShort(w, known) && !slices.Contains(known, w) {
					add(&out, w)
				}
			}
		}
	}
	return out
}

// isShort tells whether a text is the beginning of how known versions are written.
func isShort(text string, known []string) bool {
	prefix, short, tail, ok := cut(text)
	if !ok || tail != "" || len(short) < 2 || slices.ContainsFunc(short, func(s segment) bool { return s.letter }) {
		return false
	}
	return slices.ContainsFunc(known, func(k string) bool {
		p, full, _, _ := cut(k)
		if len(full) <= len(short) || prefix != "" && prefix != p && prefix != "v" {
			return false
		}
		if !near(text, k) {
			return false
		}
		for i, s := range short {
			if full[i].letter || full[i].lead != s.lead {
				return false
			}
		}
		return !strings.HasPrefix(full[len(short)].key(new(int)), "build")
	})
}

// near tells whether the first numbers of two versions are as near as those of one line are.
func near(a, b string) bool {
	x, err1 := strconv.Atoi(digitRun.FindString(a))
	y, err2 := strconv.Atoi(digitRun.FindString(b))
	return err1 == nil && err2 == nil && x-y <= 3 && y-x <= 3
}

func (v *Versions) scheme() *version.Scheme {
	if v.Pattern == "" {
		return nil
	}
	s, err := version.NewScheme(regexp.MustCompile(v.Pattern), v.Order, v.Compact)
	if err != nil {
		return nil
	}
	return s
}

// unnamed is a pattern of versions for use inside another: without its ends and names.
func (v *Versions) unnamed() string {
	p := strings.TrimSuffix(strings.TrimPrefix(v.Pattern, "^"), "$")
	p = groupName.ReplaceAllString(p, "(?:")
	return strings.NewReplacer(`(?:\d+)`, `\d+`, `(?:[A-Za-z]+)`, `[A-Za-z]+`, `(?:[A-Za-z])`, `[A-Za-z]`, `(?:[a-z])`, `[a-z]`).Replace(p)
}

var groupName = pattern.New(`\(\?P<\w+>`)
