package check

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/digest"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/survey"
)

var intact = Register(&Check{Name: "intact", Column: "whole", Order: 10, First: true, Hardware: true, Bytes: true, Doc: "Is the download whole: archives, headers and their checksums?"})

const downloadAgain = "download the package again and compare its digest with the published one"

var (
	intactSums      = intact.Code("checksums_hold", Fits, "every byte is covered by a checksum of the image's format that holds, or, where the format has none, by its structure", "%s", "")
	intactStructure = intact.Code("structure", Fits, "the format has no checksum; the image was read in full, and every size that it announces agrees", "its structure is whole and its sizes agree; it carries no checksum", "")
	intactOpens     = intact.Code("opens", Fits, "the package opens, and so do the archives in it", "the package opens, and its archives hold", "")
	intactByDigest  = intact.Code("by_digest", Fits, "nobody can look inside, or its format proves less, and a published digest or a signature holds for it", "%s; %s holds for it", "")
	intactDamaged   = intact.Code("damaged", Misfit, "it is truncated or damaged, or a checksum does not hold", "%s", downloadAgain)
	intactNotAtAll  = intact.Code("not_firmware", Misfit, "it is a page, a text, blank or empty", "it is not firmware at all: %s", downloadAgain)
	intactEmpty     = intact.Code("empty_package", Misfit, "there is nothing in the package", "there is nothing in the package", "look whether this is the right folder")
	intactQuick     = intact.Code("quick", Unsettled, "only its first bytes were read", "only its first bytes were read (-quick): nothing is known of the rest", "match again without -quick before you install it")
	intactUncovered = intact.Code("uncovered", Unsettled, "no checksum of its format, no digest and no signature covers some of its bytes; that of an archive around it does not count", "no checksum of its format, no digest and no signature covers %s (%s)%s",
		"compare it with a digest that the maker published: -digest sha256:…")
	intactBehind = intact.Code("image_behind", Unsettled, "a further image follows it in the same file", "a further image (%s) follows it, from byte %d on, and only the maker knows which of them starts",
		"compare it with a digest that the maker published: -digest sha256:…")
	intactCannotRead = intact.Code("cannot_read", Unsettled, "a part of the package could not be read by this program, which says nothing of the part", "%s", "compare it with a digest that the maker published: -digest sha256:…")
	intactElsewhere  = intact.Code("damaged_elsewhere", Unsettled, "another image, which came by the same way, is damaged", "%s, which is not the image chosen here, is damaged: %s", downloadAgain)
	intactUnsafe     = intact.Code("unsafe_name", Note, "something in the package has a name that is never written or followed", "%s: %s", "")
)

// maxCited is how many checksums of one image are cited.
const maxCited = 8

// whole keeps what intact tells of an image, which depends on its configuration, too.
func (c *Case) whole(k Component, cand *Candidate) []Line {
	key := c.key("intact", k, cand.Item)
	key.Text = c.Configuration(cand.Item)
	return c.keptLines(key, func() []Line { return []Line{c.intact(k, cand.Item)} })
}

// intact checks one image: its own checksums and its structure.
func (c *Case) intact(k Component, it *survey.Item) Line {
	base := Line{Component: k.Name, Package: it.Address, Device: "what its format asks for"}
	here := fact.Source{Kind: fact.Header, File: it.Address}
	content := fact.Source{Kind: fact.Content, File: it.Address, Size: it.Size}
	base.citeSums(it)
	if len(base.Sources) == 0 {
		base.Cite(Cited{OfStated, base.Device, here}, Cited{OfPackage, it.Title(), content})
	}
	if damage := it.Damage(); len(damage) > 0 {
		base.Cite(Cited{OfPackage, problemWords(damage), content})
		if slices.ContainsFunc(damage, func(p archive.Problem) bool { return !strings.HasPrefix(p.What, survey.NotFirmware) }) {
			return intactDamaged.become(base, problemWords(damage))
		}
		return intactNotAtAll.become(base, strings.ReplaceAll(problemWords(damage), survey.NotFirmware, ""))
	}
	if it.Quick {
		return intactQuick.become(base)
	}
	coverage := c.Survey.Coverage(it)
	weak, any := digest.Weakest(c.written(it, coverage))
	proven := any && weak.Holds && weak.By >= digest.ByListInside && weak.By != digest.ByChecksum
	if bare := c.notFirmware(it, proven); bare != "" {
		return intactNotAtAll.become(base, bare)
	}
	if what := lookedInto(it); what != "" {
		switch {
		case proven && weak.From == 0 && weak.To == it.Size:
			base.citeCover(it, weak)
			return intactByDigest.become(base, what, weak.Of)
		case len(unreadable(it)) > 0:
			return intactCannotRead.become(base, problemWords(unreadable(it)))
		}
		if !any || weak.By >= digest.ByListInside || weak.By == digest.ByStructure {
			weak = digest.Cover{Stretch: digest.Stretch{To: it.Size}}
		}
	}
	if b := behind(it); b != nil {
		over, _ := digest.Weakest(clip(coverage, b.From, b.To))
		if over.By < digest.ByListBeside {
			return intactBehind.become(base, b.Title, b.From)
		}
	}
	if !any { // nothing but padding
		return intactNotAtAll.become(base, "it holds nothing but padding")
	}
	return covered(base, it, weak)
}

