package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
)

// matrix is a verdict at a glance: a row for each component, of each member where they
// differ, and a cell for each group of checks.
type matrix struct {
	columns []string
	rows    []matrixRow
}

type matrixRow struct {
	member, component string
	cells             []fit.Outcome
}

// whole stands for what is about no single component.
const wholeInstall = "install"

// matrixOf makes the matrix of a verdict.
func matrixOf(v *fit.Verdict) *matrix {
	var columns []string
	place := map[string]int{}
	for _, c := range check.All() {
		if c.Of == "" && !slices.Contains(columns, c.Column) {
			place[c.Column] = len(columns)
			columns = append(columns, c.Column)
		}
	}
	m := &matrix{columns: columns}
	row := func(member, component string) []fit.Outcome {
		for _, r := range m.rows {
			if r.member == member && r.component == component {
				return r.cells
			}
		}
		cells := make([]fit.Outcome, len(columns))
		m.rows = append(m.rows, matrixRow{member, component, cells})
		return cells
	}
	add := func(member string, all []fit.Check) {
		for i := range all {
			l := &all[i]
			k := check.Find(l.Check)
			component := l.Component
			if component == "" || k.Whole {
				component = wholeInstall
			}
			cells := row(member, component)
			at := place[k.Column]
			cells[at] = worseCell(cells[at], l.Outcome)
		}
	}
	for _, member := range v.Members {
		for _, c := range member.Chosen { // in the order of the install
			row(member.Name, c.Component)
		}
		add(member.Name, member.Checks)
		add(member.Name, v.Checks)
	}
	// What is about the install as a whole stands behind the components.
	slices.SortStableFunc(m.rows, func(a, b matrixRow) int {
		return cmp.Compare(strings.Count(a.component, wholeInstall), strings.Count(b.component, wholeInstall))
	})
	m.fold(len(v.Members))
	m.narrow()
	return m
}

// worseCell joins the outcomes of the checks of a cell. A note changes none.
func worseCell(a, b fit.Outcome) fit.Outcome {
	rank := func(o fit.Outcome) int {
		return slices.Index([]fit.Outcome{"", fit.NotApplicable, fit.Note, fit.Fits, fit.Unsettled, fit.Misfit}, o)
	}
	if rank(b) > rank(a) {
		return b
	}
	return a
}

// fold makes one row of those that are the same for all members.
func (m *matrix) fold(members int) {
	if members < 2 {
		for i := range m.rows {
			m.rows[i].member = ""
		}
		return
	}
	var out []matrixRow
	done := map[string]bool{}
	for _, r := range m.rows {
		if done[r.component] {
			continue
		}
		var same []matrixRow
		for _, o := range m.rows {
			if o.component == r.component && slices.Equal(o.cells, r.cells) {
				same = append(same, o)
			}
		}
		if len(same) == members {
			r.member = "all"
			out = append(out, r)
			done[r.component] = true
			continue
		}
		out = append(out, r)
	}
	m.rows = out
}

// narrow leaves out the columns that say nothing.
func (m *matrix) narrow() {
	for i := len(m.columns) - 1; i >= 0; i-- {
		if slices.ContainsFunc(m.rows, func(r matrixRow) bool { return r.cells[i].Rank() > 0 || r.cells[i] == fit.Fits }) {
			continue
		}
		m.columns = slices.Delete(m.columns, i, i+1)
		for k := range m.rows {
			m.rows[k].cells = slices.Delete(m.rows[k].cells, i, i+1)
		}
	}
}

// fit leaves out columns in which nothing is wrong, as many as it takes to keep to a width,
// and names them.
func (m *matrix) fit(width int) (fine []string) {
	const gap = 2
	for width > 0 {
		total, component, member := 0, len("component"), 0
		for _, c := range m.columns {
			total += len(c) + gap
		}
		for _, r := range m.rows {
			component = max(component, len(r.component))
			if r.member != "" {
				member = max(member, len(r.member)+gap, len("member")+gap)
			}
		}
		if total+component+member <= width {
			break
		}
		i := slices.IndexFunc(m.columns, func(c string) bool {
			at := slices.Index(m.columns, c)
			return !slices.ContainsFunc(m.rows, func(r matrixRow) bool { return r.cells[at].Rank() > 0 })
		})
		if i < 0 {
			break
		}
		fine = append(fine, m.columns[i])
		m.columns = slices.Delete(slices.Clone(m.columns), i, i+1)
		for k := range m.rows {
			m.rows[k].cells = slices.Delete(slices.Clone(m.rows[k].cells), i, i+1)
		}
	}
	return fine
}

