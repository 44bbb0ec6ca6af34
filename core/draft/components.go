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

// mainWord are words for the system image.
var mainWord = pattern.New(`(?i)^(?:main\w*|sys\w*|os|firm\w*|fw|image|software|sw|runtime|app\w*|kernel|base|core|primary)$`)

// components finds what the images are for, in the order in which they are mostly installed: the
// boot loader, the system image, the rest. What a manifest calls them in its own words stands
// for boot and main.
func (d *Draft) components(all []*reading) {
	d.nameBootAndMain(all)
	order, found := d.componentsOf(all)
	for _, name := range order {
		c := &Component{Name: name, Optional: name != "main" && len(order) > 1}
		switch {
		case name == "boot":
			c.Guess = Guess{"is this the boot loader, and is it installed first?", found[name]}
		case name == "main":
			c.Guess = Guess{"is this the system image, and does every download have to bring it?", found[name]}
		default:
			c.Guess = Guess{fmt.Sprintf("is %s a part of the device with an image of its own, installed after the system image?", name), found[name]}
		}
		d.Components = append(d.Components, c)
	}
	if !slices.ContainsFunc(d.Components, func(c *Component) bool { return c.Name == "main" }) && len(d.Components) == 1 {
		d.Components[0].Optional = false
	}
	for _, p := range d.Packages {
		p.codes(d)
	}
}

// bootAndMain picks the words that stand for the boot loader and for the system by what they say; "" for none.
func bootAndMain(words []string) (boot, main string) {
	for _, w := range words {
		switch {
		case w == "boot" || boot != "boot" && bootWord.MatchString(w):
			boot = w
		case w == "main" || main == "" && mainWord.MatchString(w):
			main = w
		}
	}
	return boot, main
}

// nameBootAndMain tells which of the makers' words stands for the boot loader, and which for the system.
func (d *Draft) nameBootAndMain(all []*reading) {
	counts := map[string]int{}
	from := map[string]string{}
	var words []string
	sizes := map[string]int64{}
	unclaimed := false
	for _, r := range all {
		for _, it := range r.firmware() {
			text, where := r.claim(it, fact.Component)
			if text == "" {
				unclaimed = unclaimed || !r.bootLike(it)
				continue
			}
			key := strings.ToLower(text)
			if counts[key]++; counts[key] == 1 {
				words = append(words, key)
				from[key] = where
			}
			sizes[key] = max(sizes[key], it.Size)
		}
	}
	boot, main := bootAndMain(words)
	if main == "" && !unclaimed { // the largest is the system
		for _, w := range words {
			if w != boot && (main == "" || sizes[w] > sizes[main]) {
				main = w
			}
		}
	}
	if boot != "" {
		d.words[boot] = "boot"
	}
	if main != "" {
		d.words[main] = "main"
	}
}

// componentsOf lists what the packages bring, in the order of an install, and where each was seen first.
func (d *Draft) componentsOf(all []*reading) (order []string, found map[string]string) {
	found = map[string]string{}
	for _, r := range all {
		for _, it := range r.firmware() {
			name, where := d.component(r, it)
			if found[name] == "" {
				found[name] = where
				order = append(order, name)
			}
		}
	}
	if len(order) == 0 {
		order, found["main"] = []string{"main"}, "every device has one"
	}
	rank := func(name string) int { return map[string]int{"boot": -2, "main": -1}[name] }
	slices.SortStableFunc(order, func(a, b string) int { return rank(a) - rank(b) })
	return order, found
}

// codes gives the manifest's words for boot and main their meaning.
func (p *Package) codes(d *Draft) {
	if p.Manifest == nil {
		return
	}
	var words []string
	for _, r := range p.all {
		for _, it := range r.firmware() {
			if text, _ := r.claim(it, fact.Component); text != "" {
				add(&words, text)
			}
		}
	}
	for _, w := range words {
		if to := d.words[strings.ToLower(w)]; to != "" && to != w {
			p.Codes = append(p.Codes, [2]string{w, to})
		}
	}
}

