package fit

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

// maxCited is how many checksums of one image are cited.
const maxCited = 8

const downloadAgain = "download the package again and compare its digest with the published one"

// intact checks one image: its own checksums and its structure.
func (j *judge) intact(c component, it *survey.Item) Check {
	ch := Check{Check: "intact", Component: c.name, Package: it.Address}
	here := fact.Source{Kind: fact.Header, File: it.Address}
	content := fact.Source{Kind: fact.Content, File: it.Address}
	if it.Image != nil {
		for _, sum := range it.Image.AllSums() {
			if len(ch.Sources) >= maxCited && sum.OK {
				continue
			}
			stated, got := here, content
			stated.Offset, stated.Size = sum.At, int64(len(sum.Want)/2)
			got.Offset, got.Size = sum.Over.From, sum.Over.To-sum.Over.From
			ch.Sources = append(ch.Sources, Cited{OfStated, sum.What + " " + sum.Want, stated}, Cited{OfPackage, sum.What + " " + sum.Got, got})
			if sum.Skipped {
				ch.Sources[len(ch.Sources)-1].Value = sum.What + " not computed"
			}
			if !sum.OK && !sum.Skipped && ch.Device == "" {
				ch.Device, ch.Package = sum.What+" "+sum.Want, sum.What+" "+sum.Got
			}
		}
	}
	if damage := it.Damage(); len(damage) > 0 {
		ch.Outcome, ch.Because, ch.Advice = Misfit, words(damage), downloadAgain
		if len(ch.Sources) == 0 {
			ch.Sources = append(ch.Sources, Cited{OfPackage, words(damage), content})
		}
		return ch
	}
	if len(ch.Sources) == 0 {
		ch.Sources = append(ch.Sources, Cited{OfPackage, it.Title(), content})
	}
	published, _ := j.publishedHolds(it)
	switch {
	case it.Quick:
		ch.Outcome = Unsettled
		ch.Because = "only its first bytes were read (-quick): nothing is known of the rest"
		ch.Advice = "match again without -quick before you install it"
	case it.Firmware():
		held := integrityOf(it)
		ch.Outcome, ch.Because, ch.Device = Fits, held+" hold", held
		if held == "" {
			ch.Because = "its structure is whole; it carries no checksum"
		}
	case it.Container != archive.None:
		ch.Outcome, ch.Because = Fits, "the archive and its checksums hold"
	case slices.Contains([]string{"html", "json", "pdf", "empty", "blank", "zeros"}, it.Kind):
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("it is not firmware at all: %s", it.Title())
		ch.Advice = downloadAgain
	case published != nil:
		ch.Outcome, ch.Because = Fits, "its format is not known, but a published digest holds for it"
		ch.Sources = append(ch.Sources, Cited{OfStated, published.Sum.String(), published.Source})
	default:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("its format (%s) carries no checksum that fitcheck knows, and no published digest speaks of it", it.Kind)
		ch.Advice = "compare it with a digest that the maker published: -digest sha256:…"
	}
	return ch
}

func integrityOf(it *survey.Item) string {
	if it.Image == nil {
		return ""
	}
	var held []string
	for _, s := range it.Image.AllSums() {
		held = append(held, s.What)
	}
	if len(held) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(held[:3], ", "), len(held)-3)
	}
	return strings.Join(held, " and ")
}

func words(problems []archive.Problem) string {
	var out []string
	for _, p := range problems {
		out = append(out, p.What)
	}
	return strings.Join(out, "; ")
}

// publishedHolds returns a published digest that covers the item and holds:
// its own, or that of an archive around it.
func (j *judge) publishedHolds(it *survey.Item) (p *survey.Published, of *survey.Item) {
	for _, around := range append([]*survey.Item{it}, j.s.Around(it)...) {
		for i := range around.Published {
			if p := &around.Published[i]; p.OK() {
				return p, around
			}
		}
	}
	return nil, nil
}

// digest holds the published digests of an image against its content.
func (j *judge) digest(c component, it *survey.Item) Check {
	ch := Check{Check: "digest", Component: c.name, Device: "none published", Package: it.Address}
	if bad, of := wrongDigest(append([]*survey.Item{it}, j.s.Around(it)...)); bad != nil {
		ch.Outcome, ch.Device, ch.Package = Misfit, bad.Sum.String(), string(bad.Sum.Algorithm)+":"+bad.Got
		ch.Because = fmt.Sprintf("the %s of %s is not the one that %s gives", bad.Sum.Algorithm, of.Address, bad.Source.Where())
		ch.Advice = "download the package again; if it stays so, ask the maker"
		ch.Sources = citePublished(of, *bad)
		return ch
	}
	for _, p := range it.Published {
		ch.Sources = append(ch.Sources, citePublished(it, p)...)
	}
	for _, p := range it.Problems {
		if p.Class == survey.Mismatch {
			ch.Outcome, ch.Because, ch.Advice = Misfit, p.What, p.Advice
			return ch
		}
	}
	if p, around := j.publishedHolds(it); p != nil {
		ch.Outcome, ch.Device, ch.Package = Fits, p.Sum.String(), string(p.Sum.Algorithm)+":"+p.Got
		ch.Because = fmt.Sprintf("its %s is the published one", p.Sum.Algorithm)
		if len(it.Published) == 0 {
			ch.Because = fmt.Sprintf("the %s of the archive around it is the published one", p.Sum.Algorithm)
			ch.Sources = append(ch.Sources, citePublished(around, *p)...)
		}
		if p.Sum.Algorithm.Weak() {
			ch.Because += fmt.Sprintf("; %s is weak: it shows that the file is whole, not that it is genuine", p.Sum.Algorithm)
		}
		return ch
	}
	of := j.s.PartOf(it.Address)
	e := of.Entry
	switch {
	case it.Quick && len(it.Published) > 0:
		ch.Outcome, ch.Because = Unsettled, "a digest is published for it, and was not computed (-quick)"
		ch.Advice = "match again without -quick before you install it"
	case len(of.Sums) > 0:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("the checksum list %s does not speak of %s", of.Sums[0].Address, it.Address)
		ch.Advice = "get a complete checksum list from the maker"
		ch.Sources = append(ch.Sources, Cited{OfPackage, "not listed", fact.Source{Kind: fact.Checksums, File: of.Sums[0].Address}})
	case e != nil && e.Checksums.Set():
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("the rulebook says there is a checksum list (%s), and there is none", e.Checksums.Pattern)
		ch.Advice = "get the checksum list from the maker, or give the digest with -digest sha256:…"
		ch.Sources = append(ch.Sources, Cited{OfRule, e.Checksums.Pattern, of.Rulebook.Source(e.Checksums.Spot)})
	default:
		ch.Outcome, ch.Because = NotApplicable, "no digest was published with the package"
	}
	return ch
}

