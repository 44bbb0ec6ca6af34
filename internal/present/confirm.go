package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/internal/present/page"
)

// Confirmed is what confirm tells.
type Confirmed struct {
	*plan.Confirmation
	Note   string
	After  []string
	NoPlan []Refused // there was no plan by the rules
	Record string
}

// Verdict is that of the checks; without a plan nothing is as planned.
func (c Confirmed) Verdict() fit.Outcome {
	v := c.Confirmation.Verdict
	for _, r := range c.NoPlan {
		v = fit.Worse(v, r.Outcome)
	}
	return v
}

// Lines are all checks, in a line each.
func (c Confirmed) Lines() []string {
	var out []string
	one := func(of string, ch fit.Check) {
		if of != "" && of != c.Device {
			of += ": "
		} else {
			of = ""
		}
		out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s%s %s: %s", ch.Outcome, of, ch.Check, ch.Component, ch.Because)))
	}
	for _, ch := range c.Checks {
		one("", ch)
	}
	for _, m := range c.Members {
		for _, ch := range m.Checks {
			one(m.Name, ch)
		}
	}
	return out
}

// ConfirmPage tells whether the install did what the plan said: what is not as planned first,
// with both sides; what is, a line each.
//
// In one piece: the blocks stand in the order in which they are read.
func ConfirmPage(c Confirmed) *page.Page {
	v := c.Verdict()
	word := map[fit.Outcome]string{fit.Fits: "AS PLANNED", fit.Misfit: "NOT AS PLANNED", fit.Unsettled: "UNSETTLED"}[v]
	head := map[fit.Outcome]string{
		fit.Fits: "%s did what the plan from %s to %s said", fit.Misfit: "%s did not do what the plan from %s to %s said",
		fit.Unsettled: "whether %s did what the plan from %s to %s said is not settled",
	}[v]
	t := page.Title{Word: word, Tone: toneOf(v), Text: fmt.Sprintf(head, c.Device, orUnknown(c.From), orUnknown(c.To))}
	if c.Note != "" {
		t.About = append(t.About, page.Item{Text: c.Note, Tone: page.Info})
	}
	p := &page.Page{Name: c.Device + " after the install"}
	p.Add(t)
	if len(c.NoPlan) > 0 {
		p.Add(page.Head{Text: "There was no plan by the rules"}, refusals(c.NoPlan, false))
	}
	whole := &fit.Verdict{Package: "", Outcome: v, Checks: c.Checks}
	for _, m := range c.Members {
		whole.Members = append(whole.Members, fit.Member{Name: m.Name, Checks: m.Checks})
	}
	open, kept := page.List{Most: 8, Full: 5, Flag: page.Why}, page.List{Most: 16, Flag: page.Why, Deep: page.Why}
	var advice []string
	all := collapse(whole)
	slices.SortStableFunc(all, func(a, b memberCheck) int { return weight(a.Outcome) - weight(b.Outcome) })
	for _, ch := range all {
		it := page.Item{Marks: []page.Span{{Text: string(ch.Outcome), Tone: toneOf(ch.Outcome)}, {Text: ch.Check.Check, Tone: page.Strong}, {Text: ch.Component}}, Text: ch.because(whole)}
		for _, side := range []struct{ name, of string }{{"planned", fit.OfPackage}, {"planned", fit.OfStated}, {"found", fit.OfDevice}} {
			var said []string
			for _, x := range ch.Sources {
				if x.Side == side.of && x.Source.File != "" {
					said = append(said, fmt.Sprintf("%s (%s)", x.Value, strings.TrimSpace(string(x.Source.Kind)+" "+x.Source.Where())))
				}
			}
			if len(said) > 0 {
				it.Under = append(it.Under, page.Item{Marks: []page.Span{{Text: side.name, Tone: page.Faint}}, Text: strings.Join(said, "; "), Tone: page.Faint})
			}
		}
		if ch.Outcome == fit.Misfit || ch.Outcome == fit.Unsettled {
			open.Items = append(open.Items, it)
			if ch.Advice != "" && !slices.Contains(advice, ch.Advice) {
				advice = append(advice, ch.Advice)
			}
			continue
		}
		if ch.Outcome == fit.Note && ch.Advice != "" && !slices.Contains(advice, ch.Advice) {
			advice = append(advice, ch.Advice)
		}
		kept.Items = append(kept.Items, it)
	}
	if len(open.Items) > 0 {
		p.Add(page.Head{Text: "What is not as planned, or not known"}, open)
	}
	if len(kept.Items) > 0 {
		p.Add(page.Head{Text: "What is as planned"}, kept)
	}
	p.Add(whatNext(advice)...)
	if len(c.Next) > 0 {
		l := page.List{Most: 5, Flag: page.Why}
		for _, t := range c.Next {
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: "[ ]"}}, Text: t})
		}
		p.Add(page.Head{Text: "What only you can see"}, l)
	}
	if c.Record != "" {
		p.Add(page.Gap{}, page.Line{Text: "A line was added to " + c.Record + ".", Tone: page.Info})
	}
	p.Add(page.Gap{}, page.Fold{Line: "-why shows where each of it was read", Flag: page.Why, Inside: func() []page.Block { return nil }})
	return p
}

func orUnknown(t string) string {
	if t == "" {
		return "what is not known"
	}
	return t
}

type jsonConfirm struct {
	Verdict string              `json:"verdict"`
	Device  string              `json:"device"`
	From    string              `json:"from"`
	To      string              `json:"to"`
	After   []string            `json:"after"`
	Members []jsonConfirmMember `json:"members"`
	Checks  []jsonCheck         `json:"checks"`
	NoPlan  []jsonRefused       `json:"no_plan,omitempty"`
	Next    []string            `json:"next,omitempty"`
	Note    string              `json:"note,omitempty"`
}

type jsonConfirmMember struct {
	Name    string      `json:"name"`
	Verdict string      `json:"verdict"`
	Checks  []jsonCheck `json:"checks"`
}

func init() {
	form(func() any { return ConfirmJSON() })
}

// ConfirmJSON is the document of confirm.
func ConfirmJSON(all ...Confirmed) any {
	worst := fit.Fits
	var results []jsonConfirm
	for _, c := range all {
		worst = fit.Worse(worst, c.Verdict())
		results = append(results, confirmJSON(c))
	}
	return resultsJSON("confirm", string(worst), results)
}

func confirmJSON(c Confirmed) jsonConfirm {
	out := jsonConfirm{Verdict: string(c.Verdict()), Device: c.Device, From: c.From, To: c.To, After: c.After, Members: []jsonConfirmMember{}, Checks: checksJSON(c.Checks), Next: c.Next, Note: c.Note}
	for _, m := range c.Members {
		out.Members = append(out.Members, jsonConfirmMember{m.Name, string(m.Verdict), checksJSON(m.Checks)})
	}
	for _, r := range c.NoPlan {
		out.NoPlan = append(out.NoPlan, jsonRefused{r.Device, string(r.Outcome), r.Because})
	}
	return out
}