// citeSums cites an image's own checksums, all that do not hold and some of those that do.
func (l *Line) citeSums(it *survey.Item) {
	if it.Image == nil {
		return
	}
	wrong := false
	for _, sum := range it.Image.AllSums() {
		if len(l.Sources) >= maxCited && sum.OK {
			continue
		}
		stated := fact.Source{Kind: fact.Header, File: it.Address, Offset: sum.At, Size: int64(len(sum.Want) / 2)}
		got := fact.Source{Kind: fact.Content, File: it.Address, Offset: sum.Over.From, Size: sum.Over.To - sum.Over.From}
		want, found := sum.What+" "+sum.Want, sum.What+" "+sum.Found()
		l.Cite(Cited{OfStated, want, stated}, Cited{OfPackage, found, got})
		if !sum.OK && !sum.Skipped && !wrong {
			wrong = true
			l.Device, l.Package = want, found
		}
	}
}

// citeCover cites what proves a stretch.
func (l *Line) citeCover(it *survey.Item, v digest.Cover) {
	l.Cite(Cited{OfStated, v.Of, fact.Source{Kind: fact.Header, File: it.Address}},
		Cited{OfPackage, proofWords(v), fact.Source{Kind: fact.Content, File: it.Address, Offset: v.From, Size: v.To - v.From}})
}

// lookedInto says why nobody looked inside of what is installed; "" where its format was read.
func lookedInto(it *survey.Item) string {
	switch unread := unreadable(it); {
	case len(unread) > 0:
		return problemWords(unread) + "; nobody looked inside"
	case it.Kind == "unknown":
		return "its format is not known; nobody looked inside"
	case it.Container != archive.None && !it.Firmware():
		return "it is installed as the archive that it is"
	case it.Unread:
		return "nobody looked inside"
	}
	return ""
}

// covered judges an image that nothing is wrong with by the weakest proof of its bytes.
func covered(base Line, it *survey.Item, weak digest.Cover) Line {
	switch {
	case !weak.Holds:
		base.citeCover(it, weak)
		return intactDamaged.become(base, weak.Of+" does not hold")
	case weak.By < digest.ByStructure:
		base.citeCover(it, weak)
		what := it.Title()
		if what == "" {
			what = "of no known format"
		}
		if it.Image != nil && it.Image.Extent > 0 && weak.From >= it.Image.Extent {
			what = "behind the image"
		}
		return intactUncovered.become(base, stretchWords(weak, it.Size), what, uncoveredBy(weak))
	}
	held := integrityOf(it)
	switch {
	case held != "":
		base.Device, base.Package = held, it.Address
		held += " hold"
		if weak.By == digest.ByStructure {
			base.citeCover(it, weak)
			held += fmt.Sprintf("; for %s its format has none, and all sizes agree", stretchWords(weak, it.Size))
		}
		return intactSums.become(base, held)
	case weak.By == digest.ByStructure:
		return intactStructure.become(base)
	}
	base.citeCover(it, weak)
	return intactByDigest.become(base, "its format carries no checksum", weak.Of)
}

// notFirmware tells what an image is that is none at all; "" for one that may be. A text
// may be installed where a digest holds for it.
func (c *Case) notFirmware(it *survey.Item, proven bool) string {
	switch it.Kind {
	case "html", "json", "xml", "pdf", "pem", "signature", "empty", "blank", "zeros":
		return it.Title()
	case "text", "yaml":
		if !proven {
			return it.Title()
		}
	}
	if it.Container == archive.None || it.Firmware() {
		return ""
	}
	inside := c.Survey.Inside(it) // what an archive that is taken for an image holds
	if len(inside) != 1 {
		return ""
	}
	if what := c.notFirmware(inside[0], proven); what != "" {
		return "it holds " + what
	}
	return ""
}

// unreadable lists what this program cannot read of an image.
func unreadable(it *survey.Item) []archive.Problem {
	var out []archive.Problem
	for _, p := range it.Problems {
		if p.Class == archive.Unreadable {
			out = append(out, p)
		}
	}
	return out
}

// behind is a further image behind one; nil for none.
func behind(it *survey.Item) *image.Behind {
	if it.Image == nil || it.Image.Behind == nil || it.Image.Behind.Kind == "" {
		return nil
	}
	return it.Image.Behind
}

func clip(all []digest.Cover, from, to int64) []digest.Cover {
	var out []digest.Cover
	for _, v := range all {
		if v.From, v.To = max(v.From, from), min(v.To, to); v.From < v.To {
			out = append(out, v)
		}
	}
	return out
}

// Proofs is the coverage of what would be written of an image for this device.
func (c *Case) Proofs(it *survey.Item) []digest.Cover { return c.written(it, c.Survey.Coverage(it)) }

