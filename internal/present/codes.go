package present

import (
	"fmt"
	"strings"

	"fitcheck/core/fit/check"
)

// Codes explains reasons: each in full, or of many a line each.
func (s *Screen) Codes(all []*check.Code, brief bool) {
	of := ""
	for _, k := range all {
		if brief {
			if k.Check.Name != of {
				of = k.Check.Name
				s.head(of)
				s.line(2, faint, k.Check.Doc)
			}
			s.hanging("  "+s.paint(outcomeStyle(k.Outcome), pad(string(k.Outcome), 10))+pad(k.Name, 30)+" ", 43, plain, k.Doc)
			continue
		}
		if of != "" {
			s.blank()
		}
		of = k.Check.Name
		s.hanging(s.paint(outcomeStyle(k.Outcome), strings.ToUpper(string(k.Outcome)))+"  ", len(k.Outcome)+2, strong, k.Name)
		s.line(2, plain, k.Check.Doc)
		s.hanging("  given when   ", 15, plain, k.Doc)
		s.hanging("  in words     ", 15, plain, pattern(k.Words))
		if ex := check.Example(k.Name); ex.Says != "" {
			s.hanging("  for example  ", 15, plain, ex.Says+" ("+ex.When+")")
		}
		switch {
		case k.Advice != "":
			s.hanging("  settled by   ", 15, plain, pattern(k.Advice))
		case k.Outcome == check.Misfit || k.Outcome == check.Unsettled:
			s.hanging("  settled by   ", 15, plain, "what the line itself advises")
		}
		if k.Stands {
			s.line(2, doubt, "neither -trust-names nor -even-if unsettled covers it")
		}
	}
}

// pattern shows the words of a reason with … for its values.
func pattern(words string) string {
	return strings.NewReplacer("%s", "…", "%q", "…", "%d", "…", "%v", "…").Replace(words)
}

type jsonCode struct {
	Code    string `json:"code"`
	Check   string `json:"check"`
	Asks    string `json:"asks"`
	Outcome string `json:"outcome"`
	When    string `json:"when"`
	Words   string `json:"words"`
	Advice  string `json:"advice,omitempty"`
	Example string `json:"example,omitempty"`
	Stands  bool   `json:"stands,omitempty"`
}

// CodesJSON is the document of explain.
func CodesJSON(all []*check.Code) any {
	out := struct {
		Fitcheck about      `json:"fitcheck"`
		Codes    []jsonCode `json:"codes"`
	}{about{"explain", Edition}, []jsonCode{}}
	for _, k := range all {
		out.Codes = append(out.Codes, jsonCode{k.Name, k.Check.Name, k.Check.Doc, string(k.Outcome), k.Doc, pattern(k.Words), pattern(k.Advice), check.Example(k.Name).Says, k.Stands})
	}
	return out
}

// CodesPage is docs/codes.md.
func CodesPage() string {
	var b strings.Builder
	b.WriteString(`# The reasons

Every line of a verdict is of a check and gives a reason with a stable name, its
code. ` + "`fitcheck explain CODE`" + ` tells the same on the command line. This page is made from
the checks by ` + "`go test ./internal/present -run TestCodesPage -update`" + `; the examples are what
tests made the checks say.
`)
	cell := strings.NewReplacer("|", "\\|", "\n", " ")
	for _, c := range check.All() {
		fmt.Fprintf(&b, "\n## %s\n\n%s", c.Name, c.Doc)
		if c.Of != "" {
			fmt.Fprintf(&b, " (`%s`)", c.Of)
		}
		b.WriteString("\n\n| code | outcome | given when | for example | settled by |\n|---|---|---|---|---|\n")
		for _, k := range c.Codes {
			advice := pattern(k.Advice)
			if k.Stands {
				advice += "; nothing covers it"
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s | %s | %s |\n", k.Name, k.Outcome, cell.Replace(k.Doc), cell.Replace(check.Example(k.Name).Says), cell.Replace(advice))
		}
	}
	return b.String()
}