// component is what an image seems to be for.
func (d *Draft) component(r *reading, it *survey.Item) (name, from string) {
	if text, where := r.claim(it, fact.Component); text != "" {
		name = strings.ToLower(text)
		if to := d.words[name]; to != "" {
			name = to
		}
		return name, where
	}
	if r.bootLike(it) {
		return "boot", "the name " + path.Base(it.Name)
	}
	if w := partWord.FindString(strings.ToLower(path.Base(it.Name))); w != "" && len(r.firmware()) > 1 {
		return w, "the name " + path.Base(it.Name)
	}
	return "main", "it is firmware: " + it.Address
}

// partWord are words in the names of images for other parts of a device.
var partWord = pattern.New(`\b(?:poe|fpga|cpld|modem|radio|mcu|bmc|phy)\b`)

// releases lists what each package brings.
func (d *Draft) releases(all []*reading) {
	for _, r := range all {
		rel := &Release{}
		var boots bool
		for _, it := range r.firmware() {
			component, _ := d.component(r, it)
			text, from := r.versionOf(it)
			if text == "" || slices.ContainsFunc(rel.Brings, func(b [2]string) bool { return b[0] == component }) {
				continue
			}
			rel.Brings = append(rel.Brings, [2]string{component, text})
			boots = boots || component == "boot"
			if component == "main" {
				rel.Version, rel.Guess = text, Guess{"is this a release of the line?", from}
			}
		}
		if rel.Version == "" && r.inName != "" && !(boots && len(rel.Brings) == 1) {
			rel.Version, rel.Guess = r.inName, Guess{"is this a release of the line?", "the name " + r.s.Name}
		}
		if rel.Version == "" {
			continue
		}
		i := slices.IndexFunc(d.Releases, func(o *Release) bool { return o.Version == rel.Version })
		if i < 0 {
			d.Releases = append(d.Releases, rel)
			continue
		}
		for _, b := range rel.Brings { // another model's package of the same release
			if !slices.ContainsFunc(d.Releases[i].Brings, func(o [2]string) bool { return o[0] == b[0] }) {
				d.Releases[i].Brings = append(d.Releases[i].Brings, b)
			}
		}
	}
	for _, rel := range d.Releases {
		slices.SortStableFunc(rel.Brings, func(a, b [2]string) int { return d.place(a[0]) - d.place(b[0]) })
	}
}

func (d *Draft) place(component string) int {
	return slices.IndexFunc(d.Components, func(c *Component) bool { return c.Name == component })
}

// Items are images of one component.
type Items struct {
	Glob, Component, Title string
	Guess                  Guess
}

// items finds, for each entry, which items are for what.
func (d *Draft) items() {
	for _, p := range d.Packages {
		for _, r := range p.all {
			for _, it := range r.firmware() {
				component, from := d.component(r, it)
				p.item(d, r, it, component, from)
			}
		}
		p.joinItems()
		// Where the manifest says what each file is for, and no title is read, it is enough.
		if p.Manifest != nil {
			p.Items = slices.DeleteFunc(p.Items, func(i *Items) bool { return i.Title == "" && p.claimed() })
		}
	}
}

// joinItems joins rules that differ in a folder only.
func (p *Package) joinItems() {
	var out []*Items
	for _, it := range p.Items {
		dir, base := path.Split(it.Glob)
		i := slices.IndexFunc(out, func(o *Items) bool {
			d, b := path.Split(o.Glob)
			return o.Component == it.Component && o.Title == it.Title && b == base && d != dir && strings.HasPrefix(b, "*.")
		})
		others := slices.ContainsFunc(p.Items, func(o *Items) bool { return o.Component != it.Component && strings.HasSuffix(o.Glob, base) })
		if i < 0 || others {
			out = append(out, it)
			continue
		}
		out[i].Glob = "**/" + base
	}
	p.Items = out
}

// claimed tells whether the manifest says of every image what it is for.
func (p *Package) claimed() bool {
	for _, r := range p.all {
		for _, it := range r.firmware() {
			if text, _ := r.claim(it, fact.Component); text == "" {
				return false
			}
		}
	}
	return true
}

