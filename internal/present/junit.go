package present

import (
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/internal/present/page"
)

// JUnit writes verdicts in the XML form in which build pipelines take test
// results: a suite for each device and package, a case for each check. Misfit
// and unsettled are failures, n/a is skipped.
//
// In one piece: the blocks stand in the order in which they are read.
func JUnit(w io.Writer, all []Answer) error {
	type result struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr,omitempty"`
		Text    string `xml:",chardata"`
	}
	type testcase struct {
		Name    string  `xml:"name,attr"`
		Class   string  `xml:"classname,attr"`
		Failure *result `xml:"failure"`
		Skipped *result `xml:"skipped"`
		Out     string  `xml:"system-out,omitempty"`
	}
	type suite struct {
		Name     string     `xml:"name,attr"`
		Tests    int        `xml:"tests,attr"`
		Failures int        `xml:"failures,attr"`
		Skipped  int        `xml:"skipped,attr"`
		Cases    []testcase `xml:"testcase"`
	}
	doc := struct {
		XMLName  xml.Name `xml:"testsuites"`
		Name     string   `xml:"name,attr"`
		Tests    int      `xml:"tests,attr"`
		Failures int      `xml:"failures,attr"`
		Suites   []suite  `xml:"testsuite"`
	}{Name: "fitcheck match"}
	for _, a := range all {
		for _, v := range a.Verdicts {
			s := suite{Name: page.Safe(a.Name() + " and " + v.Package)}
			add := func(class string, checks []fit.Check) {
				for _, c := range checks {
					t := testcase{Name: page.Safe(strings.TrimSpace(c.Check + " " + c.Component)), Class: page.Safe(class)}
					because, detail := page.Safe(c.Because), page.Safe(sourcesText(c))
					if c.Advice != "" {
						detail += "\n" + page.Safe(c.Advice)
					}
					switch c.Outcome {
					case fit.Misfit, fit.Unsettled:
						t.Failure = &result{because, string(c.Outcome), detail}
						s.Failures++
					case fit.NotApplicable:
						t.Skipped = &result{Message: because}
						s.Skipped++
					default:
						t.Out = because + "\n" + detail
					}
					s.Tests++
					s.Cases = append(s.Cases, t)
				}
			}
			add(v.Device+".package", v.Checks)
			for _, m := range v.Members {
				add(m.Name, m.Checks)
			}
			doc.Tests, doc.Failures = doc.Tests+s.Tests, doc.Failures+s.Failures
			doc.Suites = append(doc.Suites, s)
		}
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(doc); err != nil {
		return err
	}
	_, err := fmt.Fprintln(w)
	return err
}

// sourcesText lists both sides of a check with their places.
func sourcesText(c fit.Check) string {
	var out []string
	for _, x := range c.Sources {
		out = append(out, fmt.Sprintf("%s %s (%s %s)", x.Side, x.Value, x.Source.Kind, x.Source.Where()))
	}
	return strings.Join(out, "; ")
}
