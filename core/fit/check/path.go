package check

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/member"
	"fitcheck/core/rulebook"
	"fitcheck/core/shell"
	"fitcheck/core/truth"
)

var pathCheck = Register(&Check{Name: "path", Column: "path", Order: 150, First: true, Whole: true, Doc: "May the device go there in one hop from what it runs?"})

var (
	pathAllowed     = pathCheck.Code("allowed", Fits, "one hop is allowed from what is installed", "%s%s", "")
	pathForbidden   = pathCheck.Code("forbidden", Misfit, "the one hop is not allowed", "%s", "")
	pathNotFor      = pathCheck.Code("not_for_it", Misfit, "by the rulebook the release is not for this model or revision", "by the rulebook the release %s is not for %s", "take a release that is for this hardware")
	pathMayBeFor    = pathCheck.Code("revisions_open", Unsettled, "whether the release is for this hardware depends on a revision that is not known", "the release %s is for some hardware revisions only, and whether that of the device is one of them is not known", "")
	pathFault       = pathCheck.Code("rule_fault", Unsettled, "a statement of the rulebook that may bear on the move names what the rulebook does not know", "%s", "")
	pathNoRule      = pathCheck.Code("no_rule", Unsettled, "there is no rulebook", "without a rulebook nobody knows which moves are allowed", "")
	pathUnknown     = pathCheck.Code("device_unknown", Unsettled, "the installed version is not known", "%s", "")
	pathGuessed     = pathCheck.Code("guessed", Unsettled, "the installed version is only guessed", "%s", "")
	pathContradict  = pathCheck.Code("device_contradicted", Unsettled, "what the device file says of the installed version contradicts itself", "%s", "")
	pathNoFamily    = pathCheck.Code("family_unknown", Unsettled, "the device's image family is not known", "the device's image family is not known, and with it whether it may go to %s of %s", "")
	pathNoVersion   = pathCheck.Code("not_named", Unsettled, "nothing says which version the package brings", "nothing says which version the package brings", "add a pattern for the manifest or the file name to the rulebook")
	pathNotListed   = pathCheck.Code("not_listed", Unsettled, "the rulebook lists releases, and not this one", "the rulebook does not list the release %s", "")
	pathNotSettled  = pathCheck.Code("not_settled", Unsettled, "the rulebook does not settle the move", "%s", "")
	pathByNameOnly  = pathCheck.Code("by_name_only", Unsettled, "the move is allowed, and only a name says which version it is", "the move to %s is allowed, but only the file name says that the package is %s", "find a manifest or header that tells the version, or accept names with -trust-names")
	pathRunsAlready = pathCheck.Code("runs_already", NotApplicable, "the device runs the version already", "the device already runs this version", "")
	pathNoMain      = pathCheck.Code("no_main", NotApplicable, "the package does not carry the main image", "the package does not carry the main image; the rules for its versions do not bind it", "")
)

// RunsAlready is the reason of a device that runs the version of the package.
var RunsAlready = pathRunsAlready.Name

func init() {
	pathCheck.Runs(PerInstall(func(c *Case) []Line {
		switch {
		case !c.BringsMain():
			return []Line{c.noMain()}
		case c.Chosen[c.Main()] != nil:
			return []Line{c.path()}
		}
		return nil // nothing would be installed; why, the checks of the image say
	}))
}

