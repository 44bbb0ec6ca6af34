package present

import (
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/rescue"
	"fitcheck/core/shell"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Recovered is what recover tells.
type Recovered struct {
	*plan.Recovery
	Events  []rescue.Event // of -watch
	Outcome fit.Outcome    // of -watch; "" without
	Ended   string
	// Host says whether this computer is in the boot loader's network, and HostFits that it is;
	// "" where the rulebook gives none.
	Host     string
	HostFits bool
}

// RecoveryPage tells which image, why, and the steps.
//
// In one piece: the blocks stand in the order in which they are read.
func RecoveryPage(r Recovered, e Evidence) *page.Page {
	word := map[fit.Outcome]string{fit.Fits: "RECOVER", fit.Misfit: "REFUSED", fit.Unsettled: "UNSETTLED"}[r.Verdict]
	if r.Nothing {
		word = "NOTHING LEFT"
	}
	t := page.Title{Word: word, Tone: toneOf(r.Verdict), Text: fmt.Sprintf("%s: %s", r.Device.Name.Text, r.Why)}
	if r.Device.State.Text == "" {
		t.About = append(t.About, page.Item{Tone: page.Info, Text: r.Device.File + " does not say its state; this is for one that does not start (state: boot-loader, or silent)"})
	}
	if r.Host != "" {
		tone := page.Info
		if !r.HostFits {
			tone = page.Doubt
		}
		t.About = append(t.About, page.Item{Tone: tone, Text: r.Host})
	}
	p := &page.Page{Name: "Recovery of " + r.Device.Name.Text}
	p.Add(t)
	last := ""
	var rest page.List
	if i := r.Chosen; i != nil {
		of := &fit.Verdict{Package: i.Survey.Name, Outcome: r.Verdict}
		shown := map[string]bool{}
		open := page.List{Full: maxOpen, Most: maxReasons, Flag: page.Why}
		var advice []string
		var fits []string
		for _, c := range i.Checks {
			switch c.Outcome {
			case fit.Misfit, fit.Unsettled:
				open.Items = append(open.Items, e.check(of, memberCheck{Check: c}, shown))
				if c.Advice != "" {
					advice = append(advice, c.Advice)
				}
				continue
			case fit.Fits:
				if !slices.Contains(fits, c.Check) {
					fits = append(fits, c.Check)
				}
			}
			rest.Items = append(rest.Items, e.check(of, memberCheck{Check: c}, shown))
		}
		if len(open.Items) > 0 {
			p.Add(page.Head{Text: "What is against it"}, open)
		}
		if len(fits) > 0 && r.Verdict == fit.Fits {
			p.Add(page.List{Items: []page.Item{{Marks: []page.Span{{Text: "ok", Tone: page.Good}}, Text: strings.Join(fits, ", ")}}})
		}
		if r.Verdict != fit.Fits {
			p.Add(whatNext(advice)...)
		}
		last = wording.Count(len(rest.Items), "check") + " behind it; -why shows every source"
	}
	if r.Verdict == fit.Fits && r.Chosen != nil {
		p.Add(page.Gap{}, page.Line{Tone: page.Info, Text: "fitcheck recover -device " + shell.Quote(r.Device.File) + " -watch " + shell.Quote(r.Chosen.Survey.Path) + " does it: it waits for the boot loader, and sends exactly this image."})
	}
	if len(r.Steps) > 0 {
		p.Add(page.Head{Text: "What to do, in this order"}, instructions(r.Steps, 0, false))
	}
	if len(r.Others) > 0 {
		l := page.List{Most: 3, Flag: page.Why}
		for _, o := range r.Others {
			why := "it may be sent as well"
			for _, c := range o.Checks {
				if c.Outcome == o.Verdict && o.Verdict != fit.Fits {
					why = c.Check + ": " + c.Because
					break
				}
			}
			l.Items = append(l.Items, page.Item{Marks: []page.Span{{Text: string(o.Verdict), Tone: toneOf(o.Verdict)}}, Text: o.Item.Address + ": " + why})
		}
		p.Add(page.Head{Text: "Other images"}, l)
	}
	if last != "" {
		p.Add(page.Gap{}, page.Fold{Line: last, Title: "What was checked", Flag: page.Why, Inside: func() []page.Block { return []page.Block{rest} }})
	}
	return p
}

// instructions are steps for a person, numbered from one on.
func instructions(steps []plan.Instruction, from int, tick bool) page.List {
	l := page.List{Numbered: true, From: from, Tick: tick}
	for _, i := range steps {
		it := page.Item{Text: upper(i.Text)}
		if i.Warn {
			it.Tone = page.Strong
		}
		for _, c := range i.Commands {
			it.Under = append(it.Under, page.Item{Marks: []page.Span{{Text: ">", Tone: page.Faint}}, Text: c, Tone: page.Code})
		}
		for _, t := range i.See {
			it.Under = append(it.Under, page.Item{Marks: []page.Span{{Text: "see:", Tone: page.Faint}}, Text: t})
		}
		if i.Back != "" {
			it.Under = append(it.Under, page.Item{Marks: []page.Span{{Text: "if not:", Tone: page.Faint}}, Text: i.Back, Tone: page.Faint})
		}
		l.Items = append(l.Items, it)
	}
	return l
}

// RecoveryBegins says what is about to be done.
func RecoveryBegins(r Recovered, address string, port int) *page.Page {
	verb := "sending"
	if r.Rule.Transfer.Direction.Text == "serve" {
		verb = "offering"
	}
	t := page.Title{Word: "RECOVER", Tone: page.Info, Text: fmt.Sprintf("%s: %s %s, %s, to %s, port %d", r.Device.Name.Text, verb, r.Chosen.Item.Address, Bytes(r.Chosen.Item.Size), address, port)}
	for _, x := range []struct{ sign, text string }{{"waits", signText(r.Rule.Signs.PingTTL, r.Rule.Signs.Lamp.Text)}, {"not yet", signText(r.Rule.NotYet.PingTTL, r.Rule.NotYet.Lamp.Text)}} {
		if x.text != "" {
			t.About = append(t.About, page.Item{Text: x.sign + ": " + x.text})
		}
	}
	for _, in := range plan.Entering(r.Rule) {
		t.About = append(t.About, page.Item{Text: upper(in.Text), Tone: page.Strong})
	}
	return &page.Page{Blocks: []page.Block{t}}
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

// RecoveryEvent is something that happened, as it happens.
func RecoveryEvent(e rescue.Event) *page.Page {
	tone := map[rescue.Kind]page.Tone{rescue.Begun: page.Info, rescue.Failed: page.Doubt, rescue.Sent: page.Good, rescue.Back: page.Good, rescue.Thrown: page.Bad}[e.Kind]
	return event(fmt.Sprintf("%7.1fs", e.At.Seconds()), e.Text, tone)
}

// event is a line of what goes on.
func event(mark, text string, tone page.Tone) *page.Page {
	return &page.Page{Document: true, Blocks: []page.Block{page.List{Items: []page.Item{{Marks: []page.Span{{Text: mark, Tone: page.Faint}}, Text: text, Tone: tone}}}}}
}

// RecoveryEnds says how it went, and what comes next.
func RecoveryEnds(r Recovered) *page.Page {
	t := page.Title{Word: map[fit.Outcome]string{fit.Fits: "BACK", fit.Misfit: "NOT BACK", fit.Unsettled: "SENT"}[r.Outcome], Tone: toneOf(r.Outcome), Text: r.Ended}
	switch r.Outcome {
	case fit.Fits:
		t.About = []page.Item{{Text: "capture what the console says, load the settings that were saved, and see: fitcheck device, fitcheck path"}}
	case fit.Unsettled:
		t.About = []page.Item{{Text: "look at the lamps and the console; keep the power on until you are sure that it no longer writes"}}
	default:
		t.About = []page.Item{{Text: "see that the cable is in the right port and the address is set, let the boot loader wait again, and begin anew"}}
	}
	return &page.Page{Document: true, Blocks: []page.Block{page.Gap{}, t}}
}

// StandInBegins says where the stand-in answers.
func StandInBegins(name, echo, boot string) *page.Page {
	return &page.Page{Document: true, Blocks: []page.Block{page.Title{Word: "STAND-IN", Tone: page.Info, Text: fmt.Sprintf("%s answers echo requests on %s and takes images on %s", name, echo, boot)}}}
}

// StandIn is a state of the stand-in.
func StandIn(state, text string) *page.Page {
	return event(fmt.Sprintf("%-24s", state), text, page.Plain)
}

func init() {
	form(func() any { return jsonRecovery{Fitcheck: about{"recover", Edition}} })
	form(func() any { return StandInJSON("", "") })
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
		out.Steps = append(out.Steps, instructionJSON(i))
	}
	for _, e := range r.Events {
		out.Events = append(out.Events, jsonEvent{e.At.Seconds(), e.Text})
	}
	return out
}

// StandInConsole says where the console of a stand-in is.
func StandInConsole(name, at string) *page.Page {
	return &page.Page{Document: true, Blocks: []page.Block{page.Title{Word: "STAND-IN", Tone: page.Info, Text: fmt.Sprintf("%s runs, and its console is at %s", name, at)}}}
}

// StandInJSON is one line of what a stand-in tells.
func StandInJSON(event, text string) any {
	return struct {
		Fitcheck about  `json:"fitcheck"`
		Event    string `json:"event"`
		Text     string `json:"text"`
	}{about{"stand-in", Edition}, event, text}
}
