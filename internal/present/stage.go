package present

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"fitcheck/core/digest"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
	"fitcheck/core/shell"
	"fitcheck/core/wording"
	"fitcheck/internal/present/page"
)

// Refused is why nothing is done for a device.
type Refused struct {
	Device  string
	Outcome fit.Outcome
	Because []string
}

// Stage is what stage did, or why it did nothing.
type Stage struct {
	Into string
	// Asked is how the devices were named, Packages how the packages were.
	Asked    string
	Packages []string
	Targets  []*plan.Target
	Refused  []Refused
	Files    []plan.Serving
	Done     *plan.Staged
}

// RefusedPage tells why nothing is done.
func RefusedPage(all []Refused, what string, next ...string) *page.Page {
	worst := fit.Fits
	for _, r := range all {
		worst = fit.Worse(worst, r.Outcome)
	}
	p := &page.Page{Name: "Refused"}
	p.Add(page.Title{Word: strings.ToUpper(string(worst)), Tone: toneOf(worst), Text: "nothing is " + what})
	if len(all) > 0 {
		p.Add(page.Head{Text: "Why"}, refusals(all, false))
	}
	p.Add(whatNext(next)...)
	return p
}

// reasonsShown is how many reasons of a refusal are told at a glance.
const reasonsShown = 16

func refusals(all []Refused, named bool) page.List {
	several := named || slices.ContainsFunc(all, func(r Refused) bool { return r.Device != all[0].Device })
	l := page.List{Most: reasonsShown, Flag: page.Why}
	for _, r := range all {
		for _, t := range r.Because {
			it := page.Item{Marks: []page.Span{{Text: string(r.Outcome), Tone: toneOf(r.Outcome)}}, Text: t}
			if several {
				it.Marks = append(it.Marks, page.Span{Text: r.Device, Tone: page.Strong})
			}
			l.Items = append(l.Items, it)
		}
	}
	return l
}

// stagedShown is how many staged files are listed at a glance.
const stagedShown = 20

// headlinesShown is for how many devices the way of each is told.
const headlinesShown = 6

func refusedDevices(all []Refused) []string {
	var out []string
	for _, r := range all {
		if !slices.Contains(out, r.Device) {
			out = append(out, r.Device)
		}
	}
	return out
}

func targetNames(all []*plan.Target) []string {
	var out []string
	for _, t := range all {
		out = append(out, t.Device.Name.Text)
	}
	return out
}

