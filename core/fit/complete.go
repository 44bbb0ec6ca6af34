package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

// completeChecks: everything that is needed for this device is there.
func (j *judge) completeChecks(results map[string]result) []Check {
	var out []Check
	for _, c := range j.components() {
		if r := results[c.name]; r.best == nil && len(r.checks) == 0 {
			out = append(out, j.absent(c))
		}
	}
	out = append(out, j.listed()...)
	return append(out, j.o.Cache.keptChecks(about{what: "extra", survey: j.s}, j.extra)...)
}

// absent: nothing in the package is meant for a component.
func (j *judge) absent(c component) Check {
	ch := Check{Check: "complete", Component: c.name, Device: j.subjectName(), Package: "no " + c.name + " image"}
	ch.Sources = []Cited{{OfDevice, j.subjectName(), fact.Source{Kind: fact.DeviceFile, File: j.d.File}}, {OfPackage, "no " + c.name + " image", fact.Source{Kind: fact.Manifest, File: j.s.Name}}}
	if c.at.Line > 0 {
		ch.Sources = append(ch.Sources, Cited{OfRule, "component " + c.name, j.rb.Source(c.at)})
	}
	if c.optional {
		ch.Outcome, ch.Because = NotApplicable, fmt.Sprintf("the package brings no %s, and it is optional", c.name)
		return ch
	}
	if rel := j.release.rule; rel != nil {
		if e, ok := rel.Brings.Get(c.name); ok {
			if installed, known := j.citeInstalled(c.name); known && j.rb.Scheme(c.name).Equal(installed.Value, e.Value.Text) {
				ch.Outcome, ch.Device = NotApplicable, installed.Value
				ch.Because = fmt.Sprintf("the package brings no %s, and the device runs the one of this release already (%s)", c.name, installed.Value)
				return ch
			}
		}
	}
	ch.Outcome = Misfit
	ch.Because = fmt.Sprintf("the package holds no %s image for this device", c.name)
	ch.Advice = "look whether this is the right download for the device, and download it again if it should be"
	return ch
}

// nothing: a package that brings no image at all for the device can never fit
// it, whatever else of it is right.
func (j *judge) nothing(checks []Check) []Check {
	if len(j.chosen) > 0 {
		return nil
	}
	for _, c := range checks {
		if c.Check == "complete" && c.Outcome == Misfit {
			return nil // said already
		}
	}
	ch := Check{Check: "complete", Outcome: Misfit, Device: j.subjectName(), Package: "nothing for it",
		Because: "the package brings no image for this device",
		Advice:  "look whether this is the right download for the device",
		Sources: []Cited{{OfDevice, j.subjectName(), fact.Source{Kind: fact.DeviceFile, File: j.d.File}}, {OfPackage, "nothing for it", fact.Source{Kind: fact.FileName, File: j.s.Name}}}}
	for _, part := range j.s.Each() {
		if e := part.Entry; e != nil && len(e.Components) > 0 {
			ch.Because = fmt.Sprintf("the package brings %s, and the device's family has no such component", texts(e.Components))
			ch.Sources = append(ch.Sources, Cited{OfRule, "components " + texts(e.Components), part.Rulebook.Source(e.Components[0].Spot)})
		}
	}
	return []Check{ch}
}

// listed: what the manifest lists for this device is there, and every line of
// it could be read.
func (j *judge) listed() []Check {
	var out []Check
	src := func(file string) fact.Source { return fact.Source{Kind: fact.Manifest, File: file} }
	for _, m := range j.s.Missing {
		out = append(out, j.missing(m))
	}
	for _, p := range j.s.Problems {
		if p.Class != survey.UnreadLine {
			continue
		}
		it := j.s.Find(p.Item)
		ch := Check{Check: "complete", Device: j.subjectName(), Package: p.Item, Outcome: Unsettled, Because: fmt.Sprintf("%s, %s", p.Item, p.What), Advice: p.Advice,
			Sources: []Cited{{OfPackage, p.What, src(p.Item)}}}
		if it != nil && it.Role != "manifest" {
			ch.Outcome = Note
		}
		out = append(out, ch)
	}
	for _, part := range j.s.Each() {
		if e := part.Entry; e != nil && e.Manifest != nil && len(part.Manifests) == 0 && !part.Broken() {
			out = append(out, Check{Check: "complete", Device: j.subjectName(), Package: "no manifest", Outcome: Unsettled,
				Because: fmt.Sprintf("the rulebook expects a manifest (%s), and there is none", e.Manifest.Item.Pattern),
				Advice:  "download the whole package again",
				Sources: []Cited{{OfRule, e.Manifest.Item.Pattern, part.Rulebook.Source(e.Manifest.Spot)}, {OfPackage, "no manifest", src(part.Name)}}})
		}
	}
	if len(out) > 0 || len(j.s.Manifests) == 0 {
		return out
	}
	n := 0
	for _, m := range j.s.Manifests {
		n += len(m.Records)
	}
	return []Check{{Check: "complete", Outcome: Fits, Device: j.subjectName(), Package: fmt.Sprintf("%d files listed", n), Because: "all that the manifest lists is there",
		Sources: []Cited{{OfDevice, j.subjectName(), fact.Source{Kind: fact.DeviceFile, File: j.d.File}}, {OfPackage, fmt.Sprintf("%d files listed", n), src(j.s.Manifests[0].Address)}}}}
}

// missing judges a file that a manifest lists and the package does not hold.
func (j *judge) missing(m survey.Missing) Check {
	ch := Check{Check: "complete", Device: j.subjectName(), Package: m.File + " is missing",
		Sources: []Cited{{OfPackage, m.File, m.Source}, {OfDevice, j.subjectName(), fact.Source{Kind: fact.DeviceFile, File: j.d.File}}}}
	if f := m.Claim.About(fact.Component); len(f) > 0 {
		ch.Component = f[0].Value
	}
	undecided := ""
	for n, ops := range j.opinions(fact.Witness{Kind: fact.Manifest, Claims: []fact.Claim{m.Claim}}) {
		for _, o := range ops {
			switch o.stance {
			case excludes:
				ch.Outcome, ch.Because = Note, fmt.Sprintf("%s, which the manifest lists for other devices, is missing", m.File)
				return ch
			case open:
				undecided = string(identity[n])
			}
		}
	}
	if ch.Component != "" && !j.hasComponent(ch.Component) {
		ch.Outcome, ch.Because = Note, fmt.Sprintf("%s is missing; the device has no component %s", m.File, ch.Component)
		return ch
	}
	ch.Advice = "download the package again, or get the missing file"
	if undecided != "" {
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("%s is listed and missing, and it may be for this device: its %s is not known", m.File, undecided)
		return ch
	}
	ch.Outcome = Misfit
	ch.Because = fmt.Sprintf("the manifest lists %s for this device, and it is not in the package", m.File)
	return ch
}

func (j *judge) hasComponent(name string) bool {
	for _, c := range j.components() {
		if strings.EqualFold(c.name, name) {
			return true
		}
	}
	return false
}

// extra notes firmware that no manifest lists.
func (j *judge) extra() []Check {
	var out []Check
	for _, it := range j.s.Unlisted() {
		if j.partOfImage(it) {
			continue
		}
		out = append(out, Check{Check: "complete", Outcome: Note, Package: it.Address, Because: fmt.Sprintf("%s is in the package, and the manifest does not list it", it.Address),
			Sources: []Cited{{OfPackage, it.Address, fact.Source{Kind: fact.FileName, File: it.Address}}}})
	}
	return out
}
