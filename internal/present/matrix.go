package present

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/internal/present/page"
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

// page is the matrix as it is shown.
func (m *matrix) page() page.Matrix {
	out := page.Matrix{Columns: m.columns, Most: maxMatrixRows, Flag: page.Why}
	members := slices.ContainsFunc(m.rows, func(r matrixRow) bool { return r.member != "" })
	if members {
		out.Lead = append(out.Lead, "member")
	}
	out.Lead = append(out.Lead, "component")
	for _, r := range m.rows {
		row := page.MatrixRow{}
		if members {
			row.Lead = append(row.Lead, r.member)
		}
		row.Lead = append(row.Lead, r.component)
		for _, o := range r.cells {
			row.Cells = append(row.Cells, map[fit.Outcome]page.Mark{fit.Fits: page.Yes, fit.Misfit: page.No, fit.Unsettled: page.Open}[o])
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

// maxMatrixRows is how many rows are shown; those that are all well are left out first.
const maxMatrixRows = 14

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

// joinComponents makes one line of those that give the same reason for several components.
func joinComponents(all []memberCheck) []memberCheck {
	var out []memberCheck
	joined := map[int][]string{}
next:
	for _, c := range all {
		for i := range out {
			o := &out[i]
			if o.Check.Check != c.Check.Check || o.Outcome != c.Outcome || o.Because != c.Because || !slices.Equal(o.of, c.of) || o.Component == "" || c.Component == "" {
				continue
			}
			joined[i] = append(joined[i], c.Component)
			o.Sources = slices.Clip(o.Sources)
			for _, x := range c.Sources {
				if !slices.Contains(o.Sources, x) {
					o.Sources = append(o.Sources, x)
				}
			}
			continue next
		}
		joined[len(out)] = []string{c.Component}
		out = append(out, c)
	}
	for i := range out {
		switch all := joined[i]; {
		case len(all) > manyComponents:
			out[i].Component = fmt.Sprintf("%s and %d more", all[0], len(all)-1)
		default:
			out[i].Component = strings.Join(all, ", ")
		}
	}
	return out
}

// manyComponents is how many are named before a count stands for them.
const manyComponents = 3
