package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	y "fitcheck/core/yamlfile"
)

// need checks one thing that a release asks for.
func (j *judge) need(rel *rulebook.Release, n rulebook.Need) Check {
	var ch Check
	truth := n.Met(j.rb, rulebook.OfDevice{Device: j.d, Rules: j.rb, Model: j.first(fact.Model), Revision: j.first(fact.Revision)})
	switch {
	case n.Component.Set():
		ch = j.needComponent(n, truth)
	case n.Companion.Set():
		ch = j.needCompanion(n, truth)
	case n.StorageFree.Set():
		ch = j.needBytes("room", "free storage", n.StorageFree.Bytes, truth, j.d.StorageFree.Bytes,
			j.d.Source("storage_free", j.d.StorageFree.Spot), "free some space on the device")
	case n.Attached.Set():
		ch = j.needAttached(n, truth)
	case n.Memory.Set():
		have, _, src := j.memory()
		ch = j.needBytes("memory", "memory", n.Memory.Bytes, truth, have, src, "the release is not for devices with so little memory")
	default:
		ch = j.needFeature(n, truth)
	}
	if n.Why.Set() {
		ch.Because += " (" + n.Why.Text + ")"
	}
	said := ch.Package
	if d := j.rb.Document(n.Source); d != "" {
		said += ", " + d
	}
	ch.Sources = append(ch.Sources, Cited{OfRule, said, j.rb.Source(n.Spot)})
	return ch
}

func (j *judge) memory() (int64, bool, fact.Source) {
	if _, guessed := j.d.Guessed("memory"); j.d.Memory.Set() && !guessed {
		return j.d.Memory.Bytes, true, j.d.Source("memory", j.d.Memory.Spot)
	}
	if j.model != nil {
		if m, ok := j.rb.MemorySize(&j.model.Value, j.first(fact.Revision)); ok {
			return m.Bytes, true, j.rb.Source(m.Spot)
		}
	}
	return 0, false, fact.Source{Kind: fact.DeviceFile, File: j.d.File}
}

func (j *judge) needBytes(check, what string, want int64, truth rulebook.Truth, have int64, src fact.Source, advice string) Check {
	ch := Check{Check: check, Device: y.FormatSize(have), Package: "needs " + y.FormatSize(want)}
	switch truth {
	case rulebook.Unknown:
		ch.Outcome, ch.Device = Unsettled, "not known"
		ch.Because = fmt.Sprintf("it needs %s of %s, and the device's is not known", y.FormatSize(want), what)
		ch.Advice = "read it off the device and add it to " + j.d.File
		src = fact.Source{Kind: fact.DeviceFile, File: j.d.File}
	case rulebook.Fails:
		ch.Outcome, ch.Advice = Misfit, advice
		ch.Because = fmt.Sprintf("it needs %s of %s, and there is %s", y.FormatSize(want), what, y.FormatSize(have))
	default:
		ch.Outcome, ch.Because = Fits, fmt.Sprintf("there is enough %s", what)
	}
	ch.Sources = []Cited{{OfDevice, ch.Device, src}}
	return ch
}

