package present

import (
	"encoding/csv"
	"fmt"
	"io"
	"strings"

	"fitcheck/core/fit"
	"fitcheck/internal/present/page"
)

// Comma-separated values (RFC 4180), for spreadsheets: a row a line of an answer.

func writeCSV(w io.Writer, rows [][]string) error {
	c := csv.NewWriter(w)
	for _, r := range rows {
		for i := range r {
			r[i] = page.Safe(r[i])
			if strings.HasPrefix(r[i], "=") || strings.HasPrefix(r[i], "@") { // no formula of a spreadsheet
				r[i] = "'" + r[i]
			}
		}
		if err := c.Write(r); err != nil {
			return err
		}
	}
	c.Flush()
	return c.Error()
}

// AnswersCSV writes verdicts: a row a component that would be installed, or one with the
// reason.
func AnswersCSV(w io.Writer, all []Answer) error {
	rows := [][]string{{"device", "member", "package", "verdict", "release", "component", "item", "from", "to", "slot", "reason"}}
	for _, a := range all {
		for _, v := range a.Verdicts {
			for _, m := range v.Members {
				member := m.Name
				if member == v.Device {
					member = ""
				}
				reason := firstReason(v, m)
				if len(m.Chosen) == 0 {
					rows = append(rows, []string{a.Name(), member, v.Package, string(m.Verdict), v.Release, "", "", "", "", "", reason})
				}
				for _, c := range m.Chosen {
					rows = append(rows, []string{a.Name(), member, v.Package, string(fit.Worse(m.Verdict, v.Outcome)), v.Release, c.Component, c.Item, c.From, c.Version, c.Slot, reason})
				}
			}
		}
	}
	return writeCSV(w, rows)
}

// firstReason is the first line that decides against a fit; "" where all fits.
func firstReason(v *fit.Verdict, m fit.Member) string {
	worst := fit.Worse(m.Verdict, v.Outcome)
	if worst == fit.Fits {
		return ""
	}
	for _, list := range [][]fit.Check{m.Checks, v.Checks} {
		for _, c := range list {
			if c.Outcome == worst {
				return c.Check + ": " + c.Because
			}
		}
	}
	return ""
}

// PathsCSV writes ways: a row a hop, or one with none.
func PathsCSV(w io.Writer, all []Paths) error {
	rows := [][]string{{"device", "found", "hop", "release", "from", "to", "package", "resets", "minutes"}}
	for _, p := range all {
		for _, a := range p.Plans {
			if len(a.Steps) == 0 {
				rows = append(rows, []string{p.Device, fmt.Sprint(a.Found), "", "", a.From, a.To, "", "", ""})
			}
			for i, h := range hopsJSON(a.Steps) {
				minutes, release := "", h.Release
				if h.Minutes != nil {
					minutes = fmt.Sprint(h.Minutes.Install)
				}
				if h.BootOnly {
					release = "boot:" + release
				}
				rows = append(rows, []string{p.Device, fmt.Sprint(a.Found), fmt.Sprint(i + 1), release, h.From, h.To, h.Package, fmt.Sprint(h.ResetsConfig), minutes})
			}
		}
	}
	return writeCSV(w, rows)
}

// ConfirmedCSV writes what was confirmed: a row a check.
func ConfirmedCSV(w io.Writer, all ...Confirmed) error {
	rows := [][]string{{"device", "member", "verdict", "check", "planned", "found"}}
	for _, c := range all {
		for _, k := range c.Checks {
			rows = append(rows, []string{c.Device, "", string(k.Outcome), k.Check, k.Device, k.Package})
		}
		for _, m := range c.Members {
			member := m.Name
			if member == c.Device {
				member = ""
			}
			for _, k := range m.Checks {
				rows = append(rows, []string{c.Device, member, string(k.Outcome), k.Check, k.Device, k.Package})
			}
		}
	}
	return writeCSV(w, rows)
}
