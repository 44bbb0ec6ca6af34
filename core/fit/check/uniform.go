package check

import (
	"fmt"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/truth"
)

var uniform = Register(&Check{Name: "uniform", Column: "set", Order: 210, First: true, Lacking: true, Whole: true, Doc: "Do all members of a group end at one version?"})

var (
	uniformOne     = uniform.Code("one_version", Fits, "all members end at one version", "all %d members end at %s", "")
	uniformDiffer  = uniform.Code("differ", Misfit, "members would end at different versions", "%s would end at %s, and others at %s", "bring all members to one version: install on all of them, or on none")
	uniformNoImage = uniform.Code("no_image", Misfit, "the package brings no image for a member, and what it runs is another version", "the package brings no %s image for %s, and all members must run one version",
		"get a package that has images for every member, or one package for each kind of member, of the same version")
	uniformUnknown = uniform.Code("device_unknown", Unsettled, "where a member ends is not known", "it is not known at which version %s ends", "")
	uniformBuild   = uniform.Code("build_unknown", Unsettled, "whether members end at one version depends on a build that is not known", "whether %s ends at the version of the others depends on a build that is not told", "read the whole versions off the members, with their builds")
)

func init() {
	uniform.Runs(PerGroup(func(d *device.Device, members []*Case) []Line {
		if d.Group.Text == "" || !d.Uniform {
			return nil
		}
		return []Line{endAtOne(members)}
	}))
}

// endAtOne: of a group whose members must run one version, each ends at that of the
// others.
func endAtOne(all []*Case) Line {
	l := uniformOne.Line("")
	base := Line{Device: fmt.Sprintf("%d members at one version", len(all))}
	var known, ends []string
	var worst *Code
	var args []any
	var advice string
	fail := func(k *Code, with string, a ...any) {
		if worst == nil || k.Outcome.Rank() > worst.Outcome.Rank() {
			worst, args, advice = k, a, with
		}
	}
	for _, c := range all {
		name, main := c.Device.Name.Text, c.Main()
		w := c.After(main)
		text := name + " at " + w.Text
		if !w.Known {
			text = name + " at a version that is not known"
		}
		ends = append(ends, text)
		cited := w.Cited
		cited.Value = text
		base.Cite(cited)
		if !w.Brought {
			base.Cite(ofName("none for "+name, c.Survey.Name))
		}
		noImage := !w.Brought && c.BringsMain()
		switch {
		case !w.Known && noImage:
			fail(uniformNoImage, uniformNoImage.Advice, main, name)
		case !w.Known:
			fail(uniformUnknown, fmt.Sprintf("add installed: {%s: …} of %s to %s", main, name, c.Device.File), name)
		default:
			for _, other := range known {
				switch same := c.Rules.Scheme(main).Same(other, w.Text); {
				case same == truth.No && noImage:
					fail(uniformNoImage, uniformNoImage.Advice, main, name)
				case same == truth.No:
					fail(uniformDiffer, uniformDiffer.Advice, name, w.Text, other)
				case same == truth.Unknown:
					fail(uniformBuild, uniformBuild.Advice, name)
				}
			}
			known = append(known, w.Text)
		}
	}
	base.Package = strings.Join(ends, ", ")
	if worst == nil {
		l = uniformOne.become(base, len(all), known[0])
		return *l.Cite(Cited{OfDevice, base.Device, all[0].Value("model").At})
	}
	l = worst.become(base, args...).Advise("%s", advice)
	return *l.Cite(Cited{OfDevice, base.Device, all[0].Value("model").At})
}