// needComponent: what is installed is within the range, or this package brings
// it, checked without a misfit, and it is installed before the main image.
func (j *judge) needComponent(n rulebook.Need, truth rulebook.Truth) Check {
	name := n.Component.Text
	installed, known := j.citeInstalled(name)
	ch := Check{Check: "needs", Component: name, Device: installed.Value, Package: fmt.Sprintf("needs %s %s", name, n.Within.Text), Sources: []Cited{installed}}
	_, err := j.rb.Scheme(name).Parse(installed.Value)
	if truth == rulebook.Holds {
		ch.Outcome, ch.Because = Fits, fmt.Sprintf("the installed %s %s is within %s", name, installed.Value, n.Within.Text)
		return ch
	}
	late := false // it is in the package, and comes too late
	if c := j.chosen[name]; c != nil && c.worst() != Misfit {
		brought := j.versionOf(c)
		source := j.citeVersion(c)
		if !brought.Known() && j.release.rule != nil {
			if e, ok := j.release.rule.Brings.Get(name); ok {
				brought = fact.Fact{Value: e.Value.Text, Source: j.rb.Source(e.Value.Spot)}
				source = []Cited{{OfRule, brought.Value, brought.Source}}
			}
		}
		v, err := j.rb.Scheme(name).Parse(brought.Value)
		late = err == nil && n.Range.Contains(v) && !j.installedFirst(name)
		if err == nil && n.Range.Contains(v) && !late {
			ch.Outcome = Fits
			ch.Because = fmt.Sprintf("the package brings %s %s and installs it first", name, brought.Value)
			ch.Sources = append(ch.Sources, source...)
			return ch
		}
	}
	switch {
	case !known:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("it needs %s %s, and the installed version is not known", name, n.Within.Text)
		ch.Advice = fmt.Sprintf("read it off the device and add installed: {%s: …} to %s", name, j.d.File)
	case err != nil:
		ch.Outcome, ch.Because, ch.Advice = Unsettled, err.Error(), "correct the version in "+j.d.File
	default:
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("it needs %s %s; %s is installed, and the package brings none that would do", name, n.Within.Text, installed.Value)
		ch.Advice = fmt.Sprintf("bring %s to %s first", name, n.Within.Text)
		if late {
			ch.Because = fmt.Sprintf("it needs %s %s and %s is installed; the package brings one that would do, but it is installed only after the %s", name, n.Within.Text, installed.Value, j.mainComponent())
		}
		if way := j.way(); way != "" {
			ch.Advice += ": " + way
		}
	}
	return ch
}

// installedFirst tells whether the family's order puts a component before the
// main image.
func (j *judge) installedFirst(name string) bool {
	for _, c := range j.components() {
		switch c.name {
		case j.mainComponent():
			return false
		case name:
			return true
		}
	}
	return false
}

func (j *judge) needCompanion(n rulebook.Need, truth rulebook.Truth) Check {
	name := n.Companion.Text
	ch := Check{Check: "needs", Device: "not known", Package: fmt.Sprintf("needs %s %s", name, n.Within.Text)}
	e, known := j.d.Companions.Get(name)
	if _, guessed := j.d.Guessed("companions." + name); guessed {
		known = false
	}
	if !known {
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("it needs %s %s, and the version of %s is not known", name, n.Within.Text, name)
		ch.Advice = fmt.Sprintf("find it out and add companions: {%s: …} to %s", name, j.d.File)
		ch.Sources = []Cited{{OfDevice, "not known", fact.Source{Kind: fact.DeviceFile, File: j.d.File}}}
		return ch
	}
	ch.Device = name + " " + e.Value.Text
	ch.Sources = []Cited{{OfDevice, e.Value.Text, j.d.Source("companions."+name, e.Value.Spot)}}
	switch truth {
	case rulebook.Unknown:
		ch.Outcome, ch.Because, ch.Advice = Unsettled, fmt.Sprintf("it needs %s %s, and %q is no version", name, n.Within.Text, e.Value.Text), "correct the version in "+j.d.File
	case rulebook.Holds:
		ch.Outcome, ch.Because = Fits, fmt.Sprintf("%s %s is within %s", name, e.Value.Text, n.Within.Text)
	default:
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("it needs %s %s, and %s runs %s", name, n.Within.Text, name, e.Value.Text)
		ch.Advice = fmt.Sprintf("bring %s to %s first", name, n.Within.Text)
	}
	return ch
}

func (j *judge) needFeature(n rulebook.Need, truth rulebook.Truth) Check {
	side := j.sides[fact.Feature]
	ch := Check{Check: "needs", Device: side.text(), Package: "needs feature " + n.Feature.Text, Sources: j.cite(fact.Feature, 1)}
	switch truth {
	case rulebook.Unknown:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("it needs the feature %s, and the device's features are not known", n.Feature.Text)
		ch.Advice = "add features: to " + j.d.File
	case rulebook.Holds:
		ch.Outcome, ch.Because = Fits, "the device has the feature"
	default:
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("it needs the feature %s, and the device has %s", n.Feature.Text, side.text())
		ch.Advice = "get the licence first"
	}
	return ch
}

