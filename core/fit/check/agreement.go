package check

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/truth"
)

var agreement = Register(&Check{Name: "agreement", Column: "agree", Order: 50, Hardware: true, Doc: "Do the sources that speak of one image agree on what it is?"})

var (
	agreementAgree        = agreement.Code("agree", Fits, "no two sources contradict each other on model, revision, architecture, family, component or version", "its sources agree", "")
	agreementContradicted = agreement.Code("contradicted", Unsettled, "two sources contradict each other on what the image is", "on the %s, the %s says %s and the %s says %s", "ask the maker what the file is; until then, trust neither")
	agreementName         = agreement.Code("name_says_otherwise", Unsettled, "a file or folder name says otherwise than a stronger source", "on the %s, the %s says %s and the %s says %s",
		"find out why it bears that name, and whose file it is; until then, do not use it").stands()
	agreementSame  = agreement.Code("twins", Note, "two candidates are the same to the last byte", "two items suit, and they are the same to the last byte", "")
	agreementNewer = agreement.Code("newer_chosen", Note, "two candidates suit, and the newer one is chosen", "two images suit; %s is the newer one", "")
	agreementRival = agreement.Code("rivals", Unsettled, "two different candidates suit equally well", "two different images suit equally well: %s and %s", "find out which of the two is meant, and give that one alone")
)

// statement is the set of values that one source gives for one thing.
type statement struct {
	facts []fact.Fact
	of    string // the source, for words
}

func init() { agreement.Runs(PerImage((*Case).agrees)) }

// agrees keeps what agreement tells of an image, which depends on its release, too.
func (c *Case) agrees(k Component, cand *Candidate) []Line {
	key := c.key("agreement", k, cand.Item)
	key.Release = cand.Release.Rule
	return c.keptLines(key, func() []Line { return []Line{c.agreement(k, cand)} })
}

// agreement holds the sources of one image against each other: two that contradict
// each other on what the image is can never make it fit.
func (c *Case) agreement(k Component, cand *Candidate) Line {
	ok := agreementAgree.Line(k.Name)
	ok.Package, ok.Device = cand.Item.Address, "one thing"
	for _, w := range cand.witnesses {
		if len(w.Claims) > 0 && len(w.Claims[0]) > 0 {
			at := place(w)
			ok.Cite(Cited{OfPackage, string(w.Kind) + " " + w.Name, at})
		}
	}
	if len(ok.Sources) == 0 {
		ok.Cite(ofName("no source speaks of it", cand.Item.Address))
	}
	ok.Cite(Cited{OfStated, "one thing", fact.Source{Kind: fact.Content, File: cand.Item.Address}})
	for _, n := range []fact.Name{fact.Component, fact.Model, fact.Revision, fact.Arch, fact.Family, fact.Version} {
		all := c.statements(k, n, cand.witnesses)
		if n == fact.Version {
			all = append(all, c.brings(k, cand)...)
		}
		for i, a := range all {
			for _, b := range all[:i] {
				if c.meet(k, n, a.facts, b.facts) {
					continue
				}
				code := agreementContradicted
				if byName(a) != byName(b) {
					code = agreementName
				}
				l := code.Line(k.Name, n, b.of, fact.Values(b.facts), a.of, fact.Values(a.facts))
				l.Device, l.Package = fact.Values(b.facts), fact.Values(a.facts)
				for _, f := range b.facts {
					l.Cite(Cited{OfStated, f.Text(), f.Source})
				}
				for _, f := range a.facts {
					l.Cite(Cited{OfPackage, f.Text(), f.Source})
				}
				return l
			}
		}
	}
	return ok
}

// byName tells whether a statement is that of a file or folder name.
func byName(s statement) bool { return s.facts[0].Source.Kind == fact.FileName }

// place is where a witness speaks: the header as a whole, the first line of a
// manifest that lists the item.
func place(w fact.Witness) fact.Source {
	claim := w.Claims[0]
	s := claim[len(claim)-1].Source // of a manifest, the record's line and not the heading's
	if w.Kind == fact.Header {
		s.Offset, s.Size = 0, 0
	}
	return s
}

// statements gathers what each source says of one thing. A manifest that gives one
// file two versions or two components contradicts itself.
//
// In one piece: what each kind of witness may say of each fact.
func (c *Case) statements(k Component, n fact.Name, witnesses []fact.Witness) []statement {
	var out []statement
	said := map[string]bool{} // what is stated many times is one statement
	add := func(of string, facts []fact.Fact) {
		if len(facts) == 0 {
			return
		}
		if len(facts) == 1 {
			key := of + "\x00" + facts[0].Value
			if said[key] {
				return
			}
			said[key] = true
		}
		out = append(out, statement{facts, of})
	}
	for _, w := range witnesses {
		if n == fact.Version && w.Kind == fact.FileName && !c.nameSpeaksOf(k) {
			continue
		}
		single := n == fact.Version || n == fact.Component || n == fact.Family
		if w.Kind == fact.Manifest && single {
			for _, claim := range w.Claims {
				add(string(w.Kind), claim.About(n))
			}
		} else if facts := c.spoken(w, n); len(facts) > 0 && !(n == fact.Component && w.Kind == fact.Header && !c.hasComponent(facts[0].Value)) {
			// What a header's type says in general, such as main, is no name that this
			// family uses.
			for _, voice := range voices(facts) {
				add(voiceName(w, voice), voice)
			}
		}
		if n == fact.Model || n == fact.Revision {
			for _, boards := range voices(c.spoken(w, fact.Board)) {
				add(voiceName(w, boards)+", by its board,", c.ofBoards(n, boards))
			}
		}
	}
	return out
}

