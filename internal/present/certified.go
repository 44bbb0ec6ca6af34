package present

import (
	"fmt"
	"strings"

	"fitcheck/core/certified"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/shell"
	"fitcheck/internal/present/page"
)

// Devices against a certified set.

var certifiedTone = map[certified.State]page.Tone{certified.On: page.Good, certified.Below: page.Bad, certified.Beyond: page.Bad, certified.Unknown: page.Doubt}

var certifiedVerdict = map[certified.State]fit.Outcome{certified.On: fit.Fits, certified.Below: fit.Misfit, certified.Beyond: fit.Misfit, certified.Unknown: fit.Unsettled}

// CertifiedVerdict is the verdict on all of them: that of the worst.
func CertifiedVerdict(all []*certified.Result) fit.Outcome {
	worst := fit.Fits
	for _, r := range all {
		worst = fit.Worse(worst, certifiedVerdict[r.State])
	}
	return worst
}

// maxCertifiedRows is how many components a screen lists before it asks for -why.
const maxCertifiedRows = 24

// CertifiedPage tells how devices stand to a set, and what it takes.
//
// In one piece: the blocks stand in the order in which they are read.
func CertifiedPage(all []*certified.Result) *page.Page {
	p := &page.Page{Name: "Certified set " + all[0].Set.Name}
	counts := map[certified.State]int{}
	for _, r := range all {
		counts[r.State]++
	}
	var parts []string
	for _, s := range []certified.State{certified.Below, certified.Beyond, certified.Unknown, certified.On} {
		if n := counts[s]; n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, map[certified.State]string{certified.On: "on it", certified.Below: "below it", certified.Beyond: "beyond it", certified.Unknown: "not known"}[s]))
		}
	}
	worst := CertifiedVerdict(all)
	word := map[fit.Outcome]string{fit.Fits: "ON IT", fit.Misfit: "NOT ON IT", fit.Unsettled: "UNSETTLED"}[worst]
	tone := map[fit.Outcome]page.Tone{fit.Fits: page.Good, fit.Misfit: page.Bad, fit.Unsettled: page.Doubt}[worst]
	if len(all) == 1 {
		parts = []string{all[0].Device.Name.Text}
	}
	p.Add(page.Title{Word: word, Tone: tone, Text: fmt.Sprintf("the certified set %s: %s", all[0].Set.Name, strings.Join(parts, ", "))})
	t := page.Table{Columns: []page.Column{{Title: "device"}, {Title: "member"}, {Title: "model"}, {Title: "component"}, {Title: "runs", Fitting: page.Cut}, {Title: "certified", Fitting: page.Cut}, {Title: "it is"}, {Title: "certified by", Fitting: page.Cut}}, Most: maxCertifiedRows, Flag: page.Why, Noun: "component"}
	var open []page.Item
	for _, pass := range []certified.State{certified.Below, certified.Beyond, certified.Unknown, certified.On} {
		for _, r := range all {
			if r.State != pass {
				continue
			}
			for _, m := range r.Members {
				member := ""
				if len(r.Members) > 1 {
					member = m.Name
				}
				if m.Problem != "" {
					open = append(open, page.Item{Text: r.Device.Name.Text + ": " + m.Problem, Tone: page.Doubt})
				}
				for _, c := range m.Components {
					by := c.Wanted.Source.Where()
					t.Rows = append(t.Rows, []page.Span{{Text: r.Device.Name.Text, Tone: page.Strong}, {Text: member}, {Text: m.Model}, {Text: c.Name}, {Text: c.Installed.Text()}, {Text: c.Wanted.Text}, {Text: string(c.State), Tone: certifiedTone[c.State]}, {Text: by}})
					if c.Why != "" {
						open = append(open, page.Item{Text: m.Name + ": " + c.Why, Tone: page.Doubt})
					}
				}
			}
		}
	}
	if len(t.Rows) > 0 {
		p.Add(t)
	}
	if len(open) > 0 {
		p.Add(page.Head{Text: "not known"}, page.List{Items: open, Most: 6, Flag: page.Why})
	}
	var takes []page.Item
	for _, r := range all {
		if r.Takes != nil {
			takes = append(takes, page.Item{Text: r.Device.Name.Text + ": " + wayOf(r)})
		}
	}
	if len(takes) > 0 {
		p.Add(page.Head{Text: "what it takes"}, page.List{Items: takes, Most: 12, Flag: page.Why})
	}
	return p
}

