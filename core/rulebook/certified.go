package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Certified is a set of versions that a site, a solution or a maker's matrix has
// certified to work together: for each model, what each component is to run.
type Certified struct {
	y.Spot
	Name     y.String           `yaml:"name" doc:"what the set is called: path -to certified:NAME"`
	Source   y.String           `yaml:"source" doc:"key of a document under sources"`
	Versions []CertifiedVersion `yaml:"versions" doc:"an entry a model: its model, and component to version or range"`
}

// CertifiedVersion is what a set says of one model.
type CertifiedVersion struct {
	y.Spot
	Model y.String `yaml:"model"`
	// Components give a version, or a range of them, for each component.
	Components y.Map[y.String] `yaml:",rest"`
}

// CertifiedSet is a set as a kit has it: several rulebooks may each say something of
// one name.
type CertifiedSet struct {
	Name    string
	Entries []CertifiedEntry
	// Known are the names of all sets there are, for who asks for one that is none.
	Known []string
}

// CertifiedEntry is one line of a set, and the rulebook that it stands in.
type CertifiedEntry struct {
	In *Rulebook
	*CertifiedVersion
	Document string // the set's source, in words
}

// Wanted is what a set wants of one component.
type Wanted struct {
	Component string
	Text      string
	Range     *version.Range
	Source    fact.Source
	Document  string
}

// For lists what the set wants of a model whose rulebook is r: each component with its
// range. problem says why that is not known; both are empty for a model that the set
// does not name.
func (s *CertifiedSet) For(r *Rulebook, model string) (wanted []Wanted, problem string) {
	if s == nil || r == nil {
		return nil, ""
	}
	for _, e := range s.Entries {
		if r.CanonicalModel(e.Model.Text) != r.CanonicalModel(model) {
			continue
		}
		for _, c := range e.Components.Entries {
			name := r.componentNamed(c.Key, model)
			rng, err := version.ParseRange(r.Scheme(name), c.Value.Text)
			if err != nil {
				return nil, fmt.Sprintf("%s:%d: the certified %s of %s does not read: %v", e.In.File, c.Spot.Line, c.Key, model, err)
			}
			w := Wanted{name, c.Value.Text, rng, e.In.Source(c.Spot), e.Document}
			i := slices.IndexFunc(wanted, func(o Wanted) bool { return o.Component == name })
			switch {
			case i < 0:
				wanted = append(wanted, w)
			case wanted[i].Text != w.Text:
				return nil, fmt.Sprintf("the set %s says two things of the %s of %s: %s (%s) and %s (%s); correct one", s.Name, name, model, wanted[i].Text, wanted[i].Source.Where(), w.Text, w.Source.Where())
			}
		}
	}
	return wanted, ""
}

// componentNamed takes main for what the model's family calls its main component.
func (r *Rulebook) componentNamed(key, model string) string {
	if key != "main" {
		return key
	}
	if e, ok := r.FindModel(model); ok && len(e.Value.Families) > 0 {
		return r.Main(e.Value.Families[0].Text)
	}
	return key
}

// certified checks the sets: each has a name and versions, and every range of a model
// that this rulebook knows can be read.
func (c *checker) certified() {
	named := map[string]bool{}
	for i := range c.r.Certified {
		set := &c.r.Certified[i]
		if !set.Name.Set() {
			c.fail(set.Spot, "a certified set needs name: what it is asked for by", "add name:")
		}
		if key := strings.ToLower(set.Name.Text); named[key] {
			c.fail(set.Name.Spot, fmt.Sprintf("there are two certified sets %s", set.Name.Text), "put their versions into one")
		} else {
			named[key] = true
		}
		if len(set.Versions) == 0 {
			c.fail(set.Spot, "a certified set needs versions: an entry for each model", "add versions: [{model: …, main: …}]")
		}
		models := map[string]bool{}
		for k := range set.Versions {
			v := &set.Versions[k]
			switch model := c.r.CanonicalModel(v.Model.Text); {
			case !v.Model.Set():
				c.fail(v.Spot, "a certified version needs model:", "")
			case models[model]:
				c.fail(v.Spot, fmt.Sprintf("the set %s names %s twice", set.Name.Text, v.Model.Text), "put what it says of a model into one entry")
			case len(v.Components.Entries) == 0:
				c.fail(v.Spot, fmt.Sprintf("the set %s says nothing of %s", set.Name.Text, v.Model.Text), "add main: with a version or a range")
			default:
				models[model] = true
			}
			e, ok := c.r.FindModel(v.Model.Text)
			if !ok {
				continue // another rulebook's
			}
			for _, w := range v.Components.Entries {
				c.component(e.Value, w)
				if _, err := version.ParseRange(c.r.Scheme(c.r.componentNamed(w.Key, v.Model.Text)), w.Value.Text); err != nil {
					c.fail(w.Value.Spot, fmt.Sprintf("certified %s of %s: %v", w.Key, v.Model.Text, err), "write a version, or a range: >=6.4 <7")
				}
			}
		}
	}
}

// component finds a name that is no component of any family of the model.
func (c *checker) component(m Model, w *y.Entry[y.String]) {
	if w.Key == "main" || len(m.Families) == 0 {
		return
	}
	var known []string
	for _, f := range m.Families {
		fam, ok := c.r.Family(f.Text)
		if !ok || len(fam.Components.Entries) == 0 {
			return // what it is made of is not said
		}
		known = append(known, fam.Components.Keys()...)
	}
	if !slices.Contains(known, w.Key) {
		c.fail(w.Spot, fmt.Sprintf("%q is no component of the model's families", w.Key), "components are "+strings.Join(known, ", "))
	}
}
