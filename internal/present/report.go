package present

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"time"

	"fitcheck/core/evidence"
	"fitcheck/core/fit"
	"fitcheck/core/survey"
)

// Report is what a report is made of.
type Report struct {
	Answers  []Answer
	Surveys  []*survey.Survey
	Evidence Evidence
	Made     time.Time
	Version  string
}

//go:embed page.css
var pageStyle string

//go:embed report.html
var reportPage string

var reportTemplate = newPage("report", reportPage)

// newPage reads a page that shares the style of all pages.
func newPage(name, text string) *template.Template {
	return template.Must(template.Must(template.New(name).Parse(`{{define "style"}}` + pageStyle + `{{end}}`)).Parse(text))
}

// page is the report in the shape of the page.
type page struct {
	Title, Made, Version string
	Verdict              string
	Sections             []reportSection
	Packages             []reportPackage
}

// reportSection is one device with one package.
type reportSection struct {
	ID, Verdict, Headline string
	About                 []string
	Others                []reportOther // the other packages given, worse than this
	Columns               []string      // members
	Rows                  []reportRow
	Chosen                []reportChosen
	Passed                []reportChosen
	Next                  []string
	Deciding              []reportCell
	Checks                []reportCell
}

type reportOther struct{ Verdict, Package, Release, By string }

// reportRow is a check with one cell for each member; a check of the whole
// package has a single one.
type reportRow struct {
	Check string
	Whole bool
	Cells []reportCell
}

type reportCell struct {
	ID, Check, Of, Outcome, Because, Advice string
	Sides                                   []reportSide
	Excerpts                                []reportExcerpt
}

type reportSide struct{ Name, Text string }

type reportExcerpt struct {
	Title, Why string
	Lines      []reportLine
}

type reportLine struct {
	Number, Text string
	Cited        bool
}

type reportChosen struct {
	Member, Component, Item, Detail string
	Bar                             template.HTML
	Covers                          []string
}

type reportPackage struct {
	Name, Digest, Size string
	Items              []reportItem
	More               int
}

type reportItem struct {
	Indent                      int
	Name, Kind, Size, Says, Bad string
}

// maxReported bounds the items of one package that a report lists.
const maxReported = 500

// HTML writes the report as one page that needs nothing else.
func (r Report) HTML(w io.Writer) error { return reportTemplate.Execute(w, r.page()) }

func (r Report) page() page {
	p := page{Title: "Fit Check", Made: r.Made.UTC().Format("2006-01-02 15:04 UTC"), Version: r.Version}
	worst := fit.Fits
	for i, a := range r.Answers {
		worst = fit.Worse(worst, a.Verdicts[0].Verdict)
		p.Sections = append(p.Sections, r.section(fmt.Sprintf("d%d", i+1), a))
	}
	p.Verdict = string(worst)
	if len(r.Answers) == 1 {
		p.Title = r.Answers[0].Verdicts[0].Package + " and " + r.Answers[0].Verdicts[0].Device
	} else {
		p.Title = count2(len(r.Answers), "device")
	}
	p.Title = Safe(p.Title)
	for _, s := range r.Surveys {
		p.Packages = append(p.Packages, reportTree(s))
	}
	return p
}

var sentences = map[fit.Outcome]string{
	fit.Fits:      "%s fits %s",
	fit.Misfit:    "%s does not fit %s",
	fit.Unsettled: "whether %s fits %s is not settled",
}

func (r Report) section(id string, a Answer) reportSection {
	v := a.Verdicts[0]
	s := reportSection{ID: id, Verdict: string(v.Verdict), Headline: Safe(fmt.Sprintf(sentences[v.Verdict], v.Package, v.Device))}
	for _, m := range v.Members {
		s.About = append(s.About, Safe(m.About))
		if len(v.Members) > 1 {
			s.Columns = append(s.Columns, Safe(m.Name))
		}
	}
	if v.Release != "" {
		s.About = append(s.About, Safe("the package stands for release "+v.Release))
	}
	if t := weakestProof(v); t != "" {
		s.About = append(s.About, Safe(t))
	}
	for _, n := range v.Notes {
		s.About = append(s.About, Safe(n))
	}
	for _, o := range a.Verdicts[1:] {
		s.Others = append(s.Others, reportOther{string(o.Verdict), Safe(o.Package), Safe(o.Release), Safe(decided(o))})
	}
	s.Rows = r.grid(id, v)
	for _, row := range s.Rows {
		for _, c := range row.Cells {
			if c.Outcome == "" {
				continue
			}
			if c.Outcome == s.Verdict && v.Verdict != fit.Fits {
				s.Deciding = append(s.Deciding, c)
			}
			s.Checks = append(s.Checks, c)
		}
	}
	for _, m := range v.Members {
		for _, c := range m.Chosen {
			var detail []string
			for _, d := range []struct{ lead, text string }{{"configuration ", c.Config}, {"version ", c.Version}, {"into slot ", c.Slot}} {
				if d.text != "" {
					detail = append(detail, d.lead+d.text)
				}
			}
			s.Chosen = append(s.Chosen, reportChosen{Safe(m.Name), Safe(c.Component), Safe(within(v.Package, c.Item)), Safe(strings.Join(detail, ", ")), coverageBar(v.Package, c.Coverage), safeAll(provenBy(v.Package, c.Coverage, maxCoversShown))})
		}
		for _, o := range m.Others {
			s.Passed = append(s.Passed, reportChosen{Safe(m.Name), Safe(o.Component), Safe(within(v.Package, o.Item)), Safe(inText(v.Package, o.Because)), "", nil})
		}
	}
	for _, t := range Advice(v, a.Instead) {
		s.Next = append(s.Next, Safe(inText(v.Package, t)))
	}
	return s
}

