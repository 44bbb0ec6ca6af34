package check

import (
	"fmt"
	"iter"

	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/truth"
)

var needs = Register(&Check{Name: "needs", Column: "needs", Order: 160, First: true, Lacking: true, Doc: "Does all hold that the release needs, once it is installed?"})

var (
	needsHolds    = needs.Code("holds", Fits, "what is needed is there", "%s", "")
	needsBrought  = needs.Code("brought_first", Fits, "the package brings it, and installs it first", "the package brings %s %s and installs it first", "")
	needsFails    = needs.Code("fails", Misfit, "what is needed is not there, and the package does not bring it", "%s", "")
	needsLate     = needs.Code("too_late", Misfit, "the package brings it, and installs it only after the main image", "it needs %s %s and %s is installed; the package brings one that would do, but it is installed only after the %s", "")
	needsBroken   = needs.Code("fails_afterwards", Misfit, "it holds now, and what the package brings breaks it", "it needs %s %s, and the package brings %s", "look for a package of the same release whose %s is within the range")
	needsUnknown  = needs.Code("device_unknown", Unsettled, "what the device has is not known", "%s", "")
	needsGuessed  = needs.Code("guessed", Unsettled, "what the device has is only guessed", "%s", "")
	needsContra   = needs.Code("device_contradicted", Unsettled, "what is known of it contradicts itself", "%s", "")
	needsOpen     = needs.Code("build_unknown", Unsettled, "the build decides, and it is not known", "it needs %s %s, and %s leaves the build open, which decides", "read the whole version off the device, with its build")
	needsNoText   = needs.Code("no_version", Unsettled, "the text is no version", "it needs %s %s, and %q is no version", "correct the version in the device file")
	needsRuleOpen = needs.Code("rule_fault", Unsettled, "the need names what the rulebook does not know", "%s", "")
)

func init() {
	needs.Runs(PerRelease(func(c *Case, a Asking) []Line {
		return c.eachNeed(a, func(n *rulebook.Need) bool { return n.Doubt() != "" || !n.StorageFree.Set() && !n.Memory.Set() }, c.need)
	}))
}

// needsOf goes through what a release asks of this very device.
func (c *Case) needsOf(rel *rulebook.Release) iter.Seq[*rulebook.Need] {
	return rel.NeedsOf(c.Rules, c.Family(), c.First(fact.Model), c.First(fact.Revision))
}

// eachNeed judges those things that a release asks for which are of a check, and adds to each
// line why it is asked for, and where that stands.
func (c *Case) eachNeed(a Asking, of func(*rulebook.Need) bool, judge func(*rulebook.Need) Line) []Line {
	if a.Release == nil {
		return nil
	}
	var out []Line
	for n := range c.needsOf(a.Release) {
		if !a.concerns(c, n) || !of(n) {
			continue
		}
		l := judge(n)
		if n.Why.Set() {
			l.Because += " (" + n.Why.Text + ")"
		}
		said := "needs " + n.Text()
		if d := c.Rules.Document(n.Source); d != "" {
			said += ", " + d
		}
		out = append(out, *l.Cite(Cited{OfRule, said, c.Rules.Source(n.Spot)}, c.citeRelease()))
	}
	return out
}

// need judges one thing that a release asks for.
func (c *Case) need(n *rulebook.Need) Line {
	switch {
	case n.Doubt() != "":
		l := needsRuleOpen.Line("", n.Doubt()).Advise("correct the name in %s", c.Rules.File)
		l.Device, l.Package = "not known", "needs "+n.Text()
		return *l.Cite(c.ofDevice(), ofName("needs "+n.Text(), c.Survey.Name))
	case n.Component.Set():
		return c.needComponent(n)
	case n.Companion.Set():
		return c.needCompanion(n)
	case n.Attached.Set():
		return c.needListed(n, "attached", c.Attached(), "attach it first, or stay on a release that does not need it")
	}
	return c.needListed(n, "features", c.Value(fact.Feature), "get the licence first")
}

// notKnown words what is not known of the device.
func (c *Case) notKnown(base Line, text, key string, v member.Value) Line {
	switch v.State {
	case member.Guessed:
		return needsGuessed.become(base, fmt.Sprintf("it needs %s, and %s", text, why(key, v))).Advise("%s", c.howToKnow(key, v))
	case member.Contradicted:
		return needsContra.become(base, fmt.Sprintf("it needs %s, and %s", text, why(key, v))).Advise("%s", c.howToKnow(key, v))
	}
	return needsUnknown.become(base, fmt.Sprintf("it needs %s, and %s", text, why(key, v))).Advise("%s", c.howToKnow(key, v))
}

// within tells whether a version is in the range of a need.
func (c *Case) within(n *rulebook.Need, w Will) (t truth.Truth, reads bool) {
	if !w.Known {
		return truth.Unknown, false
	}
	v, err := c.Rules.Scheme(n.Component.Text).Parse(w.Text)
	if err != nil {
		return truth.Unknown, false
	}
	return n.Range.Holds(v), true
}

