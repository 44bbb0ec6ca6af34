package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/notes"
	"fitcheck/core/pattern"
	"fitcheck/core/survey"
)

// entries puts packages that differ in their version only into one entry, and finds how their
// manifests read.
func (d *Draft) entries(all []*reading) {
	for _, r := range all {
		r.guessName()
		key := r.skeleton()
		i := slices.IndexFunc(d.Packages, func(p *Package) bool { return p.all[0].skeleton() == key })
		if i < 0 {
			d.Packages = append(d.Packages, &Package{})
			i = len(d.Packages) - 1
		}
		d.Packages[i].all = append(d.Packages[i].all, r)
	}
	for _, p := range d.Packages {
		p.manifest()
	}
	// A manifest tells the version as it is written; names are looked at again by it.
	d.Packages = nil
	for _, r := range all {
		r.mainVersion()
		r.guessName()
		key := r.skeleton()
		i := slices.IndexFunc(d.Packages, func(p *Package) bool { return p.all[0].skeleton() == key })
		if i < 0 {
			d.Packages = append(d.Packages, &Package{})
			i = len(d.Packages) - 1
		}
		d.Packages[i].all = append(d.Packages[i].all, r)
	}
	for _, p := range d.Packages {
		if !slices.ContainsFunc(p.all, func(r *reading) bool { return r.list != nil }) {
			continue
		}
		for _, r := range p.all {
			clear(r.claims)
			clear(r.listed)
			r.list = nil
		}
		p.manifest()
	}
	for _, p := range d.Packages {
		p.beside()
	}
	d.halves()
}

// halves finds downloads that bring the boot loader alone, where others bring the rest: their
// names say so, and they hold one image.
func (d *Draft) halves() {
	alone := func(p *Package) bool {
		return !slices.ContainsFunc(p.all, func(r *reading) bool {
			stem, _ := split(r.s.Name)
			return len(r.firmware()) != 1 || !bootWord.MatchString(stem)
		})
	}
	if !slices.ContainsFunc(d.Packages, func(p *Package) bool { return !alone(p) }) {
		return
	}
	for _, p := range d.Packages {
		if alone(p) {
			p.Components = []string{"boot"}
			for _, r := range p.all {
				r.boot = true
			}
		}
	}
}

// split cuts a package's name into its stem and what tells its kind.
func split(name string) (stem, tail string) {
	stem = name
	for ext := path.Ext(stem); ext != "" && len(ext) <= 5 && len(ext) > 1 && ext != stem && !isDigit(ext[1]); ext = path.Ext(stem) {
		stem, tail = strings.TrimSuffix(stem, ext), ext+tail
	}
	return stem, tail
}

var nameVersion = pattern.New(`(?i)(?:^|[-_ .])((?:v|r|rel|ver)?\.?\d+(?:[._]\d+)+(?:\(\d+\))?[a-z]{0,2}\d*(?:[-_.](?:b|bld|build|r|p)[.]?\d+)?|(?:19|20)\d\d[-_]?[01]\d[-_]?[0-3]\d[a-z]?|(?:v|r|rel|b|build)\d+(?:[-_.]?(?:b|bld|build|p)\d+)?|\d{3,}[a-z]?)(?:$|[-_ .])`)

// guessName finds what of the package's name says its version: the version of its main image in
// some spelling, else what looks like one.
func (r *reading) guessName() {
	stem, _ := split(r.s.Name)
	r.inName = ""
	if r.main != "" {
		if at := findVersion(stem, r.main); at != nil {
			r.inName = stem[at[0]:at[1]]
			return
		}
	}
	last := ""
	for from := 0; from < len(stem); {
		m := nameVersion.FindStringSubmatchIndex(stem[from:])
		if m == nil {
			break
		}
		last = stem[from+m[2] : from+m[3]]
		from += m[3]
	}
	r.inName = last
}

// findVersion finds a version in a name: as it is written, without the letters at its
// beginning, with other marks between its numbers, or without any.
func findVersion(stem, text string) []int {
	prefix, _, _, ok := cut(text)
	if !ok {
		return nil
	}
	body := text[len(prefix):]
	var b strings.Builder
	b.WriteString(`(?i)(?:^|[^0-9A-Za-z])(`)
	if prefix != "" {
		b.WriteString("(?:" + regexp.QuoteMeta(prefix) + ")?")
	} else {
		b.WriteString(`(?:v|r|rel)?`)
	}
	mark := false
	for _, c := range body {
		switch letter := isDigit(byte(c)) || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'; {
		case letter:
			b.WriteString(string(c))
			mark = false
		case !mark:
			b.WriteString(`[^0-9A-Za-z]*`)
			mark = true
		}
	}
	b.WriteString(`)(?:$|[^0-9A-Za-z])`)
	re, err := regexp.Compile(b.String())
	if err != nil {
		return nil
	}
	m := re.FindStringSubmatchIndex(stem)
	if m == nil {
		return nil
	}
	return m[2:4]
}

