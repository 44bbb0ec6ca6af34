package rulebook

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"fitcheck/core/manifest"
	"fitcheck/core/sign"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// checker finds what is wrong with a rulebook beyond its keys and types, and
// prepares what judging needs: schemes, ranges, parsed versions.
type checker struct {
	r    *Rulebook
	errs y.Errors
}

func (c *checker) fail(at y.Spot, message, advice string) {
	c.errs = append(c.errs, &y.Error{File: c.r.File, Spot: y.Spot{Line: max(1, at.Line), Column: max(1, at.Column)}, Message: message, Advice: advice})
}

func (c *checker) all() {
	if c.r.Kind.Text != "rulebook" {
		c.fail(c.r.Kind.Spot, "this is not a rulebook", "a rulebook begins with the line kind: rulebook")
		return
	}
	c.models()
	for _, t := range c.r.Layouts {
		if !filepath.IsLocal(t.Text) {
			c.fail(t.Spot, fmt.Sprintf("%q leads out of the kit's layouts/", t.Text), "write the name of a file in layouts/")
		}
	}
	c.versions()
	if len(c.errs) > 0 {
		return // what follows needs the version schemes
	}
	for i := range c.r.Packages {
		c.packages(&c.r.Packages[i])
	}
	for i := range c.r.Releases {
		c.release(&c.r.Releases[i])
	}
	c.byDigest()
	c.certified()
	c.examples()
	c.hops()
	c.captures()
	c.recovery()
	c.procedure()
	c.installs()
	c.sequence()
	if t := c.r.Transfer; t != nil && t.LongestName < 0 {
		c.fail(t.Spot, "longest_name cannot be negative", "")
	}
}

func (c *checker) captures() {
	for i, rule := range c.r.CaptureRules() {
		capture := &c.r.Captures[i]
		if rule.Recognise == nil {
			c.fail(capture.Spot, "an entry of captures needs recognise: a pattern that every such capture holds", "")
		}
		if len(rule.Read) == 0 && len(rule.Each) == 0 {
			c.fail(capture.Spot, "this entry reads nothing", "add read: or each:")
		}
		rule.Check(func(key, message string) {
			at := capture.Spot
			for _, m := range []y.Map[y.Pattern]{capture.Read, capture.Each} {
				if e, ok := m.Get(key); ok {
					at = e.Spot
				}
			}
			c.fail(at, message, "")
		})
	}
}

func (c *checker) models() {
	spelt := map[string]string{}
	for _, e := range c.r.Models.Entries {
		for _, name := range append([]y.String{{Text: e.Key, Spot: e.Spot}}, e.Value.Also...) {
			key := strings.ToLower(name.Text)
			if other, taken := spelt[key]; taken {
				c.fail(name.Spot, fmt.Sprintf("the spelling %q belongs to the model %s already", name.Text, other), "a name can stand for one model only")
			}
			spelt[key] = e.Key
		}
	}
}

func (c *checker) versions() {
	c.r.schemes = map[string]*version.Scheme{}
	for _, e := range c.r.Versions.Entries {
		v := e.Value
		if v.Natural {
			c.r.schemes[e.Key] = nil
			continue
		}
		var order []string
		for _, t := range v.Order {
			order = append(order, t.Text)
		}
		s, err := version.NewScheme(v.Pattern.Regexp, order, v.Compact)
		if err != nil {
			c.fail(e.Spot, fmt.Sprintf("versions.%s: %v", e.Key, err), "")
			continue
		}
		c.r.schemes[e.Key] = s
	}
}

// In one piece: the rules on a package, one after the other.
func (c *checker) packages(p *Package) {
	if h := p.Handling; h.Set() && h.Text != "unpacked" && h.Text != "whole" {
		c.fail(h.Spot, fmt.Sprintf("handling is unpacked or whole, not %q", h.Text), "")
	}
	if !p.File.Set() && p.Manifest == nil {
		c.fail(p.Spot, "this entry can never be found: it has neither a file pattern nor a manifest", "add file: with a pattern for the download's name")
	}
	c.words(p)
	c.groups(p, p.File, false)
	if m := p.Manifest; m != nil {
		if !m.Item.Set() {
			c.fail(m.Spot, "the manifest needs item: a glob that says which item it is", "")
		}
		switch m.Form.Text {
		case "lines":
			if !m.Record.Set() {
				c.fail(m.Spot, "a manifest of the form lines needs record: a pattern that reads one record", "")
			}
			if m.Groups.Set() || m.Records.Set() || len(m.Fields.Entries) > 0 || len(m.GroupFields.Entries) > 0 {
				c.fail(m.Spot, "groups, group_fields, records and fields go with the forms ini, csv, json, yaml and xml", "a manifest of the form lines is read by heading and record")
			}
		case "ini", "csv", "json", "yaml", "xml":
			if m.Heading.Set() || m.Record.Set() {
				c.fail(m.Spot, "heading and record go with the form lines", "say with records and fields where the records are, and which key is what")
			}
			for _, f := range []y.Map[y.String]{m.Fields, m.GroupFields} {
				if err := manifest.CheckFields(plain(f), p.Codes.Keys()...); err != nil {
					c.fail(m.Spot, err.Error(), "")
				}
			}
			if _, ok := m.Fields.Get("file"); len(m.Fields.Entries) > 0 && !ok {
				c.fail(m.Spot, "fields does not say which key names the file", "add file: to fields")
			}
			if len(m.GroupFields.Entries) > 0 && !m.Groups.Set() {
				c.fail(m.Spot, "group_fields needs groups: the path where the groups are", "")
			}
		default:
			c.fail(m.Form.Spot, fmt.Sprintf("%q is not a form of manifest", m.Form.Text), "forms are lines, ini, csv, json, yaml, xml")
		}
		m.entry = p
		c.groups(p, m.Heading, true)
		c.groups(p, m.Record, true)
	}
	c.signature(p.Signature)
	for i := range p.Items {
		it := &p.Items[i]
		if !it.Match.Set() {
			c.fail(it.Spot, "an entry of items needs match: a glob over the items", "")
		}
		c.groups(p, it.Title, false)
	}
}