// needAttached: something of a model must be attached.
func (j *judge) needAttached(n rulebook.Need, truth rulebook.Truth) Check {
	want := n.Attached.Text
	ch := Check{Check: "needs", Device: "not known", Package: "needs " + want + " attached"}
	var have []string
	for _, a := range j.d.Attached {
		have = append(have, a.Text)
		ch.Sources = append(ch.Sources, Cited{OfDevice, a.Text, j.d.Source("attached", a.Spot)})
	}
	switch truth {
	case rulebook.Unknown:
		ch.Outcome = Unsettled
		ch.Because = fmt.Sprintf("it needs %s to be attached, and what is attached is not known", want)
		ch.Advice = "list what is attached under attached: in " + j.d.File
		ch.Sources = []Cited{{OfDevice, "not known", fact.Source{Kind: fact.DeviceFile, File: j.d.File}}}
	case rulebook.Holds:
		ch.Outcome, ch.Device, ch.Because = Fits, strings.Join(have, ", "), want+" is attached"
	default:
		ch.Outcome, ch.Device = Misfit, strings.Join(have, ", ")
		ch.Because = fmt.Sprintf("it needs %s to be attached, and only %s is", want, ch.Device)
		ch.Advice = "attach it first, or stay on a release that does not need it"
	}
	return ch
}

// dropped: nothing attached may be of a model that the release drops.
func (j *judge) dropped(rel *rulebook.Release) Check {
	ch := Check{Check: "attached", Outcome: NotApplicable, Package: "release " + rel.Version.Text, Because: "nothing is known to be attached"}
	if len(j.d.Attached) == 0 {
		return ch
	}
	ch.Outcome, ch.Because = Fits, "nothing attached is dropped"
	var have []string
	for _, a := range j.d.Attached {
		have = append(have, a.Text)
		ch.Sources = append(ch.Sources, Cited{OfDevice, a.Text, j.d.Source("attached", a.Spot)})
		if _, d, dropped := rel.DropsAny(j.rb, []y.Text{a}); dropped {
			ch.Outcome = Misfit
			ch.Because = fmt.Sprintf("%s is attached, and release %s no longer supports it", a.Text, rel.Version.Text)
			ch.Advice = "replace it first, or stay on a release that supports it"
			ch.Sources = append(ch.Sources, Cited{OfRule, "drops " + d.Text, j.rb.Source(d.Spot)})
		}
	}
	if ch.Outcome == Fits {
		ch.Sources = append(ch.Sources, Cited{OfRule, "release " + rel.Version.Text, j.rb.Source(rel.Spot)})
	}
	ch.Device = strings.Join(have, ", ")
	return ch
}

// entitled: the release must not be later than the entitlement.
func (j *judge) entitled(rel *rulebook.Release) Check {
	ch := Check{Check: "entitled", Outcome: NotApplicable, Package: "release " + rel.Version.Text, Because: "the device file gives no end of the entitlement"}
	until := j.d.EntitledUntil
	if !until.Set() {
		return ch
	}
	ch.Device = "until " + until.Day.Format("2006-01-02")
	ch.Sources = []Cited{{OfDevice, ch.Device, j.d.Source("entitled_until", until.Spot)}, {OfRule, "release " + rel.Version.Text, j.rb.Source(rel.Spot)}}
	switch rel.Entitled(until) {
	case rulebook.Unknown:
		ch.Outcome, ch.Because, ch.Advice = Unsettled, "the rulebook does not give the release's date", "add date: to the release in "+j.rb.File
	case rulebook.Fails:
		ch.Outcome = Misfit
		ch.Because = fmt.Sprintf("the release is of %s, after the entitlement ended", rel.Date.Day.Format("2006-01-02"))
		ch.Advice = "renew the entitlement, or take an older release"
	default:
		ch.Outcome, ch.Because = Fits, "the release is of "+rel.Date.Day.Format("2006-01-02")
	}
	return ch
}
