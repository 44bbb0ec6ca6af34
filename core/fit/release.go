package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

// release is what the package stands for: the version of its main image, else
// what its file name says.
type release struct {
	text string
	from fact.Fact         // where the version was read
	rule *rulebook.Release // nil when the rulebook does not list it
}

func (j *judge) releaseOf(c *candidate) release {
	if f := j.versionOf(c); f.Known() {
		return j.lookUp(f)
	}
	return j.releaseByName()
}

func (j *judge) releaseByName() release {
	for _, part := range j.s.Each() {
		for _, f := range part.NameClaim {
			if f.About == fact.Version && !f.Open && j.bringsMain() {
				return j.lookUp(f)
			}
		}
	}
	return release{}
}

func (j *judge) lookUp(f fact.Fact) release {
	return release{f.Value, f, j.rb.FindRelease(f.Value, j.family(), j.first(fact.Model), j.first(fact.Revision))}
}

// rule asks the rulebook about the one hop from what is installed.
func (j *judge) rule(rel release, toFamily string) rulebook.Ruling {
	if j.rb == nil {
		return rulebook.Ruling{Because: "there is no rulebook"}
	}
	installed, _ := j.d.Version(j.mainComponent())
	from, err := j.rb.Scheme(j.mainComponent()).Parse(installed.Value)
	if err != nil {
		return rulebook.Ruling{Because: "the installed version is not known: " + err.Error()}
	}
	to, err := j.rb.Scheme(j.mainComponent()).Parse(rel.text)
	if err != nil {
		return rulebook.Ruling{Because: "the package's version is not known: " + err.Error()}
	}
	return j.rb.Rule(rulebook.Move{From: from, To: to, FromFamily: j.family(), ToFamily: toFamily, Model: j.first(fact.Model), Revision: j.first(fact.Revision)})
}

// toFamily is the family that the device would run after the install.
func (j *judge) toFamily() string {
	family := j.family()
	rel := j.release.rule
	if rel == nil || rel.OfFamily(family) {
		return family
	}
	if j.model != nil {
		for _, t := range rel.Families {
			for _, may := range j.model.Value.Families {
				if strings.EqualFold(t.Text, may.Text) {
					return may.Text
				}
			}
		}
	}
	return rel.Families[0].Text
}

// releaseChecks are about the version that would be installed.
func (j *judge) releaseChecks() []Check {
	if !j.bringsMain() {
		return j.componentOnly()
	}
	if j.chosen[j.mainComponent()] == nil {
		return nil // nothing would be installed; why, the other checks say
	}
	out := []Check{j.pathCheck(), j.versionCheck()}
	rel := j.release.rule
	if rel == nil {
		return out
	}
	if rel.Withdrawn.Set() {
		out = append(out, Check{Check: "withdrawn", Outcome: Misfit, Device: "a release that stands", Package: "release " + rel.Version.Text,
			Because: fmt.Sprintf("release %s was withdrawn: %s", rel.Version.Text, rel.Withdrawn.Text),
			Advice:  "do not install it; take a newer release",
			Sources: []Cited{j.citeRelease(), {OfRule, withdrawal(j.rb.Document(rel.Source)), j.rb.Source(rel.Withdrawn.Spot)}}})
	} else {
		out = append(out, Check{Check: "withdrawn", Outcome: Fits, Device: "a release that stands", Package: "release " + rel.Version.Text, Because: "the release was not withdrawn",
			Sources: []Cited{j.citeRelease(), {OfRule, "release " + rel.Version.Text, j.rb.Source(rel.Spot)}}})
	}
	for _, n := range rel.Needs {
		out = append(out, j.need(rel, n))
	}
	return append(out, j.dropped(rel), j.entitled(rel))
}

func (j *judge) citeRelease() Cited {
	return Cited{OfPackage, j.release.text, j.release.from.Source}
}

func (j *judge) citeInstalled(component string) (Cited, bool) {
	if f, ok := j.d.Version(component); ok {
		return Cited{OfDevice, f.Value, f.Source}, true
	}
	return Cited{OfDevice, "not known", fact.Source{Kind: fact.DeviceFile, File: j.d.File}}, false
}

