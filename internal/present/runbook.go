package present

import (
	"cmp"
	"fmt"
	"strings"

	"fitcheck/core/duration"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/internal/present/page"
)

// clock writes minutes from the beginning as hours and minutes.
func clock(minutes int) string { return fmt.Sprintf("%d:%02d", minutes/60, minutes%60) }

func runbookHead(b *plan.Runbook) string {
	if b.From == b.To {
		return fmt.Sprintf("%s, which runs %s", b.Device, b.From)
	}
	return fmt.Sprintf("%s from %s to %s", b.Device, b.From, b.To)
}

func runbookSum(b *plan.Runbook) string {
	if !b.Known {
		return "the rulebook does not say for every hop how long it takes"
	}
	return fmt.Sprintf("%s of installing, %s of it without service", b.Install.Text(), b.Outage.Text())
}

func sectionTitle(s plan.Section) string {
	t := s.Title
	if s.At >= 0 {
		t += fmt.Sprintf("  (from %s", clock(s.At))
		if s.Minutes > 0 {
			t += fmt.Sprintf(", %s", duration.Minutes(s.Minutes))
		}
		t += ")"
	}
	return t
}

// RunbookPage is the steps, section by section, each with a box to tick.
func RunbookPage(b *plan.Runbook) *page.Page {
	p := &page.Page{Name: "Runbook: " + runbookHead(b), Document: true}
	p.Add(page.Title{Word: "RUNBOOK", Tone: page.Info, Text: runbookHead(b), About: []page.Item{{Text: runbookSum(b)}}})
	n := 1
	for _, sec := range b.Sections {
		p.Add(page.Head{Text: sectionTitle(sec)}, instructions(sec.Steps, n, true))
		n += len(sec.Steps)
	}
	return p
}

// Wrote names a file that was written, and what it is.
func Wrote(what, file string) *page.Page {
	return &page.Page{Blocks: []page.Block{page.Title{Word: "WRITTEN", Tone: page.Good, Text: what + " is in " + file}}}
}

// upper begins a sentence with a capital, unless a name begins it.
func upper(t string) string {
	if head, _, ok := strings.Cut(t, ": "); ok && len(head) < 40 && !strings.Contains(head, " ") {
		return t
	}
	return strings.ToUpper(t[:min(1, len(t))]) + t[min(1, len(t)):]
}

type jsonRunbook struct {
	Device   string        `json:"device"`
	From     string        `json:"from"`
	To       string        `json:"to"`
	Server   string        `json:"server,omitempty"`
	Minutes  *jsonMinutes  `json:"minutes,omitempty"`
	Refused  []jsonRefused `json:"refused"`
	Sections []jsonSection `json:"sections"`
	// Steps are those of all sections, numbered through.
	Steps []jsonStep `json:"steps"`
}

type jsonStep struct {
	Number    int       `json:"number"`
	Step      string    `json:"step,omitempty"`
	Device    string    `json:"device"`
	Hop       int       `json:"hop,omitempty"`
	Component string    `json:"component,omitempty"`
	Wait      *jsonWait `json:"wait_seconds,omitempty"`
	Tries     int       `json:"tries,omitempty"`
	Proven    bool      `json:"by_capture"`
	jsonInstruction
}

type jsonWait struct {
	From int `json:"from"`
	To   int `json:"to"`
}

type jsonSection struct {
	Title   string            `json:"title"`
	At      *int              `json:"at_minute,omitempty"`
	Minutes int               `json:"minutes,omitempty"`
	Steps   []jsonInstruction `json:"steps"`
}

type jsonInstruction struct {
	Text     string   `json:"text"`
	Commands []string `json:"commands,omitempty"`
	See      []string `json:"see,omitempty"`
	Warn     bool     `json:"warn,omitempty"`
	Back     string   `json:"if_not,omitempty"`
}

func instructionJSON(i plan.Instruction) jsonInstruction {
	return jsonInstruction{Text: i.Text, Commands: i.Commands, See: i.See, Warn: i.Warn, Back: i.Back}
}

func init() {
	form(func() any { return RunbookJSON(nil, nil) })
}

// RunbookJSON is the document of runbook.
func RunbookJSON(b *plan.Runbook, refused []Refused) any {
	return resultsJSON("runbook", string(refusedVerdict(b != nil, refused)), []jsonRunbook{runbookJSON(b, refused)})
}

// refusedVerdict is that on what was planned: the worst of what stands against it.
func refusedVerdict(planned bool, refused []Refused) fit.Outcome {
	worst := fit.Fits
	if !planned && len(refused) == 0 {
		worst = fit.Unsettled
	}
	for _, r := range refused {
		if planned && r.Outcome == fit.Unsettled {
			continue // it was planned even so
		}
		worst = fit.Worse(worst, r.Outcome)
	}
	return worst
}

func runbookJSON(b *plan.Runbook, refused []Refused) jsonRunbook {
	out := jsonRunbook{Refused: []jsonRefused{}, Sections: []jsonSection{}, Steps: []jsonStep{}}
	for _, r := range refused {
		out.Refused = append(out.Refused, jsonRefused{r.Device, string(r.Outcome), r.Because})
	}
	if b == nil {
		return out
	}
	out.Device, out.From, out.To, out.Server = b.Device, b.From, b.To, b.Server
	if b.Known {
		m := minutesJSON(b.Install, b.Outage, 0)
		out.Minutes = &m
	}
	for _, s := range b.Sections {
		j := jsonSection{Title: s.Title, Minutes: s.Minutes, Steps: []jsonInstruction{}}
		if s.At >= 0 {
			j.At = &s.At
		}
		for _, i := range s.Steps {
			told := instructionJSON(i)
			j.Steps = append(j.Steps, told)
			step := jsonStep{Number: len(out.Steps) + 1, Step: i.Step, Device: cmp.Or(i.Member, b.Device), Hop: i.Hop, Component: i.Component, Tries: i.Tries, Proven: len(i.Proofs) > 0, jsonInstruction: told}
			if i.Wait.Set() {
				step.Wait = &jsonWait{int(i.Wait.From.Seconds()), int(i.Wait.To.Seconds())}
			}
			out.Steps = append(out.Steps, step)
		}
		out.Sections = append(out.Sections, j)
	}
	return out
}
