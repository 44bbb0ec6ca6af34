package present

import (
	"fmt"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/plan"
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

// Confirmed shows whether the install did what the plan said.
func (s *Screen) Confirmed(c Confirmed) {
	v := c.Verdict()
	word := map[fit.Outcome]string{fit.Fits: "AS PLANNED", fit.Misfit: "NOT AS PLANNED", fit.Unsettled: "UNSETTLED"}[v]
	head := map[fit.Outcome]string{
		fit.Fits: "%s did what the plan from %s to %s said", fit.Misfit: "%s did not do what the plan from %s to %s said",
		fit.Unsettled: "whether %s did what the plan from %s to %s said is not settled",
	}[v]
	st := append(append(style{}, outcomeStyle(v)...), strong...)
	s.hanging(s.paint(st, word)+"  ", len(word)+2, strong, fmt.Sprintf(head, c.Device, orUnknown(c.From), orUnknown(c.To)))
	if c.Note != "" {
		s.line(len(word)+2, info, c.Note)
	}
	if len(c.NoPlan) > 0 {
		s.head("There was no plan by the rules")
		for _, r := range c.NoPlan {
			for _, t := range r.Because {
				s.hanging("  "+s.paint(outcomeStyle(r.Outcome), pad(string(r.Outcome), 10)), 12, plain, t)
			}
		}
	}
	s.component = 8
	show := func(title string, all []fit.Check) {
		if len(all) == 0 {
			return
		}
		s.head(title)
		for _, ch := range all {
			lead := "  " + s.paint(outcomeStyle(ch.Outcome), pad(string(ch.Outcome), 10)) + s.paint(strong, pad(ch.Check, 10)) + pad(ch.Component, s.component) + " "
			s.hanging(lead, 31, plain, ch.Because)
			var said []string
			for _, x := range ch.Sources {
				if x.Source.File != "" {
					said = append(said, fmt.Sprintf("%s (%s)", x.Value, strings.TrimSpace(string(x.Source.Kind)+" "+x.Source.Where())))
				}
			}
			if len(said) > 0 {
				s.line(12, faint, strings.Join(said, "; "))
			}
			if ch.Advice != "" {
				s.line(12, info, ch.Advice)
			}
		}
	}
	show("As a whole", c.Checks)
	for _, m := range c.Members {
		title := "What was found"
		if len(c.Members) > 1 {
			title = m.Name
		}
		show(title, m.Checks)
	}
	if len(c.Next) > 0 {
		s.head("What only you can see")
		for _, t := range c.Next {
			s.hanging("  [ ] ", 6, plain, t)
		}
	}
	if c.Record != "" {
		s.blank()
		s.line(0, info, "A line was added to "+c.Record+".")
	}
}

func orUnknown(t string) string {
	if t == "" {
		return "what is not known"
	}
	return t
}

type jsonConfirm struct {
	Fitcheck about               `json:"fitcheck"`
	Verdict  string              `json:"verdict"`
	Device   string              `json:"device"`
	From     string              `json:"from"`
	To       string              `json:"to"`
	After    []string            `json:"after"`
	Members  []jsonConfirmMember `json:"members"`
	Checks   []jsonCheck         `json:"checks"`
	NoPlan   []jsonRefused       `json:"no_plan,omitempty"`
	Next     []string            `json:"next,omitempty"`
	Note     string              `json:"note,omitempty"`
}

type jsonConfirmMember struct {
	Name    string      `json:"name"`
	Verdict string      `json:"verdict"`
	Checks  []jsonCheck `json:"checks"`
}

// ConfirmJSON is the document of confirm.
func ConfirmJSON(c Confirmed) any {
	out := jsonConfirm{Fitcheck: about{"confirm", Edition}, Verdict: string(c.Verdict()), Device: c.Device, From: c.From, To: c.To, After: c.After, Members: []jsonConfirmMember{}, Checks: checksJSON(c.Checks), Next: c.Next, Note: c.Note}
	for _, m := range c.Members {
		out.Members = append(out.Members, jsonConfirmMember{m.Name, string(m.Verdict), checksJSON(m.Checks)})
	}
	for _, r := range c.NoPlan {
		out.NoPlan = append(out.NoPlan, jsonRefused{r.Device, string(r.Outcome), r.Because})
	}
	return out
}