// pathCheck tells whether the one hop from what is installed is allowed.
func (j *judge) pathCheck() Check {
	main := j.mainComponent()
	installed, known := j.citeInstalled(main)
	ch := Check{Check: "path", Component: main, Outcome: Unsettled, Device: installed.Value, Package: j.release.text, Sources: []Cited{installed}}
	if j.release.text != "" {
		ch.Sources = append(ch.Sources, j.citeRelease())
	} else {
		ch.Package = "not known"
		ch.Sources = append(ch.Sources, Cited{OfPackage, "not known", fact.Source{Kind: fact.FileName, File: j.s.Name}})
	}
	scheme := j.rb.Scheme(main)
	if known && j.release.text != "" && scheme.Equal(installed.Value, j.release.text) && strings.EqualFold(j.family(), j.toFamily()) {
		ch.Outcome, ch.Because = NotApplicable, "the device already runs this version"
		return ch
	}
	switch {
	case j.rb == nil:
		ch.Because, ch.Advice = "without a rulebook nobody knows which moves are allowed", j.needRulebook()
		return ch
	case !known:
		ch.Because, ch.Advice = "the installed version is not known", fmt.Sprintf("read it off the device and add installed: {%s: …} to %s", main, j.d.File)
		return ch
	case j.release.text == "":
		ch.Because, ch.Advice = "nothing says which version the package brings", "add a pattern for the manifest or the file name to the rulebook"
		return ch
	}
	rel := j.release.rule
	if rel == nil && len(j.rb.Releases) > 0 {
		ch.Because = fmt.Sprintf("the rulebook does not list the release %s", j.release.text)
		ch.Advice = "read its release notes and add it to " + j.rb.File
		ch.Sources = append(ch.Sources, Cited{OfRule, "not listed", fact.Source{Kind: fact.Rulebook, File: j.rb.File}})
		return ch
	}
	if rel != nil {
		meant, unsure := rel.For(j.rb, j.first(fact.Model), j.first(fact.Revision))
		cited := Cited{OfRule, "release " + rel.Version.Text, j.rb.Source(rel.Spot)}
		if !meant {
			ch.Outcome, ch.Sources = Misfit, append(ch.Sources, cited)
			ch.Because = fmt.Sprintf("by the rulebook the release %s is not for %s", rel.Version.Text, j.subjectName())
			ch.Advice = "take a release that is for this hardware"
			return ch
		}
		if unsure {
			ch.Sources = append(ch.Sources, cited)
			ch.Because = fmt.Sprintf("the release %s is for some hardware revisions only, and the device's is not known", rel.Version.Text)
			ch.Advice = j.howToKnow(fact.Revision)
			return ch
		}
	}
	if j.family() == "" && !strings.EqualFold(j.toFamily(), "") {
		ch.Because = fmt.Sprintf("the device's image family is not known, so that nobody can say whether it may go to %s of %s", j.release.text, j.toFamily())
		ch.Advice = j.howToKnow(fact.Family)
		return ch
	}
	r := j.rule(j.release, j.toFamily())
	if r.Source.File != "" {
		ch.Sources = append(ch.Sources, Cited{OfRule, r.Document, r.Source})
	}
	ch.Because = r.Because
	switch {
	case !r.Settled:
		ch.Advice = "find out from the release notes whether the move is allowed, and add a rule to " + j.rb.File
	case r.Allowed && j.release.from.Strength() <= fact.ByName && !j.o.TrustNames:
		ch.Because = fmt.Sprintf("the move to %s is allowed, but only the file name says that the package is %s", j.release.text, j.release.text)
		ch.Advice = "find a manifest or header that tells the version, or accept names with -trust-names"
	case r.Allowed:
		ch.Outcome = Fits
		ch.Because += j.cost(r, rel)
	default:
		ch.Outcome = Misfit
		switch way := j.way(); {
		case way != "":
			ch.Advice = way
		case r.Via != "":
			ch.Advice = "go by way of " + r.Via
		default:
			ch.Advice = "no way there is known"
		}
	}
	return ch
}

// cost tells what an allowed hop takes.
func (j *judge) cost(r rulebook.Ruling, rel *rulebook.Release) string {
	var parts []string
	if rel != nil && rel.Minutes != nil {
		parts = append(parts, fmt.Sprintf("%d minutes, %d of them without service", rel.Minutes.Install, rel.Minutes.Outage))
	}
	if r.ResetsConfig || rel != nil && rel.ResetsConfig {
		parts = append(parts, "the configuration is reset")
	}
	if len(parts) == 0 {
		return ""
	}
	return "; it takes " + strings.Join(parts, ", ")
}

// versionCheck only notes: that the device runs the version, or a newer one,
// whether it could go back, and that the only slot is overwritten.
func (j *judge) versionCheck() Check {
	main := j.mainComponent()
	installed, known := j.citeInstalled(main)
	ch := Check{Check: "version", Component: main, Outcome: NotApplicable, Device: installed.Value, Package: j.release.text, Sources: []Cited{installed}}
	if j.release.text == "" {
		ch.Package, ch.Because = "not known", "there is nothing to compare"
		ch.Sources = append(ch.Sources, Cited{OfPackage, "not known", fact.Source{Kind: fact.FileName, File: j.s.Name}})
		return ch
	}
	ch.Sources = append(ch.Sources, j.citeRelease())
	var notes []string
	scheme := j.rb.Scheme(main)
	from, err1 := scheme.Parse(installed.Value)
	to, err2 := scheme.Parse(j.release.text)
	if known && err1 == nil && err2 == nil {
		switch d := scheme.Compare(to, from); {
		case d == 0:
			notes = append(notes, "the device already runs "+installed.Value)
		case d < 0:
			notes = append(notes, fmt.Sprintf("%s is older than %s, which is installed", j.release.text, installed.Value))
		default:
			if back := j.noWayBack(from, to); back != "" {
				notes = append(notes, back)
			}
		}
	}
	if len(j.d.Slots) == 1 {
		notes = append(notes, "there is one slot only: the install overwrites the running image")
	}
	if len(notes) > 0 {
		ch.Outcome, ch.Because = Note, strings.Join(notes, "; ")
		return ch
	}
	ch.Because = "nothing to note"
	return ch
}

// noWayBack warns when no rule allows the hop back; another slot that keeps
// the running image is a way back of its own.
func (j *judge) noWayBack(from, to version.Version) string {
	if j.rb == nil || len(j.d.Slots) > 1 {
		return ""
	}
	r := j.rb.Rule(rulebook.Move{From: to, To: from, FromFamily: j.toFamily(), ToFamily: j.family(), Model: j.first(fact.Model), Revision: j.first(fact.Revision)})
	if r.Settled && r.Allowed {
		return ""
	}
	return fmt.Sprintf("no way back by a hop: from %s to %s, %s", to.Text, from.Text, r.Because)
}

// componentOnly: a package that does not carry the main image moves no
// release, so the rules on main do not bind it.
func (j *judge) componentOnly() []Check {
	return []Check{{Check: "path", Outcome: NotApplicable, Because: "the package does not carry the main image; the rules for its versions do not bind it"}}
}

func withdrawal(document string) string {
	if document == "" {
		return "withdrawn"
	}
	return "withdrawn, " + document
}