// StagePage tells what lies where.
//
// In one piece: the blocks stand in the order in which they are read.
func StagePage(d Stage) *page.Page {
	if len(d.Refused) > 0 && d.Done == nil {
		next := []string{"see it in full: " + d.ask("match"), "see the way: " + d.ask("path")}
		if !slices.ContainsFunc(d.Refused, func(r Refused) bool { return r.Outcome == fit.Misfit }) {
			next = append(next, "what is only unsettled is staged with -even-if unsettled, where you answer for it")
		}
		if len(d.Packages) == 0 {
			next = next[1:]
		}
		return RefusedPage(d.Refused, "staged", next...)
	}
	p := &page.Page{Name: "Staged files"}
	if len(d.Files) == 0 {
		p.Add(page.Title{Word: "STAGED", Tone: page.Good, Text: "nothing needs to be: the devices run it already"})
		return p
	}
	t := page.Title{Word: "STAGED", Tone: page.Good, Text: fmt.Sprintf("%s in %s", wording.Count(len(d.Files), "file"), d.Into)}
	if len(d.Done.Written) == 0 {
		t.Text += ", all there already, as they should be"
	} else if d.Done.There > 0 {
		t.Text += fmt.Sprintf("; %d were there already", d.Done.There)
	}
	say := func(tone page.Tone, text string) { t.About = append(t.About, page.Item{Text: text, Tone: tone}) }
	if len(d.Refused) > 0 {
		t.Tone = page.Bad
		t.Text += fmt.Sprintf("; for %s nothing is staged, below", strings.Join(few(refusedDevices(d.Refused)), ", "))
	}
	if n := len(d.Targets); n > headlinesShown {
		say(page.Plain, fmt.Sprintf("for %d devices: %s", n, strings.Join(few(targetNames(d.Targets)), ", ")))
	}
	for _, x := range d.Targets[:min(len(d.Targets), headlinesShown)] {
		if len(d.Targets) > headlinesShown {
			break
		}
		for _, a := range x.Result.Plans {
			say(page.Plain, PathAnswer{Answer: a}.headline())
		}
		for _, text := range x.FromKit() {
			say(page.Info, text)
		}
		for i, v := range x.Verdicts {
			if v != nil && v.Outcome != fit.Fits {
				say(page.Doubt, fmt.Sprintf("hop %d is %s, and staged all the same, as you asked", i+1, v.Outcome))
			}
		}
	}
	for _, name := range d.Done.Removed {
		say(page.Info, "removed, from an earlier run: "+name)
	}
	files := page.Table{Columns: []page.Column{{Title: "file", Fitting: page.CutFront}, {Title: "size", Right: true}, {Title: "for", Fitting: page.Wrap}, {Title: "sha256"}}, Most: stagedShown, Flag: page.Why, Noun: "files"}
	for _, f := range d.Files {
		sum := f.Digests.Of(digest.SHA256)
		files.Rows = append(files.Rows, []page.Span{{Text: f.Name}, {Text: Bytes(f.Size)}, {Text: uses(f)}, {Text: sum[:min(16, len(sum))] + "…", Tone: page.Faint}})
	}
	p.Add(t, files, page.Gap{}, page.Line{Tone: page.Info, Text: fmt.Sprintf("The digests are in %s, the evidence in %s. Each file was read again after it was written.", path.Join(d.Into, plan.SumsName), path.Join(d.Into, plan.RecordName))})
	if len(d.Targets) == 1 && len(d.Targets[0].Result.Plans) == 1 {
		p.Add(whatNext([]string{"write the steps down: " + d.ask("runbook")})...)
	}
	if len(d.Refused) > 0 {
		p.Add(page.Head{Text: "Not staged"}, refusals(d.Refused, true))
	}
	return p
}

// ask is a command about the same device and release.
func (d Stage) ask(command string) string {
	out := "fitcheck " + command
	if len(d.Targets) != 1 {
		for _, t := range d.Targets {
			out += " -device " + shell.Quote(t.Name)
		}
		return out
	}
	out += " -device " + shell.Quote(d.Targets[0].Name)
	switch {
	case command == "match":
		for _, p := range d.Packages {
			out += " " + shell.Quote(p)
		}
	case len(d.Packages) > 0 && command == "runbook":
		for _, p := range d.Packages {
			out += " " + shell.Quote(p)
		}
	default:
		for _, a := range d.Targets[0].Result.Plans {
			return out + " " + a.Asked()
		}
		return out + " -to latest"
	}
	return out
}

// uses says what a file is for.
func uses(f plan.Serving) string {
	var out []string
	for _, u := range f.For {
		name := u.Device
		if u.Member != u.Device {
			name = u.Member
		}
		t := fmt.Sprintf("%s: %s of %s, hop %d", name, u.Component, u.Release, u.Hop)
		if u.Component == "" {
			t = fmt.Sprintf("%s: asked for with %s, hop %d", name, u.Release, u.Hop)
		}
		if u.Slot != "" {
			t += ", slot " + u.Slot
		}
		out = append(out, t)
	}
	return strings.Join(out, "; ")
}

type jsonStage struct {
	Fitcheck about         `json:"fitcheck"`
	Into     string        `json:"into"`
	Staged   bool          `json:"staged"`
	Refused  []jsonRefused `json:"refused"`
	Files    []jsonServing `json:"files"`
	Written  []string      `json:"written"`
	Removed  []string      `json:"removed,omitempty"`
}

type jsonRefused struct {
	Device  string   `json:"device,omitempty"`
	Outcome string   `json:"outcome"`
	Because []string `json:"because"`
}

