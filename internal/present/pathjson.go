package present

import (
	"strings"

	"fitcheck/core/path"
	"fitcheck/core/plan"
	"fitcheck/core/rulebook"
)

type jsonPath struct {
	Device    string          `json:"device"`
	From      string          `json:"from"`
	To        string          `json:"to"`
	Family    string          `json:"family,omitempty"`
	Found     bool            `json:"found"`
	Unsettled []string        `json:"unsettled"`
	Hops      []jsonHop       `json:"hops"`
	Minutes   jsonMinutes     `json:"minutes"`
	Resets    int             `json:"resets"`
	Blocked   []jsonBlocked   `json:"blocked"`
	Back      *jsonBack       `json:"back,omitempty"`
	Others    []jsonOtherPath `json:"alternatives,omitempty"`
	Maybe     []jsonHop       `json:"maybe,omitempty"`
	Members   []string        `json:"members,omitempty"`
	Notes     []string        `json:"notes,omitempty"`
	Plans     []jsonPath      `json:"plans,omitempty"`
	Capped    *jsonCapped     `json:"capped,omitempty"`
	// Like is the device whose result holds for this one, too, sources and reasons included.
	Like string `json:"like,omitempty"`
}

type jsonCapped struct {
	Release string `json:"release"`
	Because string `json:"because"`
}

// toDownload stands for the package of a release that is not at hand.
const toDownload = "to download"

type jsonMinutes struct {
	Install int `json:"install"`
	Outage  int `json:"outage"`
	// From are the least of ranges.
	InstallFrom int `json:"install_from,omitempty"`
	OutageFrom  int `json:"outage_from,omitempty"`
	// UnknownHops are hops of which the rulebook gives no minutes: then the sums are
	// only a part.
	UnknownHops int `json:"unknown_hops,omitempty"`
}

type jsonCited struct {
	Value  string `json:"value"`
	Source string `json:"source"`
	Where  string `json:"where"`
}

type jsonChange struct {
	Member    string `json:"member,omitempty"`
	Component string `json:"component"`
	From      string `json:"from,omitempty"`
	To        string `json:"to"`
}

type jsonHop struct {
	Release      string       `json:"release"`
	Package      string       `json:"package,omitempty"`  // its name, or toDownload; nothing where nobody looked
	Packages     []string     `json:"packages,omitempty"` // paths
	From         string       `json:"from"`
	To           string       `json:"to"`
	FromFamily   string       `json:"from_family,omitempty"`
	ToFamily     string       `json:"to_family,omitempty"`
	BootOnly     bool         `json:"boot_only,omitempty"`
	Members      []string     `json:"members,omitempty"`
	Components   []jsonChange `json:"components"`
	Because      string       `json:"because"`
	Sources      []jsonCited  `json:"sources"`
	ResetsConfig bool         `json:"resets_config"`
	Minutes      *jsonMinutes `json:"minutes,omitempty"`
	NoReturn     bool         `json:"no_return,omitempty"`
	Notes        []string     `json:"notes,omitempty"`
}

type jsonBlocked struct {
	Release string      `json:"release"`
	Code    string      `json:"code"`
	Because string      `json:"because"`
	Sources []jsonCited `json:"sources"`
}

type jsonBack struct {
	Found   bool        `json:"found"`
	By      string      `json:"by"`
	Hops    []jsonHop   `json:"hops"`
	Because string      `json:"because"`
	Sources []jsonCited `json:"sources,omitempty"`
	Notes   []string    `json:"notes,omitempty"`
}

type jsonOtherPath struct {
	Hops []jsonHop `json:"hops"`
}

func init() {
	form(func() any { return PathJSON(nil) })
}

// PathJSON is the document of path: a result a device, and whether there is a path for each.
func PathJSON(all []Paths) any {
	out := struct {
		Fitcheck about      `json:"fitcheck"`
		Found    bool       `json:"found"`
		Results  []jsonPath `json:"results"`
	}{about{"path", editionOfResults}, true, []jsonPath{}}
	for _, p := range all {
		one := pathJSON(p)
		out.Found = out.Found && one.Found
		if p.Like != "" {
			one.refer(p.Like)
		}
		out.Results = append(out.Results, one)
	}
	return out
}