func (p *Package) item(d *Draft, r *reading, it *survey.Item, component, from string) {
	glob := r.itemGlob(it)
	title := ""
	if it.Image != nil {
		if f, ok := it.Image.First(fact.Title); ok {
			title = d.titlePattern(r, f.Value)
		}
	}
	if r.s.IsRoot(it) {
		glob = "*" + path.Ext(it.Name)
	}
	for _, have := range p.Items {
		if have.Glob != glob {
			continue
		}
		if have.Component != component { // the glob does not tell them apart
			glob = "**/" + r.globName(it)
			break
		}
		have.Title = joinTitles(have.Title, title)
		return
	}
	if slices.ContainsFunc(p.Items, func(i *Items) bool { return i.Glob == glob }) {
		return
	}
	rule := &Items{glob, component, title, Guess{fmt.Sprintf("are all files of this name %s images?", component), from}}
	if strings.Contains(glob, "*.") { // the narrower ones first
		p.Items = append(p.Items, rule)
	} else {
		p.Items = append([]*Items{rule}, p.Items...)
	}
}

// itemGlob matches items like one: of its folder, where there is one below the package's own,
// and its ending.
func (r *reading) itemGlob(it *survey.Item) string {
	glob := globOf(r.globName(it))
	if dir := path.Base(path.Dir(it.Name)); dir != "." && dir != "/" && path.Dir(path.Dir(it.Name)) != "." && path.Ext(it.Name) != "" {
		glob = "**/" + dir + "/*" + path.Ext(it.Name)
	}
	if r.bootLike(it) && !strings.Contains(glob, "boot") { // by its name, not by its ending
		if w := bootWord.FindStringSubmatch(path.Base(it.Name)); w != nil {
			glob = "**/*" + w[2] + "*"
		}
	}
	return glob
}

// titlePattern makes a pattern of a header's title that reads model and version.
func (d *Draft) titlePattern(r *reading, title string) string {
	model := modelIn(title)
	if model == "" || d.model(model) == nil {
		return ""
	}
	at := titleVersion(title, r.main, r.inName)
	var b strings.Builder
	b.WriteString("^")
	rest := title
	i := strings.Index(rest, model)
	switch {
	case at == nil:
		b.WriteString(literal(rest[:i]) + `(?P<model>\S+)` + literal(rest[i+len(model):]))
	case i < at[0]:
		b.WriteString(literal(rest[:i]) + `(?P<model>\S+)` + literal(rest[i+len(model):at[0]]) + `(?P<version>` + wordsOf(rest[at[0]:at[1]]) + `)` + literal(rest[at[1]:]))
	default:
		b.WriteString(literal(rest[:at[0]]) + `(?P<version>` + wordsOf(rest[at[0]:at[1]]) + `)` + literal(rest[at[1]:i]) + `(?P<model>\S+)` + literal(rest[i+len(model):]))
	}
	return b.String() + "$"
}

// wordsOf reads a version of one word, or of as many as this one.
func wordsOf(t string) string {
	words := strings.Fields(t)
	for i, w := range words {
		if i == 0 || isDigit(w[0]) {
			words[i] = `\S+`
		} else {
			words[i] = regexp.QuoteMeta(w)
		}
	}
	return strings.Join(words, ` `)
}

// joinTitles is one pattern for what two read: words in which they differ are left open.
func joinTitles(a, b string) string {
	if a == "" {
		return b
	}
	if b == "" || a == b {
		return a
	}
	x, y := strings.Split(strings.Trim(a, "^$"), `\s+`), strings.Split(strings.Trim(b, "^$"), `\s+`)
	if len(x) != len(y) {
		return a
	}
	for i := range x {
		if x[i] != y[i] && !strings.Contains(x[i]+y[i], "(?P<") {
			x[i] = `\S+`
		} else if x[i] != y[i] {
			return a
		}
	}
	return "^" + strings.Join(x, `\s+`) + "$"
}
