package present

import (
	"time"

	"fitcheck/core/digest"
	"fitcheck/core/fit"
)

// jsonMatch is a verdict.
type jsonMatch struct {
	Verdict string       `json:"verdict"`
	Device  string       `json:"device"`
	Group   string       `json:"group,omitempty"`
	Package string       `json:"package"`
	Path    string       `json:"path"`
	Release string       `json:"release,omitempty"`
	Members []jsonMember `json:"members"`
	Checks  []jsonCheck  `json:"checks"`
	Weakest *jsonProof   `json:"weakest_proof,omitempty"`
	Notes   []string     `json:"notes,omitempty"`
	Next    []string     `json:"next,omitempty"`
	Instead string       `json:"instead,omitempty"`
	// when, where that was not just now
	InsteadLooked string `json:"instead_looked,omitempty"`
	// Like is the device whose results hold for this one, too: it is like it in all that they
	// rest on, and of very many only the best package is named.
	Like string `json:"like,omitempty"`
}

type jsonSource struct {
	Side   string `json:"side"`
	Value  string `json:"value"`
	Source string `json:"source"`
	Where  string `json:"where"`
}
type jsonCheck struct {
	Check     string       `json:"check"`
	Component string       `json:"component,omitempty"`
	Code      string       `json:"code"`
	Outcome   string       `json:"outcome"`
	Device    string       `json:"device"`
	Package   string       `json:"package"`
	Because   string       `json:"because"`
	Sources   []jsonSource `json:"sources"`
	Advice    string       `json:"advice,omitempty"`
}
type jsonChosen struct {
	Component string `json:"component"`
	Item      string `json:"item"`
	Config    string `json:"configuration,omitempty"`
	Version   string `json:"version,omitempty"`
	Slot      string `json:"slot,omitempty"`
	// Coverage cuts the image into stretches, each with what proves it.
	Coverage []jsonCover `json:"coverage,omitempty"`
}

// jsonCover is a stretch of an image and what proves it.
type jsonCover struct {
	From  int64  `json:"from"`
	To    int64  `json:"to"`
	By    string `json:"by"`
	Of    string `json:"of,omitempty"`
	Holds bool   `json:"holds"`
}

// jsonProof is the weakest proof that a verdict rests on.
type jsonProof struct {
	By    string `json:"by"`
	Of    string `json:"of,omitempty"`
	Item  string `json:"item"`
	From  int64  `json:"from"`
	To    int64  `json:"to"`
	Holds bool   `json:"holds"`
}

// maxCovers is how many stretches of one image a document lists.
const maxCovers = 1000

func coverageJSON(all []digest.Cover) (out []jsonCover) {
	for _, c := range all[:min(len(all), maxCovers)] {
		out = append(out, jsonCover{c.From, c.To, c.By.String(), c.Of, c.Holds})
	}
	return out
}

type jsonOther struct {
	Component string `json:"component"`
	Item      string `json:"item"`
	Because   string `json:"because"`
}
type jsonMember struct {
	Name    string       `json:"name"`
	Verdict string       `json:"verdict"`
	About   string       `json:"about"`
	Chosen  []jsonChosen `json:"chosen"`
	Checks  []jsonCheck  `json:"checks"`
	Others  []jsonOther  `json:"others,omitempty"`
}

func checksJSON(all []fit.Check) []jsonCheck {
	out := []jsonCheck{}
	for _, c := range all {
		j := jsonCheck{c.Check, c.Component, c.Code, string(c.Outcome), c.Device, c.Package, c.Because, []jsonSource{}, c.Advice}
		for _, x := range c.Sources {
			j.Sources = append(j.Sources, jsonSource{x.Side, x.Value, string(x.Source.Kind), x.Source.Where()})
		}
		out = append(out, j)
	}
	return out
}

func matchJSON(v *fit.Verdict, instead *Instead, device string) jsonMatch {
	doc := jsonMatch{string(v.Outcome), v.Device, v.Group, v.Package, v.Path, v.Release, []jsonMember{}, checksJSON(v.Checks), nil, v.Notes, Advice(v, instead, device), "", "", ""}
	if w := v.Weakest; w != nil {
		doc.Weakest = &jsonProof{w.By.String(), w.Of, w.Item, w.From, w.To, w.Holds}
	}
	if instead != nil {
		doc.Instead = instead.Path
		if !instead.Looked.IsZero() {
			doc.InsteadLooked = instead.Looked.Format(time.RFC3339)
		}
	}
	for _, m := range v.Members {
		jm := jsonMember{Name: m.Name, About: m.About, Verdict: string(m.Verdict), Chosen: []jsonChosen{}, Checks: checksJSON(m.Checks)}
		for _, c := range m.Chosen {
			jm.Chosen = append(jm.Chosen, jsonChosen{c.Component, c.Item, c.Config, c.Version, c.Slot, coverageJSON(c.Coverage)})
		}
		for _, o := range m.Others {
			jm.Others = append(jm.Others, jsonOther(o))
		}
		doc.Members = append(doc.Members, jm)
	}
	return doc
}

// RefusedPackage is one of several that could not be read.
type RefusedPackage struct {
	Package string `json:"package"`
	Because string `json:"because"`
}

// manyResults is from how many verdicts on each is written on one line.
const manyResults = 200

func init() {
	form(func() any { return AnswersJSON(nil, nil) })
}

// AnswersJSON is the document "match": the verdicts, by device and the best first, and
// the verdict on the device that comes off worst with its best package.
func AnswersJSON(all []Answer, refused []RefusedPackage) any {
	worst := fit.Fits
	var at []func() jsonMatch
	for _, a := range all {
		worst = fit.Worse(worst, a.Verdicts[0].Outcome)
		if a.Shared {
			at = append(at, a.likeJSON)
			continue
		}
		for i, v := range a.Verdicts {
			instead := a.Instead
			if i > 0 {
				instead = nil
			}
			at = append(at, func() jsonMatch { return matchJSON(v, instead, a.named()) })
		}
	}
	doc := resultsJSON("match", string(worst), []jsonMatch{})
	doc.Refused = refused
	if len(at) > manyResults {
		return &itemStream{doc: doc, list: "results", of: jsonMatch{}, n: len(at), at: func(i int) any { return at[i]() }, line: true}
	}
	for _, one := range at {
		doc.Results = append(doc.Results, one())
	}
	return doc
}

// likeJSON is the result of a device that is like another: which, and the best package.
func (a Answer) likeJSON() jsonMatch {
	v := a.Verdicts[0]
	return jsonMatch{Verdict: string(v.Outcome), Device: a.Name(), Group: v.Group, Package: v.Package, Path: v.Path, Release: v.Release, Members: []jsonMember{}, Checks: []jsonCheck{}, Like: a.Like.Name.Text}
}
