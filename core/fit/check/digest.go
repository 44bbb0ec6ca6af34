package check

import (
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

var digestCheck = Register(&Check{Name: "digest", Column: "digest", Order: 20, Hardware: true, Bytes: true, Doc: "Is the digest the published one?"})

var (
	digestHolds     = digestCheck.Code("holds", Fits, "the published digest is the content's", "its %s is the published one%s", "")
	digestAround    = digestCheck.Code("holds_around", Fits, "the published digest of the archive around it holds", "the %s of the archive around it is the published one%s", "")
	digestDiffers   = digestCheck.Code("differs", Misfit, "the published digest is not the content's", "the %s of %s is not the one published in %s", "download the package again; if it stays so, ask the maker")
	digestRefused   = digestCheck.Code("refused", Misfit, "a published size or digest is not the content's", "%s", "download the package again; if it stays so, ask the maker")
	digestQuick     = digestCheck.Code("quick", Unsettled, "a digest is published, and was not computed", "a digest is published for it, and was not computed (-quick)", "match again without -quick before you install it")
	digestNotListed = digestCheck.Code("not_listed", Unsettled, "a checksum list is there, and does not speak of the image", "the checksum list %s does not list %s", "get a complete checksum list from the maker")
	digestNoList    = digestCheck.Code("no_list", Unsettled, "the rulebook says that there is a checksum list, and there is none", "the rulebook says there is a checksum list (%s), and there is none",
		"get the checksum list from the maker, or give the digest with -digest sha256:…")
	digestElsewhere = digestCheck.Code("differs_elsewhere", Unsettled, "the digest of another image, which came by the same way, is wrong", "%s, which is not the image chosen here, is damaged: %s", downloadAgain)
	digestNone      = digestCheck.Code("none_published", NotApplicable, "no digest was published with the package", "no digest was published with the package", "")
)

// publishedHolds returns a published digest that covers the item and holds: its
// own, or that of an archive around it.
func (c *Case) publishedHolds(it *survey.Item) (p *survey.Published, of *survey.Item) {
	for _, around := range append([]*survey.Item{it}, c.Survey.Around(it)...) {
		for i := range around.Published {
			if p := &around.Published[i]; p.OK() {
				return p, around
			}
		}
	}
	return nil, nil
}

func init() {
	digestCheck.Runs(PerImage((*Case).published), PerInstall(func(c *Case) []Line {
		return c.elsewhere(survey.Mismatch, digestElsewhere, digestRefused)
	}))
}

// published keeps what digest tells of an image.
func (c *Case) published(k Component, cand *Candidate) []Line {
	return c.keptLines(c.key("digest", k, cand.Item), func() []Line { return []Line{c.digest(k, cand.Item)} })
}

// digest holds the published digests of an image against its content.
func (c *Case) digest(k Component, it *survey.Item) Line {
	base := Line{Component: k.Name, Device: "none published", Package: it.Address}
	if bad, of := wrongDigest(append([]*survey.Item{it}, c.Survey.Around(it)...)); bad != nil {
		base.Device, base.Package = bad.Sum.String(), string(bad.Sum.Algorithm)+":"+bad.Got
		base.Cite(citePublished(of, *bad)...)
		return digestDiffers.become(base, bad.Sum.Algorithm, of.Address, bad.Source.Where())
	}
	for _, p := range it.Published {
		base.Cite(citePublished(it, p)...)
	}
	for _, p := range it.Problems {
		if p.Class == survey.Mismatch {
			base.Device = "what was published"
			base.Cite(Cited{OfStated, p.What, fact.Source{Kind: fact.Manifest, File: it.Address}}, ofContent(fmt.Sprintf("%d bytes", it.Size), it))
			return digestRefused.become(base, p.What).Advise("%s", p.Advice)
		}
	}
	if p, around := c.publishedHolds(it); p != nil {
		base.Device, base.Package = p.Sum.String(), string(p.Sum.Algorithm)+":"+p.Got
		weak := ""
		if p.Sum.Algorithm.Weak() {
			weak = fmt.Sprintf("; %s is weak: it shows that the file is whole, not that it is genuine", p.Sum.Algorithm)
		}
		if len(it.Published) > 0 {
			return digestHolds.become(base, p.Sum.Algorithm, weak)
		}
		base.Cite(citePublished(around, *p)...)
		return digestAround.become(base, p.Sum.Algorithm, weak)
	}
	of := c.Survey.PartOf(it.Address)
	e := of.Entry
	base.Cite(ofContent("not computed against anything", it))
	switch {
	case it.Quick && len(it.Published) > 0:
		return digestQuick.become(base)
	case len(of.Sums) > 0:
		base.Cite(Cited{OfStated, "not listed", fact.Source{Kind: fact.Checksums, File: of.Sums[0].Address}})
		return digestNotListed.become(base, of.Sums[0].Address, it.Address)
	case e != nil && e.Checksums.Set():
		base.Cite(Cited{OfRule, e.Checksums.Pattern, of.Rulebook.Source(e.Checksums.Spot)})
		return digestNoList.become(base, e.Checksums.Pattern)
	}
	base.Cite(Cited{OfStated, "none published", fact.Source{Kind: fact.FileName, File: c.Survey.Name}})
	return digestNone.become(base)
}

// wrongDigest finds a published digest that is not the content's, of an image or of
// an archive around it.
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
