package present

import (
	"fmt"
	"strings"

	"fitcheck/core/follow"
	"fitcheck/core/plan"
	"fitcheck/internal/present/page"
)

// What runbook -follow tells: each step, what an answer led to, and where it was left.

// FollowBegins says what is followed, and where it is written down.
func FollowBegins(f *follow.Follower, record string, takenUp bool) *page.Page {
	t := page.Title{Word: "FOLLOW", Tone: page.Info, Text: runbookHead(f.Book), About: []page.Item{{Text: runbookSum(f.Book)}, {Text: "what is answered is written to " + record}}}
	if takenUp {
		t.Word = "TAKEN UP"
		about := fmt.Sprintf("%s before step %d of %d", countWord(f.Number()-1, "step is done", "steps are done"), f.Number(), len(f.Steps))
		if f.Again() {
			about = fmt.Sprintf("the next step is a restart; what was proven before it, step %d, is proven once more: the device may have been changed since", f.Number())
		}
		t.About = append(t.About, page.Item{Text: about})
	}
	return &page.Page{Document: true, Blocks: []page.Block{t}}
}

func countWord(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// FollowStep shows a step, and how it is answered.
func FollowStep(f *follow.Follower) *page.Page {
	n, in := f.Number(), f.Step()
	p := &page.Page{Document: true}
	head := fmt.Sprintf("Step %d of %d", n, len(f.Steps))
	if f.Again() {
		head += ", once more"
	}
	if f.Tried() > 0 {
		head += fmt.Sprintf(", failed %s so far", timesWord(f.Tried()))
	}
	p.Add(page.Gap{}, page.Head{Text: head}, instructions([]plan.Instruction{in}, n, false))
	how := "answer: done, or stop"
	switch f.Needs() {
	case follow.Capture:
		how = "answer with what the device shows: paste it, and a line with a single dot behind it; or file NAME; or stop"
	case follow.Blocked:
		how = "answer: stop"
	}
	p.Add(page.Line{Text: how, Tone: page.Faint})
	return p
}

func timesWord(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

var followWords = map[string]struct {
	word string
	tone page.Tone
}{follow.GoOn: {"GO ON", page.Good}, follow.Wait: {"WAIT", page.Doubt}, follow.Again: {"AGAIN", page.Doubt}, follow.Stop: {"STOP", page.Bad}, follow.Unknown: {"NOT PROVEN", page.Doubt}}

// FollowVerdict says what an answer led to.
func FollowVerdict(v follow.Verdict, number int) *page.Page {
	if v.Outcome == follow.GoOn && v.ByWord {
		return &page.Page{Document: true, Blocks: []page.Block{page.Title{Word: "GO ON", Tone: page.Info, Text: fmt.Sprintf("step %d is done, by your word", number)}}}
	}
	if v.Outcome == follow.GoOn && v.Answer != nil {
		t := page.Title{Word: "GO ON", Tone: page.Good, Text: fmt.Sprintf("step %d is done, as the capture shows", number)}
		for _, s := range v.Answer.Shown[:min(4, len(v.Answer.Shown))] {
			t.About = append(t.About, page.Item{Text: fmt.Sprintf("%s: %s (%s)", s.Want, strings.TrimSpace(s.Found), s.At), Tone: page.Faint})
		}
		return &page.Page{Document: true, Blocks: []page.Block{t}}
	}
	if v.Answer != nil && v.Outcome != follow.Again {
		p := StepPage(v.Answer)
		p.Document = true
		return p
	}
	w := followWords[v.Outcome]
	t := page.Title{Word: w.word, Tone: w.tone, Text: v.Reason}
	if v.Outcome == follow.Again {
		t.Text = fmt.Sprintf("step %d failed (%s so far, %d are allowed): %s", number, timesWord(v.Try), v.Answer.Step.Tries, v.Reason)
		if v.Answer.Remedy != "" {
			t.About = append(t.About, page.Item{Text: v.Answer.Remedy})
		}
		t.About = append(t.About, page.Item{Text: "try it again, and show what the device says"})
	}
	return &page.Page{Document: true, Blocks: []page.Block{t}}
}

// FollowEnds says where it ended, and how it is taken up.
func FollowEnds(f *follow.Follower, record string, byWord int) *page.Page {
	if f.Over() {
		t := page.Title{Word: "DONE", Tone: page.Good, Text: fmt.Sprintf("all %d steps of %s are done", len(f.Steps), f.Book.Device)}
		if byWord > 0 {
			t.About = append(t.About, page.Item{Text: fmt.Sprintf("%d of them by your word, the others as captures show", byWord)})
		}
		t.About = append(t.About, page.Item{Text: "the record is in " + record})
		return &page.Page{Document: true, Blocks: []page.Block{t}}
	}
	return &page.Page{Document: true, Blocks: []page.Block{page.Title{Word: "LEFT", Tone: page.Doubt, Text: fmt.Sprintf("%s at step %d of %d", f.Book.Device, f.Number(), len(f.Steps)),
		About: []page.Item{{Text: "the same command takes it up there; the record is in " + record}}}}}
}

// FollowHelp lists the answers.
func FollowHelp() *page.Page {
	return &page.Page{Document: true, Blocks: []page.Block{page.List{Items: []page.Item{
		{Marks: []page.Span{{Text: "done"}}, Text: "the step is done; only where no capture can show it"},
		{Marks: []page.Span{{Text: "file NAME"}}, Text: "a capture in a file; several names may follow each other"},
		{Marks: []page.Span{{Text: "any other line"}}, Text: "the beginning of a capture that is pasted; a line with a single dot ends it"},
		{Marks: []page.Span{{Text: "show"}}, Text: "the step once more"},
		{Marks: []page.Span{{Text: "stop"}}, Text: "leave it here; the same command takes it up"},
	}}}}
}

func init() {
	form(func() any { return FollowLineJSON(follow.Line{}) })
}

// FollowLineJSON is a line of the record as it is told.
func FollowLineJSON(l follow.Line) any {
	return struct {
		Fitcheck about `json:"fitcheck"`
		follow.Line
	}{about{"runbook", editionOfResults}, l}
}
