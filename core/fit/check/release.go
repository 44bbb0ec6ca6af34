package check

import (
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
)

// Release is what a package stands for: the version of its main image, else what
// its file name says.
type Release struct {
	Text   string
	From   fact.Fact         // where the version was read
	Rule   *rulebook.Release // nil when the rulebook does not list it
	Family string            // that the image itself says it is of; "" where it does not
}

// releaseAt is a release that the version of a component told, which is cited.
func releaseAt(rel *rulebook.Release, cited Cited) Release {
	return Release{Text: rel.Version.Text, From: fact.Fact{About: fact.Version, Value: rel.Version.Text, Source: cited.Source}, Rule: rel}
}

// Strong tells whether more than a name says which release it is.
func (r Release) Strong() bool { return r.From.Strength() > fact.ByName }

// releaseOf is the release of a candidate of the main component: by its own version
// and family, then the package's.
func (c *Case) releaseOf(cand *Candidate) Release {
	family := cand.family()
	f := cand.Version()
	if !f.Known() {
		r := c.ByName()
		if family != "" && r.Text != "" {
			return c.lookUp(r.From, family)
		}
		return r
	}
	return c.lookUp(f, family)
}

// ByName is what the package's own name says.
func (c *Case) ByName() Release {
	for _, part := range c.Survey.Each() {
		for _, f := range part.NameClaim {
			if f.About == fact.Version && !f.Open && c.BringsMain() {
				return c.lookUp(f, "")
			}
		}
	}
	return Release{}
}

// lookUp finds the release of a version; family is what the image says of itself.
func (c *Case) lookUp(f fact.Fact, family string) Release {
	r := Release{Text: f.Value, From: f, Family: family}
	of := family
	if of == "" {
		of = c.LikelyFamily()
	}
	r.Rule = c.Rules.FindRelease(f.Value, of, c.First(fact.Model), c.First(fact.Revision))
	if r.Rule != nil && family != "" && !r.Rule.OfFamily(family) {
		r.Rule = nil // one of that number, and of another family
	}
	return r
}

// ToFamily is the family that the device would run after the install.
func (c *Case) ToFamily() string { return c.familyAfter(c.Release) }

func (c *Case) familyAfter(r Release) string {
	if r.Family != "" {
		if f, ok := c.MayRun(r.Family); ok {
			return f
		}
		return r.Family
	}
	family := c.Family()
	if r.Rule == nil || r.Rule.OfFamily(family) {
		return family
	}
	for _, t := range r.Rule.Families {
		if f, ok := c.MayRun(t.Text); ok {
			return f
		}
	}
	return r.Rule.Families[0].Text
}

// rule asks the rulebook about the one hop from what is installed.
func (c *Case) rule(r Release) rulebook.Ruling {
	if c.Rules == nil {
		return rulebook.Ruling{Because: "there is no rulebook"}
	}
	main := c.Main()
	installed := c.Installed(main)
	if !installed.Known() {
		return rulebook.Ruling{Because: why("installed "+main, installed)}
	}
	from, err := c.Rules.Scheme(main).Parse(installed.First())
	if err != nil {
		return rulebook.Ruling{Because: "the installed version is not known: " + err.Error()}
	}
	to, err := c.Rules.Scheme(main).Parse(r.Text)
	if err != nil {
		return rulebook.Ruling{Because: "the package's version is not known: " + err.Error()}
	}
	return c.Rules.Rule(rulebook.Move{From: from, To: to, FromFamily: c.Family(), ToFamily: c.familyAfter(r), Model: c.First(fact.Model), Revision: c.First(fact.Revision)})
}

// citeRelease is where the package says which release it is.
func (c *Case) citeRelease() Cited {
	if c.Release.Text == "" {
		return ofName("not known", c.Survey.Name)
	}
	return Cited{OfPackage, c.Release.Text, c.Release.From.Source}
}

// wayThere says by which hops the device gets to the package's release; "" when
// nothing can be said.
func (c *Case) wayThere() string {
	if c.Rules == nil || c.Release.Text == "" || c.Options.Way == nil {
		return ""
	}
	return c.Options.Way(c, c.Release.Text, c.ToFamily())
}

// bringing lists the releases of the device's family and hardware that bring a
// version of a component.
func (c *Case) bringing(component, version string) []*rulebook.Release {
	if c.Rules == nil || strings.TrimSpace(version) == "" {
		return nil
	}
	var out []*rulebook.Release
	for i := range c.Rules.Releases {
		rel := &c.Rules.Releases[i]
		e, ok := rel.Brings.Get(component)
		if ok && rel.OfFamily(c.LikelyFamily()) && c.Rules.Scheme(component).Equal(e.Value.Text, version) {
			out = append(out, rel)
		}
	}
	return out
}
