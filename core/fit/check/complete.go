package check

import (
	"fmt"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
	"fitcheck/core/truth"
	"fitcheck/core/wording"
)

// Complete is the name of the check.
const Complete = "complete"

var complete = Register(&Check{Name: Complete, Column: "set", Order: 40, Lacking: true, Whole: true, Doc: "Is all there that the device needs?"})

var (
	completeAll      = complete.Code("all_there", Fits, "all that the manifest lists is there", "all that the manifest lists is there", "")
	completeNone     = complete.Code("no_image", Misfit, "the package holds no image of a component for the device", "the package holds no %s image for this device", "look whether this is the right download for the device, and download it again if it should be")
	completeNothing  = complete.Code("nothing_for_it", Misfit, "the package brings no image at all for the device", "%s", "look whether this is the right download for the device")
	completeMissing  = complete.Code("missing", Misfit, "a file that the manifest lists for the device is not there", "the manifest lists %s for this device, and it is not in the package", "download the package again, or get the missing file")
	completeMay      = complete.Code("may_be_missing", Unsettled, "a listed file is missing that may be for the device", "%s is listed and missing, and it may be for this device: its %s is not known", "download the package again, or get the missing file")
	completeUnread   = complete.Code("unread_line", Unsettled, "a line of the manifest cannot be read", "%s, %s", "")
	completeUnlisted = complete.Code("no_manifest", Unsettled, "the rulebook expects a manifest, and there is none", "the rulebook expects a manifest (%s), and there is none", "download the whole package again")
	completeOthers   = complete.Code("missing_for_others", Note, "a listed file is missing that is for other devices", "%s", "")
	completeList     = complete.Code("unread_list", Note, "a line of a checksum list cannot be read", "%s, %s", "")
	completeExtra    = complete.Code("not_listed", Note, "firmware is there that the manifest does not list", "%s is in the package, and the manifest does not list it", "")
	completeOptional = complete.Code("optional", NotApplicable, "an optional component is not in the package", "the package brings no %s, and it is optional", "")
	completeForOther = complete.Code("for_others_only", NotApplicable, "an optional component is there for other devices only", "the package brings %s for other devices only, and it is optional", "")
	completeRuns     = complete.Code("runs_already", NotApplicable, "a component is not in the package, and the device runs the one of the release", "the package brings no %s, and the device runs the one of this release already (%s)", "")
	completeNotNamed = complete.Code("not_named", Unsettled, "nothing in the package says that it is an image for the device, and there is no rulebook", "nothing in the package says that it is a %s image, and without a rulebook nobody knows what else the device takes", "")
	completeNoRule   = complete.Code("no_rule", NotApplicable, "without a rulebook nobody knows what belongs together", "without a rulebook nobody knows what belongs together", "")
)

func init() { complete.Runs(PerInstall((*Case).completeness)) }

func (c *Case) onlyForOthers(k Component, best *Candidate) Line {
	l := completeForOther.Line(k.Name, k.Name)
	l.Device, l.Package = c.Hardware(), "only for other devices"
	return *l.Cite(c.ofDevice(), best.cite())
}

// completeness: everything that is needed for this device is there.
func (c *Case) completeness() []Line {
	if c.Rules == nil {
		l := completeNoRule.Line("")
		if len(c.Chosen) == 0 {
			l = completeNotNamed.Line(c.Main(), c.Main()).Advise("%s", c.needRulebook())
		}
		l.Device, l.Package = c.Hardware(), c.Survey.Name
		return []Line{*l.Cite(c.ofDevice(), ofName(c.Survey.Name, c.Survey.Name))}
	}
	var out []Line
	for _, k := range c.Components() {
		if r := c.Results[k.Name]; r.Best == nil && len(r.Lines) == 0 {
			out = append(out, c.absent(k))
		}
	}
	out = append(out, c.listed()...)
	out = append(out, c.keptLines(Key{What: "extra", Survey: c.Survey}, c.extra)...)
	return append(out, c.nothing(out)...)
}

// absent: nothing in the package is meant for a component.
func (c *Case) absent(k Component) Line {
	none := "no " + k.Name + " image"
	base := Line{Component: k.Name, Device: c.Hardware(), Package: none}
	base.Cite(c.ofDevice(), ofName(none, c.Survey.Name))
	if k.at.Line > 0 {
		base.Cite(c.ofRule("component "+k.Name, k.at))
	}
	if k.Optional {
		return completeOptional.become(base, k.Name)
	}
	if runs, ok := c.runsAlready(k.Name); ok {
		base.Device = runs
		return completeRuns.become(base, k.Name, runs)
	}
	return completeNone.become(base, k.Name)
}

// runsAlready tells whether the device runs the version of a component that the
// release brings.
func (c *Case) runsAlready(component string) (string, bool) {
	rel := c.Release.Rule
	installed := c.Installed(component)
	if rel == nil || !installed.Known() {
		return "", false
	}
	brought := ""
	if e, ok := rel.Brings.Get(component); ok {
		brought = e.Value.Text
	} else if c.Rules.Paired(c.ToFamily(), component, c.Main()) {
		brought = rel.Version.Text
	}
	return installed.First(), brought != "" && c.Rules.Scheme(component).Same(installed.First(), brought) == truth.Yes
}

