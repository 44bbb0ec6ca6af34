package check

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/rulebook"
	"fitcheck/core/version"
)

var versionCheck = Register(&Check{Name: "version", Column: "path", Order: 260, Doc: "Would an older boot loader be written over a newer one, and what else is there to know of the versions?"})

var (
	versionOlderBoot = versionCheck.Code("older_boot", Misfit, "an older boot loader would be written over a newer one", "the package brings %s %s, and the newer %s is installed: an older boot loader is never written over a newer one", "")
	versionBootKept  = versionCheck.Code("boot_kept", Note, "the package's boot loader is older than the installed one, and is left out", "the package brings %s %s; the newer %s that is installed stays, and this one is left out", "")
	versionBootOpen  = versionCheck.Code("boot_unknown", Unsettled, "whether the package's boot loader is older than the installed one is not known", "the package brings %s %s, and %s: an older boot loader is never written over a newer one", "")
	versionNotes     = versionCheck.Code("noted", Note, "there is something to know: it runs it already, or a newer one; there is no way back; the only slot is overwritten; it does not start", "%s", "")
	versionNothing   = versionCheck.Code("nothing", NotApplicable, "there is nothing to note", "nothing to note", "")
)

// bootLoader judges the boot loader that a package brings. left tells that it is to be
// left out.
func (c *Case) bootLoader() (l []Line, left bool) {
	k := c.Chosen[Boot]
	if k == nil || c.Rules == nil || Boot == c.Main() {
		return nil, false
	}
	v := c.Installed(Boot)
	text, cited, known := c.said(Boot, k)
	base := Line{Component: Boot, Device: v.Text(), Package: text, Sources: append(ofMember(v), cited)}
	if !known {
		base.Package, text = "not told", "of a version that is not told"
	}
	older, settled := false, false
	if known && v.Known() {
		scheme := c.Rules.Scheme(Boot)
		brought, err1 := scheme.Parse(text)
		there, err2 := scheme.Parse(v.First())
		if err1 == nil && err2 == nil {
			order, sure := scheme.Rank(brought, there)
			older, settled = order < 0, sure
		}
	}
	switch {
	case settled && !older:
		return nil, false
	case !settled:
		what := why("installed "+Boot, v)
		if v.Known() {
			what = fmt.Sprintf("whether that is older than %s is not known", v.First())
		}
		return []Line{versionBootOpen.become(base, Boot, text, what).Advise("%s", c.howToKnow("installed."+Boot, v))}, false
	case c.Chosen[c.Main()] != nil && c.Named(Boot).Optional && !servedWhole(c.Survey.PartOf(k.Item.Address)) && !c.Rules.Paired(c.LikelyFamily(), Boot, c.Main()):
		return []Line{versionBootKept.become(base, Boot, text, v.First())}, true
	}
	return []Line{versionOlderBoot.become(base, Boot, text, v.First()).Advise("keep the boot loader that is installed; get a package whose boot loader is not older")}, false
}

// versions notes that the device runs the version, or a newer one, whether it could
// go back, that the only slot is overwritten, and that the device does not start.
func (c *Case) versions() Line {
	main := c.Main()
	v := c.Installed(main)
	base := Line{Component: main, Device: v.Text(), Package: c.Release.Text, Sources: append(ofMember(v), c.citeRelease())}
	if c.Release.Text == "" {
		base.Package = "not known"
	}
	var notes []string
	scheme := c.Rules.Scheme(main)
	from, err1 := scheme.Parse(v.First())
	to, err2 := scheme.Parse(c.Release.Text)
	if v.Known() && c.Release.Text != "" && err1 == nil && err2 == nil {
		switch order, known := scheme.Rank(to, from); {
		case !known:
			notes = append(notes, fmt.Sprintf("whether %s is newer than %s, which is installed, depends on a build that is not told", c.Release.Text, v.First()))
		case order == 0:
			notes = append(notes, "the device already runs "+v.First())
		case order < 0:
			notes = append(notes, fmt.Sprintf("%s is older than %s, which is installed", c.Release.Text, v.First()))
		default:
			if back := c.noWayBack(from, to); back != "" {
				notes = append(notes, back)
			}
		}
	}
	if len(c.Device.Slots) == 1 {
		notes = append(notes, "there is one slot only: the install overwrites the running image")
	}
	if state, yes := c.DoesNotStart(); yes {
		notes = append(notes, fmt.Sprintf("the device does not start (state: %s): fitcheck recover tells what its boot loader takes", state))
	}
	if len(notes) > 0 {
		return versionNotes.become(base, strings.Join(notes, "; "))
	}
	return versionNothing.become(base)
}