// skeleton is the package's name without its version.
func (r *reading) skeleton() string {
	if r.inName == "" {
		return r.s.Name
	}
	i := strings.LastIndex(r.s.Name, r.inName)
	return strings.ToLower(r.s.Name[:i]) + "\x00" + r.s.Name[i+len(r.inName):]
}

// mainVersion finds the version of the main image, by a manifest or a header.
func (r *reading) mainVersion() {
	for _, it := range r.firmware() {
		text, from := r.versionOf(it)
		if text != "" && (r.main == "" || !r.bootLike(it)) {
			if r.main, r.from = text, from; !r.bootLike(it) {
				return
			}
		}
	}
}

// bootLike tells whether an image seems to be a boot loader.
func (r *reading) bootLike(it *survey.Item) bool {
	if r.boot {
		return true
	}
	if c, _ := r.claim(it, fact.Component); c != "" {
		return bootWord.MatchString(c)
	}
	return bootWord.MatchString(strings.TrimSuffix(path.Base(it.Name), path.Ext(it.Name))) && len(r.firmware()) > 1
}

// bootWord are words in the names of boot loaders.
var bootWord = pattern.New(`(?i)(^|[^a-z])(u-?boot|boot|boot-?loader|boot-?rom|boot-?ldr|boot-?code|boot-?mon|loader|ldr|bl[123]?|spl|pre-?loader)([^a-z]|$)`)

// versionOf is what a manifest, the header or its title says.
func (r *reading) versionOf(it *survey.Item) (text, from string) {
	if t, from := r.claim(it, fact.Version); t != "" {
		return t, from
	}
	if it.Image == nil {
		return "", ""
	}
	if f, ok := it.Image.First(fact.Version); ok {
		return f.Value, f.Source.Where()
	}
	for _, f := range it.Image.All() {
		if f.About == fact.Title {
			if at := titleVersion(f.Value, r.inName); at != nil {
				return f.Value[at[0]:at[1]], f.Source.Where()
			}
		}
	}
	return "", ""
}

var titleVersions = pattern.New(`(?:^|\s)([A-Za-z]{0,3}[-_]?\d+(?:[._]\d+)+[\w().-]*(?: build \d+)?|[vVrR]\d+[\w().-]*|(?:19|20)\d\d[01]\d[0-3]\d)(?:\s|$)`)

// titleVersion finds the version in a title: one that is known, else one of numbers joined by
// points, else what looks like one.
func titleVersion(title string, known ...string) []int {
	for _, k := range known {
		if i := strings.Index(title, k); i >= 0 && k != "" && alone(title, i, i+len(k)) {
			return []int{i, i + len(k)}
		}
	}
	var best []int
	for from := 0; from < len(title); {
		m := titleVersions.FindStringSubmatchIndex(title[from:])
		if m == nil {
			break
		}
		at := []int{from + m[2], from + m[3]}
		if strings.Contains(title[at[0]:at[1]], ".") {
			return at
		}
		if best == nil {
			best = at
		}
		from = at[1]
	}
	return best
}

// beside finds checksum lists, notes and signatures.
func (p *Package) beside() {
	for _, r := range p.all {
		for _, it := range r.s.Items {
			name := path.Base(it.Name)
			lower := strings.ToLower(name)
			switch {
			case it == r.list:
			case it.Role == "checksums" && p.Sums == "":
				p.Sums = globOf(name)
			case notes.Named(it.Name) && slices.Contains([]string{"text", "html", "pdf"}, it.Kind):
				add(&p.Notes, "**/"+r.globName(it))
			case slices.Contains([]string{".sig", ".asc", ".p7s", ".sign"}, path.Ext(lower)) && p.Signed == "":
				p.Signed = globOf(name)
			}
		}
	}
}

// globOf matches a file by its ending; without one, by its name.
func globOf(name string) string {
	if ext := path.Ext(name); ext != "" && ext != name && !isDigit(ext[min(1, len(ext)-1)]) {
		return "**/*" + ext
	}
	return "**/" + name
}

