package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit/check"
	"fitcheck/internal/present/page"
)

// CodesPage explains reasons: each in full, or of many a line each. Of one check the
// worst come first.
func CodesPage(all []*check.Code, brief bool) *page.Page {
	p := &page.Page{Name: "Reasons", Document: brief}
	var l page.List
	flush := func() {
		if len(l.Items) > 0 {
			p.Add(l)
		}
		l = page.List{}
	}
	of := ""
	for _, k := range worstFirst(all) {
		if k.Check.Name != of {
			flush()
			of = k.Check.Name
			p.Add(page.Head{Text: of + ": " + k.Check.Doc})
		}
		it := page.Item{Marks: []page.Span{{Text: string(k.Outcome), Tone: toneOf(k.Outcome)}, {Text: k.Name, Tone: page.Strong}}}
		if brief {
			it.Text = k.Doc
			l.Items = append(l.Items, it)
			continue
		}
		say := func(what, text string, tone page.Tone) {
			if text != "" && text != "…" {
				it.Under = append(it.Under, page.Item{Marks: []page.Span{{Text: what, Tone: page.Faint}}, Text: text, Tone: tone})
			}
		}
		say("given when", k.Doc, page.Plain)
		say("in words", pattern(k.Words), page.Plain)
		say("for example", check.Example(k.Name).Says, page.Plain)
		say("settled by", pattern(k.Advice), page.Plain)
		if k.Stands {
			say("mind", "neither -trust-names nor -even-if unsettled covers it", page.Doubt)
		}
		l.Items = append(l.Items, it)
	}
	flush()
	if brief && len(all) > 0 {
		p.Add(page.Gap{}, page.Line{Text: "fitcheck explain " + all[0].Name + " tells more of one", Tone: page.Faint})
	}
	return p
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

func init() {
	form(func() any { return CodesJSON(nil) })
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

// CodesDoc is docs/codes.md.
func CodesDoc() string {
	var b strings.Builder
	b.WriteString(`# The reasons

Every line of a verdict is of a check and gives a reason with a stable name, its
code. ` + "`fitcheck explain CODE`" + ` tells the same on the command line. A check is asked once for
each package, each image that may be the one, each release whose conditions must hold, each
install, each group, or of the verdict as a whole. This page is made from
the checks by ` + "`go test ./internal/present -run TestCodesPage -update`" + `; the examples are what
tests made the checks say.
`)
	cell := strings.NewReplacer("|", "\\|", "\n", " ")
	for _, c := range check.All() {
		fmt.Fprintf(&b, "\n## %s\n\n%s", c.Name, c.Doc)
		if c.Of != "" {
			fmt.Fprintf(&b, " (`%s`)", c.Of)
		}
		if scopes := c.Scopes(); len(scopes) > 0 {
			fmt.Fprintf(&b, " Asked for each %s.", strings.Join(scopes, ", each "))
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
