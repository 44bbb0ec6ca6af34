package rulebook

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/spelling"

	"fitcheck/core/digest"
	"fitcheck/core/version"
	y "fitcheck/core/yamlfile"
)

// Warnings finds what a rulebook can be read with, and what is hardly meant:
// names that nothing answers to, rules that never decide or contradict each
// other, patterns that read nothing, statements without a source.
func (r *Rulebook) Warnings() y.Errors {
	w := &warner{r: r}
	w.models()
	w.families()
	w.releases()
	w.rules()
	w.reach()
	w.packages()
	w.patterns()
	w.signatures()
	w.sources()
	for _, s := range r.Blind() {
		w.warn(s.Spot, "say what is to be seen (see:, shows:), or how long it takes (wait:)", "the step %s waits for nothing and looks at nothing", s.Step.Text)
	}
	w.found = slices.DeleteFunc(w.found, func(e *y.Error) bool {
		return slices.ContainsFunc(r.faults, func(f *y.Error) bool { return f.Spot == e.Spot })
	})
	slices.SortStableFunc(w.found, func(a, b *y.Error) int { return a.Spot.Line - b.Spot.Line })
	return w.all()
}

// all lists what was found, and how much more there is.
func (w *warner) all() y.Errors {
	if w.more > 0 {
		w.found = append(w.found, &y.Error{File: w.r.File, Spot: y.Spot{Line: 1, Column: 1}, Message: fmt.Sprintf("and %d more statements of the kind", w.more)})
	}
	return w.found
}

// Idle lists the warnings about rules and releases that never apply, because
// they name a model or family that the rulebook does not know. A verdict that
// rests on such a rulebook says so.
func (r *Rulebook) Idle() y.Errors {
	if r == nil {
		return nil
	}
	return r.idle
}

func (r *Rulebook) findIdle() y.Errors {
	w := &warner{r: r}
	for i := range r.Releases {
		w.scope(r.Releases[i].Models, r.Releases[i].Families)
	}
	if r.Hops != nil {
		for i := range r.Hops.Rules {
			rule := &r.Hops.Rules[i]
			w.scope(rule.Models, []y.String{rule.FromFamily, rule.ToFamily})
		}
	}
	for i := range r.Recovery {
		w.scope(r.Recovery[i].Models, nil)
	}
	return w.found
}

type warner struct {
	r     *Rulebook
	found y.Errors
	more  int // beyond those that are told one by one
	asked int // for the nearest name
	spans *spans
}

// Bounds of what is told of one rulebook: statements one by one, names looked for, names
// listed.
const (
	maxWarnings = 1000
	maxAsked    = 50
	maxListed   = 20
)

func (w *warner) warn(at y.Spot, advice, format string, args ...any) {
	if len(w.found) >= maxWarnings {
		w.more++
		return
	}
	w.found = append(w.found, &y.Error{File: w.r.File, Spot: y.Spot{Line: max(1, at.Line), Column: max(1, at.Column)}, Message: fmt.Sprintf(format, args...), Advice: advice})
}

// near names what a misspelt name may have meant.
func (w *warner) near(name string, known []string) string {
	if w.asked++; w.asked > maxAsked { // looking for it takes time
		return ""
	}
	if best := spelling.Nearest(name, known); best != "" {
		return fmt.Sprintf("did you mean %s?", best)
	}
	if len(known) == 0 {
		return ""
	}
	if n := len(known) - maxListed; n > 0 {
		return fmt.Sprintf("known are %s and %d more", strings.Join(known[:maxListed], ", "), n)
	}
	return "known are " + strings.Join(known, ", ")
}

// scope checks the models and families that a rule or release is for.
func (w *warner) scope(models, families []y.String) {
	for _, t := range models {
		if _, ok := w.r.FindModel(t.Text); !ok {
			w.warn(t.Spot, w.near(t.Text, w.r.Models.Keys()), "the rulebook knows no model %s, so that this never applies", t.Text)
		}
	}
	for _, t := range families {
		if !t.Set() || len(w.r.Families.Entries) == 0 {
			continue
		}
		if !w.r.knowsFamily(t.Text) {
			w.warn(t.Spot, w.near(t.Text, w.r.Families.Keys()), "the rulebook knows no family %s, so that this never applies", t.Text)
		}
	}
}

