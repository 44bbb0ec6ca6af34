package fit

import (
	"fmt"
	"strings"

	"fitcheck/core/fact"
	"fitcheck/core/survey"
)

// paired: components that must carry one version and move together are all
// in the package, at one version.
func (j *judge) paired() []Check {
	f, ok := j.rb.Family(j.family())
	if !ok {
		return nil
	}
	var out []Check
	for _, group := range f.Paired {
		if len(group) == 0 {
			continue
		}
		ch := Check{Check: "paired", Component: texts(group), Outcome: Fits, Device: "one version of " + texts(group)}
		ch.Sources = []Cited{{OfRule, "paired " + texts(group), j.rb.Source(group[0].Spot)}}
		first, versions, same := "", []string{}, true
		for _, t := range group {
			c := j.chosen[t.Text]
			v := j.versionOf(c)
			switch {
			case c == nil:
				ch.Outcome, ch.Because = Misfit, fmt.Sprintf("%s must move together, and the package brings no %s", texts(group), t.Text)
			case !v.Known():
				ch.Outcome = Worse(ch.Outcome, Unsettled)
				if ch.Outcome == Unsettled {
					ch.Because = fmt.Sprintf("the version of %s is not known", t.Text)
				}
			default:
				ch.Sources = append(ch.Sources, Cited{OfPackage, t.Text + " " + v.Value, v.Source})
				versions = append(versions, t.Text+" "+v.Value)
				if first == "" {
					first = v.Value
				}
				same = same && j.rb.Scheme(t.Text).Equal(first, v.Value)
			}
		}
		ch.Package = strings.Join(versions, ", ")
		if !same {
			ch.Outcome, ch.Because = Misfit, "they must carry one version, and they differ: "+ch.Package
		}
		switch ch.Outcome {
		case Fits:
			ch.Because = "they are there at one version"
		default:
			ch.Advice = "get all of them of one release"
		}
		if len(versions) == 0 {
			ch.Sources = append(ch.Sources, Cited{OfPackage, "none", fact.Source{Kind: fact.FileName, File: j.s.Name}})
			ch.Package = "none of them"
		}
		out = append(out, ch)
	}
	return out
}

// handling: a download that must stay whole is not served from a folder.
func handling(s *survey.Survey) []Check {
	e := s.Entry
	if e == nil || !e.Handling.Set() {
		return nil
	}
	ch := Check{Check: "handling", Outcome: Fits, Device: "served " + e.Handling.Text, Package: s.Name,
		Sources: []Cited{{OfRule, e.Handling.Text, s.Rulebook.Source(e.Handling.Spot)}, {OfPackage, s.Name, fact.Source{Kind: fact.FileName, File: s.Name}}}}
	switch {
	case e.Handling.Text == "unpacked" && !s.Folder:
		ch.Because = "it must be unpacked before it is served"
	case e.Handling.Text == "unpacked":
		ch.Because = "it is unpacked already, as it must be served"
	case !s.Folder:
		ch.Because = "it is whole, as it must be served: do not unpack it"
	default:
		ch.Outcome = Misfit
		ch.Because = "it must be served whole, as downloaded, and this is an unpacked folder"
		ch.Advice = "take the file that was downloaded"
	}
	return []Check{ch}
}