// written is the coverage of what would be written of an image for this device: of one
// with several configurations, without the parts that the chosen one does not take.
func (c *Case) written(it *survey.Item, coverage []digest.Cover) []digest.Cover {
	config := c.Configuration(it)
	if config == "" {
		return coverage
	}
	var taken []string
	for _, conf := range it.Image.Configs {
		if conf.Name == config {
			taken = conf.Images
		}
	}
	out := coverage
	for _, p := range it.Image.Parts {
		if len(taken) == 0 || slices.Contains(taken, p.Name) {
			continue
		}
		out = append(clip(out, 0, p.Offset), clip(out, p.Offset+p.Size, it.Size)...)
	}
	return out
}

// proofWords say what a stretch is proven by.
func proofWords(v digest.Cover) string {
	what := fmt.Sprintf("%s: %s", v.By, v.Of)
	if v.Of == "" {
		what = "nothing covers it"
	}
	if !v.Holds {
		what += ", which does not hold"
	}
	return what
}

func stretchWords(v digest.Cover, size int64) string {
	if v.From == 0 && v.To == size {
		return "its bytes"
	}
	return fmt.Sprintf("its bytes %d to %d", v.From, v.To-1)
}

func uncoveredBy(v digest.Cover) string {
	if v.By == digest.ByArchive {
		return "; the " + v.Of + " alone does not make an image whole"
	}
	return ""
}

func integrityOf(it *survey.Item) string {
	if it.Image == nil {
		return ""
	}
	var held []string
	for _, s := range it.Image.AllSums() {
		if s.OK {
			held = append(held, s.What)
		}
	}
	if len(held) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(held[:3], ", "), len(held)-3)
	}
	return strings.Join(held, " and ")
}

func problemWords(problems []archive.Problem) string {
	var out []string
	for _, p := range problems {
		out = append(out, p.What)
	}
	return strings.Join(out, "; ")
}

func init() {
	intact.Runs(PerPackage(opens), PerImage((*Case).whole), PerInstall(func(c *Case) []Line {
		return c.elsewhere(archive.Damaged, intactElsewhere, intactDamaged)
	}))
}

// opens tells whether a package and the archives in it could be read.
func opens(s *survey.Survey) []Line {
	if root := s.Root(); root != nil && (root.Firmware() || root.Container == archive.None && root.Kind == "unknown") {
		return nil // one bare image: its own check says it all
	}
	sides := func(l Line, item, what string) Line {
		l.Device, l.Package = "a package that opens", item
		return *l.Cite(Cited{OfStated, l.Device, fact.Source{Kind: fact.FileName, File: s.Name}}, Cited{OfPackage, what, fact.Source{Kind: fact.Content, File: item}})
	}
	l := sides(intactOpens.Line(""), s.Name, "it opens")
	var notes []Line
	fail := func(k *Code, p archive.Problem) {
		if k.Outcome.Rank() > l.Outcome.Rank() {
			l = sides(k.Line("", p.Item+": "+p.What), p.Item, p.What)
			if p.Advice != "" {
				l.Advice = p.Advice
			}
		}
	}
	for _, p := range s.Problems {
		it := s.Find(p.Item)
		switch p.Class {
		case archive.Damaged:
			if it == nil || it.Container != archive.None || it == s.Root() && !it.Firmware() {
				fail(intactDamaged, p)
			}
		case archive.Unreadable:
			if it == nil || it.Container != archive.None {
				fail(intactCannotRead, p)
			}
		case archive.Unsafe:
			notes = append(notes, sides(intactUnsafe.Line("", p.Item, p.What), p.Item, p.What))
		}
	}
	if len(s.Items) == 0 && l.Outcome == Fits {
		l = sides(intactEmpty.Line(""), s.Name, "nothing")
	}
	return append([]Line{l}, notes...)
}

// elsewhere: damage of an item that is for other devices leaves the matter unsettled for
// this one, because it came by the same way. here is the reason where it is the package
// itself.
func (c *Case) elsewhere(class archive.Class, elsewhere, here *Code) []Line {
	used := c.used()
	for _, it := range c.Survey.Items {
		if used[it.Address] || it.Part || it.Within || class == archive.Damaged && (it.Container != archive.None || !it.Firmware()) {
			continue
		}
		var ps []archive.Problem
		for _, p := range it.Problems {
			if p.Class == class {
				ps = append(ps, p)
			}
		}
		if len(ps) == 0 {
			continue
		}
		l := elsewhere.Line("", it.Address, problemWords(ps))
		if c.Survey.IsRoot(it) {
			l = here.Line("", it.Address+": "+problemWords(ps))
		}
		l.Device, l.Package = "what came by the same way", it.Address
		l.Cite(Cited{OfStated, "whole", fact.Source{Kind: fact.Header, File: it.Address}}, ofContent(problemWords(ps), it))
		return []Line{l}
	}
	return nil
}

// used tells which items are chosen or left out, or hold one that is: the checks of the
// image speak of those.
func (c *Case) used() map[string]bool {
	out := map[string]bool{}
	for _, chosen := range []map[string]*Candidate{c.Chosen, c.Kept} {
		for _, k := range chosen {
			out[k.Item.Address] = true
			for _, a := range c.Survey.Around(k.Item) {
				out[a.Address] = true
			}
		}
	}
	return out
}
