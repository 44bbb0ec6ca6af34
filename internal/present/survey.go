package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/sign"
	"fitcheck/core/survey"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// SurveyPage tells what is in a package: first whether something is wrong, then the items, then
// the problems with advice. What is longer than a screen is a table of the items that matter;
// -all unfolds every item.
func SurveyPage(v *survey.Survey) *page.Page {
	p := &page.Page{Name: v.Name, Roomy: page.All}
	p.Add(surveyTitle(v), page.Fold{Flag: page.All, Title: "Every item", Closed: surveyAtAGlance(v), Inside: func() []page.Block { return surveyInFull(v) }})
	return p
}

// surveyTitle is the verdict, and what the rulebook, the name and signatures say.
func surveyTitle(v *survey.Survey) page.Title {
	problems, _ := split(v.Problems)
	t := page.Title{Flag: page.All, Text: fmt.Sprintf("%s  %s, %s", v.Name, wording.Count(len(v.Items), "item"), Bytes(v.Size))}
	if v.Folder {
		t.Text = fmt.Sprintf("%s  a folder of %s, %s", v.Name, wording.Count(len(v.Items), "item"), Bytes(v.Size))
	}
	switch {
	case len(problems) > 0:
		t.Word, t.Tone = strings.ToUpper(wording.Count(len(problems), "problem")), page.Bad
	case slices.ContainsFunc(v.Items, func(it *survey.Item) bool { return it.Quick }):
		t.Word, t.Tone = "NOT CHECKED IN FULL", page.Doubt
		t.Text += " (-quick)"
	default:
		t.Word, t.Tone = "SOUND", page.Good
	}
	say := func(tone page.Tone, text string) { t.About = append(t.About, page.Item{Text: text, Tone: tone}) }
	if v.Entry != nil {
		text := "described by " + v.Rulebook.Source(v.Entry.Spot).Where()
		if v.Entry.Title.Set() {
			text += " as " + v.Entry.Title.Text
		}
		switch v.Entry.Handling.Text {
		case "unpacked":
			text += "; unpack it before it is served"
		case "whole":
			text += "; it must stay whole: serve it as downloaded"
		}
		say(page.Plain, text)
	}
	for _, f := range v.NameClaim {
		say(page.Plain, fmt.Sprintf("its name says %s %s, which proves nothing by itself", f.About, f.Text()))
	}
	for _, n := range v.Notes {
		say(page.Info, inText(v.Name, n))
	}
	for _, g := range v.Signatures {
		say(signatureTone(g.Outcome), fmt.Sprintf("signature of %s: %s, %s", within(v.Name, g.Of), g.Outcome, g.Because))
	}
	return t
}

func split(all []archive.Problem) (problems, notes []archive.Problem) {
	for _, p := range all {
		if p.Class == archive.Note {
			notes = append(notes, p)
		} else {
			problems = append(problems, p)
		}
	}
	return problems, notes
}

// Of a survey at a glance.
const (
	surveyRows  = 18
	surveyKinds = 4 // of problems
	surveyNotes = 2 // of notes
	// surveyExamples is how many problems of a kind are told.
	surveyExamples = 3
	// shownRegions is how many regions a map may have that is shown at a glance.
	shownRegions = 16
	// folderShown is how much of the name of a folder is shown above what lies in it.
	folderShown = 22
)

// surveyAtAGlance is a table of the items that matter, a row for each file system, and the
// problems by their kind.
func surveyAtAGlance(v *survey.Survey) []page.Block {
	order, alike := worthARow(v)
	g := overview{v: v, order: order, alike: alike, folder: commonFolder(v, order), shown: map[*survey.Item]bool{}, systems: page.List{Most: surveyNotes + 4, Flag: page.All},
		t: page.Table{Columns: []page.Column{{Title: "item", Fitting: page.CutFront}, {Title: "kind"}, {Title: "size", Right: true}, {Title: "for", Fitting: page.Cut}, {Title: "version", Fitting: page.Cut}, {Title: "arch"}, {Title: "whole by", Fitting: page.Cut}}}}
	for _, i := range order {
		g.row(v.Items[i])
	}
	var out []page.Block
	if len(g.t.Rows) > 0 {
		out = append(out, g.table())
	}
	if text := restOf(v, g.shown); text != "" {
		out = append(out, page.Line{Text: text, Tone: page.Faint})
	}
	if len(g.systems.Items) > 0 {
		out = append(out, page.Gap{}, g.systems)
	}
	if len(g.maps) > 0 {
		out = append(append(out, page.Gap{}), g.maps...)
	}
	problems, notes := split(v.Problems)
	out = append(out, byKind("What is wrong", page.Bad, v.Name, problems, surveyKinds)...)
	return append(out, byKind("Worth knowing", page.Info, v.Name, notes, surveyNotes)...)
}

