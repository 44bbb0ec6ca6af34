package check

import (
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

var withdrawn = Register(&Check{Name: "withdrawn", Column: "path", Order: 140, Doc: "Does the release still stand?"})

var (
	withdrawnStands = withdrawn.Code("stands", Fits, "the release was not withdrawn", "the release was not withdrawn", "")
	withdrawnIs     = withdrawn.Code("withdrawn", Misfit, "the release was withdrawn", "release %s was withdrawn: %s", "do not install it; take a newer release")
	withdrawnAll    = withdrawn.Code("all_withdrawn", Misfit, "every release that brings this version of the component was withdrawn", "%s %s comes with release %s, which was withdrawn: %s", "do not install it; take a newer release")
)

func init() { withdrawn.Runs(PerInstall((*Case).stand)) }

// stand: what would be installed still stands.
func (c *Case) stand() []Line {
	var out []Line
	switch {
	case !c.BringsMain():
		for _, k := range c.Components() {
			out = append(out, c.Standing(k.Name, c.Chosen[k.Name])...)
		}
	case c.Chosen[c.Main()] != nil && c.Release.Rule != nil && c.Rules != nil:
		out = append(out, c.withdrawn(c.Release.Rule, c.citeRelease()))
	}
	return out
}

// withdrawn tells whether a release stands.
func (c *Case) withdrawn(rel *rulebook.Release, cited Cited) Line {
	base := Line{Device: "a release that stands", Package: "release " + rel.Version.Text, Sources: []Cited{cited}}
	if !rel.Withdrawn.Set() {
		return withdrawnStands.become(*base.Cite(c.ofRule("release "+rel.Version.Text, rel.Spot)))
	}
	said := "withdrawn"
	if d := c.Rules.Document(rel.Source); d != "" {
		said += ", " + d
	}
	return withdrawnIs.become(*base.Cite(c.ofRule(said, rel.Withdrawn.Spot)), rel.Version.Text, rel.Withdrawn.Text)
}

// Standing judges an image of a component that comes without the main image: by the
// releases that bring its version. One of them that stands is enough.
func (c *Case) Standing(component string, k *Candidate) []Line {
	if c.Rules == nil || k == nil {
		return nil
	}
	text, cited, known := c.said(component, k)
	if !known {
		return nil
	}
	all := c.bringing(component, text)
	if component == c.Main() {
		if rel := k.Release.Rule; rel != nil {
			return []Line{c.withdrawn(rel, cited)}
		}
		return nil
	}
	for _, rel := range all {
		if !rel.Withdrawn.Set() {
			return []Line{c.withdrawn(rel, cited)}
		}
	}
	if len(all) == 0 {
		return nil
	}
	rel := all[0]
	l := withdrawnAll.Line(component, component, text, rel.Version.Text, rel.Withdrawn.Text)
	l.Device, l.Package = "a release that stands", fmt.Sprintf("%s %s", component, text)
	return []Line{*l.Cite(cited, Cited{OfRule, "withdrawn", fact.Source{Kind: fact.Rulebook, File: c.Rules.File, Line: rel.Withdrawn.Line, Column: rel.Withdrawn.Column}})}
}