// wayOf says in one line what brings a device to the set.
func wayOf(r *certified.Result) string {
	var hops, why []string
	for _, a := range r.Takes.Plans {
		who := ""
		if len(r.Takes.Plans) > 1 {
			who = a.Name + " "
		}
		for _, h := range a.Hops {
			text := h.Release
			if h.BootOnly {
				text = "the boot loader of " + text
			}
			hops = append(hops, who+text)
		}
		switch {
		case a.Found:
		case len(a.Unsettled) > 0:
			why = append(why, a.Unsettled[0])
		case len(a.Blocked) > 0:
			why = append(why, "no way there: "+a.Blocked[0].Release+": "+a.Blocked[0].Because)
		default:
			why = append(why, "no way there")
		}
	}
	ask := "fitcheck path -device " + shell.Quote(r.Device.Name.Text) + " -to " + shell.Quote("certified:"+r.Set.Name)
	if len(why) > 0 {
		return strings.Join(why, "; ") + " (" + ask + ")"
	}
	return strings.Join(hops, ", then ") + " (" + ask + ")"
}

type jsonCertifiedComponent struct {
	Component string `json:"component"`
	Installed string `json:"installed,omitempty"`
	Certified string `json:"certified"`
	State     string `json:"state"`
	Source    string `json:"source"`
	Where     string `json:"where"`
	Document  string `json:"document,omitempty"`
	Because   string `json:"because,omitempty"`
}

type jsonCertifiedMember struct {
	Name       string                   `json:"name"`
	Model      string                   `json:"model,omitempty"`
	State      string                   `json:"state"`
	Because    string                   `json:"because,omitempty"`
	Components []jsonCertifiedComponent `json:"components"`
}

type jsonCertified struct {
	Device    string                `json:"device"`
	Certified string                `json:"certified"`
	Verdict   string                `json:"verdict"`
	State     string                `json:"state"`
	Members   []jsonCertifiedMember `json:"members"`
	Takes     []jsonPath            `json:"takes,omitempty"`
}

func init() {
	form(func() any { return CertifiedJSON(nil) })
}

// CertifiedJSON is the document "match" of devices against a certified set.
func CertifiedJSON(all []*certified.Result) any {
	results := []jsonCertified{}
	for _, r := range all {
		one := jsonCertified{Device: r.Device.Name.Text, Certified: r.Set.Name, Verdict: string(certifiedVerdict[r.State]), State: string(r.State), Members: []jsonCertifiedMember{}}
		for _, m := range r.Members {
			jm := jsonCertifiedMember{Name: m.Name, Model: m.Model, State: string(m.State), Because: m.Problem, Components: []jsonCertifiedComponent{}}
			for _, c := range m.Components {
				jm.Components = append(jm.Components, jsonCertifiedComponent{c.Name, c.Installed.First(), c.Wanted.Text, string(c.State), string(c.Wanted.Source.Kind), c.Wanted.Source.Where(), c.Wanted.Document, c.Why})
			}
			one.Members = append(one.Members, jm)
		}
		if r.Takes != nil {
			for _, a := range r.Takes.Plans {
				var steps []plan.Step
				for _, h := range a.Hops {
					steps = append(steps, plan.Step{Hop: h})
				}
				way := planJSON(PathAnswer{Answer: a, Steps: steps})
				for i := range way.Hops {
					way.Hops[i].Package = "" // nobody looked
				}
				one.Takes = append(one.Takes, way)
			}
		}
		results = append(results, one)
	}
	return resultsJSON("match", string(CertifiedVerdict(all)), results)
}