// worthARow picks the items that have a row of their own, in their order. Of many that are alike the first
// stands for all; alike is how many it stands for.
func worthARow(v *survey.Survey) (order []int, alike map[*survey.Item]int) {
	order = make([]int, 0, len(v.Items))
	for i, it := range v.Items {
		if itemWeight(it) < 9 {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return itemWeight(v.Items[a]) - itemWeight(v.Items[b]) })
	alike = manyAlike(v, order)
	order = slices.DeleteFunc(order, func(i int) bool { return alike[v.Items[i]] == 0 })
	order = order[:min(len(order), surveyRows)]
	slices.Sort(order)
	return order, alike
}

// overview gathers the rows of a survey.
type overview struct {
	v       *survey.Survey
	order   []int
	alike   map[*survey.Item]int
	folder  string // that all rows have in common
	shown   map[*survey.Item]bool
	t       page.Table
	systems page.List
	maps    []page.Block
}

func (g *overview) row(it *survey.Item) {
	g.shown[it] = true
	if it == g.v.Root() && it.Container != archive.None && len(it.Map) == 0 && len(g.order) > 1 { // the title is about it
		return
	}
	name := page.Span{Text: strings.TrimPrefix(strings.TrimPrefix(within(g.v.Name, it.Address), "::"), g.folder)}
	size := itemSize(it)
	if n := g.alike[it]; n > 1 { // one row for all of them
		folder := name.Text[:strings.LastIndexAny(name.Text, "/:")+1]
		name.Text, size = fmt.Sprintf("%s* (%d of them)", folder, n), ""
		for _, o := range g.v.Items {
			g.shown[o] = g.shown[o] || alikeKey(g.v, o) == alikeKey(g.v, it)
		}
	}
	if problems, _ := split(it.Problems); len(problems) > 0 {
		name.Tone = page.Bad
	}
	kind := strings.Join(slices.DeleteFunc([]string{it.Kind, it.Role, it.Component()}, func(t string) bool { return t == "" }), ", ")
	meant := saidOf(it, fact.Model)
	if rev := saidOf(it, fact.Revision); rev != "" {
		meant = strings.TrimSpace(meant + " rev " + rev)
	}
	version := saidOf(it, fact.Version)
	if it.Image != nil && version == "" {
		if t := fact.Values(ofName(it.Image.All(), image.Linux)); t != "" {
			version = "linux " + t
		}
	}
	g.t.Rows = append(g.t.Rows, []page.Span{name, {Text: kind}, {Text: size}, {Text: meant}, {Text: version}, {Text: saidOf(it, fact.Arch)}, whole(it)})
	if c := it.Contents; c != nil {
		text := contentsText(c)
		if facts := factsText(c.Facts); facts != "" {
			text += "; " + facts
		}
		g.systems.Items = append(g.systems.Items, page.Item{Marks: []page.Span{{Text: "files of", Tone: page.Faint}}, Text: name.Text + ": " + text})
	}
	if n := len(it.Map); n > 0 && n <= shownRegions {
		g.maps = append(g.maps, deepMap(it)...)
	}
}

