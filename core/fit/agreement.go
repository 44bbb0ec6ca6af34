package fit

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fact"
)

// statement is the set of values that one source gives for one thing, in the
// spelling in which they compare.
type statement struct {
	values []string
	facts  []fact.Fact
	of     string // the source, for words
}

// agreement holds the sources of one image against each other: two that
// contradict each other on what the image is can never make it fit.
func (j *judge) agreement(c component, cand *candidate, witnesses []fact.Witness) Check {
	ch := Check{Check: "agreement", Component: c.name, Outcome: Fits, Package: cand.item.Address, Because: "its sources agree"}
	for _, w := range witnesses {
		if len(w.Claims) > 0 && len(w.Claims[0]) > 0 {
			ch.Sources = append(ch.Sources, Cited{OfPackage, "", place(w)})
		}
	}
	for _, n := range []fact.Name{fact.Component, fact.Model, fact.Revision, fact.Arch, fact.Family, fact.Version} {
		all := j.statements(c, n, witnesses)
		if n == fact.Version {
			all = append(all, j.brings(c, cand)...)
		}
		for i, a := range all {
			for _, b := range all[:i] {
				if meet(a.values, b.values) {
					continue
				}
				ch.Outcome = Unsettled
				ch.Package = fmt.Sprintf("%s against %s", fact.Values(b.facts), fact.Values(a.facts))
				ch.Because = fmt.Sprintf("on the %s, the %s says %s and the %s says %s", n, b.of, fact.Values(b.facts), a.of, fact.Values(a.facts))
				ch.Advice = "ask the maker what the file is; until then, trust neither"
				ch.Sources = append(cite(b.facts), cite(a.facts)...)
				return ch
			}
		}
	}
	return ch
}

// place is where a witness speaks: the header as a whole, the first line of a
// manifest that lists the item.
func place(w fact.Witness) fact.Source {
	c := w.Claims[0]
	s := c[len(c)-1].Source // of a manifest, the record's line and not the heading's
	if w.Kind == fact.Header {
		s.Offset, s.Size = 0, 0
	}
	return s
}

func cite(facts []fact.Fact) []Cited {
	var out []Cited
	for _, f := range facts {
		side := OfPackage
		if f.Source.Kind == fact.Rulebook {
			side = OfRule
		}
		out = append(out, Cited{side, f.Text(), f.Source})
	}
	return out
}

func meet(a, b []string) bool {
	for _, x := range a {
		if slices.Contains(b, x) {
			return true
		}
	}
	return false
}

// statements gathers what each source says of one thing. A manifest that gives
// one file two versions or two components contradicts itself.
func (j *judge) statements(c component, n fact.Name, witnesses []fact.Witness) []statement {
	var out []statement
	add := func(of string, facts []fact.Fact) {
		st := statement{facts: facts, of: of}
		for _, f := range facts {
			st.values = append(st.values, j.comparable(c, n, f)...)
		}
		if len(st.values) > 0 {
			out = append(out, st)
		}
	}
	for _, w := range witnesses {
		if n == fact.Version && w.Kind == fact.FileName && !j.nameSpeaksOf(c) {
			continue
		}
		single := n == fact.Version || n == fact.Component
		if w.Kind == fact.Manifest && single {
			for _, claim := range w.Claims {
				if facts := claim.About(n); len(facts) > 0 {
					add(string(w.Kind), facts)
				}
			}
		} else if facts := w.About(n); len(facts) > 0 && !(n == fact.Component && w.Kind == fact.Header && !j.hasComponent(facts[0].Value)) {
			// What a header's type says in general, such as main, is no name
			// that this family uses.
			add(string(w.Kind), facts)
		}
		if n == fact.Model || n == fact.Revision {
			j.boardStatement(n, w, add)
		}
	}
	return out
}

// boardStatement adds the models, or the revisions of the device's model, to
// which the rulebook gives the boards that a source names.
func (j *judge) boardStatement(n fact.Name, w fact.Witness, add func(string, []fact.Fact)) {
	if j.rb == nil {
		return
	}
	var facts []fact.Fact
	for _, b := range w.About(fact.Board) {
		for _, o := range j.rb.Owners(b.Value) {
			f := b
			f.About = n
			switch {
			case n == fact.Model:
				f.Value = o.Model
			case j.model != nil && o.Model == j.model.Key && o.Revision != "":
				f.Value = o.Revision
			default:
				continue
			}
			facts = append(facts, f)
		}
	}
	if len(facts) > 0 {
		add(string(w.Kind)+", by its board,", facts)
	}
}

// nameSpeaksOf tells whether the version in the package's name is that of the
// component: of the main image, or of the only one that such packages bring.
func (j *judge) nameSpeaksOf(c component) bool {
	return c.name == j.mainComponent() || len(j.components()) == 1
}

// brings is what the rulebook says the release brings for a component.
func (j *judge) brings(c component, cand *candidate) []statement {
	rel := cand.release.rule
	if rel == nil {
		return nil
	}
	e, ok := rel.Brings.Get(c.name)
	if !ok {
		return nil
	}
	f := fact.Fact{About: fact.Version, Value: e.Value.Text, Source: j.rb.Source(e.Value.Spot)}
	return []statement{{values: j.comparable(c, fact.Version, f), facts: []fact.Fact{f}, of: "rulebook's release " + rel.Version.Text}}
}

// comparable brings a value into the spelling in which equal values are
// equal texts; an open value and a revision range stand for several.
func (j *judge) comparable(c component, n fact.Name, f fact.Fact) []string {
	var out []string
	alternatives := []string{f.Value}
	if f.Open {
		alternatives = strings.Split(f.Value, "|")
	}
	for _, v := range alternatives {
		switch n {
		case fact.Model:
			v = j.rb.CanonicalModel(v)
		case fact.Arch:
			v = fact.CanonicalArch(v)
		case fact.Version:
			v = j.versionKey(c, v)
		case fact.Revision:
			out = append(out, j.revisionsIn(v)...)
			continue
		default:
			v = strings.ToLower(strings.TrimSpace(v))
		}
		out = append(out, v)
	}
	return out
}

// versionKey is one text for all spellings of a version.
func (j *judge) versionKey(c component, v string) string {
	scheme := j.rb.Scheme(c.name)
	if p, err := scheme.Parse(v); err == nil {
		return scheme.Key(p)
	}
	return strings.TrimSpace(v)
}

// revisionsIn lists the revisions of the device's model that a text of a
// revision list holds, or the text itself where the rulebook knows none.
func (j *judge) revisionsIn(text string) []string {
	var out []string
	if j.model != nil {
		for _, e := range j.model.Value.Revs.Entries {
			if holds, known := j.model.Value.HoldsRevision(text, e.Key); holds && known {
				out = append(out, strings.ToLower(e.Key))
			}
		}
	}
	if len(out) == 0 {
		out = append(out, strings.ToLower(strings.TrimSpace(text)))
	}
	return out
}
