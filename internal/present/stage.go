package present

import (
	"fmt"
	"path"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"fitcheck/core/digest"
	"fitcheck/core/fit"
	"fitcheck/core/plan"
)

// Refused is why nothing is done for a device.
type Refused struct {
	Device  string
	Outcome fit.Outcome
	Because []string
}

// Stage is what stage did, or why it did nothing.
type Stage struct {
	Into    string
	Targets []*plan.Target
	Refused []Refused
	Files   []plan.Serving
	Done    *plan.Staged
}

// refused shows why nothing is done.
func (s *Screen) refused(all []Refused, what string) {
	worst := fit.Fits
	for _, r := range all {
		worst = fit.Worse(worst, r.Outcome)
	}
	word := strings.ToUpper(string(worst))
	s.hanging(s.paint(outcomeStyle(worst), word)+"  ", len(word)+2, strong, "nothing is "+what)
	of := ""
	for _, r := range all {
		if r.Device != "" && r.Device != of {
			s.head("Why, for " + r.Device)
			of = r.Device
		}
		for i, t := range r.Because {
			if i == 12 {
				s.line(2, faint, fmt.Sprintf("and %d more", len(r.Because)-i))
				break
			}
			s.hanging("  "+s.paint(outcomeStyle(r.Outcome), pad(string(r.Outcome), 10)), 12, plain, t)
		}
	}
}

// Refused shows why nothing is done.
func (s *Screen) Refused(all []Refused, what string) { s.refused(all, what) }

// Staged shows what lies where.
func (s *Screen) Staged(d Stage) {
	if len(d.Refused) > 0 {
		s.refused(d.Refused, "staged")
		s.head("What to do next")
		s.line(2, plain, "fitcheck match and fitcheck path tell more; what is only unsettled is staged with -even-if unsettled")
		return
	}
	if len(d.Files) == 0 {
		s.hanging(s.paint(good, "STAGED")+"  ", 8, strong, "nothing needs to be: the devices run it already")
		return
	}
	head := fmt.Sprintf("%s in %s", count2(len(d.Files), "file"), d.Into)
	if len(d.Done.Written) == 0 {
		head += ", all there already, as they should be"
	} else if d.Done.There > 0 {
		head += fmt.Sprintf("; %d were there already", d.Done.There)
	}
	s.hanging(s.paint(good, "STAGED")+"  ", 8, strong, head)
	for _, t := range d.Targets {
		for _, a := range t.Result.Plans {
			s.line(8, plain, PathAnswer{Answer: a}.headline())
		}
		for _, text := range t.FromKit() {
			s.line(8, info, text)
		}
		for i, v := range t.Verdicts {
			if v != nil && v.Verdict != fit.Fits {
				s.line(8, doubt, fmt.Sprintf("hop %d is %s, and staged all the same, as you asked", i+1, v.Verdict))
			}
		}
	}
	for _, name := range d.Done.Removed {
		s.line(8, info, "removed, from an earlier run: "+name)
	}
	s.blank()
	var rows []table.Row
	for _, f := range d.Files {
		rows = append(rows, table.Row{Safe(f.Name), Bytes(f.Size), Safe(uses(f)), f.Digests.Of(digest.SHA256)[:16] + "…"})
	}
	s.table(table.Row{"file", "size", "for", "sha256"}, rows, nil)
	s.blank()
	s.line(0, info, fmt.Sprintf("The digests are in %s, the evidence in %s. Each file was read again after it was written.", path.Join(d.Into, plan.SumsName), path.Join(d.Into, plan.RecordName)))
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
	For     []jsonUse         `json:"for"`
}

type jsonUse struct {
	Device    string `json:"device"`
	Member    string `json:"member,omitempty"`
	Component string `json:"component"`
	Release   string `json:"release"`
	Slot      string `json:"slot,omitempty"`
	Hop       int    `json:"hop"`
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

type jsonRecordFor struct {
	Device   string      `json:"device"`
	File     string      `json:"device_file"`
	Plans    []jsonPath  `json:"plans"`
	Verdicts []jsonMatch `json:"verdicts"`
}

// StagedRecord is what lies beside the files: what they are for, and on which
// evidence. It holds no time, so that a second run makes the same.
func StagedRecord(targets []*plan.Target, files []plan.Serving) any {
	out := jsonRecord{Fitcheck: about{"staged", Edition}, Devices: []jsonRecordFor{}, Files: servingJSON(files)}
	for _, t := range targets {
		r := jsonRecordFor{Device: t.Device.Name.Text, File: t.Device.File, Plans: []jsonPath{}, Verdicts: []jsonMatch{}}
		at := 0
		for _, a := range t.Result.Plans {
			n := len(t.HopsOf(a))
			p := PathAnswer{Answer: a, Steps: t.Steps[at : at+n]}
			at += n
			r.Plans = append(r.Plans, planJSON(p))
		}
		for _, v := range t.Verdicts {
			if v != nil {
				r.Verdicts = append(r.Verdicts, matchJSON(v, nil))
			}
		}
		out.Devices = append(out.Devices, r)
	}
	return out
}