// table is that of the rows, without columns of which nothing is said.
func (g *overview) table() page.Table {
	t := g.t
	if g.folder != "" {
		t.Columns[0].Title = "in " + g.folder
		if r := []rune(g.folder); len(r) > folderShown {
			t.Columns[0].Title = "in …" + string(r[len(r)-folderShown:])
		}
	}
	for i := len(t.Columns) - 1; i > 0; i-- {
		if !slices.ContainsFunc(t.Rows, func(r []page.Span) bool { return r[i].Text != "" }) {
			t.Columns = slices.Delete(t.Columns, i, i+1)
			for k := range t.Rows {
				t.Rows[k] = slices.Delete(t.Rows[k], i, i+1)
			}
		}
	}
	return t
}

// alikeFrom is from how many items on those of one folder and kind that say nothing more share
// a row.
const alikeFrom = 5

// manyAlike counts, for the first of items that share a row, how many they are; 1 for one that
// stands alone, none for those that stand in the row of another.
func manyAlike(v *survey.Survey, order []int) map[*survey.Item]int {
	count := map[string]int{}
	for _, i := range order {
		count[alikeKey(v, v.Items[i])]++
	}
	out := map[*survey.Item]int{}
	seen := map[string]bool{}
	for _, i := range order {
		it := v.Items[i]
		k := alikeKey(v, it)
		switch {
		case k == "" || count[k] < alikeFrom:
			out[it] = 1
		case !seen[k]:
			seen[k] = true
			out[it] = count[k]
		}
	}
	return out
}

// alikeKey is what items have in common that share a row; "" for one that says something of
// itself.
func alikeKey(v *survey.Survey, it *survey.Item) string {
	problems, _ := split(it.Problems)
	if it == v.Root() || len(problems) > 0 || it.Role != "" || it.Component() != "" || it.Contents != nil || len(it.Map) > 0 || itemWeight(it) == 9 {
		return ""
	}
	for _, n := range []fact.Name{fact.Model, fact.Revision, fact.Version} {
		if saidOf(it, n) != "" {
			return ""
		}
	}
	return it.Kind + " " + whole(it).Text + " " + it.Address[:strings.LastIndexAny(it.Address, "/:")+1]
}

// commonFolder is the folder that all of some items but the package lie in, with its slash; ""
// for none.
func commonFolder(v *survey.Survey, order []int) string {
	common, first := "", true
	for _, i := range order {
		it := v.Items[i]
		if it == v.Root() {
			continue
		}
		name := strings.TrimPrefix(within(v.Name, it.Address), "::")
		folder := name[:strings.LastIndexAny(name, "/:")+1]
		if first {
			common, first = folder, false
			continue
		}
		for !strings.HasPrefix(name, common) {
			common = common[:strings.LastIndexAny(strings.TrimRight(common, "/:"), "/:")+1]
		}
	}
	return common
}

// restOf counts the items that are not shown, by their kind.
func restOf(v *survey.Survey, shown map[*survey.Item]bool) string {
	rest := map[string]int{}
	n := 0
	for _, it := range v.Items {
		if !shown[it] && it != v.Root() {
			rest[it.Kind]++
			n++
		}
	}
	if n == 0 {
		return ""
	}
	var kinds []string
	for k := range rest {
		kinds = append(kinds, k)
	}
	slices.SortFunc(kinds, func(a, b string) int {
		if rest[a] != rest[b] {
			return rest[b] - rest[a]
		}
		return strings.Compare(a, b)
	})
	var of []string
	for _, k := range kinds[:min(len(kinds), 6)] {
		of = append(of, fmt.Sprintf("%d %s", rest[k], k))
	}
	if len(kinds) > 6 {
		of = append(of, "others")
	}
	return fmt.Sprintf("and %s (%s); -all lists every item with its digests", wording.Count(n, "more item"), strings.Join(of, ", "))
}