// nothing: a package that brings no image at all for the device can never fit it,
// whatever else of it is right.
func (c *Case) nothing(lines []Line) []Line {
	if len(c.Chosen) > 0 || len(c.Kept) > 0 || Worst(lines) == Misfit {
		return nil
	}
	l := completeNothing.Line("", "the package brings no image for this device")
	l.Device, l.Package = c.Hardware(), "nothing for it"
	l.Cite(c.ofDevice(), ofName("nothing for it", c.Survey.Name))
	for _, part := range c.Survey.Each() {
		if e := part.Entry; e != nil && len(e.Components) > 0 {
			l.Because = fmt.Sprintf("the package brings %s, and the device's family has no such component", texts(e.Components))
			l.Cite(Cited{OfRule, "components " + texts(e.Components), part.Rulebook.Source(e.Components[0].Spot)})
		}
	}
	return []Line{l}
}

// listed: what the manifest lists for this device is there, and every line of it
// could be read.
func (c *Case) listed() []Line {
	var out []Line
	src := func(file string) fact.Source { return fact.Source{Kind: fact.Manifest, File: file} }
	told := map[string]int{}
	for _, m := range c.Survey.Missing {
		l := c.missing(m)
		switch told[l.Code]++; {
		case told[l.Code] <= maxMissing:
			out = append(out, l)
		case told[l.Code] == maxMissing+1:
			l.Because = "and so it is with more files"
			out = append(out, l)
		}
	}
	for _, p := range c.Survey.Problems {
		if p.Class != survey.UnreadLine {
			continue
		}
		code := completeUnread
		if it := c.Survey.Find(p.Item); it != nil && it.Role != "manifest" {
			code = completeList
		}
		l := code.Line("", p.Item, p.What)
		if code == completeUnread {
			l.Advice = p.Advice
		}
		l.Device, l.Package = c.Hardware(), p.Item
		out = append(out, *l.Cite(c.ofDevice(), Cited{OfPackage, p.What, src(p.Item)}))
	}
	for _, part := range c.Survey.Each() {
		if e := part.Entry; e != nil && e.Manifest != nil && len(part.Manifests) == 0 && !part.Broken() {
			l := completeUnlisted.Line("", e.Manifest.Item.Pattern)
			l.Device, l.Package = c.Hardware(), "no manifest"
			out = append(out, *l.Cite(Cited{OfRule, e.Manifest.Item.Pattern, part.Rulebook.Source(e.Manifest.Spot)}, Cited{OfPackage, "no manifest", src(part.Name)}))
		}
	}
	if len(out) > 0 || len(c.Survey.Manifests) == 0 {
		return out
	}
	n := 0
	for _, m := range c.Survey.Manifests {
		n += len(m.Records)
	}
	l := completeAll.Line("")
	l.Device, l.Package = c.Hardware(), wording.Count(int64(n), "file")+" listed"
	return []Line{*l.Cite(c.ofDevice(), Cited{OfPackage, l.Package, src(c.Survey.Manifests[0].Address)})}
}

// maxMissing is how many missing files of one kind are told one by one.
const maxMissing = 100

// missing judges a file that a manifest lists and the package does not hold.
func (c *Case) missing(m survey.Missing) Line {
	base := Line{Device: c.Hardware(), Package: m.File + " is missing"}
	base.Cite(Cited{OfPackage, m.File, m.Source}, c.ofDevice())
	if f := m.Claim.About(fact.Component); len(f) > 0 {
		base.Component = f[0].Value
	}
	undecided := ""
	views := c.opinions(fact.Witness{Kind: fact.Manifest, Claims: []fact.Claim{m.Claim}})
	for _, n := range respects() {
		for _, o := range views[n] {
			switch o.stance {
			case excludes:
				return completeOthers.become(base, fmt.Sprintf("%s, which the manifest lists for other devices, is missing", m.File))
			case open:
				undecided = string(n)
			}
		}
	}
	if base.Component != "" && !c.hasComponent(base.Component) {
		return completeOthers.become(base, fmt.Sprintf("%s is missing; the device has no component %s", m.File, base.Component))
	}
	if undecided != "" {
		return completeMay.become(base, m.File, undecided)
	}
	return completeMissing.become(base, m.File)
}

// extra notes firmware that no manifest lists.
func (c *Case) extra() []Line {
	var out []Line
	for _, it := range c.Survey.Unlisted() {
		if c.partOfImage(it) {
			continue
		}
		l := completeExtra.Line("", it.Address)
		l.Device, l.Package = "what the manifest lists", it.Address
		out = append(out, *l.Cite(Cited{OfStated, "not listed", fact.Source{Kind: fact.Manifest, File: c.Survey.Name}}, ofName(it.Address, it.Address)))
	}
	return out
}
