package check

import (
	"strings"

	"fitcheck/core/truth"
)

// Paired is the name of the check.
const Paired = "paired"

var paired = Register(&Check{Name: Paired, Column: "set", Order: 170, First: true, Lacking: true, Whole: true, Doc: "Do components that must carry one version carry one, once it is installed?"})

var (
	pairedOne     = paired.Code("one_version", Fits, "they are at one version afterwards", "they are at one version afterwards: %s", "")
	pairedDiffer  = paired.Code("differ", Misfit, "they would be at different versions", "they must be of one version, and would differ: %s", "get all of them of one release")
	pairedHalf    = paired.Code("half_missing", Misfit, "the package does not bring one half, and what is there is of another version", "%s must move together, and the package brings no %s: %s", "get all of them of one release")
	pairedUnknown = paired.Code("version_unknown", Unsettled, "the version of one is not known", "the version of %s is not known", "get all of them of one release")
	pairedBuild   = paired.Code("build_unknown", Unsettled, "one of them leaves its build open, which decides", "whether they are of one version depends on a build that is not known: %s", "find out the builds, or get all of them of one release")
)

func init() {
	paired.Runs(PerInstall(func(c *Case) []Line {
		if c.BringsMain() && c.Chosen[c.Main()] == nil {
			return nil // nothing would be installed
		}
		return c.pairs()
	}))
}

// pairs: components that must carry one version and move together are at one version
// afterwards.
func (c *Case) pairs() []Line {
	f, ok := c.Rules.Family(c.LikelyFamily())
	if !ok {
		return nil
	}
	var out []Line
	for _, group := range f.Paired {
		moves := false
		for _, t := range group {
			moves = moves || c.Chosen[t.Text] != nil
		}
		if len(group) == 0 || !moves {
			continue
		}
		base := Line{Component: texts(group), Device: "one version of " + texts(group), Sources: []Cited{c.ofRule("paired "+texts(group), group[0].Spot)}}
		var said []string
		same := truth.Yes
		missing, unknown := "", ""
		var known []string
		for _, t := range group {
			w := c.After(t.Text)
			base.Cite(w.Cited)
			if !w.Brought && missing == "" {
				missing = t.Text
			}
			if !w.Known {
				unknown = t.Text
				said = append(said, t.Text+" not known")
				continue
			}
			said = append(said, t.Text+" "+w.Text)
			for _, other := range known {
				same = same.And(c.Rules.Scheme(t.Text).Same(other, w.Text))
			}
			known = append(known, w.Text)
		}
		base.Package = strings.Join(said, ", ")
		switch {
		case same == truth.No && missing != "":
			out = append(out, pairedHalf.become(base, texts(group), missing, base.Package))
		case same == truth.No:
			out = append(out, pairedDiffer.become(base, base.Package))
		case unknown != "" && missing == unknown:
			out = append(out, pairedHalf.become(base, texts(group), missing, "what is there is not known"))
		case unknown != "":
			out = append(out, pairedUnknown.become(base, unknown))
		case same == truth.Unknown:
			out = append(out, pairedBuild.become(base, base.Package))
		default:
			out = append(out, pairedOne.become(base, base.Package))
		}
	}
	return out
}