// modelRuns tells whether some model lists a family.
func (w *warner) modelRuns(family string) bool {
	return slices.ContainsFunc(w.r.Models.Entries, func(e *y.Entry[Model]) bool { return contains(e.Value.Families, family) })
}

func (w *warner) models() {
	for _, e := range w.r.Models.Entries {
		if len(e.Value.Families) == 0 && len(w.r.Families.Entries) > 0 {
			w.warn(e.Spot, "add families:", "nothing says which image families %s runs", e.Key)
		}
		for _, t := range e.Value.Families {
			if _, ok := w.r.family(t.Text); !ok {
				w.warn(t.Spot, w.near(t.Text, w.r.Families.Keys()), "the family %s of %s is not described under families", t.Text, e.Key)
			}
		}
	}
}

func (w *warner) families() {
	for _, e := range w.r.Families.Entries {
		if len(e.Value.Components.Entries) == 0 {
			w.warn(e.Spot, "add components: in the order in which they are installed", "the family %s has no components", e.Key)
		}
		if !w.modelRuns(e.Key) && len(w.r.Models.Entries) > 0 {
			w.warn(e.Spot, "add it to families: of a model", "no model runs the family %s", e.Key)
		}
		for _, group := range e.Value.Paired {
			for _, t := range group {
				if _, ok := e.Value.Components.Get(t.Text); !ok {
					w.warn(t.Spot, w.near(t.Text, e.Value.Components.Keys()), "paired names %s, which is no component of the family %s", t.Text, e.Key)
				}
			}
		}
	}
	for _, e := range w.r.Versions.Entries {
		if e.Key != "default" && !w.component(e.Key) {
			w.warn(e.Spot, w.near(e.Key, w.components()), "versions speaks of %s, which is no component of a family", e.Key)
		}
	}
}

// signatures finds signatures that could cover no image: of a manifest or list that gives
// no digest that is worth signing.
func (w *warner) signatures() {
	for i := range w.r.Packages {
		p := &w.r.Packages[i]
		if p.Signature == nil {
			continue
		}
		strong := func(a digest.Algorithm) bool { return !a.Weak() }
		switch at := p.Signature.Spot; p.Signature.Of.Text {
		case "manifest":
			switch {
			case p.Manifest == nil:
				w.warn(at, "describe the manifest", "the signature is of the manifest, and no manifest is described: it could cover no image")
			case p.Manifest.Form.Text == "lines" && !slices.ContainsFunc(p.Manifest.Digests(), strong), p.Manifest.Form.Text != "lines" && len(p.Manifest.Fields.Entries) > 0 && !slices.ContainsFunc(p.Manifest.Digests(), strong):
				w.warn(at, "read a sha256 or sha512 out of the manifest, where it gives one", "the signature is of the manifest, and nothing of it is read as a SHA-256 or better: it could cover no image")
			}
		case "checksums":
			if !p.Checksums.Set() {
				w.warn(at, "add checksums: a glob over the lists", "the signature is of the checksum lists, and no list is named: it could cover no image")
			}
		}
	}
}

// components lists the components of all families.
func (w *warner) components() []string {
	var out []string
	for _, f := range w.r.Families.Entries {
		for _, k := range f.Value.Components.Keys() {
			if !slices.Contains(out, k) {
				out = append(out, k)
			}
		}
	}
	return out
}

// component tells whether a family has a component; where none has any, every
// name is as good.
func (w *warner) component(name string) bool {
	all := w.components()
	return len(all) == 0 || slices.Contains(all, name)
}

func (w *warner) releases() {
	for i := range w.r.Releases {
		rel := &w.r.Releases[i]
		w.scope(rel.Models, rel.Families)
		if len(rel.Families) == 0 && len(w.r.Families.Entries) > 1 {
			w.warn(rel.Spot, "add families:", "the release %s does not say which family it is of, and there are %d", rel.Version.Text, len(w.r.Families.Entries))
		}
		for _, b := range rel.Brings.Entries {
			if !w.component(b.Key) {
				w.warn(b.Spot, w.near(b.Key, w.components()), "the release %s brings %s, which is no component of a family", rel.Version.Text, b.Key)
			}
		}
		for k := range rel.Needs {
			if n := &rel.Needs[k]; n.Component.Set() && !w.component(n.Component.Text) {
				w.warn(n.Component.Spot, w.near(n.Component.Text, w.components()), "the release %s needs %s, which is no component of a family", rel.Version.Text, n.Component.Text)
			}
		}
	}
	w.twins()
}