// needComponent: the component is within the range when the main image is installed,
// and once all is.
//
// In one piece: the cases of before and after, which a reader holds against each other.
func (c *Case) needComponent(n *rulebook.Need) Line {
	name, text := n.Component.Text, n.Text()
	v := c.Installed(name)
	base := Line{Component: name, Device: v.Text(), Package: "needs " + text, Sources: ofMember(v)}
	if name == c.Main() { // it speaks of what the device comes from
		return c.needOf(n, base, Will{Text: v.First(), Known: v.Known(), Value: v})
	}
	during, after := c.While(name), c.After(name)
	if during.Brought || after.Brought {
		base.Cite(after.Cited)
	}
	if k := c.Chosen[name]; k != nil && k.worst == Misfit {
		during = Will{Text: v.First(), Known: v.Known(), Value: v}
		after = during
	}
	t, reads := c.within(n, during)
	end, _ := c.within(n, after)
	switch {
	case t == truth.Yes && end == truth.Yes && during.Brought:
		return needsBrought.become(base, name, during.Text)
	case t == truth.Yes && end == truth.Yes:
		return needsHolds.become(base, fmt.Sprintf("the installed %s %s is within %s", name, during.Text, n.Within.Text))
	case t == truth.Yes && end == truth.No, t == truth.No && during.Brought:
		l := needsBroken.become(base, name, n.Within.Text, name+" "+after.Text).Advise(needsBroken.Advice, name)
		return c.towards(l)
	case t == truth.No && end == truth.Yes:
		return c.towards(needsLate.become(base, name, n.Within.Text, v.Text(), c.Main()).Advise("bring %s to %s first", name, n.Within.Text))
	case t == truth.Unknown && reads, t == truth.Yes && end == truth.Unknown && after.Known:
		return needsOpen.become(base, name, n.Within.Text, after.Text)
	case t == truth.Yes: // what is brought does not tell its version
		return needsUnknown.become(base, fmt.Sprintf("it needs %s, and the package brings a %s that does not tell its version", text, name)).Advise("ask the maker which version it is")
	}
	return c.needOf(n, base, during)
}

// needOf words a need on what is there.
func (c *Case) needOf(n *rulebook.Need, base Line, w Will) Line {
	name := n.Component.Text
	t, reads := c.within(n, w)
	switch {
	case !w.Known && !w.Brought:
		return c.notKnown(base, n.Text(), "installed."+name, w.Value)
	case !w.Known:
		return needsUnknown.become(base, fmt.Sprintf("it needs %s, and the package brings a %s that does not tell its version", n.Text(), name)).Advise("ask the maker which version it is")
	case !reads:
		return needsNoText.become(base, name, n.Within.Text, w.Text)
	case t == truth.Unknown:
		return needsOpen.become(base, name, n.Within.Text, w.Text)
	case t == truth.Yes:
		return needsHolds.become(base, fmt.Sprintf("the installed %s %s is within %s", name, w.Text, n.Within.Text))
	}
	return c.towards(needsFails.become(base, fmt.Sprintf("it needs %s %s; %s is installed, and the package brings none that would do", name, n.Within.Text, w.Text)).Advise("bring %s to %s first", name, n.Within.Text))
}

// towards adds the way there to the advice.
func (c *Case) towards(l Line) Line {
	if way := c.wayThere(); way != "" {
		l.Advice += ": " + way
	}
	return l
}

func (c *Case) needCompanion(n *rulebook.Need) Line {
	name, v := n.Companion.Text, c.Companion(n.Companion.Text)
	base := Line{Device: v.Text(), Package: "needs " + n.Text(), Sources: ofMember(v)}
	if !v.Known() {
		return c.notKnown(base, n.Text(), "companions."+name, v)
	}
	base.Device = name + " " + v.First()
	switch n.Met(c.Rules, member.Situation{Member: c.Member}) {
	case truth.Yes:
		return needsHolds.become(base, fmt.Sprintf("%s %s is within %s", name, v.First(), n.Within.Text))
	case truth.No:
		return needsFails.become(base, fmt.Sprintf("it needs %s %s; %s is at %s", name, n.Within.Text, name, v.First())).Advise("bring %s to %s first", name, n.Within.Text)
	}
	return needsNoText.become(base, name, n.Within.Text, v.First())
}

// needListed: a feature, or something attached, is among what the device has.
func (c *Case) needListed(n *rulebook.Need, key string, v member.Value, advice string) Line {
	base := Line{Device: v.Text(), Package: "needs " + n.Text(), Sources: ofMember(v)}
	if !v.Known() {
		return c.notKnown(base, n.Text(), key, v)
	}
	switch n.Met(c.Rules, member.Situation{Member: c.Member}) {
	case truth.Yes:
		return needsHolds.become(base, fmt.Sprintf("the device has %s", n.Text()))
	case truth.No:
		return needsFails.become(base, fmt.Sprintf("it needs %s; the device has %s", n.Text(), v.Text())).Advise("%s", advice)
	}
	return needsUnknown.become(base, fmt.Sprintf("it needs %s, and whether one of %s is meant is not known", n.Text(), v.Text())).Advise("write the model in the rulebook's spelling in %s", c.Device.File)
}