// whole says by what an item is known to be whole.
func whole(it *survey.Item) page.Span {
	if problems, _ := split(it.Problems); len(problems) > 0 {
		return page.Span{Text: string(problems[0].Class), Tone: page.Bad}
	}
	var by []string
	if it.Image != nil {
		skipped := false
		n := 0
		for _, s := range it.Image.AllSums() {
			skipped = skipped || s.Skipped
			if s.OK {
				n++
			}
		}
		switch {
		case skipped:
			return page.Span{Text: "not computed", Tone: page.Doubt}
		case n > 0:
			by = append(by, "checksum")
		}
	}
	for _, p := range it.Published {
		if p.OK() && !slices.Contains(by, "digest") {
			by = append(by, "digest")
		}
	}
	for _, g := range it.Signed {
		if g.Outcome == sign.Verified && !slices.Contains(by, "signature") {
			by = append(by, "signature")
		}
	}
	if len(by) == 0 {
		return page.Span{}
	}
	return page.Span{Text: strings.Join(by, ", "), Tone: page.Good}
}

// byKind tells problems by their kind: how many, the first of them, what to do.
func byKind(title string, tone page.Tone, pkg string, all []archive.Problem, most int) []page.Block {
	if len(all) == 0 {
		return nil
	}
	l := page.List{Most: most, Flag: page.All}
	for _, k := range archive.ByKind(all) {
		l.Items = append(l.Items, problemItem(k, tone, pkg))
	}
	return []page.Block{page.Head{Text: title}, l}
}

func problemItem(k archive.OfKind, tone page.Tone, pkg string) page.Item {
	first := k.Problems[0]
	it := page.Item{Marks: []page.Span{{Text: "!", Tone: tone}}, Text: within(pkg, first.Item) + ": " + inText(pkg, first.What)}
	if n := len(k.Problems); n > 1 {
		it.Text = fmt.Sprintf("%d items: %s", n, inText(pkg, k.Phrase()))
		for i, p := range k.Problems {
			if i == surveyExamples && n > surveyExamples+1 {
				it.Under = append(it.Under, page.Item{Text: fmt.Sprintf("and %d more; -all tells every one", n-i), Tone: page.Faint})
				break
			}
			text := within(pkg, p.Item)
			if p.What != k.Phrase() {
				text += ": " + inText(pkg, p.What)
			}
			it.Under = append(it.Under, page.Item{Text: text, Tone: page.Faint})
		}
	}
	if first.Advice != "" {
		it.Under = append(it.Under, page.Item{Marks: []page.Span{{Text: "->"}}, Text: inText(pkg, first.Advice)})
	}
	return it
}

// itemWeight says how much an item matters to somebody who looks at a survey.
func itemWeight(it *survey.Item) int {
	problems, _ := split(it.Problems)
	inner := it.Part || it.Within
	switch {
	case len(problems) > 0:
		return 0
	case it.Depth == 0 && it.Container != archive.None:
		return 1
	case it.Role != "":
		return 2
	case it.Firmware() && !inner && (it.Component() != "" || len(ofName(it.Image.All(), image.Linux)) > 0), it.Contents != nil:
		return 3
	case it.Firmware() && !inner && it.Kind != "elf" && it.Kind != "dtb": // modules and trees come in hundreds
		return 4
	case it.Firmware():
		return 5
	}
	return 9
}

// saidOf is what the strongest source says of an item that says anything of a thing.
func saidOf(it *survey.Item, n fact.Name) string {
	for _, kind := range []fact.Kind{fact.Manifest, fact.Header, fact.FileName} {
		if w, ok := it.Witness(kind); ok {
			if text := fact.Values(w.About(n)); text != "" {
				return text
			}
		}
	}
	if it.Image != nil {
		return fact.Values(ofName(it.Image.All(), n))
	}
	return ""
}

// surveyInFull is every item with all that is known of it, and every problem.
func surveyInFull(v *survey.Survey) []page.Block {
	parts := map[string]bool{} // images whose parts are items
	for _, it := range v.Items {
		if it.Part {
			parts[it.Address[:strings.LastIndex(it.Address, "::")]] = true
		}
	}
	out := []page.Block{page.Gap{}}
	for _, it := range v.Items {
		out = append(out, item(v, it, parts[it.Address])...)
	}
	problems, notes := split(v.Problems)
	for _, x := range []struct {
		title string
		tone  page.Tone
		all   []archive.Problem
	}{{"What is wrong", page.Bad, problems}, {"Worth knowing", page.Info, notes}} {
		out = append(out, eachProblem(x.title, x.tone, v.Name, x.all)...)
	}
	return out
}

