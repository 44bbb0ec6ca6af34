package present

import (
	"fmt"
	"strings"

	"fitcheck/core/duration"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/truth"
	"fitcheck/internal/present/page"
)

// stepWords are the words for what a step has come to, and how they look.
var stepWords = map[string]struct {
	word string
	tone page.Tone
	text string
}{
	plan.StepDone:    {"GO ON", page.Good, "step %d is done on %s"},
	plan.StepRunning: {"WAIT", page.Doubt, "step %d still runs on %s"},
	plan.StepFailed:  {"FAILED", page.Bad, "step %d failed on %s"},
	plan.StepStop:    {"STOP", page.Bad, "do not go on behind step %d on %s"},
	plan.StepUnknown: {"UNKNOWN", page.Doubt, "whether step %d is done on %s is not known"},
}

// StepPage says whether one may go on behind a step.
//
// In one piece: the blocks stand in the order in which they are read.
func StepPage(a *plan.StepAnswer) *page.Page {
	w := stepWords[a.Outcome]
	t := page.Title{Word: w.word, Tone: w.tone, Text: fmt.Sprintf(w.text, a.Number, a.Device)}
	say := func(tone page.Tone, text string) { t.About = append(t.About, page.Item{Text: text, Tone: tone}) }
	say(page.Plain, fmt.Sprintf("step %d: %s", a.Number, a.Step.Text))
	if a.Reason != "" {
		say(w.tone, a.Reason)
	}
	p := &page.Page{Name: fmt.Sprintf("step %d of %s", a.Number, a.Device)}
	p.Add(t)
	var l page.List
	for _, s := range a.Shown {
		word := shownWords[s.Holds]
		if s.Holds == truth.Unknown && s.At.Given() {
			word.Text = "not clear"
		}
		it := page.Item{Marks: []page.Span{word}, Text: s.Want}
		if s.At.Given() {
			it.Under = []page.Item{{Text: fmt.Sprintf("%s (%s)", strings.TrimSpace(s.Found), s.At), Tone: page.Faint}}
		}
		l.Items = append(l.Items, it)
	}
	l.Most, l.Flag = 16, page.Why
	if len(l.Items) > 0 {
		p.Add(page.Head{Text: "What the captures show"}, l)
	}
	var next []string
	if a.Remedy != "" {
		next = append(next, a.Remedy)
	}
	switch a.Outcome {
	case plan.StepRunning:
		text := "wait, and capture again"
		if a.Step.Wait.Set() {
			text = fmt.Sprintf("wait, and capture again; it takes %s", duration.Range(a.Step.Wait.From, a.Step.Wait.To))
		}
		if a.Percent >= 0 {
			text += fmt.Sprintf("; it is at %d %%", a.Percent)
		}
		next = append(next, text)
	case plan.StepFailed, plan.StepStop:
		if a.Step.Back != "" {
			next = append(next, a.Step.Back)
		}
		if a.Outcome == plan.StepFailed && a.Step.Tries > 1 {
			next = append(next, fmt.Sprintf("it may be tried %d times in all", a.Step.Tries))
		}
	case plan.StepUnknown:
		switch {
		case len(a.Step.Proofs) > 0:
			next = append(next, "capture what the device says of it, and ask again")
		case !a.Last:
			next = append(next, fmt.Sprintf("see to it yourself, then go on with step %d", a.Number+1))
		}
	case plan.StepDone:
		if !a.Last {
			next = append(next, fmt.Sprintf("go on with step %d", a.Number+1))
		}
	}
	p.Add(whatNext(next)...)
	return p
}

var shownWords = map[truth.Truth]page.Span{truth.Yes: {Text: "shown", Tone: page.Good}, truth.No: {Text: "not so", Tone: page.Bad}, truth.Unknown: {Text: "not shown", Tone: page.Doubt}}

type jsonStepAnswer struct {
	Step    int           `json:"step"`
	Device  string        `json:"device,omitempty"`
	Name    string        `json:"name,omitempty"`
	Text    string        `json:"text,omitempty"`
	Outcome string        `json:"outcome"`
	Percent *int          `json:"percent,omitempty"`
	Wait    *jsonWait     `json:"wait_seconds,omitempty"`
	Reason  string        `json:"reason,omitempty"`
	Remedy  string        `json:"remedy,omitempty"`
	IfNot   string        `json:"if_not,omitempty"`
	Shown   []jsonShown   `json:"shown"`
	Refused []jsonRefused `json:"refused,omitempty"`
}

type jsonShown struct {
	Want  string `json:"want"`
	Found string `json:"found,omitempty"`
	Where string `json:"where,omitempty"`
	Holds string `json:"holds"`
}

func init() {
	form(func() any { return StepJSON(&plan.StepAnswer{}) })
}

// StepJSON is the document of confirm -step.
func StepJSON(a *plan.StepAnswer) any {
	return resultsJSON("confirm", string(stepVerdicts[a.Outcome]), []jsonStepAnswer{stepJSON(a)})
}

// stepVerdicts are the outcomes as a verdict, as the exit status tells them.
var stepVerdicts = map[string]fit.Outcome{plan.StepDone: fit.Fits, plan.StepRunning: fit.Unsettled, plan.StepUnknown: fit.Unsettled, plan.StepFailed: fit.Misfit, plan.StepStop: fit.Misfit}

func stepJSON(a *plan.StepAnswer) jsonStepAnswer {
	out := jsonStepAnswer{Step: a.Number, Device: a.Device, Name: a.Step.Step, Text: a.Step.Text, Outcome: a.Outcome, Reason: a.Reason, Remedy: a.Remedy, IfNot: a.Step.Back, Shown: []jsonShown{}}
	if a.Percent >= 0 {
		out.Percent = &a.Percent
	}
	if a.Step.Wait.Set() {
		out.Wait = &jsonWait{int(a.Step.Wait.From.Seconds()), int(a.Step.Wait.To.Seconds())}
	}
	for _, s := range a.Shown {
		out.Shown = append(out.Shown, jsonShown{s.Want, strings.TrimSpace(s.Found), s.At.Where(), map[truth.Truth]string{truth.Yes: "yes", truth.No: "no", truth.Unknown: "unknown"}[s.Holds]})
	}
	return out
}

// StepRefusedJSON says why there is no runbook of which a step could be confirmed.
func StepRefusedJSON(why []Refused) any {
	out := jsonStepAnswer{Outcome: plan.StepUnknown, Shown: []jsonShown{}}
	for _, r := range why {
		out.Refused = append(out.Refused, jsonRefused{r.Device, string(r.Outcome), r.Because})
	}
	return resultsJSON("confirm", string(refusedVerdict(false, why)), []jsonStepAnswer{out})
}