// path tells whether the one hop from what is installed is allowed.
//
// In one piece: the order of the cases is the rule; the first that holds decides.
func (c *Case) path() Line {
	main := c.Main()
	v := c.Installed(main)
	base := Line{Component: main, Device: v.Text(), Package: c.Release.Text, Sources: append(ofMember(v), c.citeRelease())}
	if c.Release.Text == "" {
		base.Package = "not known"
	}
	scheme := c.Rules.Scheme(main)
	if v.Known() && c.Release.Text != "" && scheme.Same(v.First(), c.Release.Text) == truth.Yes && strings.EqualFold(c.Family(), c.ToFamily()) {
		return pathRunsAlready.become(base)
	}
	switch {
	case c.Rules == nil:
		return pathNoRule.become(base).Advise("%s", c.needRulebook())
	case v.State == member.Missing:
		return pathUnknown.become(base, "the installed version is not known").Advise("read it off the device and add installed: {%s: …} to %s", main, c.Device.File)
	case v.State == member.Guessed:
		return pathGuessed.become(base, why("installed "+main, v)).Advise("%s", c.howToKnow("installed."+main, v))
	case v.State == member.Contradicted:
		return pathContradict.become(base, v.Why).Advise("%s", c.howToKnow("installed."+main, v))
	case c.Release.Text == "":
		return pathNoVersion.become(base)
	}
	rel := c.Release.Rule
	if rel == nil && len(c.Rules.Releases) > 0 {
		base.Cite(Cited{OfRule, "not listed", fact.Source{Kind: fact.Rulebook, File: c.Rules.File}})
		return pathNotListed.become(base, c.Release.Text).Advise("read its release notes and add it to %s", c.Rules.File)
	}
	if rel != nil {
		if l, bad := c.meantFor(base, rel); bad {
			return l
		}
	}
	if fam := c.Value(fact.Family); !fam.Known() && c.ToFamily() != "" {
		return pathNoFamily.become(base, c.Release.Text, c.ToFamily()).Advise("%s", c.howToKnow("family", fam))
	}
	r := c.rule(c.Release)
	if r.Source.File != "" {
		base.Cite(Cited{OfRule, r.Document, r.Source})
	}
	switch {
	case !r.Settled:
		return pathNotSettled.become(base, r.Because).Advise("find out from the release notes whether the move is allowed, and correct or complete the rules in %s", c.Rules.File)
	case r.Allowed && !c.Release.Strong() && !c.Options.TrustNames:
		return pathByNameOnly.become(base, c.Release.Text, c.Release.Text)
	case r.Allowed:
		return pathAllowed.become(base, r.Because, cost(r, rel))
	}
	l := pathForbidden.become(base, r.Because)
	switch way := c.wayThere(); {
	case r.Unlisted && !strings.HasPrefix(way, "go by way"):
		return l.Advise("look in the release notes whether %s may go straight to %s; if so, add {from: '%[1]s', to: '%[2]s', allow: true} to the rules under hops: of %[3]s", c.Installed(c.Main()).First(), c.Release.Text, c.Rules.File)
	case way != "":
		return l.Advise("%s", way)
	case r.Via != "":
		return l.Advise("go by way of %s", r.Via)
	}
	return l.Advise("no way there is known")
}

// meantFor tells whether by the rulebook a release is for the device's hardware; bad
// where it is not, or nobody can say.
func (c *Case) meantFor(base Line, rel *rulebook.Release) (l Line, bad bool) {
	said := rel.For(c.Rules, c.First(fact.Model), c.First(fact.Revision))
	doubt := doubts(rel)
	if said == truth.Yes && doubt == "" {
		return Line{}, false
	}
	base.Cite(c.ofRule("release "+rel.Version.Text, rel.Spot))
	switch said {
	case truth.No:
		return pathNotFor.become(base, rel.Version.Text, c.Hardware()), true
	case truth.Unknown:
		return pathMayBeFor.become(base, rel.Version.Text).Advise("%s", c.howToKnow("revision", c.Value(fact.Revision))), true
	}
	return pathFault.become(base, doubt).Advise("correct the name in %s; fitcheck rulebook check %s tells more", c.Rules.File, shell.Quote(c.Rules.File)), true
}

// doubts says what a release names that the rulebook does not know.
func doubts(rel *rulebook.Release) string {
	if d := rel.Doubt(); d != "" {
		return d
	}
	for i := range rel.Needs {
		if d := rel.Needs[i].Doubt(); d != "" {
			return d
		}
	}
	return ""
}

// cost tells what an allowed hop takes.
func cost(r rulebook.Ruling, rel *rulebook.Release) string {
	var parts []string
	if rel != nil && rel.Minutes != nil {
		parts = append(parts, fmt.Sprintf("%s, %s of it without service", rel.Minutes.Install.Text(), rel.Minutes.Outage.Text()))
	}
	if r.ResetsConfig || rel != nil && rel.ResetsConfig {
		parts = append(parts, "the configuration is reset")
	}
	if len(parts) == 0 {
		return ""
	}
	return "; it takes " + strings.Join(parts, ", ")
}

// noMain: a package that does not carry the main image moves no release, so the
// rules on main do not bind it.
func (c *Case) noMain() Line {
	main := c.Main()
	l := pathNoMain.Line("")
	l.Device, l.Package = c.Installed(main).Text(), "no "+main+" image"
	return *l.Cite(append(ofMember(c.Installed(main)), ofName("no "+main+" image", c.Survey.Name))...)
}