// refer leaves the hops of a way that is another device's, too, and refers to that for the rest.
func (j *jsonPath) refer(like string) {
	*j = jsonPath{Device: j.Device, From: j.From, To: j.To, Family: j.Family, Found: j.Found, Unsettled: []string{}, Hops: j.Hops, Minutes: j.Minutes, Resets: j.Resets, Blocked: []jsonBlocked{}, Members: j.Members, Like: like}
	for i := range j.Hops {
		h := &j.Hops[i]
		h.Because, h.Sources, h.Packages, h.Notes = "", []jsonCited{}, nil, nil
	}
}

// pathJSON is the path of one device. With several plans, the whole is found when
// each is, and its hops are those of all.
func pathJSON(p Paths) jsonPath {
	doc := jsonPath{Device: p.Device, Unsettled: []string{}, Hops: []jsonHop{}, Blocked: []jsonBlocked{}, Notes: p.Notes, Found: true}
	if len(p.Plans) == 1 {
		doc = planJSON(p.Plans[0])
		doc.Device = p.Device
		doc.Notes = append(p.Notes, doc.Notes...)
		return doc
	}
	for _, a := range p.Plans {
		one := planJSON(a)
		doc.Plans = append(doc.Plans, one)
		doc.Found = doc.Found && one.Found
		doc.From, doc.To, doc.Family = one.From, one.To, one.Family
		doc.Unsettled, doc.Hops, doc.Blocked = append(doc.Unsettled, one.Unsettled...), append(doc.Hops, one.Hops...), append(doc.Blocked, one.Blocked...)
		doc.Minutes.Install += one.Minutes.Install
		doc.Minutes.Outage += one.Minutes.Outage
		doc.Minutes.UnknownHops += one.Minutes.UnknownHops
		doc.Resets += one.Resets
	}
	return doc
}

// minutesJSON are sums or spans of minutes; what is no range has no least.
func minutesJSON(install, outage rulebook.MinuteSpan, unknown int) jsonMinutes {
	out := jsonMinutes{Install: install.To, Outage: outage.To, UnknownHops: unknown}
	if install.From != install.To {
		out.InstallFrom = install.From
	}
	if outage.From != outage.To {
		out.OutageFrom = outage.From
	}
	return out
}

func planJSON(a PathAnswer) jsonPath {
	doc := jsonPath{Device: a.Name, From: a.From, To: a.To, Family: a.Family, Found: a.Found, Unsettled: append([]string{}, a.Unsettled...),
		Hops: hopsJSON(a.Steps), Resets: a.Resets(), Blocked: []jsonBlocked{}, Members: a.Members, Notes: a.Notes}
	doc.Minutes = minutesJSON(a.Minutes())
	if a.Capped != nil {
		doc.Capped = &jsonCapped{a.Capped.Release, a.Capped.Because}
	}
	for _, b := range a.Blocked {
		doc.Blocked = append(doc.Blocked, jsonBlocked{b.Release, b.Code, b.Because, citedJSON(b.Sources)})
	}
	if b := a.Answer.Back; b != nil {
		doc.Back = &jsonBack{b.Found, b.By, hopsJSON(a.Back), b.Because, citedJSON(b.Sources), b.Notes}
	}
	for _, o := range a.Alternatives {
		doc.Others = append(doc.Others, jsonOtherPath{hopsJSON(o)})
	}
	if len(a.Maybe) > 0 {
		doc.Maybe = hopsJSON(a.Maybe)
	}
	return doc
}

func hopsJSON(steps []plan.Step) []jsonHop {
	out := []jsonHop{}
	for _, s := range steps {
		h := jsonHop{Release: s.Release, Package: toDownload, From: s.From, To: s.To, FromFamily: s.FromFamily, ToFamily: s.Family, BootOnly: s.BootOnly, Members: s.Members,
			Components: []jsonChange{}, Because: s.Because, Sources: citedJSON(s.Sources), ResetsConfig: s.ResetsConfig, NoReturn: s.NoReturn, Notes: s.Notes}
		if s.Minutes != nil {
			m := minutesJSON(s.Minutes.Install, s.Minutes.Outage, 0)
			h.Minutes = &m
		}
		var names []string
		for _, p := range s.Packages {
			names, h.Packages = append(names, p.Name), append(h.Packages, p.Path)
		}
		if len(names) > 0 {
			h.Package = strings.Join(names, " + ")
		}
		for _, c := range s.Components {
			h.Components = append(h.Components, jsonChange(c))
		}
		out = append(out, h)
	}
	return out
}

func citedJSON(all []path.Cited) []jsonCited {
	out := []jsonCited{}
	for _, c := range all {
		out = append(out, jsonCited{c.Value, string(c.Source.Kind), c.Source.Where()})
	}
	return out
}
