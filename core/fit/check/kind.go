package check

import (
	"slices"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/survey"
)

var kindCheck = Register(&Check{Name: "kind", Column: "whole", Order: 25, Hardware: true, Doc: "Is it an image of a kind that the component takes?"})

var (
	kindTaken    = kindCheck.Code("taken", Fits, "the rulebook lists its format for the component", "the rulebook lists %s for %s", "")
	kindNotTaken = kindCheck.Code("not_taken", Misfit, "the rulebook lists the formats that the component takes, and its format is not among them", "%s takes %s; this is %s",
		"look for the image of that component in the package, or ask the maker")
	kindAlone = kindCheck.Code("not_started", Unsettled, "a component that starts was given a RAM disk, a device tree or a script alone", "it is %s alone, with nothing in it that starts",
		"look for the image of that component in the package; where the line takes such an image, say so with formats: in the rulebook")
)

func init() {
	kindCheck.Runs(PerImage(func(c *Case, k Component, cand *Candidate) []Line { return c.kind(k, cand.Item) }))
}

// kind asks whether an image is of a kind that its component takes.
func (c *Case) kind(k Component, it *survey.Item) []Line {
	base := Line{Component: k.Name, Package: it.Address}
	is := kindsOf(it)
	shown := it.Title()
	if len(is) > 1 {
		shown += " (" + is[1] + ")"
	}
	content := Cited{OfPackage, shown, fact.Source{Kind: fact.Header, File: it.Address}}
	if len(k.Formats) > 0 {
		base.Device = texts(k.Formats)
		base.Cite(c.ofRule(k.Name+" takes "+texts(k.Formats), k.Formats[0].Spot), content)
		for _, f := range k.Formats {
			if slices.Contains(is, strings.ToLower(f.Text)) {
				return []Line{kindTaken.become(base, f.Text, k.Name)}
			}
		}
		return []Line{kindNotTaken.become(base, k.Name, texts(k.Formats), shown)}
	}
	if k.Name != c.Main() && k.Name != Boot {
		return nil
	}
	if what := nothingStarts(it); what != "" {
		base.Device = "an image that starts"
		base.Cite(Cited{OfStated, base.Device, fact.Source{Kind: fact.Header, File: it.Address}}, content)
		return []Line{kindAlone.become(base, what)}
	}
	return nil
}

// kindsOf lists by what names a rulebook may list an image: its format, and that with
// its type.
func kindsOf(it *survey.Item) []string {
	out := []string{it.Kind}
	if it.Image != nil {
		for _, t := range it.Image.Values(fact.Type) {
			out = append(out, it.Kind+"/"+strings.ToLower(t))
		}
	}
	return out
}

// nothingStarts tells what an image is that holds nothing a boot loader could start; ""
// for one that does, or of which nobody knows.
func nothingStarts(it *survey.Item) string {
	switch it.Kind {
	case "dtb":
		return "a device tree"
	case "cpio":
		return "a RAM disk"
	case "uimage":
		return map[string]string{"ramdisk": "a RAM disk", "flat_dt": "a device tree", "script": "a script"}[first(it.Image, fact.Type)]
	case "fit":
		if it.Image != nil && len(it.Image.Configs) > 0 && !slices.ContainsFunc(it.Image.Configs, func(c image.Config) bool { return c.Program }) {
			return "a RAM disk or a device tree"
		}
	}
	return ""
}

func first(m *image.Image, n fact.Name) string {
	if m == nil {
		return ""
	}
	f, _ := m.First(n)
	return f.Value
}
