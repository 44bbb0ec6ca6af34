package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
)

// identityCheck settles one respect in which an image is meant for a device.
// What excludes the device makes a misfit unless something stronger names it;
// only what is stronger than names can make it fit.
func (j *judge) identityCheck(c component, cand *candidate, n fact.Name) Check {
	ops := cand.opinions[respect(n)]
	ch := Check{Check: string(n), Component: c.name, Device: j.sides[n].text(), Package: "not said", Sources: j.cite(n, 2*len(ops)+2)}
	for _, o := range ops {
		for _, f := range o.facts {
			ch.Sources = append(ch.Sources, Cited{OfPackage, f.Text(), f.Source})
		}
	}
	if len(ops) == 0 {
		ch.Sources = append(ch.Sources, Cited{OfPackage, "not said", fact.Source{Kind: fact.FileName, File: cand.item.Address}})
		j.unsaid(&ch, c, cand, n)
		return ch
	}

	var against, by, undecided *opinion
	for i := range ops {
		o := &ops[i]
		slot := map[stance]**opinion{excludes: &against, names: &by, open: &undecided}[o.stance]
		if *slot == nil || o.strength > (*slot).strength {
			*slot = o
		}
	}
	strong := func(o *opinion) bool { return o != nil && o.strength > fact.ByName }
	said := func(o *opinion) string {
		return fmt.Sprintf("%s (%s)", fact.Values(o.facts), o.facts[0].Source.Kind)
	}
	show := func(o *opinion) { ch.Package = fact.Values(o.facts) }
	switch {
	case strong(against) && strong(by) && by.strength > against.strength:
		ch.Outcome, ch.Package = Unsettled, said(by)+" against "+said(against)
		ch.Because = fmt.Sprintf("the %s names it and the weaker %s does not", by.facts[0].Source.Kind, against.facts[0].Source.Kind)
		ch.Advice = "ask the maker which of the two is right"
	case strong(against):
		show(against)
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("the device has %s %s; the %s names %s", n, j.sides[n].text(), against.facts[0].Source.Kind, j.spell(n, against))
		ch.Advice = j.adviceAgainst(n)
		if n == fact.Family {
			j.crossing(&ch, against.facts)
		}
	case len(j.sides[n].clash) > 0:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("device file and rulebook contradict each other on the device's %s", n)
		ch.Advice = "read it off the device again, then correct the device file or the rulebook"
		show(&ops[0])
	case strong(by):
		show(by)
		ch.Outcome = Fits
		ch.Because = fmt.Sprintf("the %s names it", by.facts[0].Source.Kind)
		if by.facts[0].About == fact.Board && n != fact.Board {
			ch.Because = fmt.Sprintf("the %s names the board %s, which the rulebook gives to it", by.facts[0].Source.Kind, fact.Values(by.facts))
			ch.Package = "board " + fact.Values(by.facts)
		}
	case strong(undecided):
		show(undecided)
		j.undecided(&ch, n, undecided, cand)
	case by != nil && against == nil && j.o.TrustNames:
		show(by)
		ch.Outcome, ch.Because = Fits, "only a file or folder name says so, and names were trusted (-trust-names)"
	default:
		weak := by
		if weak == nil {
			weak = against
		}
		if weak == nil {
			weak = undecided
		}
		show(weak)
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("only a file or folder name speaks of the %s, and names prove nothing", n)
		ch.Advice = "find a manifest or release note that says which device the image is for, or accept names with -trust-names"
	}
	return ch
}

// spell writes the values of an opinion; a board stands for whom it belongs to.
func (j *judge) spell(n fact.Name, o *opinion) string {
	if o.facts[0].About != fact.Board || n == fact.Board {
		return fact.Values(o.facts)
	}
	var owners []string
	for _, f := range o.facts {
		for _, own := range j.rb.Owners(f.Value) {
			owners = append(owners, strings.TrimSpace(own.Model+" "+own.Revision))
		}
	}
	return fmt.Sprintf("the board %s, which belongs to %s", fact.Values(o.facts), strings.Join(owners, ", "))
}

func (j *judge) adviceAgainst(n fact.Name) string {
	switch n {
	case fact.Model, fact.Board:
		return "do not install it; get the image for this model"
	case fact.Revision:
		return fmt.Sprintf("do not install it; get the image for revision %s, and check the revision on the device's label", j.sides[n].text())
	}
	return fmt.Sprintf("do not install it; get the image for %s %s", n, j.sides[n].text())
}