// cellMarks are how cells look.
func (s *Screen) cellMark(o fit.Outcome) string {
	switch o {
	case fit.Fits:
		return s.paint(good, "ok")
	case fit.Misfit:
		return s.paint(bad, "X")
	case fit.Unsettled:
		return s.paint(doubt, "?")
	}
	return s.paint(faint, "–")
}

// maxMatrixRows is how many rows are shown; those that are all well are left out first.
const maxMatrixRows = 14

func (s *Screen) matrix(v *fit.Verdict) {
	m := matrixOf(v)
	if len(m.rows) == 0 {
		return
	}
	s.blank()
	members := slices.ContainsFunc(m.rows, func(r matrixRow) bool { return r.member != "" })
	fine := m.fit(s.Width)
	header := table.Row{}
	if members {
		header = append(header, "member")
	}
	header = append(header, "component")
	for _, c := range m.columns {
		header = append(header, c)
	}
	rows, left := m.rows, 0
	if len(rows) > maxMatrixRows {
		rows = slices.DeleteFunc(slices.Clone(rows), func(r matrixRow) bool {
			return !slices.ContainsFunc(r.cells, func(o fit.Outcome) bool { return o.Rank() > 0 })
		})
		rows = rows[:min(len(rows), maxMatrixRows)]
		left = len(m.rows) - len(rows)
	}
	var out []table.Row
	for _, r := range rows {
		line := table.Row{}
		if members {
			line = append(line, Safe(r.member))
		}
		line = append(line, Safe(r.component))
		for _, o := range r.cells {
			line = append(line, s.cellMark(o))
		}
		out = append(out, line)
	}
	s.table(header, out, nil)
	if len(fine) > 0 {
		s.line(0, faint, "ok wherever they apply: "+strings.Join(fine, ", "))
	}
	if left > 0 {
		s.line(0, faint, fmt.Sprintf("and %s; -why shows every one", count(left, "more row")))
	}
}

// short shows a verdict on one screen: what it is, the matrix, what is open with both sides,
// the images, what next.
func (s *Screen) short(v *fit.Verdict, instead *fit.Verdict) {
	all := collapse(v)
	s.component = 5
	for _, c := range all {
		s.component = max(s.component, min(14, len(c.Component)))
	}
	s.matrix(v)
	var open, notes []memberCheck
	fits := 0
	for _, c := range all {
		switch c.Outcome {
		case fit.Fits:
			fits += max(1, len(c.of))
		case fit.Misfit, fit.Unsettled:
			open = joinReason(open, c)
		case fit.Note:
			notes = append(notes, c)
		}
	}
	// What device an image is for comes before what proves it.
	slices.SortStableFunc(open, func(a, b memberCheck) int {
		return cmp.Or(weight(a.Outcome)-weight(b.Outcome), cmp.Compare(check.Find(b.Check.Check).Far, check.Find(a.Check.Check).Far))
	})
	shown := map[string]bool{}
	if len(open) > 0 {
		s.head("What decides it")
	}
	for i, c := range open {
		full := maxOpen
		if len(v.Members) > 1 { // whose list takes lines, too
			full--
		}
		if i >= full { // the reason alone
			if i == full+maxReasons {
				s.line(2, faint, fmt.Sprintf("and %d more; -why shows every one", len(open)-i))
				break
			}
			s.reason(v, c)
			continue
		}
		s.check(v, c.Check, c.of)
		s.excerpts(v, c.Check, shown)
	}
	if v.Verdict == fit.Misfit { // in which they change nothing
		notes = nil
	}
	for i, c := range notes {
		if i == maxNotes && len(notes) > maxNotes+1 {
			s.line(2, faint, fmt.Sprintf("and %s; -why shows them", count(len(notes)-i, "more note")))
			break
		}
		if i == 0 {
			s.blank()
		}
		because := inText(v.Package, c.Because)
		if len(c.of) > 0 {
			because = strings.Join(c.of, ", ") + ": " + because
		}
		s.hanging("  "+s.paint(info, pad("note", 6)), 8, plain, because)
	}
	s.shortImages(v)
	advice := Advice(v, instead)
	for i, a := range advice[:min(len(advice), maxNext)] {
		if i == 0 {
			s.head("What to do next")
		}
		s.hanging(fmt.Sprintf("  %d. ", i+1), 5, plain, inText(v.Package, a))
	}
	t := fmt.Sprintf("%s fit", count(fits, "check"))
	if fits == 1 {
		t = "1 check fits"
	}
	if proof := weakestProof(v); proof != "" {
		t += "; " + proof
	}
	s.blank()
	s.line(0, faint, t+"; -why shows every source")
}

