package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/sign"
	"fitcheck/core/survey"
)

// surveyInFull shows the tree of items with all that is known of them.
func (s *Screen) surveyInFull(v *survey.Survey, shown map[*survey.Item]bool) {
	problems, notes := split(v.Problems)
	verdict := s.surveyHead(v)
	parts := map[string]bool{} // images whose parts are shown, by address
	for _, it := range v.Items {
		if it.Part && (shown == nil || shown[it]) {
			parts[it.Address[:strings.LastIndex(it.Address, "::")]] = true
		}
	}
	for _, it := range v.Items {
		if shown == nil || shown[it] {
			s.item(v, it, parts[it.Address])
		}
	}
	if n := len(v.Items) - len(shown); shown != nil && n > 0 {
		s.line(2, faint, fmt.Sprintf("and %s inside of images; -all lists them", count(n, "more item")))
	}
	s.problems("What is wrong", bad, v.Name, problems)
	s.problems("Worth knowing", info, v.Name, notes)
	if s.Width > 0 && s.All && len(v.Items) > manyItems { // the beginning has scrolled away
		s.blank()
		verdict()
	}
}

// surveyHead tells the verdict and what the rulebook, the name and signatures say. It gives
// what writes the verdict again.
func (s *Screen) surveyHead(v *survey.Survey) func() {
	problems, _ := split(v.Problems)
	title := fmt.Sprintf("%s  %s, %s", v.Name, count(len(v.Items), "item"), Bytes(v.Size))
	if v.Folder {
		title = fmt.Sprintf("%s  a folder of %s, %s", v.Name, count(len(v.Items), "item"), Bytes(v.Size))
	}
	verdict := func() {
		switch {
		case len(problems) == 0 && slices.ContainsFunc(v.Items, func(it *survey.Item) bool { return it.Quick }):
			s.hanging(s.paint(doubt, "NOT CHECKED IN FULL")+"  ", 21, strong, title+" (-quick)")
		case len(problems) == 0:
			s.hanging(s.paint(good, "SOUND")+"     ", 10, strong, title)
		default:
			s.hanging(s.paint(bad, strings.ToUpper(count(len(problems), "problem")))+"  ", 12, strong, title)
		}
	}
	verdict()
	if v.Entry != nil {
		t := "described by " + v.Rulebook.Source(v.Entry.Spot).Where()
		if v.Entry.Title.Set() {
			t += " as " + v.Entry.Title.Text
		}
		switch v.Entry.Handling.Text {
		case "unpacked":
			t += "; unpack it before it is served"
		case "whole":
			t += "; it must stay whole: serve it as downloaded"
		}
		s.line(2, plain, t)
	}
	for _, f := range v.NameClaim {
		s.line(2, plain, fmt.Sprintf("its name says %s %s, which proves nothing by itself", f.About, f.Text()))
	}
	for _, n := range v.Notes {
		s.line(2, info, inText(v.Name, n))
	}
	for _, g := range v.Signatures {
		s.line(2, signatureStyle(g.Outcome), fmt.Sprintf("signature of %s: %s, %s", within(v.Name, g.Of), g.Outcome, g.Because))
	}
	s.blank()
	return verdict
}

// manyItems is from how many items on a survey is longer than a screen.
const manyItems = 6

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
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

// telling are the items that are shown where not all are: of those inside images, the ones
// that say more than the image around them does, and what they lie in. nil stands for all.
func (s *Screen) telling(v *survey.Survey) map[*survey.Item]bool {
	if s.All {
		return nil
	}
	out := map[*survey.Item]bool{}
	for _, it := range v.Items {
		problems, _ := split(it.Problems)
		if !it.Part && !it.Within || it.Contents != nil || len(problems) > 0 || it.Within && it.Firmware() {
			out[it] = true
			for _, a := range v.Around(it) {
				out[a] = true
			}
		}
	}
	return out
}

// item shows an item with its details. opened says that its parts stand below it.
func (s *Screen) item(v *survey.Survey, it *survey.Item, opened bool) {
	indent := 2 * strings.Count(it.Address, "::")
	mark, st := "  ", plain
	if p, _ := split(it.Problems); len(p) > 0 {
		mark, st = "! ", bad
	}
	what := it.Kind
	if it.Role != "" {
		what += ", " + it.Role
	}
	if c := it.Component(); c != "" {
		what += ", " + c
	}
	name := it.Name
	lead := strings.Repeat(" ", indent) + s.paint(st, mark)
	s.hanging(lead, indent+2, strong, fmt.Sprintf("%s  (%s, %s)", name, what, Bytes(it.Size)))
	detail := func(label, t string) {
		s.hanging(strings.Repeat(" ", indent+6)+s.paint(faint, pad(label, 10)), indent+16, plain, t)
	}
	if d := it.Digests.Of("sha256"); d != "" {
		detail("sha256", d)
	}
	if c := it.Contents; c != nil {
		detail("holds", contentsText(c))
		if t := factsText(c.Facts); t != "" {
			detail("says", t)
		}
		for i := range c.List {
			s.hanging(strings.Repeat(" ", indent+16), indent+20, plain, listedText(&c.List[i]))
		}
	}
	if it.Image != nil {
		if t := headerFacts(it.Image); t != "" {
			detail("header", t)
		}
		if t := checksums(it.Image); t != "" {
			detail("checksums", t)
		}
		for _, c := range it.Image.Configs {
			detail("config", c.Name+": "+claimText(c.Facts))
		}
		if !opened {
			for _, t := range partLines(it.Image, "") {
				detail("part", t)
			}
		}
	}
	if it.Nature != "" {
		detail("looks", it.Nature)
	}
	s.deepMap(it.Map, it.Size, indent+6)
	if len(it.Versions) > 0 {
		detail("says", fact.Values(it.Versions))
	}
	for _, w := range it.Witnesses {
		if w.Kind != fact.Manifest {
			continue
		}
		for _, c := range w.Claims {
			detail("manifest", fmt.Sprintf("%s (%s)", claimText(c), within(v.Name, c[len(c)-1].Source.Where())))
		}
	}
	for _, g := range it.Signed {
		t := fmt.Sprintf("of %s: %s, %s", within(v.Name, g.Of), g.Outcome, g.Because)
		detail("signature", t)
	}
	for _, p := range it.Published {
		verdict := "is"
		if p.Wrong() {
			verdict = "is NOT"
		} else if !p.OK() {
			verdict = "was not computed to compare it with"
		}
		detail("published", fmt.Sprintf("%s %s the one in %s", algorithm(p.Sum.Algorithm), verdict, within(v.Name, p.Source.Where())))
	}
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

func (s *Screen) problems(title string, st style, pkg string, all []archive.Problem) {
	if len(all) == 0 {
		return
	}
	s.head(title)
	for _, p := range all {
		s.hanging("  "+s.paint(st, "! "), 4, plain, within(pkg, p.Item)+": "+inText(pkg, p.What))
		if p.Advice != "" {
			s.line(6, plain, "-> "+p.Advice)
		}
	}
}

// algorithm names a digest, and marks a weak one.
func algorithm(a digest.Algorithm) string {
	if a.Weak() {
		return string(a) + " (weak)"
	}
	return string(a)
}

func signatureStyle(o sign.Outcome) style {
	switch o {
	case sign.Verified:
		return good
	case sign.Failed, sign.Unread:
		return bad
	}
	return doubt
}
