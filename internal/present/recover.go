package present

import (
	"fmt"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/rescue"
	"fitcheck/core/shell"
)

// Recovered is what recover tells.
type Recovered struct {
	*plan.Recovery
	Events  []rescue.Event // of -watch
	Outcome fit.Outcome    // of -watch; "" without
	Ended   string
}

// Recovery shows which image, why, and the steps.
func (s *Screen) Recovery(r Recovered) {
	st := append(append(style{}, outcomeStyle(r.Verdict)...), strong...)
	word := map[fit.Outcome]string{fit.Fits: "RECOVER", fit.Misfit: "REFUSED", fit.Unsettled: "UNSETTLED"}[r.Verdict]
	if r.Nothing {
		word = "NOTHING LEFT"
	}
	s.hanging(s.paint(st, word)+"  ", len(word)+2, strong, fmt.Sprintf("%s: %s", r.Device.Name.Text, r.Why))
	if r.Device.State.Text == "" {
		s.line(len(word)+2, info, r.Device.File+" does not say its state; this is for one that does not start (state: boot-loader, or silent)")
	}
	if i := r.Chosen; i != nil {
		s.component = 5
		title := "Why it may be sent"
		if r.Verdict != fit.Fits {
			title = "What is against it"
		}
		s.head(title)
		for _, c := range i.Checks {
			if r.Verdict == fit.Fits || c.Outcome == r.Verdict {
				s.check(&fit.Verdict{Package: i.Survey.Name, Verdict: r.Verdict}, c, nil)
			}
		}
		if r.Verdict != fit.Fits {
			for _, c := range i.Checks {
				if c.Outcome == r.Verdict && c.Advice != "" {
					s.line(12, info, "to do: "+c.Advice)
				}
			}
		}
	}
	if len(r.Steps) > 0 {
		s.head("What to do, in this order")
		for n, i := range r.Steps {
			st := plain
			if i.Warn {
				st = strong
			}
			s.hanging(fmt.Sprintf("  %d. ", n+1), 5, st, upper(i.Text))
			for _, c := range i.Commands {
				s.hanging("       "+s.paint(faint, "> "), 9, info, c)
			}
			for _, t := range i.See {
				s.hanging("       "+s.paint(faint, "see: "), 12, plain, t)
			}
			if i.Back != "" {
				s.hanging("       "+s.paint(faint, "if not: "), 15, faint, i.Back)
			}
		}
	}
	if len(r.Others) > 0 {
		s.head("Other images")
		for n, o := range r.Others {
			if n == 8 {
				s.line(2, faint, fmt.Sprintf("and %d more", len(r.Others)-n))
				break
			}
			why := "it may be sent as well"
			for _, c := range o.Checks {
				if c.Outcome == o.Verdict && o.Verdict != fit.Fits {
					why = c.Check + ": " + c.Because
					break
				}
			}
			s.hanging("  "+s.paint(outcomeStyle(o.Verdict), pad(string(o.Verdict), 10)), 12, plain, o.Item.Address+": "+why)
		}
	}
	if r.Verdict == fit.Fits && r.Chosen != nil {
		s.blank()
		s.line(0, info, "fitcheck recover -device "+shell.Quote(r.Device.File)+" -watch "+shell.Quote(r.Chosen.Survey.Path)+" does it: it waits for the boot loader, and sends exactly this image.")
	}
}

// RecoveryBegins says what is about to be done.
func (s *Screen) RecoveryBegins(r Recovered, address string, port int) {
	verb := "sending"
	if r.Rule.Transfer.Direction.Text == "serve" {
		verb = "offering"
	}
	s.hanging(s.paint(info, "RECOVER")+"  ", 9, strong, fmt.Sprintf("%s: %s %s, %s, to %s, port %d", r.Device.Name.Text, verb, r.Chosen.Item.Address, Bytes(r.Chosen.Item.Size), address, port))
	for _, t := range []struct{ sign, text string }{{"waits", signText(r.Rule.Signs.PingTTL, r.Rule.Signs.Lamp.Text)}, {"not yet", signText(r.Rule.NotYet.PingTTL, r.Rule.NotYet.Lamp.Text)}} {
		if t.text != "" {
			s.line(9, plain, t.sign+": "+t.text)
		}
	}
	for _, in := range plan.Entering(r.Rule) {
		s.line(9, strong, upper(in.Text))
	}
}