// eachProblem tells every problem.
func eachProblem(title string, tone page.Tone, pkg string, all []archive.Problem) []page.Block {
	if len(all) == 0 {
		return nil
	}
	var l page.List
	for _, p := range all {
		l.Items = append(l.Items, problemItem(archive.OfKind{Problems: []archive.Problem{p}}, tone, pkg))
	}
	return []page.Block{page.Head{Text: title}, l}
}

// item is an item with its details. opened says that its parts stand below it.
func item(v *survey.Survey, it *survey.Item, opened bool) []page.Block {
	mark := page.Span{Text: " "}
	if p, _ := split(it.Problems); len(p) > 0 {
		mark = page.Span{Text: "!", Tone: page.Bad}
	}
	what := it.Kind
	if it.Role != "" {
		what += ", " + it.Role
	}
	if c := it.Component(); c != "" {
		what += ", " + c
	}
	line := page.Item{Marks: []page.Span{mark}, Text: fmt.Sprintf("%s  (%s, %s)", it.Name, what, itemSize(it)), Tone: page.Strong}
	depth := 2 * strings.Count(it.Address, "::")
	out := []page.Block{page.List{Items: []page.Item{line}, Indent: depth - 2}, page.List{Items: append(ownWords(it, opened), othersWords(v, it)...), Indent: depth + 4}}
	for _, b := range deepMap(it) {
		switch b := b.(type) {
		case page.Bar:
			b.Indent += depth
			out = append(out, b)
		case page.List:
			b.Indent += depth
			out = append(out, b)
		}
	}
	return out
}

// details are lines below an item, each with a label.
type details []page.Item

func (d *details) add(label, text string) {
	*d = append(*d, page.Item{Marks: []page.Span{{Text: label, Tone: page.Faint}}, Text: text})
}

// ownWords is what an item says of itself: its digest, its files, its header. opened: its parts are items of
// their own.
func ownWords(it *survey.Item, opened bool) details {
	var d details
	if sum := it.Digests.Of("sha256"); sum != "" {
		d.add("sha256", sum)
	}
	if c := it.Contents; c != nil {
		d.add("holds", contentsText(c))
		if t := factsText(c.Facts); t != "" {
			d.add("says", t)
		}
		for i := range c.List {
			d.add("", listedText(&c.List[i]))
		}
	}
	if it.Image != nil {
		if t := headerFacts(it.Image); t != "" {
			d.add("header", t)
		}
		if t := checksums(it.Image); t != "" {
			d.add("checksums", t)
		}
		for _, c := range it.Image.Configs {
			d.add("config", c.Name+": "+claimText(c.Facts))
		}
		if !opened {
			for _, t := range partLines(it.Image, "") {
				d.add("part", t)
			}
		}
	}
	if it.Nature != "" {
		d.add("looks", it.Nature)
	}
	if len(it.Versions) > 0 {
		d.add("says", fact.Values(it.Versions))
	}
	return d
}

// othersWords is what others say of an item: manifests, signatures, published digests.
func othersWords(v *survey.Survey, it *survey.Item) details {
	var d details
	for _, w := range it.Witnesses {
		if w.Kind != fact.Manifest {
			continue
		}
		for _, c := range w.Claims {
			d.add("manifest", fmt.Sprintf("%s (%s)", claimText(c), within(v.Name, c[len(c)-1].Source.Where())))
		}
	}
	for _, g := range it.Signed {
		d.add("signature", fmt.Sprintf("of %s: %s, %s", within(v.Name, g.Of), g.Outcome, g.Because))
	}
	for _, p := range it.Published {
		verdict := "is"
		if p.Wrong() {
			verdict = "is NOT"
		} else if !p.OK() {
			verdict = "was not computed to compare it with"
		}
		d.add("published", fmt.Sprintf("%s %s the one in %s", algorithm(p.Sum.Algorithm), verdict, within(v.Name, p.Source.Where())))
	}
	return d
}

