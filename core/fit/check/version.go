package check

import (
	"fmt"
	"strings"

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

func init() {
	versionCheck.Runs(PerInstall(func(c *Case) []Line {
		out, _ := c.bootLoader()
		switch {
		case !c.BringsMain():
			out = append(out, c.doesNotStart()...)
		case c.Chosen[c.Main()] != nil:
			out = append(out, c.versions())
		}
		return out
	}))
}

// LeaveOut leaves out what the device has newer: the boot loader of a package that brings
// an older one besides.
func (c *Case) LeaveOut() {
	if _, left := c.bootLoader(); left {
		c.Kept[Boot] = c.Chosen[Boot]
		delete(c.Chosen, Boot)
	}
}

// bootLoader judges the boot loader that a package brings. left tells that it is to be
// left out.
func (c *Case) bootLoader() (l []Line, left bool) {
	k := c.Chosen[Boot]
	if k == nil {
		k = c.Kept[Boot]
	}
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

// doesNotStart notes of a package without the main image that the device does not start.
func (c *Case) doesNotStart() []Line {
	state, yes := c.DoesNotStart()
	if !yes {
		return nil
	}
	l := versionNotes.Line("", fmt.Sprintf("the device does not start (state: %s): fitcheck recover tells what its boot loader takes", state))
	l.Device, l.Package = state, c.Survey.Name
	return []Line{*l.Cite(append(ofMember(c.Installed(c.Main())), ofName(c.Survey.Name, c.Survey.Name))...)}
}