func signText(ttl int, lamp string) string {
	var out []string
	if ttl > 0 {
		out = append(out, fmt.Sprintf("replies with a time to live of %d", ttl))
	}
	if lamp != "" {
		out = append(out, lamp)
	}
	return strings.Join(out, "; ")
}

// RecoveryEvent shows something that happened, as it happens.
func (s *Screen) RecoveryEvent(e rescue.Event) {
	st := map[rescue.Kind]style{rescue.Seen: plain, rescue.Begun: info, rescue.Failed: doubt, rescue.Sent: good, rescue.Back: good, rescue.Thrown: bad}[e.Kind]
	s.hanging(s.paint(faint, fmt.Sprintf("  %7.1fs  ", e.At.Seconds())), 12, st, e.Text)
}

// RecoveryEnds says how it went, and what comes next.
func (s *Screen) RecoveryEnds(r Recovered) {
	s.blank()
	word := map[fit.Outcome]string{fit.Fits: "BACK", fit.Misfit: "NOT BACK", fit.Unsettled: "SENT"}[r.Outcome]
	st := append(append(style{}, outcomeStyle(r.Outcome)...), strong...)
	s.hanging(s.paint(st, word)+"  ", len(word)+2, strong, r.Ended)
	switch r.Outcome {
	case fit.Fits:
		s.line(len(word)+2, plain, "capture what the console says, load the settings that were saved, and see: fitcheck device, fitcheck path")
	case fit.Unsettled:
		s.line(len(word)+2, plain, "look at the lamps and the console; keep the power on until you are sure that it no longer writes")
	default:
		s.line(len(word)+2, plain, "see that the cable is in the right port and the address is set, let the boot loader wait again, and begin anew")
	}
}

// StandInBegins says where the stand-in answers.
func (s *Screen) StandInBegins(name, echo, boot string) {
	s.hanging(s.paint(info, "STAND-IN")+"  ", 10, strong, fmt.Sprintf("%s answers echo requests on %s and takes images on %s", name, echo, boot))
}

// StandIn shows a state of the stand-in.
func (s *Screen) StandIn(state, text string) {
	s.hanging("  "+pad(state, 24), 26, plain, text)
}

type jsonRecovery struct {
	Fitcheck about              `json:"fitcheck"`
	Verdict  string             `json:"verdict"`
	Device   string             `json:"device"`
	Because  string             `json:"because"`
	Nothing  bool               `json:"nothing_left,omitempty"`
	Stored   []string           `json:"stored,omitempty"`
	Chosen   *jsonRecoveryItem  `json:"chosen,omitempty"`
	Others   []jsonRecoveryItem `json:"others,omitempty"`
	Steps    []jsonInstruction  `json:"steps"`
	Events   []jsonEvent        `json:"events,omitempty"`
	Outcome  string             `json:"outcome,omitempty"`
	Ended    string             `json:"ended,omitempty"`
}

type jsonRecoveryItem struct {
	Item      string      `json:"item"`
	Package   string      `json:"package"`
	Component string      `json:"component"`
	Version   string      `json:"version,omitempty"`
	Size      int64       `json:"size"`
	SHA256    string      `json:"sha256,omitempty"`
	Verdict   string      `json:"verdict"`
	Checks    []jsonCheck `json:"checks"`
}

type jsonEvent struct {
	Seconds float64 `json:"seconds"`
	Text    string  `json:"text"`
}

// RecoverJSON is the document of recover.
func RecoverJSON(r Recovered) any {
	out := jsonRecovery{Fitcheck: about{"recover", Edition}, Verdict: string(r.Verdict), Device: r.Device.Name.Text, Because: r.Why, Nothing: r.Nothing, Stored: r.Slots, Steps: []jsonInstruction{}, Outcome: string(r.Outcome), Ended: r.Ended}
	item := func(i plan.RecoveryImage) jsonRecoveryItem {
		return jsonRecoveryItem{i.Item.Address, i.Survey.Path, i.Component, i.Version, i.Item.Size, i.Item.Digests.Of("sha256"), string(i.Verdict), checksJSON(i.Checks)}
	}
	if r.Chosen != nil {
		one := item(*r.Chosen)
		out.Chosen = &one
	}
	for _, o := range r.Others {
		out.Others = append(out.Others, item(o))
	}
	for _, i := range r.Steps {
		out.Steps = append(out.Steps, jsonInstruction(i))
	}
	for _, e := range r.Events {
		out.Events = append(out.Events, jsonEvent{e.At.Seconds(), e.Text})
	}
	return out
}