func (c *checker) signature(s *SignatureRule) {
	if s == nil {
		return
	}
	switch {
	case !s.Of.Set():
		c.fail(s.Spot, "the signature needs of: what it is of", "write of: manifest, checksums, package or image, or a glob over the items")
	case !s.Item.Set() && s.Of.Text != "image":
		c.fail(s.Spot, "the signature needs item: a glob that says which item it is", "")
	case !s.Key.Set():
		c.fail(s.Spot, "the signature needs key: the file in the kit's keys/", "")
	case !filepath.IsLocal(s.Key.Text):
		c.fail(s.Key.Spot, fmt.Sprintf("%q leads out of the kit's keys/", s.Key.Text), "write the name of a file in keys/")
	}
	if s.Scheme.Set() && !slices.Contains(sign.Schemes(), s.Scheme.Text) {
		c.fail(s.Scheme.Spot, fmt.Sprintf("%q is not a scheme of signing", s.Scheme.Text), "schemes are "+strings.Join(sign.Schemes(), ", "))
	}
}

func (c *checker) groups(of *Package, p y.Pattern, inManifest bool) {
	if !p.Set() {
		return
	}
	err := manifest.CheckGroups(p.Regexp, of.Codes.Keys()...)
	if err == nil && !inManifest {
		err = onlyFacts(p.Regexp)
	}
	if err != nil {
		c.fail(p.Spot, err.Error(), "")
	}
}

func onlyFacts(re *regexp.Regexp) error {
	for _, g := range re.SubexpNames() {
		if g == "file" || g == "size" {
			return fmt.Errorf("the group %q has a meaning only in a manifest", g)
		}
	}
	return nil
}

func (c *checker) parse(component string, t y.String) version.Version {
	v, err := c.r.Scheme(component).Parse(t.Text)
	if err != nil {
		c.fail(t.Spot, err.Error(), "correct the version or the pattern under versions")
	}
	return v
}

func (c *checker) parseRange(s *version.Scheme, t y.String) *version.Range {
	if !t.Set() {
		return nil
	}
	r, err := version.ParseRange(s, t.Text)
	if err != nil {
		c.fail(t.Spot, err.Error(), "correct the range or the pattern under versions")
	}
	return r
}

// maxNeeds is how much one release may need.
const maxNeeds = 1000

func (c *checker) release(rel *Release) {
	if n := len(rel.Needs); n > maxNeeds {
		c.fail(rel.Spot, fmt.Sprintf("the release has %d needs, and at most %d are read", n, maxNeeds), "write needs on one component as one range")
		return
	}
	if !rel.Version.Set() {
		c.fail(rel.Spot, "a release needs a version", "")
		return
	}
	rel.parsed = c.parse(c.r.mainFor(rel.Families), rel.Version)
	for _, b := range rel.Brings.Entries {
		c.parse(b.Key, b.Value)
	}
	for i := range rel.Needs {
		c.need(&rel.Needs[i])
	}
}

func (c *checker) need(n *Need) {
	set := 0
	for _, is := range []bool{n.Component.Set(), n.Companion.Set(), n.StorageFree.Set(), n.Memory.Set(), n.Feature.Set(), n.Attached.Set()} {
		if is {
			set++
		}
	}
	if set != 1 {
		c.fail(n.Spot, "a need names exactly one of component, companion, storage_free, memory, feature, attached", "write one entry for each need")
		return
	}
	versioned := n.Component.Set() || n.Companion.Set()
	if versioned != n.Within.Set() {
		c.fail(n.Spot, "within: goes with component and companion, and with nothing else", "")
		return
	}
	if n.Component.Set() {
		n.Range = c.parseRange(c.r.Scheme(n.Component.Text), n.Within)
	} else if n.Companion.Set() {
		n.Range = c.parseRange(nil, n.Within)
	}
}

func (c *checker) hops() {
	h := c.r.Hops
	if h == nil {
		return
	}
	if t := h.Upward; t.Set() && t.Text != "open" && t.Text != "listed" {
		c.fail(t.Spot, fmt.Sprintf("upward is open or listed, not %q", t.Text), "")
	}
	if t := h.Downward; t.Set() && t.Text != "open" && t.Text != "closed" {
		c.fail(t.Spot, fmt.Sprintf("downward is open or closed, not %q", t.Text), "")
	}
	for i := range h.Rules {
		rule := &h.Rules[i]
		if rule.Allow == nil {
			c.fail(rule.Spot, "a hop rule needs allow: true or allow: false", "")
			continue
		}
		from, to := rule.FromFamily, rule.ToFamily
		if !from.Set() {
			from = to
		}
		if !to.Set() {
			to = from
		}
		rule.from = c.parseRange(c.r.Scheme(c.r.mainFor([]y.String{from})), rule.From)
		rule.to = c.parseRange(c.r.Scheme(c.r.mainFor([]y.String{to})), rule.To)
	}
}