// twins finds releases that are listed twice. Those of one version stand together once
// they are in the order of versions.
func (w *warner) twins() {
	of := map[*version.Scheme][]*Release{}
	for i := range w.r.Releases {
		rel := &w.r.Releases[i]
		s := w.r.Scheme(w.r.mainFor(rel.Families))
		of[s] = append(of[s], rel)
	}
	for s, all := range of {
		slices.SortStableFunc(all, func(a, b *Release) int { return s.Compare(a.parsed, b.parsed) })
		for i, rel := range all {
			for k := i - 1; k >= 0 && k >= i-maxTwins && s.Compare(all[k].parsed, rel.parsed) == 0; k-- {
				if w.twin(rel, all[k]) {
					w.warn(rel.Spot, "join the two entries", "the release %s is listed in line %d already, for the same family and hardware", rel.Version.Text, all[k].Line)
				}
			}
		}
	}
}

// maxTwins is how many releases of one version are held against each other.
const maxTwins = 100

// twin tells whether two entries of one version are the same release.
func (w *warner) twin(a, b *Release) bool {
	return overlap(a.Families, b.Families) && overlap(a.Models, b.Models) && overlap(a.Revisions, b.Revisions)
}

// overlap tells whether two lists share a name; an empty one stands for all.
func overlap(a, b []y.String) bool {
	if len(a) == 0 || len(b) == 0 {
		return true
	}
	return slices.ContainsFunc(a, func(t y.String) bool { return contains(b, t.Text) })
}

// within tells whether a list stands for no more than another; an empty one
// stands for all.
func within(a, b []y.String) bool {
	if len(b) == 0 {
		return true
	}
	return len(a) > 0 && !slices.ContainsFunc(a, func(t y.String) bool { return !contains(b, t.Text) })
}

func (w *warner) packages() {
	for i := range w.r.Packages {
		p := &w.r.Packages[i]
		for _, t := range p.Components {
			if !w.component(t.Text) {
				w.warn(t.Spot, w.near(t.Text, w.components()), "these packages bring %s, which is no component of a family", t.Text)
			}
		}
		for k := range p.Items {
			it := &p.Items[k]
			if it.Component.Set() && !w.component(it.Component.Text) {
				w.warn(it.Component.Spot, w.near(it.Component.Text, w.components()), "the items are for %s, which is no component of a family", it.Component.Text)
			}
			w.readsNone(it.Title)
		}
		w.readsNone(p.File)
		if m := p.Manifest; m != nil {
			w.readsNone(m.Record)
			w.readsNone(m.Heading)
		}
	}
}

// sources finds statements that cite a document that is not listed, and those
// that cite none.
func (w *warner) sources() {
	var without []string
	cite := func(source y.String, at y.Spot, must bool) {
		switch {
		case source.Set():
			if _, ok := w.r.Sources.Get(source.Text); !ok {
				w.warn(source.Spot, w.near(source.Text, w.r.Sources.Keys()), "the source %s is not listed under sources", source.Text)
			}
		case must:
			without = append(without, fmt.Sprint(at.Line))
		}
	}
	for i := range w.r.Releases {
		rel := &w.r.Releases[i]
		cite(rel.Source, rel.Withdrawn.Spot, rel.Withdrawn.Set())
		for k := range rel.Needs {
			n := &rel.Needs[k]
			cite(n.Source, n.Spot, n.Component.Set() || n.Companion.Set())
		}
	}
	if w.r.Hops != nil {
		for i := range w.r.Hops.Rules {
			cite(w.r.Hops.Rules[i].Source, w.r.Hops.Rules[i].Spot, true)
		}
	}
	if len(without) > 0 {
		line := 1
		fmt.Sscan(without[0], &line)
		w.warn(y.Spot{Line: line}, "add source: with the key of a document under sources", "rules and needs without a source: lines %s", strings.Join(without, ", "))
	}
}

// mainFor is the component whose versions the releases of some families bear.
func (r *Rulebook) mainFor(families []y.String) string {
	for _, f := range families {
		if _, ok := r.family(f.Text); ok {
			return r.Main(f.Text)
		}
	}
	return "main"
}
