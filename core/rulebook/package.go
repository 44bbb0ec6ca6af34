package rulebook

import (
	"fitcheck/core/archive"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fact"
	y "fitcheck/core/yamlfile"
)

// StandsFor is what a download of some name is, by the rulebook's word alone.
type StandsFor struct {
	y.Spot
	Family     y.String `yaml:"family" doc:"the image family that it brings"`
	FromFamily y.String `yaml:"from_family" doc:"the image family that a device must run for it"`
}

// Code gives meaning to what a group of a pattern reads.
type Code struct {
	y.Spot
	Fact  y.String        `yaml:"fact" doc:"the name of a fact: platform, revision …"`
	Codes y.Map[y.String] `yaml:"codes" doc:"what is read to what it means; another text is no value that is known"`
}

// ByDigest is an image that is known by its digest: one that carries no identity of its own.
type ByDigest struct {
	y.Spot
	SHA256    y.String   `yaml:"sha256"`
	Component y.String   `yaml:"component"`
	Version   y.String   `yaml:"version"`
	Families  []y.String `yaml:"families"`
	Models    []y.String `yaml:"models"`
	Revisions []y.String `yaml:"revisions"`
	Source    y.String   `yaml:"source" doc:"key of a document under sources"`
}

// Sum is its digest.
func (b *ByDigest) Sum() digest.Sum {
	return digest.Sum{Algorithm: digest.SHA256, Hex: strings.ToLower(b.SHA256.Text)}
}

// Claim is what the rulebook says of it.
func (b *ByDigest) Claim(r *Rulebook) fact.Claim {
	var out fact.Claim
	add := func(about fact.Name, texts ...y.String) {
		for _, t := range texts {
			if t.Set() {
				out = append(out, r.fact(about, t))
			}
		}
	}
	add(fact.Component, b.Component)
	add(fact.Version, b.Version)
	add(fact.Family, b.Families...)
	add(fact.Model, b.Models...)
	add(fact.Revision, b.Revisions...)
	return out
}

func (c *checker) byDigest() {
	seen := map[string]int{}
	for i := range c.r.ByDigest {
		b := &c.r.ByDigest[i]
		if _, err := digest.Check(digest.SHA256, b.SHA256.Text); err != nil {
			c.fail(b.Spot, fmt.Sprintf("sha256 %q is no SHA-256", b.SHA256.Text), "write the 64 digits of the image's digest")
			continue
		}
		key := strings.ToLower(b.SHA256.Text)
		if line, twice := seen[key]; twice {
			c.fail(b.SHA256.Spot, fmt.Sprintf("this digest stands in line %d already", line), "put what is said of one image into one entry")
		}
		seen[key] = b.Line
		if len(b.Models) == 0 {
			c.fail(b.Spot, "an entry of by_digest needs models: whom the image is for", "")
		}
		for _, t := range b.Revisions {
			if !c.r.KnowsRevision(b.Models, t.Text) {
				c.fail(t.Spot, fmt.Sprintf("%q is no hardware revision of %s", t.Text, texts(b.Models)), "")
			}
		}
		if b.Version.Set() && b.Component.Set() {
			c.parse(b.Component.Text, b.Version)
		}
	}
}

func texts(list []y.String) string {
	var out []string
	for _, t := range list {
		out = append(out, t.Text)
	}
	return strings.Join(out, ", ")
}

// outerKinds are the kinds that a download can be as a whole.
func outerKinds() []string {
	var out []string
	for _, c := range archive.Containers() {
		out = append(out, string(c))
	}
	return out
}

// words checks what an entry says beside its patterns.
func (c *checker) words(p *Package) {
	if t := p.Outer; t.Set() && !slices.Contains(outerKinds(), t.Text) {
		c.fail(t.Spot, fmt.Sprintf("outer is the kind of the whole file, and %q is none", t.Text), "kinds are "+strings.Join(outerKinds(), ", "))
	}
	if s := p.StandsFor; s != nil && !s.Family.Set() && !s.FromFamily.Set() {
		c.fail(s.Spot, "stands_for says nothing", "add family:, or from_family:")
	}
	for _, e := range p.Codes.Entries {
		if _, _, ok := fact.Lookup(e.Value.Fact.Text); !ok {
			c.fail(e.Spot, fmt.Sprintf("codes.%s needs fact: the name of one", e.Key), "facts are "+strings.Join(sorted(fact.Names()), ", "))
		}
		if len(e.Value.Codes.Entries) == 0 {
			c.fail(e.Spot, fmt.Sprintf("codes.%s gives no codes", e.Key), "add codes: {3: physical}")
		}
		if !slices.ContainsFunc(p.patterns(), func(re *regexp.Regexp) bool { return re.SubexpIndex(e.Key) > 0 }) && !p.Manifest.hasField(e.Key) {
			c.fail(e.Spot, fmt.Sprintf("no pattern of this entry has the group %s, and no field of its manifest is called so", e.Key), fmt.Sprintf("write (?P<%s>…) where it is read", e.Key))
		}
	}
}

func sorted(list []string) []string {
	slices.Sort(list)
	return list
}

// hasField tells whether a field of a document is called so.
func (m *ManifestRule) hasField(name string) bool {
	if m == nil {
		return false
	}
	_, ok := m.Fields.Get(name)
	_, ofGroup := m.GroupFields.Get(name)
	return ok || ofGroup
}

// patterns are all of an entry.
func (p *Package) patterns() []*regexp.Regexp {
	all := []*regexp.Regexp{p.File.Regexp}
	if m := p.Manifest; m != nil {
		all = append(all, m.Heading.Regexp, m.Record.Regexp)
	}
	for i := range p.Items {
		all = append(all, p.Items[i].Title.Regexp)
	}
	return slices.DeleteFunc(all, func(re *regexp.Regexp) bool { return re == nil })
}

// Meaning turns what a group read into the fact that it stands for: the group itself, where
// no codes are given for it. A text that is no code stays as it was read, and so names
// nothing that the rulebook knows.
func (p *Package) Meaning(group, text string) (fact, value string) {
	if p == nil {
		return group, text
	}
	e, ok := p.Codes.Get(group)
	if !ok {
		return group, text
	}
	for _, c := range e.Value.Codes.Entries {
		if strings.EqualFold(c.Key, text) {
			return e.Value.Fact.Text, c.Value.Text
		}
	}
	return e.Value.Fact.Text, text
}
