package notes

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/pattern"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
	y "fitcheck/core/yamlfile"
)

// Rule is what a rulebook says of the same as a statement.
type Rule struct {
	Text   string
	Source fact.Source
	// Same: it names the same version or size; else it is about the same thing
	// and says something else.
	Same bool
}

// Release finds the release that notes are about: the first listed one that
// the document names near its beginning, else one that its name holds.
func Release(rb *rulebook.Rulebook, name string, d *Document) *rulebook.Release {
	if rb == nil {
		return nil
	}
	r := newRecogniser(rb)
	texts := []string{}
	for _, l := range d.Lines[:min(len(d.Lines), 8)] {
		texts = append(texts, l.Text)
	}
	for _, text := range append(texts, name) {
		for _, v := range r.versions(text) {
			if v.Known {
				return rb.FindRelease(v.Text, "", "", "")
			}
		}
	}
	return nil
}

// Best picks the rulebook whose models and releases a document names most.
func Best(all []*rulebook.Rulebook, d *Document) *rulebook.Rulebook {
	var best *rulebook.Rulebook
	most := 0
	for _, rb := range all {
		r := newRecogniser(rb)
		n := 0
		for _, l := range d.Lines[:min(len(d.Lines), 2000)] {
			n += 3 * len(r.models(l.Text))
			for _, v := range r.versions(l.Text) {
				if v.Known {
					n++
				}
			}
		}
		if n > most {
			best, most = rb, n
		}
	}
	return best
}

// Compare holds statements against what the rulebook says of a release, and
// marks those that it does not say.
func Compare(all []Statement, rb *rulebook.Rulebook, rel *rulebook.Release) {
	if rb == nil || rel == nil {
		return
	}
	c := comparison{rb, rel}
	for i := range all {
		s := &all[i]
		switch s.Kind {
		case Minimum, Prerequisite:
			c.need(s)
		case Order:
			c.order(s)
		case Loss, Back:
			c.loss(s)
		case Dropped:
			c.dropped(s)
		case Handling:
			c.handling(s)
		case Remedy:
			c.remedy(s)
		}
	}
}

type comparison struct {
	rb  *rulebook.Rulebook
	rel *rulebook.Release
}

func (c comparison) rule(s *Statement, text string, at y.Spot, same bool) {
	if s.Rule == nil || same && !s.Rule.Same {
		s.Rule = &Rule{text, c.rb.Source(at), same}
	}
}

var sizeText = pattern.New(`(?i)\b(\d+(?:[.,]\d+)*) ?([kMGT]i?B)\b`)

// need compares what must be there with the needs of the release.
func (c comparison) need(s *Statement) {
	lower := strings.ToLower(s.Text)
	for i := range c.rel.Needs {
		n := &c.rel.Needs[i]
		switch {
		case n.Component.Set() && c.speaksOf(lower, n.Component.Text), n.Companion.Set() && holdsWord(lower, strings.ToLower(n.Companion.Text)):
			if len(s.Versions) > 0 {
				c.rule(s, "needs "+n.Text(), n.Spot, c.speaksOfVersion(n.Within.Text, n.Component.Text, s.Versions))
			}
		case n.StorageFree.Set() || n.Memory.Set():
			memory := SpeaksOfMemory(lower)
			if m := sizeText.FindString(s.Text); m != "" && memory == n.Memory.Set() {
				bytes, err := y.ParseSize(y.PlainSize(m))
				c.rule(s, "needs "+n.Text(), n.Spot, err == nil && bytes == n.StorageFree.Bytes+n.Memory.Bytes)
			}
		case n.Feature.Set() && holdsWord(lower, strings.ToLower(n.Feature.Text)), n.Attached.Set() && holdsWord(lower, strings.ToLower(n.Attached.Text)):
			c.rule(s, "needs "+n.Text(), n.Spot, true)
		}
	}
	if s.Rule == nil {
		c.suggest(s, lower)
	}
}