// undecided words the case in which a source speaks but cannot be compared.
func (j *judge) undecided(ch *Check, n fact.Name, o *opinion, cand *candidate) {
	ch.Outcome = Unsettled
	side := j.sides[n]
	switch {
	case !side.known():
		ch.Because = fmt.Sprintf("the device's %s is not known", n)
		ch.Advice = j.howToKnow(n)
	case o.facts[0].Open:
		ch.Because = fmt.Sprintf("the header leaves open whether it is %s", o.facts[0].Text())
		ch.Package = "not said"
		j.unsaidArch(ch, cand, n)
	case side.whyNot != "":
		ch.Because, ch.Advice = side.whyNot, "correct the device file or add the revision to the rulebook"
	default:
		ch.Because = fmt.Sprintf("%q cannot be compared with %q", fact.Values(o.facts), side.text())
		ch.Advice = fmt.Sprintf("list the %ss in their order in the rulebook", n)
	}
}

func (j *judge) howToKnow(n fact.Name) string {
	if s := j.sides[n]; s.guess != "" {
		return fmt.Sprintf("it is only guessed to be %s (%s): look at the label or the console, and confirm it with fitcheck device -set %s=%s", s.guess, s.guessedFrom, n, s.guess)
	}
	if n == fact.Revision {
		return "read the hardware revision off the label or the console and add revision: to " + j.d.File
	}
	return fmt.Sprintf("find it out and add it to %s", j.d.File)
}

// unsaid settles a respect in which the package says nothing.
func (j *judge) unsaid(ch *Check, c component, cand *candidate, n fact.Name) {
	ch.Outcome = Unsettled
	switch n {
	case fact.Model:
		ch.Because = "nothing in the package says which model it is for"
		if m := cand.item.Image; m != nil {
			if title, ok := m.First(fact.Title); ok {
				ch.Because += fmt.Sprintf("; its header bears the title %q, which no pattern of a rulebook reads", title.Value)
				ch.Sources = append(ch.Sources, Cited{OfPackage, fmt.Sprintf("title %q", title.Value), title.Source})
			}
		}
		ch.Advice = "find a manifest, release note or header title that names the model, and describe it in the rulebook"
	case fact.Revision:
		switch {
		case j.model == nil:
			ch.Because = "nothing in the package names hardware revisions, and without a rulebook nobody knows whether they differ"
			ch.Advice = j.needRulebook()
		case j.model.Value.Alike():
			ch.Outcome = NotApplicable
			ch.Because = fmt.Sprintf("the package names no revisions, and by the rulebook all revisions of %s share architecture and boards", j.model.Key)
			ch.Sources = append(ch.Sources, Cited{OfRule, j.model.Key, j.rb.Source(j.model.Spot)})
		default:
			ch.Because = fmt.Sprintf("nothing in the package names hardware revisions, and by the rulebook those of %s differ", j.model.Key)
			ch.Advice = "find out from the release notes which revisions the image is for"
			ch.Sources = append(ch.Sources, Cited{OfRule, j.model.Key, j.rb.Source(j.model.Spot)})
		}
	case fact.Arch:
		ch.Because = "nothing in the package says which architecture it is for"
		j.unsaidArch(ch, cand, n)
	case fact.Family:
		j.familyOfRelease(ch, cand)
	default:
		ch.Outcome, ch.Because = NotApplicable, fmt.Sprintf("the package says nothing of the %s", n)
	}
}

// unsaidArch: an image that a strong source gives to this model and revision,
// or board, need not say its architecture.
func (j *judge) unsaidArch(ch *Check, cand *candidate, n fact.Name) {
	if n == fact.Arch && (named(cand.opinions[respect(fact.Board)]) || named(cand.opinions[respect(fact.Model)]) && (named(cand.opinions[respect(fact.Revision)]) || j.alike())) {
		ch.Outcome = NotApplicable
		ch.Because += "; a strong source names the hardware itself"
		return
	}
	ch.Advice = "ask the maker, or look for a manifest that names model and revision"
}

func (j *judge) alike() bool { return j.model != nil && j.model.Value.Alike() }

// named tells whether a strong source names the device and none excludes it.
func named(ops []opinion) bool {
	ok := false
	for _, o := range ops {
		if o.stance == excludes {
			return false
		}
		ok = ok || o.stance == names && o.strength > fact.ByName
	}
	return ok
}

func (j *judge) needRulebook() string {
	if j.o.NoRulebook != nil {
		if why := j.o.NoRulebook(j.d); why != "" {
			return why
		}
	}
	return "add a rulebook for this line to the kit"
}
