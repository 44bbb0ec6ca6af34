package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit/check"
)

// Codes explains reasons: each in full, or of many a line each. Of one check the
// worst come first.
func (s *Screen) Codes(all []*check.Code, brief bool) {
	of := ""
	for _, k := range worstFirst(all) {
		if k.Check.Name != of {
			of = k.Check.Name
			s.head(of)
			s.line(2, faint, k.Check.Doc)
		} else if !brief {
			s.blank()
		}
		if brief {
			s.hanging("  "+s.paint(outcomeStyle(k.Outcome), pad(string(k.Outcome), 10))+pad(k.Name, 30)+" ", 43, plain, k.Doc)
			continue
		}
		s.hanging("  "+s.paint(outcomeStyle(k.Outcome), pad(string(k.Outcome), 10))+" ", 13, strong, k.Name)
		say := func(what, text string) {
			if text != "" && text != "…" {
				s.hanging("    "+pad(what, 12)+" ", 17, plain, text)
			}
		}
		say("given when", k.Doc)
		say("in words", pattern(k.Words))
		say("for example", check.Example(k.Name).Says)
		say("settled by", pattern(k.Advice))
		if k.Stands {
			s.line(4, doubt, "neither -trust-names nor -even-if unsettled covers it")
		}
	}
}

// worstFirst orders the reasons of each check.
func worstFirst(all []*check.Code) []*check.Code {
	out := slices.Clone(all)
	slices.SortStableFunc(out, func(a, b *check.Code) int {
		return cmp.Or(a.Check.Order-b.Check.Order, b.Outcome.Rank()-a.Outcome.Rank())
	})
	return out
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