func safeAll(all []string) []string {
	out := make([]string, len(all))
	for i, t := range all {
		out[i] = Safe(t)
	}
	return out
}

// grid lays the checks out: a row for each check and component, a column for
// each member.
func (r Report) grid(id string, v *fit.Verdict) []reportRow {
	var rows []reportRow
	n := 0
	cell := func(of string, c fit.Check) reportCell {
		n++
		return r.cell(fmt.Sprintf("%s-c%d", id, n), of, v, c)
	}
	for _, c := range v.Checks {
		rows = append(rows, reportRow{Check: checkName(c), Whole: true, Cells: []reportCell{cell("", c)}})
	}
	first := len(rows)
	for k, m := range v.Members {
		of := ""
		if len(v.Members) > 1 {
			of = m.Name
		}
		used := map[int]bool{}
		for _, c := range m.Checks {
			name := checkName(c)
			at := slices.IndexFunc(rows[first:], func(row reportRow) bool { return row.Check == name })
			for at >= 0 && used[first+at] { // a second check of one name has a row of its own
				next := slices.IndexFunc(rows[first+at+1:], func(row reportRow) bool { return row.Check == name })
				if next < 0 {
					at = -1
					break
				}
				at += 1 + next
			}
			if at < 0 {
				rows = append(rows, reportRow{Check: name, Cells: make([]reportCell, len(v.Members))})
				at = len(rows) - 1 - first
			}
			used[first+at] = true
			rows[first+at].Cells[k] = cell(of, c)
		}
	}
	return rows
}

func checkName(c fit.Check) string { return Safe(strings.TrimSpace(c.Check + " " + c.Component)) }

func (r Report) cell(id, of string, v *fit.Verdict, c fit.Check) reportCell {
	out := reportCell{ID: id, Check: checkName(c), Of: Safe(of), Outcome: string(c.Outcome), Because: Safe(inText(v.Package, c.Because)), Advice: Safe(inText(v.Package, c.Advice))}
	for _, side := range sides(v.Package, c) {
		out.Sides = append(out.Sides, reportSide{side.name, Safe(strings.Join(side.said, "; "))})
	}
	shown := map[string]bool{}
	for _, x := range c.Sources {
		for _, e := range r.Evidence[x.Source] {
			if !shown[e.Title] {
				shown[e.Title] = true
				out.Excerpts = append(out.Excerpts, reportText(v.Package, e))
			}
		}
	}
	return out
}

// reportText is an excerpt as lines of text.
func reportText(pkg string, e evidence.Excerpt) reportExcerpt {
	out := reportExcerpt{Title: Safe(within(pkg, e.Title)), Why: Safe(e.Why)}
	for _, l := range e.Lines {
		out.Lines = append(out.Lines, reportLine{fmt.Sprint(l.Number), Safe(l.Text), l.Cited})
	}
	for row := e.At; row < e.At+int64(len(e.Dump)); row += 16 {
		hexed, shown := hexRow(func(k int64) (byte, bool) {
			i := row + k - e.At
			if i >= int64(len(e.Dump)) {
				return 0, false
			}
			return e.Dump[i], true
		})
		cited := max(e.Mark, row) < min(e.MarkEnd, row+16)
		out.Lines = append(out.Lines, reportLine{fmt.Sprintf("%08x", row), hexed + "  " + shown, cited})
	}
	return out
}

// reportTree lists the items of a package.
func reportTree(s *survey.Survey) reportPackage {
	p := reportPackage{Name: Safe(s.Name), Size: Bytes(s.Size)}
	if d := s.Digests.Of("sha256"); d != "" {
		p.Digest = "sha256:" + d
	}
	for i, it := range s.Items {
		if i == maxReported {
			p.More = len(s.Items) - i
			break
		}
		item := reportItem{Indent: strings.Count(it.Address, "::"), Name: Safe(it.Name), Kind: Safe(it.Title()), Size: Bytes(it.Size)}
		if item.Name == "" {
			item.Name = Safe(it.Address)
		}
		var says []string
		for _, n := range []string{it.Role, it.Component()} {
			if n != "" {
				says = append(says, n)
			}
		}
		if d := it.Digests.Of("sha256"); d != "" {
			says = append(says, "sha256 "+d[:16]+"…")
		}
		item.Says = Safe(strings.Join(says, ", "))
		var bad []string
		for _, pr := range it.Problems {
			bad = append(bad, pr.What)
		}
		item.Bad = Safe(strings.Join(bad, "; "))
		p.Items = append(p.Items, item)
	}
	return p
}