// noWayBack warns when no rule allows the hop back; another slot that keeps the
// running image is a way back of its own.
func (c *Case) noWayBack(from, to version.Version) string {
	if c.Rules == nil || len(c.Device.Slots) > 1 {
		return ""
	}
	r := c.Rules.Rule(rulebook.Move{From: to, To: from, FromFamily: c.ToFamily(), ToFamily: c.Family(), Model: c.First("model"), Revision: c.First("revision")})
	if r.Settled && r.Allowed {
		return ""
	}
	return fmt.Sprintf("no way back by a hop: from %s to %s, %s", to.Text, from.Text, r.Because)
}

// Releases are the checks about the version that would be installed, and what it
// asks for.
func (c *Case) Releases() []Line {
	boot, left := c.bootLoader()
	if left {
		c.Kept[Boot] = c.Chosen[Boot]
		delete(c.Chosen, Boot)
	}
	out := boot
	if !c.BringsMain() {
		return append(out, c.partly()...)
	}
	if c.Chosen[c.Main()] == nil {
		return out // nothing would be installed; why, the other checks say
	}
	out = append(out, c.path(), c.versions())
	out = append(out, c.pairs()...) // whatever is known of the release
	rel := c.Release.Rule
	switch {
	case c.Rules == nil: // what nobody wrote down cannot be missing
		return out
	case rel == nil:
		return append(out, c.entitled(nil))
	}
	out = append(out, c.withdrawn(rel, c.citeRelease()))
	for n := range c.needsOf(rel) {
		out = append(out, c.need(n))
	}
	return append(out, c.dropped(rel), c.entitled(rel))
}

// partly are those for a package that does not carry the main image: what bears on a
// component that is installed alone.
func (c *Case) partly() []Line {
	out := []Line{c.noMain()}
	for _, k := range c.Components() {
		cand := c.Chosen[k.Name]
		out = append(out, c.Standing(k.Name, cand)...)
		if cand == nil || k.Name == c.Main() {
			continue
		}
		// What the only release that brings it asks for, it asks for here, too; the
		// needs on main speak of main.
		text, cited, known := c.said(k.Name, cand)
		if all := c.bringing(k.Name, text); known && len(all) == 1 {
			c.Release = Release{Text: all[0].Version.Text, From: fact.Fact{About: fact.Version, Value: all[0].Version.Text, Source: cited.Source}, Rule: all[0]}
			for n := range c.needsOf(all[0]) {
				if n.Component.Text != c.Main() && n.Component.Text != k.Name {
					out = append(out, c.need(n))
				}
			}
			out = append(out, c.dropped(all[0]), c.entitled(all[0]))
			c.Release = Release{}
		}
	}
	if state, yes := c.DoesNotStart(); yes {
		v := c.Installed(c.Main())
		l := versionNotes.Line("", fmt.Sprintf("the device does not start (state: %s): fitcheck recover tells what its boot loader takes", state))
		l.Device, l.Package = state, c.Survey.Name
		out = append(out, *l.Cite(append(ofMember(v), ofName(c.Survey.Name, c.Survey.Name))...))
	}
	out = append(out, c.pairs()...)
	return out
}