// spoken is what a witness says of one thing: of an image with several configurations,
// what is said by those that do not exclude the device.
func (c *Case) spoken(w fact.Witness, n fact.Name) []fact.Fact {
	if w.Kind != fact.Header || len(w.Claims) < 2 {
		return w.About(n)
	}
	var out []fact.Fact
	for _, claim := range w.Claims {
		if !slices.ContainsFunc(respects(), func(r fact.Name) bool { return excluding(c.ask(r, claim)) }) {
			out = append(out, claim.About(n)...)
		}
	}
	if out == nil {
		return w.About(n)
	}
	return out
}

// voiceName names who says something in a witness.
func voiceName(w fact.Witness, facts []fact.Fact) string {
	if facts[0].Payload {
		return "part that it starts"
	}
	return string(w.Kind)
}

// ofBoards are the models, or the revisions of the device's model, to which the
// rulebook gives the boards that a source names.
func (c *Case) ofBoards(n fact.Name, boards []fact.Fact) []fact.Fact {
	var facts []fact.Fact
	for _, b := range boards {
		for _, o := range c.Rules.Owners(b.Value) {
			f := b
			f.About = n
			switch {
			case n == fact.Model:
				f.Value = o.Model
			case c.Model != nil && o.Model == c.Model.Key && o.Revision != "":
				f.Value = o.Revision
			default:
				continue
			}
			facts = append(facts, f)
		}
	}
	return facts
}

// nameSpeaksOf tells whether the version in the package's name is that of the
// component: of the main image, or of the only one that such packages bring.
func (c *Case) nameSpeaksOf(k Component) bool {
	return k.Name == c.Main() || len(c.Components()) == 1
}

// brings is what the rulebook says the release brings for a component.
func (c *Case) brings(k Component, cand *Candidate) []statement {
	rel := cand.Release.Rule
	if rel == nil {
		return nil
	}
	e, ok := rel.Brings.Get(k.Name)
	if !ok {
		return nil
	}
	f := fact.Fact{About: fact.Version, Value: e.Value.Text, Source: c.Rules.Source(e.Value.Spot)}
	return []statement{{facts: []fact.Fact{f}, of: "rulebook's release " + rel.Version.Text}}
}

// meet tells whether two lists of values share one, as far as is known: a version
// without its build is no contradiction of one with it.
func (c *Case) meet(k Component, n fact.Name, a, b []fact.Fact) bool {
	for _, x := range alternatives(a) {
		for _, y := range alternatives(b) {
			if c.agree(k, n, x, y) {
				return true
			}
		}
	}
	return false
}

func alternatives(facts []fact.Fact) []string {
	var out []string
	for _, f := range facts {
		if f.Open {
			out = append(out, strings.Split(f.Value, "|")...)
		} else {
			out = append(out, f.Value)
		}
	}
	return out
}

// agree tells whether two values of one thing may be meant alike.
func (c *Case) agree(k Component, n fact.Name, a, b string) bool {
	switch n {
	case fact.Model:
		return c.Rules.CanonicalModel(a) == c.Rules.CanonicalModel(b)
	case fact.Arch:
		return fact.CanonicalArch(a) == fact.CanonicalArch(b)
	case fact.Version:
		scheme := c.Rules.Scheme(k.Name)
		if _, err := scheme.Parse(a); err != nil {
			return strings.TrimSpace(a) == strings.TrimSpace(b)
		}
		if _, err := scheme.Parse(b); err != nil {
			return strings.TrimSpace(a) == strings.TrimSpace(b)
		}
		return scheme.Same(a, b) != truth.No
	case fact.Revision:
		x, y := c.revisionsIn(a), c.revisionsIn(b)
		return slices.ContainsFunc(x, func(r string) bool { return slices.Contains(y, r) })
	}
	return strings.EqualFold(strings.TrimSpace(a), strings.TrimSpace(b))
}

// revisionsIn lists the revisions of the device's model that a text of a revision
// list holds, or the text itself where the rulebook knows none.
func (c *Case) revisionsIn(text string) []string {
	var out []string
	if c.Model != nil {
		for _, e := range c.Model.Value.Revs.Entries {
			if c.Model.Value.HoldsRevision(text, e.Key) == truth.Yes {
				out = append(out, strings.ToLower(e.Key))
			}
		}
	}
	if len(out) == 0 {
		out = append(out, strings.ToLower(strings.TrimSpace(text)))
	}
	return out
}

// rival says what two equally good candidates mean.
func (c *Case) rival(k Component, best, other *Candidate) Line {
	base := Line{Component: k.Name, Device: c.Hardware(), Package: best.Item.Address + " and " + other.Item.Address,
		Sources: []Cited{c.ofDevice(), best.cite(), other.cite()}}
	switch d := best.Item.Digests.Of("sha256"); {
	case d != "" && d == other.Item.Digests.Of("sha256"):
		return agreementSame.become(base)
	case c.compareVersions(k, best, other) > 0:
		return agreementNewer.become(base, best.Item.Address)
	}
	return agreementRival.become(base, best.Item.Address, other.Item.Address)
}