var memoryWord = pattern.New(`\b(?:memory|d?ram)\b`)

// SpeaksOfMemory tells whether a size in a text, in small letters, is one of memory and not of storage, which flash memory
// is.
func SpeaksOfMemory(lower string) bool {
	return memoryWord.MatchString(strings.ReplaceAll(lower, "flash memory", "flash"))
}

// suggest says which need the rulebook lacks; lower is the statement in small letters.
func (c comparison) suggest(s *Statement, lower string) {
	if m := sizeText.FindString(s.Text); m != "" {
		key := "storage_free"
		if SpeaksOfMemory(lower) {
			key = "memory"
		}
		s.Unsaid, s.Add = true, fmt.Sprintf("- {%s: %s}", key, y.PlainSize(m))
		return
	}
	if len(s.Versions) == 0 {
		return
	}
	s.Unsaid = s.Kind == Minimum
	for _, component := range c.components() {
		if c.speaksOf(lower, component) {
			s.Unsaid = true
			s.Add = fmt.Sprintf("- {component: %s, within: \">=%s\"}", component, trimV(s.Versions[0].Text))
			return
		}
	}
	if m := named.FindStringSubmatch(s.Text); m != nil && !s.Versions[0].Known && !noName.MatchString(m[1]) {
		s.Add = fmt.Sprintf("- {companion: %s, within: \">=%s\"}", strings.ToLower(m[1]), trimV(s.Versions[0].Text))
	}
}

// named is a word right before a version.
var named = pattern.New(`([A-Za-z][\w-]+) (?:version )?v?\d+\.\d`)

// noName is a word before a version that names nothing which could have it.
var noName = pattern.New(`(?i)^(?:at|least|most|than|to|from|of|on|is|are|be|by|way|via|through|with|and|or|the|an?|before|after|below|above|until|since|requires?|required|needs?|needed|runs?|running|install(?:ed|ing)?|load|upgraded?|updated?|first|stage|versions?|releases?|firmware|software|images?|system|newer|later|earlier|older|minimum)$`)

func trimV(v string) string { return strings.TrimLeft(v, "vV") }