// wrongDigest finds a published digest that is not the content's, of an image
// or of an archive around it.
func wrongDigest(items []*survey.Item) (*survey.Published, *survey.Item) {
	for _, it := range items {
		for i := range it.Published {
			if it.Published[i].Wrong() {
				return &it.Published[i], it
			}
		}
	}
	return nil, nil
}

func citePublished(it *survey.Item, p survey.Published) []Cited {
	return []Cited{{OfStated, p.Sum.String(), p.Source},
		{OfPackage, string(p.Sum.Algorithm) + ":" + p.Got, fact.Source{Kind: fact.Content, File: it.Address, Size: it.Size}}}
}

// packageChecks are about the packages as such.
func (j *judge) packageChecks() []Check {
	var out []Check
	for _, part := range j.s.Each() {
		out = append(out, opens(part)...)
		if !part.Broken() {
			out = append(out, handling(part)...)
			out = append(out, signatureChecks(part)...)
		}
	}
	return out
}

// opens tells whether a package and the archives in it could be read.
func opens(s *survey.Survey) []Check {
	ch := Check{Check: "intact", Package: s.Name, Outcome: Fits, Because: "the package opens, and its archives hold",
		Sources: []Cited{{OfPackage, s.Name, fact.Source{Kind: fact.Content, File: s.Name}}}}
	var notes []Check
	fail := func(o Outcome, p archive.Problem) {
		if o.rank() <= ch.Outcome.rank() {
			return
		}
		ch.Outcome, ch.Because, ch.Advice, ch.Package = o, p.Item+": "+p.What, p.Advice, p.Item
		ch.Sources = []Cited{{OfPackage, p.What, fact.Source{Kind: fact.Content, File: p.Item}}}
	}
	if root := s.Root(); root != nil && (root.Firmware() || root.Container == archive.None && root.Kind == "unknown") {
		return nil // one bare image: its own check says it all
	}
	for _, p := range s.Problems {
		it := s.Find(p.Item)
		switch p.Class {
		case archive.Damaged:
			if it == nil || it.Container != archive.None || it == s.Root() && !it.Firmware() {
				fail(Misfit, p)
			}
		case archive.Unreadable:
			if it == nil {
				fail(Unsettled, p)
			}
		case archive.Unsafe:
			notes = append(notes, Check{Check: "intact", Outcome: Note, Package: p.Item, Because: p.Item + ": " + p.What,
				Sources: []Cited{{OfPackage, p.What, fact.Source{Kind: fact.FileName, File: p.Item}}}})
		}
	}
	if len(s.Items) == 0 && ch.Outcome == Fits {
		ch.Outcome, ch.Because, ch.Advice = Misfit, "there is nothing in the package", "look whether this is the right folder"
	}
	return append([]Check{ch}, notes...)
}

// elsewhere: damage of an item that is for other devices leaves the matter
// unsettled for this one, because it came by the same way.
func (j *judge) elsewhere() []Check {
	var out []Check
	used := map[string]bool{}
	for _, c := range j.chosen {
		used[c.item.Address] = true
		for _, a := range j.s.Around(c.item) { // its own digest check speaks of them
			used[a.Address] = true
		}
	}
	for _, check := range []struct {
		name  string
		class archive.Class
	}{{"intact", archive.Damaged}, {"digest", survey.Mismatch}} {
		for _, it := range j.s.Items {
			if used[it.Address] || check.class == archive.Damaged && (it.Container != archive.None || !it.Firmware()) {
				continue
			}
			if ps := ofClass(it.Problems, check.class); len(ps) > 0 {
				ch := Check{Check: check.name, Outcome: Unsettled, Package: it.Address,
					Because: fmt.Sprintf("%s, which is not the image chosen here, is damaged: %s", it.Address, words(ps)),
					Advice:  downloadAgain,
					Sources: []Cited{{OfPackage, words(ps), fact.Source{Kind: fact.Content, File: it.Address}}}}
				if j.s.IsRoot(it) {
					ch.Outcome, ch.Because = Misfit, it.Address+": "+words(ps)
				}
				out = append(out, ch)
				break
			}
		}
	}
	return out
}

func ofClass(all []archive.Problem, c archive.Class) []archive.Problem {
	var out []archive.Problem
	for _, p := range all {
		if p.Class == c {
			out = append(out, p)
		}
	}
	return out
}
