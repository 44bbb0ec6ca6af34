package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fact"
)

// uniform: of a group whose members must run one version, each has an image
// and ends at the version of the others.
func uniform(d *device.Device, judges []*judge) []Check {
	if d.Group.Text == "" || !d.Uniform {
		return nil
	}
	ch := Check{Check: "uniform", Outcome: Fits, Device: fmt.Sprintf("%d members at one version", len(judges))}
	var ends []string
	first := ""
	for _, j := range judges {
		name, main := j.d.Name.Text, j.mainComponent()
		end, source := j.endsAt()
		switch {
		case !end.Known() && j.chosen[main] == nil && j.bringsMain():
			ch.Outcome = Misfit
			ch.Because = fmt.Sprintf("the package brings no %s image for %s, and all members must run one version", main, name)
			ch.Advice = "get a package that has images for every member, or one package for each kind of member, of the same version"
		case !end.Known():
			if ch.Outcome = Worse(ch.Outcome, Unsettled); ch.Outcome == Unsettled {
				ch.Because = fmt.Sprintf("it is not known at which version %s ends", name)
				ch.Advice = fmt.Sprintf("add installed: {%s: …} of %s to %s", main, name, d.File)
			}
		case first == "":
			first = end.Value
		case !j.rb.Scheme(main).Equal(first, end.Value):
			ch.Outcome = Misfit
			ch.Because = fmt.Sprintf("%s would end at %s, and others at %s", name, end.Value, first)
			ch.Advice = "bring all members to one version: install on all of them, or on none"
		}
		text := name + " at " + end.Value
		if !end.Known() {
			text = name + " at a version that is not known"
		}
		ends = append(ends, text)
		ch.Sources = append(ch.Sources, Cited{source.Side, text, source.Source})
	}
	ch.Package = strings.Join(ends, ", ")
	if ch.Outcome == Fits {
		ch.Because = fmt.Sprintf("all %d members end at %s", len(judges), first)
	}
	return []Check{ch}
}

// endsAt is the version of the main component after the install: what is
// chosen for it, else what runs already.
func (j *judge) endsAt() (fact.Fact, Cited) {
	main := j.mainComponent()
	if c := j.chosen[main]; c != nil {
		if f := j.versionOf(c); f.Known() {
			return f, Cited{OfPackage, f.Value, f.Source}
		}
		return j.release.from, Cited{OfPackage, j.release.text, j.release.from.Source}
	}
	f, known := j.d.Version(main)
	if j.bringsMain() && (!known || !j.rb.Scheme(main).Equal(f.Value, j.release.text)) {
		return fact.Fact{}, Cited{OfPackage, "none", fact.Source{Kind: fact.FileName, File: j.s.Name}}
	}
	cited, _ := j.citeInstalled(main)
	return f, cited
}