type jsonServing struct {
	Path    string            `json:"path"`
	Size    int64             `json:"size"`
	SHA256  string            `json:"sha256"`
	Digests map[string]string `json:"digests,omitempty"`
	Source  string            `json:"source"`
	Whole   bool              `json:"whole,omitempty"`
	// Fetchers is how many fetch it by themselves.
	Fetchers int       `json:"fetchers,omitempty"`
	For      []jsonUse `json:"for"`
}

type jsonUse struct {
	Device    string `json:"device"`
	Member    string `json:"member,omitempty"`
	Component string `json:"component"`
	Release   string `json:"release"`
	Slot      string `json:"slot,omitempty"`
	Hop       int    `json:"hop"`
}

func init() {
	form(func() any { return StageJSON(Stage{}) })
	form(func() any { return StagedRecord(nil, nil) })
}

// StageJSON is the document of stage.
func StageJSON(d Stage) any {
	out := jsonStage{Fitcheck: about{"stage", Edition}, Into: d.Into, Staged: d.Done != nil, Refused: []jsonRefused{}, Files: servingJSON(d.Files), Written: []string{}}
	for _, r := range d.Refused {
		out.Refused = append(out.Refused, jsonRefused{r.Device, string(r.Outcome), r.Because})
	}
	if d.Done != nil {
		out.Written, out.Removed = append(out.Written, d.Done.Written...), d.Done.Removed
	}
	return out
}

func servingJSON(files []plan.Serving) []jsonServing {
	out := []jsonServing{}
	for _, f := range files {
		j := jsonServing{Path: f.Name, Size: f.Size, SHA256: f.Digests.Of(digest.SHA256), Source: f.Address, Whole: f.Whole, For: []jsonUse{}}
		for _, u := range f.For {
			use := jsonUse{u.Device, u.Member, u.Component, u.Release, u.Slot, u.Hop}
			if u.Member == u.Device {
				use.Member = ""
			}
			j.For = append(j.For, use)
		}
		out = append(out, j)
	}
	return out
}

type jsonRecord struct {
	Fitcheck about           `json:"fitcheck"`
	Devices  []jsonRecordFor `json:"devices"`
	Files    []jsonServing   `json:"files"`
}

// jsonFetch is who fetches for a device.
type jsonFetch struct {
	By      string `json:"by"`
	Address string `json:"address,omitempty"`
	Wait    int    `json:"wait_seconds,omitempty"`
}

type jsonRecordFor struct {
	Device   string      `json:"device"`
	File     string      `json:"device_file"`
	Fetch    jsonFetch   `json:"fetch"`
	Plans    []jsonPath  `json:"plans"`
	Verdicts []jsonMatch `json:"verdicts"`
}

// StagedRecord is what lies beside the files: what they are for, and on which
// evidence. It holds no time, so that a second run makes the same.
func StagedRecord(targets []*plan.Target, files []plan.Serving) any {
	out := jsonRecord{Fitcheck: about{"staged", Edition}, Devices: []jsonRecordFor{}, Files: servingJSON(files)}
	for i, f := range files {
		out.Files[i].Fetchers = plan.Fetchers(targets, f)
	}
	for _, t := range targets {
		by := t.Fetcher()
		r := jsonRecordFor{Device: t.Device.Name.Text, File: t.Device.File, Fetch: jsonFetch{by.By, by.Address, int(by.Wait.Seconds())}, Plans: []jsonPath{}, Verdicts: []jsonMatch{}}
		at := 0
		for _, a := range t.Result.Plans {
			n := len(t.HopsOf(a))
			p := PathAnswer{Answer: a, Steps: t.Steps[at : at+n]}
			at += n
			r.Plans = append(r.Plans, planJSON(p))
		}
		for _, v := range t.Verdicts {
			if v != nil {
				r.Verdicts = append(r.Verdicts, matchJSON(v, nil, ""))
			}
		}
		out.Devices = append(out.Devices, r)
	}
	return out
}