// names makes the patterns of the packages' names, and joins entries that differ in a model
// only.
func (d *Draft) names() {
	var joined []*Package
	for _, p := range d.Packages {
		r := p.all[0]
		p.Title = "download such as " + r.s.Name
		p.File = d.filePattern(p)
		p.Guess = Guess{"is every download of this name of this kind?", r.s.Name}
		if n := len(p.all); n > 1 {
			p.Guess = Guess{fmt.Sprintf("do these %d differ in their version only?", n), r.s.Name + " and others"}
		}
		i := slices.IndexFunc(joined, func(o *Package) bool { return o.File == p.File && o.alike(p) })
		if i < 0 {
			joined = append(joined, p)
			continue
		}
		joined[i].all = append(joined[i].all, p.all...)
		joined[i].Guess = Guess{fmt.Sprintf("do these %d differ in their model and version only?", len(joined[i].all)), joined[i].all[0].s.Name + " and others"}
		if joined[i].Sums == "" {
			joined[i].Sums = p.Sums
		}
	}
	d.Packages = joined
}

// alike tells whether two entries read by the same manifest.
func (p *Package) alike(o *Package) bool {
	if p.Manifest == nil || o.Manifest == nil {
		return p.Manifest == o.Manifest
	}
	a, b := p.Manifest, o.Manifest
	return a.Form == b.Form && a.Heading == b.Heading && a.Record == b.Record && a.Groups == b.Groups && a.Records == b.Records && slices.Equal(a.Fields, b.Fields) && slices.Equal(a.GroupFields, b.GroupFields)
}

// filePattern reads the names of an entry's packages: the version as the line writes it, and a
// model where the name holds one of several.
func (d *Draft) filePattern(p *Package) string {
	r := p.all[0]
	name := r.s.Name
	if r.inName == "" {
		return "^" + d.withModel(name) + "$"
	}
	i := strings.LastIndex(name, r.inName)
	return "^" + d.withModel(name[:i]) + d.versionGroup(p) + d.withModel(name[i+len(r.inName):]) + "$"
}

// withModel is a part of a name as a pattern; a word of it that is one of several models is read.
func (d *Draft) withModel(part string) string {
	for _, w := range slices.Backward(nameWords(part)) {
		m := d.model(w)
		if m == nil {
			continue
		}
		before, after, _ := strings.Cut(part, w)
		if after != "" && isDigit(after[0]) {
			continue
		}
		model := regexp.QuoteMeta(w)
		if len(d.Models) > 1 {
			model = `(?P<model>` + modelShape(w) + `)`
		}
		return regexp.QuoteMeta(before) + model + m.withRevision(after)
	}
	return regexp.QuoteMeta(part)
}

var revisionWord = pattern.New(`^([-_ .])([A-Za-z]+\d{0,2})([-_ .]|$)`)

// withRevision is what stands behind a model in a name; a word that is one of several revisions
// of it is read.
func (m *Model) withRevision(part string) string {
	w := revisionWord.FindStringSubmatch(part)
	if w == nil || len(m.Revisions) < 2 || !slices.ContainsFunc(m.Revisions, func(r *Revision) bool { return strings.EqualFold(r.Name, w[2]) }) {
		return regexp.QuoteMeta(part)
	}
	return regexp.QuoteMeta(w[1]) + `(?P<revision>[A-Za-z]+\d{0,2})` + regexp.QuoteMeta(part[len(w[1])+len(w[2]):])
}

// modelShape reads models that are written like one.
func modelShape(w string) string {
	if nameModel.MatchString(w) {
		return `[A-Za-z]+-?\d+[A-Za-z]*`
	}
	return `[A-Za-z0-9]+`
}

var digitRun = pattern.New(`[0-9]+`)

// versionGroup reads the version in the names of an entry.
func (d *Draft) versionGroup(p *Package) string {
	v := d.Versions
	if len(v) == 0 || v[0].Pattern == "" {
		return `(?P<version>\w[\w.()-]*?)`
	}
	re := regexp.MustCompile(v[0].Pattern)
	plain := !slices.ContainsFunc(p.all, func(r *reading) bool { return !re.MatchString(r.inName) })
	if plain {
		return `(?P<version>` + v[0].unnamed() + `)`
	}
	v[0].Compact = true
	d.schemes["main"] = v[0].scheme()
	var shapes []string
	for _, r := range p.all {
		add(&shapes, digitRun.ReplaceAllString(regexp.QuoteMeta(r.inName), `\d+`))
	}
	if len(shapes) == 1 {
		return `(?P<version>` + shapes[0] + `)`
	}
	return `(?P<version>` + strings.Join(shapes, "|") + `)`
}
