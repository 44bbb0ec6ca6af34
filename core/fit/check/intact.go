package check

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

var intact = Register(&Check{Name: "intact", Order: 10, First: true, Hardware: true, Doc: "Is the download whole: archives, headers and their checksums?"})

const downloadAgain = "download the package again and compare its digest with the published one"

var (
	intactSums      = intact.Code("checksums_hold", Fits, "the checksums of the image's format hold", "%s hold", "")
	intactStructure = intact.Code("structure", Fits, "the format has no checksum, and the structure is whole", "its structure is whole; it carries no checksum", "")
	intactArchive   = intact.Code("archive_holds", Fits, "the archive and its checksums hold", "the archive and its checksums hold", "")
	intactOpens     = intact.Code("opens", Fits, "the package opens, and so do the archives in it", "the package opens, and its archives hold", "")
	intactByDigest  = intact.Code("by_digest", Fits, "its format is not known, and a published digest holds for it", "its format is not known, but a published digest holds for it", "")
	intactDamaged   = intact.Code("damaged", Misfit, "it is truncated or damaged, or a checksum does not hold", "%s", downloadAgain)
	intactNotAtAll  = intact.Code("not_firmware", Misfit, "it is a page, a text, blank or empty", "it is not firmware at all: %s", downloadAgain)
	intactEmpty     = intact.Code("empty_package", Misfit, "there is nothing in the package", "there is nothing in the package", "look whether this is the right folder")
	intactQuick     = intact.Code("quick", Unsettled, "only its first bytes were read", "only its first bytes were read (-quick): nothing is known of the rest", "match again without -quick before you install it")
	intactUncovered = intact.Code("uncovered", Unsettled, "no checksum and no digest speaks of it", "its format (%s) carries no checksum that fitcheck knows, and no published digest speaks of it",
		"compare it with a digest that the maker published: -digest sha256:…")
	intactCannotRead = intact.Code("cannot_read", Unsettled, "a part of the package could not be read", "%s", "")
	intactElsewhere  = intact.Code("damaged_elsewhere", Unsettled, "another image, which came by the same way, is damaged", "%s, which is not the image chosen here, is damaged: %s", downloadAgain)
	intactUnsafe     = intact.Code("unsafe_name", Note, "something in the package has a name that is never written or followed", "%s: %s", "")
)

// maxCited is how many checksums of one image are cited.
const maxCited = 8

// intact checks one image: its own checksums and its structure.
func (c *Case) intact(k Component, it *survey.Item) Line {
	base := Line{Component: k.Name, Package: it.Address, Device: "what its format asks for"}
	here := fact.Source{Kind: fact.Header, File: it.Address}
	content := fact.Source{Kind: fact.Content, File: it.Address, Size: it.Size}
	wrong := false
	if it.Image != nil {
		for _, sum := range it.Image.AllSums() {
			if len(base.Sources) >= maxCited && sum.OK {
				continue
			}
			stated, got := here, content
			stated.Offset, stated.Size = sum.At, int64(len(sum.Want)/2)
			got.Offset, got.Size = sum.Over.From, sum.Over.To-sum.Over.From
			value := sum.What + " " + sum.Got
			if sum.Skipped {
				value = sum.What + " not computed"
			}
			base.Cite(Cited{OfStated, sum.What + " " + sum.Want, stated}, Cited{OfPackage, value, got})
			if !sum.OK && !sum.Skipped && !wrong {
				wrong = true
				base.Device, base.Package = sum.What+" "+sum.Want, sum.What+" "+sum.Got
			}
		}
	}
	if len(base.Sources) == 0 {
		base.Cite(Cited{OfStated, base.Device, here}, Cited{OfPackage, it.Title(), content})
	}
	if damage := it.Damage(); len(damage) > 0 {
		base.Cite(Cited{OfPackage, problemWords(damage), content})
		return intactDamaged.become(base, problemWords(damage))
	}
	published, _ := c.publishedHolds(it)
	switch {
	case it.Quick:
		return intactQuick.become(base)
	case it.Firmware():
		held := integrityOf(it)
		if held == "" {
			return intactStructure.become(base)
		}
		base.Device, base.Package = held, it.Address
		return intactSums.become(base, held)
	case it.Container != archive.None:
		return intactArchive.become(base)
	case slices.Contains([]string{"html", "json", "pdf", "empty", "blank", "zeros"}, it.Kind) || c.Rules == nil && it.Kind != "unknown":
		return intactNotAtAll.become(base, it.Title())
	case published != nil:
		base.Cite(Cited{OfStated, published.Sum.String(), published.Source})
		return intactByDigest.become(base)
	}
	return intactUncovered.become(base, it.Kind)
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
			if it == nil {
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

// Elsewhere: damage of an item that is for other devices leaves the matter
// unsettled for this one, because it came by the same way.
func (c *Case) Elsewhere() []Line {
	used := map[string]bool{}
	for _, chosen := range []map[string]*Candidate{c.Chosen, c.Kept} {
		for _, k := range chosen {
			used[k.Item.Address] = true
			for _, a := range c.Survey.Around(k.Item) { // its own digest check speaks of them
				used[a.Address] = true
			}
		}
	}
	var out []Line
	find := func(class archive.Class, elsewhere, here *Code) {
		for _, it := range c.Survey.Items {
			if used[it.Address] || class == archive.Damaged && (it.Container != archive.None || !it.Firmware()) {
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
			out = append(out, l)
			return
		}
	}
	find(archive.Damaged, intactElsewhere, intactDamaged)
	find(survey.Mismatch, digestElsewhere, digestRefused)
	return out
}