// reason shows why a check came out as it did, in one line.
func (s *Screen) reason(v *fit.Verdict, c memberCheck) {
	because := inText(v.Package, c.Because)
	if len(c.of) > 0 {
		because = strings.Join(c.of, ", ") + ": " + because
	}
	s.oneLine("  "+s.paint(outcomeStyle(c.Outcome), pad(string(c.Outcome), 10))+s.paint(strong, pad(c.Check.Check, 10))+pad(c.Component, s.component)+" ", 23+s.component, because)
}

// joinReason adds a line; one that gives the same reason for another member joins that one.
func joinReason(all []memberCheck, c memberCheck) []memberCheck {
	for i := range all {
		o := &all[i]
		if o.Check.Check != c.Check.Check || o.Component != c.Component || o.Because != c.Because || len(o.of) == 0 || len(c.of) == 0 {
			continue
		}
		o.of = append(slices.Clip(o.of), c.of...)
		for _, x := range c.Sources {
			if !slices.Contains(o.Sources, x) {
				o.Sources = append(slices.Clip(o.Sources), x)
			}
		}
		return all
	}
	return append(all, c)
}

// What is shown of one verdict on one screen.
const (
	maxOpen = 4 // with both sides
	// maxReasons is how many more are shown by their reason alone.
	maxReasons = 4
	maxNotes   = 2
	maxNext    = 3
)

// shortImages lists what would be installed: old version, new version, slot.
func (s *Screen) shortImages(v *fit.Verdict) {
	if v.Verdict == fit.Misfit { // none is to be installed; what was compared is cited
		return
	}
	title := "Images to install, in this order"
	if v.Verdict != fit.Fits {
		title = "Images that come nearest"
	}
	type image struct {
		fit.Chosen
		of []string
	}
	var all []image
	for _, m := range v.Members {
		for _, c := range m.Chosen {
			i := slices.IndexFunc(all, func(o image) bool {
				return o.Component == c.Component && o.Item == c.Item && o.Config == c.Config && o.From == c.From && o.Slot == c.Slot
			})
			if i >= 0 {
				all[i].of = append(all[i].of, m.Name)
				continue
			}
			all = append(all, image{c, []string{m.Name}})
		}
	}
	for i, c := range all {
		if i == 0 {
			s.head(title)
		}
		if i == maxImages && len(all) > maxImages+1 {
			s.line(2, faint, fmt.Sprintf("and %d more; -why shows them", len(all)-i))
			break
		}
		versions := c.Version
		if c.From != "" && c.Version != "" {
			versions = c.From + " -> " + c.Version
		}
		t := versions
		if c.Slot != "" {
			t += "  slot " + c.Slot
		}
		t += "  " + within(v.Package, c.Item)
		if c.Config != "" {
			t += "  configuration " + c.Config
		}
		if len(v.Members) > 1 {
			t += "  (" + strings.Join(c.of, ", ") + ")"
		}
		s.hanging("  "+s.paint(strong, pad(c.Component, s.component))+"  ", s.component+4, plain, strings.TrimSpace(t))
	}
}

// maxImages is how many images are listed.
const maxImages = 8