func headerFacts(m *image.Image) string {
	var parts []string
	for _, n := range []fact.Name{fact.Title, fact.Model, fact.Revision, fact.Version, fact.Arch, fact.OS, fact.Type, fact.Board, image.BuildID, image.Linux, image.OSRelease, image.VersionFile} {
		t := fact.Values(ofName(m.Facts, n))
		if t == "" {
			continue
		}
		switch n {
		case fact.Title:
			t = fmt.Sprintf("%q", t)
		case fact.Arch, fact.OS, fact.Type:
		default:
			t = string(n) + " " + t
		}
		parts = append(parts, t)
	}
	if m.Compression != "" && m.Compression != "none" && m.Compression != m.Format {
		parts = append(parts, m.Compression)
	}
	if f, ok := m.First(fact.Built); ok {
		parts = append(parts, "built "+f.Value)
	}
	return strings.Join(parts, ", ")
}

func ofName(facts []fact.Fact, n fact.Name) []fact.Fact { return fact.Claim(facts).About(n) }

// partLines describes the parts of an image, a line each.
func partLines(m *image.Image, lead string) []string {
	var out []string
	for _, p := range m.Parts {
		if len(m.Parts) == 1 && p.Compression == "" && (p.Kind == "" || p.Kind == "unknown") && p.Image == nil {
			continue // a payload of which nothing is known is not worth a line
		}
		t := lead + partText(p)
		if p.Image != nil {
			if facts := headerFacts(p.Image); facts != "" {
				t += " (" + facts + ")"
			}
			if c := p.Image.Contents; c != nil {
				t += ", holds " + contentsText(c)
			}
		}
		out = append(out, t)
		if p.Image != nil {
			out = append(out, partLines(p.Image, lead+"  ")...)
		}
	}
	return out
}

// found is what the content gives for a checksum; in words where bytes of it are missing, since what the rest gives
// says nothing.
func found(s image.Sum) string {
	if s.Missing > 0 {
		return s.Found()
	}
	return s.Got
}

// checksums says how the checksums of an image and its parts came out; many
// that hold are counted.
func checksums(m *image.Image) string {
	var parts, held []string
	for _, s := range m.AllSums() {
		switch {
		case s.OK:
			held = append(held, s.What)
		case s.Skipped:
			parts = append(parts, s.What+" not computed (-quick)")
		case s.Counts != "" || s.Missing > 0:
			parts = append(parts, fmt.Sprintf("%s does NOT hold (%s)", s.What, cmp.Or(s.Counts, s.Found())))
		default:
			parts = append(parts, fmt.Sprintf("%s does NOT match (says %s, is %s)", s.What, s.Want, s.Got))
		}
	}
	switch {
	case len(held) > 4:
		parts = append(parts, fmt.Sprintf("%d hold", len(held)))
	default:
		for _, h := range held {
			verb := " holds"
			if strings.HasPrefix(h, "CRCs") || strings.HasPrefix(h, "checksums") {
				verb = " hold"
			}
			parts = append(parts, h+verb)
		}
	}
	return strings.Join(parts, ", ")
}

// claimText lists the facts of a claim, grouped by what they are about.
func claimText(c fact.Claim) string {
	var order []fact.Name
	for _, f := range c {
		if !slices.Contains(order, f.About) {
			order = append(order, f.About)
		}
	}
	var parts []string
	for _, n := range order {
		parts = append(parts, fmt.Sprintf("%s %s", n, fact.Values(c.About(n))))
	}
	return strings.Join(parts, "; ")
}

// algorithm names a digest, and marks a weak one.
func algorithm(a digest.Algorithm) string {
	if a.Weak() {
		return string(a) + " (weak)"
	}
	return string(a)
}

func signatureTone(o sign.Outcome) page.Tone {
	switch o {
	case sign.Verified:
		return page.Good
	case sign.Failed, sign.Unread:
		return page.Bad
	}
	return page.Doubt
}

// itemSize is the size of an item; of one of which a quick look saw the beginning only it is not known.
func itemSize(it *survey.Item) string {
	if it.Quick && it.Size == 0 {
		return "size not known"
	}
	return Bytes(it.Size)
}
