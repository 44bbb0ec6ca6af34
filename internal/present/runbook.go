package present

import (
	_ "embed"
	"fmt"
	"io"
	"strings"

	"fitcheck/core/duration"
	"fitcheck/core/plan"
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
	return fmt.Sprintf("%s of installing, %s of it without service", duration.Minutes(b.Install), duration.Minutes(b.Outage))
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

// Runbook shows the steps in the terminal, or as plain text.
func (s *Screen) Runbook(b *plan.Runbook) {
	s.hanging(s.paint(info, "RUNBOOK")+"  ", 9, strong, runbookHead(b))
	s.line(9, plain, runbookSum(b))
	n := 0
	for _, sec := range b.Sections {
		s.head(sectionTitle(sec))
		for _, i := range sec.Steps {
			n++
			st := plain
			lead := fmt.Sprintf("  [ ] %2d. ", n)
			if i.Warn {
				st = strong
			}
			s.hanging(lead, 10, st, upper(i.Text))
			for _, c := range i.Commands {
				s.hanging("            "+s.paint(faint, "> "), 14, info, c)
			}
			for _, t := range i.See {
				s.hanging("            "+s.paint(faint, "see: "), 17, plain, t)
			}
			if i.Back != "" {
				s.hanging("            "+s.paint(faint, "if not: "), 20, faint, i.Back)
			}
		}
	}
}

// WroteRunbook names the file.
func (s *Screen) WroteRunbook(file string) {
	s.hanging(s.paint(good, "WRITTEN")+"  ", 9, strong, "the runbook is in "+file)
}

// upper begins a sentence with a capital, unless a name begins it.
func upper(t string) string {
	if head, _, ok := strings.Cut(t, ": "); ok && len(head) < 40 && !strings.Contains(head, " ") {
		return t
	}
	return strings.ToUpper(t[:min(1, len(t))]) + t[min(1, len(t)):]
}

// RunbookMarkdown writes it as Markdown, with boxes to tick.
func RunbookMarkdown(w io.Writer, b *plan.Runbook) error {
	var out strings.Builder
	text := func(t string) string { return md(Safe(t)) }
	f := func(format string, args ...any) { fmt.Fprintf(&out, format, args...) }
	f("# Runbook: %s\n\n%s.\n", text(runbookHead(b)), upper(text(runbookSum(b))))
	for _, s := range b.Sections {
		f("\n## %s\n\n", text(sectionTitle(s)))
		for _, i := range s.Steps {
			step := text(upper(i.Text))
			if i.Warn {
				step = "**" + step + "**"
			}
			f("- [ ] %s\n", step)
			for _, c := range i.Commands {
				f("  - `%s`\n", strings.ReplaceAll(Safe(c), "`", "'"))
			}
			for _, t := range i.See {
				f("  - see: %s\n", text(t))
			}
			if i.Back != "" {
				f("  - if not: %s\n", text(i.Back))
			}
		}
	}
	_, err := io.WriteString(w, out.String())
	return err
}

//go:embed runbook.html
var runbookPage string

var runbookTemplate = newPage("runbook", runbookPage)

type htmlSection struct {
	Title string
	Steps []htmlStep
}

type htmlStep struct {
	Number        int
	Text, Back    string
	Commands, See []string
	Warn          bool
}

// RunbookHTML writes it as one page that can be ticked off and printed.
func RunbookHTML(w io.Writer, b *plan.Runbook, version string) error {
	page := struct {
		Title, Sum, Version string
		Sections            []htmlSection
	}{Safe(runbookHead(b)), Safe(runbookSum(b)), version, nil}
	safe := func(all []string) []string {
		var out []string
		for _, t := range all {
			out = append(out, Safe(t))
		}
		return out
	}
	n := 0
	for _, s := range b.Sections {
		sec := htmlSection{Title: Safe(sectionTitle(s))}
		for _, i := range s.Steps {
			n++
			sec.Steps = append(sec.Steps, htmlStep{n, Safe(upper(i.Text)), Safe(i.Back), safe(i.Commands), safe(i.See), i.Warn})
		}
		page.Sections = append(page.Sections, sec)
	}
	return runbookTemplate.Execute(w, page)
}

type jsonRunbook struct {
	Fitcheck about         `json:"fitcheck"`
	Device   string        `json:"device"`
	From     string        `json:"from"`
	To       string        `json:"to"`
	Minutes  *jsonMinutes  `json:"minutes,omitempty"`
	Refused  []jsonRefused `json:"refused"`
	Sections []jsonSection `json:"sections"`
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

// RunbookJSON is the document of runbook.
func RunbookJSON(b *plan.Runbook, refused []Refused) any {
	out := jsonRunbook{Fitcheck: about{"runbook", Edition}, Refused: []jsonRefused{}, Sections: []jsonSection{}}
	for _, r := range refused {
		out.Refused = append(out.Refused, jsonRefused{r.Device, string(r.Outcome), r.Because})
	}
	if b == nil {
		return out
	}
	out.Device, out.From, out.To = b.Device, b.From, b.To
	if b.Known {
		out.Minutes = &jsonMinutes{Install: b.Install, Outage: b.Outage}
	}
	for _, s := range b.Sections {
		j := jsonSection{Title: s.Title, Minutes: s.Minutes, Steps: []jsonInstruction{}}
		if s.At >= 0 {
			j.At = &s.At
		}
		for _, i := range s.Steps {
			j.Steps = append(j.Steps, jsonInstruction(i))
		}
		out.Sections = append(out.Sections, j)
	}
	return out
}