func (c comparison) components() []string {
	var out []string
	for _, f := range c.rb.Families.Entries {
		if !c.rel.OfFamily(f.Key) {
			continue
		}
		for _, k := range f.Value.Components.Keys() {
			if !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	return out
}

// speaksOf tells whether a sentence names a component, by its key or title.
func (c comparison) speaksOf(lower, component string) bool {
	if holdsWord(lower, strings.ToLower(component)) {
		return true
	}
	for _, f := range c.rb.Families.Entries {
		if e, ok := f.Value.Components.Get(component); ok && e.Value.Title.Set() {
			title := strings.ToLower(e.Value.Title.Text)
			if strings.Contains(lower, title) || strings.Contains(lower, strings.ReplaceAll(title, " ", "")) {
				return true
			}
		}
	}
	return component == "boot" && (strings.Contains(lower, "bootloader") || strings.Contains(lower, "boot loader"))
}

// order compares a stop on the way with the hop rules.
func (c comparison) order(s *Statement) {
	if c.rb.Hops != nil {
		for i := range c.rb.Hops.Rules {
			h := &c.rb.Hops.Rules[i]
			for _, v := range s.Versions {
				if c.speaksOfVersion(h.From.Text+" "+h.To.Text+" "+h.Via.Text, c.rb.Main(family(c.rel)), []Version{v}) {
					// The notes speak of a stop: only a rule that forbids the straight way says the same.
					c.rule(s, fmt.Sprintf("a rule on moves from %s to %s", orAny(h.From.Text), orAny(h.To.Text)), h.Spot, h.Allow != nil && !*h.Allow || h.Via.Set())
				}
			}
		}
	}
	for i := range c.rel.Needs {
		n := &c.rel.Needs[i]
		if n.Component.Set() && n.Component.Text == c.rb.Main(family(c.rel)) && c.speaksOfVersion(n.Within.Text, n.Component.Text, s.Versions) {
			c.rule(s, "needs "+n.Text(), n.Spot, true)
		}
	}
	s.Unsaid = s.Rule == nil && len(s.Versions) > 0
}

func family(rel *rulebook.Release) string {
	if len(rel.Families) > 0 {
		return rel.Families[0].Text
	}
	return ""
}

func orAny(t string) string {
	if t == "" {
		return "any"
	}
	return t
}

// loss compares with what the rulebook says resets the configuration.
func (c comparison) loss(s *Statement) {
	if c.rel.ResetsConfig {
		c.rule(s, "release "+c.rel.Version.Text+" resets the configuration", c.rel.Spot, true)
	}
	if c.rb.Hops != nil {
		for i := range c.rb.Hops.Rules {
			if h := &c.rb.Hops.Rules[i]; h.ResetsConfig && (len(s.Versions) == 0 && s.Kind == Loss || c.speaksOfVersion(h.From.Text+" "+h.To.Text, c.rb.Main(family(c.rel)), s.Versions)) {
				c.rule(s, fmt.Sprintf("moves from %s to %s reset the configuration", orAny(h.From.Text), orAny(h.To.Text)), h.Spot, true)
			}
		}
	}
	s.Unsaid = s.Rule == nil && s.Kind == Loss
}

// dropped compares with the models that the release drops, or is not for.
func (c comparison) dropped(s *Statement) {
	lower := strings.ToLower(s.Text)
	for _, d := range c.rel.Drops {
		if holdsWord(lower, strings.ToLower(d.Text)) {
			c.rule(s, "drops "+d.Text, d.Spot, true)
		}
	}
	for _, m := range s.Models {
		meant := c.rel.For(c.rb, m, "") != truth.No
		if e, ok := c.rb.FindModel(m); ok && !slices.ContainsFunc(e.Value.Families, func(t y.String) bool { return c.rel.OfFamily(t.Text) }) {
			meant = false
		}
		if !meant {
			c.rule(s, fmt.Sprintf("release %s is not for %s", c.rel.Version.Text, m), c.rel.Spot, true)
		}
	}
	s.Unsaid = s.Rule == nil
}

// bound is a version in a range, without what compares it.
var bound = pattern.New(`[^\s<>=|&*,!~^]+`)

// speaksOfVersion tells whether a range or list of versions names one of some versions: the
// very version, by the scheme of its component, and not a text that holds it.
func (c comparison) speaksOfVersion(text, component string, versions []Version) bool {
	scheme := c.rb.Scheme(component)
	for _, t := range bound.FindAllString(text, -1) {
		for _, v := range versions {
			if t == trimV(v.Text) || t == v.Text || component != "" && scheme.Same(t, trimV(v.Text)) == truth.Yes {
				return true
			}
		}
	}
	return false
}

// asWhole is how notes say that a download must stay as it is.
var asWhole = pattern.New(`(?i)\b(?:do not|don't|never|as (?:it was )?downloaded|in one piece|whole)\b`)

// handling compares with how the rulebook has downloads served.
func (c comparison) handling(s *Statement) {
	want := "unpacked"
	if asWhole.MatchString(s.Text) {
		want = "whole"
	}
	for i := range c.rb.Packages {
		if h := c.rb.Packages[i].Handling; h.Set() {
			c.rule(s, "handling: "+h.Text, h.Spot, h.Text == want)
		}
	}
	s.Unsaid = s.Rule == nil
	if s.Unsaid {
		s.Add = "handling: " + want
	}
}

// remedy compares with the remedies of the rulebook.
func (c comparison) remedy(s *Statement) {
	if m := c.rb.RemedyFor(s.Text); m != nil {
		c.rule(s, "a remedy: "+m.Do.Text, m.Spot, true)
	}
	s.Unsaid = s.Rule == nil
}
