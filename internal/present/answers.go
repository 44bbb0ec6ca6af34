package present

import (
	"fmt"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"fitcheck/core/device"
	"fitcheck/core/fit"
	"fitcheck/core/fit/check"
	"fitcheck/core/shell"
)

// Answer is what came out for one device.
type Answer struct {
	Device *device.Device
	// Verdicts of the packages, the best first.
	Verdicts []*fit.Verdict
	// Instead is a package of the kit that fits where none of those given does.
	Instead *fit.Verdict
}

// Answers shows the verdicts: of one package in full; of several the best one,
// after a list of all.
func (s *Screen) Answers(all []Answer) {
	if len(all) > 1 {
		s.summary(all)
	}
	if len(all) > 1 && !s.Why || s.Brief {
		if len(all) == 1 {
			s.summary(all)
		}
		if !s.Brief {
			s.blank()
			s.line(0, faint, "-why shows each of them in full")
		}
		return
	}
	for _, a := range all {
		if len(all) > 1 {
			s.blank()
			s.rule()
		}
		s.answer(a, len(all) > 1 && !s.Why)
	}
}

// rule draws a line across.
func (s *Screen) rule() {
	n := s.Width
	if n <= 0 || n > 100 {
		n = 100
	}
	s.line(0, faint, strings.Repeat("=", n))
}

func (s *Screen) answer(a Answer, brief bool) {
	if len(a.Verdicts) > 1 {
		s.ranking(a)
		s.blank()
		if !s.Why {
			s.line(0, faint, fmt.Sprintf("fitcheck match -device %s %s shows the best one, -why all that was checked of it", shell.Quote(a.named()), shell.Quote(a.Verdicts[0].Path)))
			return
		}
		s.line(0, info, "The best of them in full:")
		s.blank()
	}
	s.match(a.Verdicts[0], a.Instead, brief)
}

// summary lists each device with its best package.
func (s *Screen) summary(all []Answer) {
	count := map[fit.Outcome]int{}
	var rows []table.Row
	for _, a := range all {
		v := a.Verdicts[0]
		count[v.Verdict]++
		rows = append(rows, table.Row{Safe(a.Device.Name.Text), s.paint(outcomeStyle(v.Verdict), strings.ToUpper(string(v.Verdict))), Safe(v.Package), reasonOf(v)})
	}
	s.cutLast(rows)
	rows, left := groupAlike(rows, s)
	if !s.Why && !s.Brief && len(rows) > maxRanked {
		left = len(rows) - maxRanked
		rows = rows[:maxRanked]
	}
	word := fit.Fits
	for o, n := range count {
		if n > 0 {
			word = fit.Worse(word, o)
		}
	}
	s.hanging(s.paint(outcomeStyle(word), strings.ToUpper(string(word)))+"  ", len(word)+2, strong,
		fmt.Sprintf("%s: %d fit, %d do not, %d are not settled", count2(len(all), "device"), count[fit.Fits], count[fit.Misfit], count[fit.Unsettled]))
	s.blank()
	s.table(table.Row{"device", "verdict", "best package", "because"}, rows, s.whyLast(4, 60))
	if left > 0 {
		s.line(0, faint, fmt.Sprintf("and %d more; -brief lists every one", left))
	}
}

// groupAlike joins rows that differ in the device only, where there are more than a screen
// takes.
func groupAlike(rows []table.Row, s *Screen) ([]table.Row, int) {
	if s.Why || s.Brief || len(rows) <= maxRanked {
		return rows, 0
	}
	var out []table.Row
	count := map[string]int{}
	at := map[string]int{}
	for _, r := range rows {
		key := fmt.Sprint(r[1:])
		if count[key]++; count[key] == 1 {
			at[key] = len(out)
			out = append(out, r)
		}
	}
	for key, n := range count {
		if n > 1 {
			r := out[at[key]]
			out[at[key]] = append(table.Row{fmt.Sprintf("%s and %d more", r[0], n-1)}, r[1:]...)
		}
	}
	return out, 0
}

// reasonOf is why a verdict came out as it did, in the words of the worst of its reasons:
// what device an image is for before what proves it.
func reasonOf(v *fit.Verdict) string {
	all := allChecks(v)
	if v.Verdict == fit.Fits {
		if slices.ContainsFunc(all, func(c fit.Check) bool { return c.Code == "path.runs_already" }) {
			return "it runs it already"
		}
		return "all checks"
	}
	best := -1
	for i, c := range all {
		if c.Outcome == v.Verdict && (best < 0 || check.Find(c.Check).Far > check.Find(all[best].Check).Far) {
			best = i
		}
	}
	if best < 0 {
		return strings.Join(v.Deciding(), ", ")
	}
	return all[best].Check + ": " + inText(v.Package, all[best].Because)
}

// cutLast shortens the last text of each row to what the line leaves of it, where it is not
// to wrap.
func (s *Screen) cutLast(rows []table.Row) {
	const gap, least, unbounded = 2, 24, 72
	behind := 0
	if len(rows) > 0 {
		widths := make([]int, len(rows[0])-1)
		for _, r := range rows {
			for i := range widths {
				widths[i] = max(widths[i], text.StringWidthWithoutEscSequences(fmt.Sprint(r[i])), len("best package"))
			}
		}
		for _, w := range widths {
			behind += w + gap
		}
	}
	room := unbounded
	if s.Width > 0 {
		room = max(least, s.Width-behind)
	}
	for _, r := range rows {
		last := Safe(fmt.Sprint(r[len(r)-1]))
		if runes := []rune(last); !s.Why && len(runes) > room {
			last = strings.TrimRight(string(runes[:room-1]), " ") + "…"
		}
		r[len(r)-1] = last
	}
}

// whyLast lets the last column wrap where all of it is shown.
func (s *Screen) whyLast(n, others int) []table.ColumnConfig {
	if !s.Why {
		return nil
	}
	return s.last(n, others)
}

// named is how the device was given, as the command line takes it.
func (a Answer) named() string {
	if a.Device.File != "" {
		return a.Device.File
	}
	return a.Device.Name.Text
}

// maxRanked is how many rows of a list are shown.
const maxRanked = 28

// last lets the last of n columns wrap at what the others leave of the width.
func (s *Screen) last(n, others int) []table.ColumnConfig {
	if s.Width <= 0 {
		return nil
	}
	return []table.ColumnConfig{{Number: 3, WidthMax: max(20, s.Width-others), WidthMaxEnforcer: text.WrapSoft}, {Number: n, WidthMax: max(16, s.Width-others-16), WidthMaxEnforcer: text.WrapSoft}}
}

func count2(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// decided names what a verdict rests on: the checks that decide it.
func decided(v *fit.Verdict) string {
	if v.Verdict == fit.Fits {
		return "all checks"
	}
	return strings.Join(v.Deciding(), ", ")
}

// ranking lists the packages, the best first.
func (s *Screen) ranking(a Answer) {
	best := a.Verdicts[0]
	head := fmt.Sprintf("none of the %d packages fits %s", len(a.Verdicts), best.Device)
	if best.Verdict == fit.Fits {
		head = fmt.Sprintf("%s is the best of %d for %s", best.Package, len(a.Verdicts), best.Device)
	}
	word := strings.ToUpper(string(best.Verdict))
	s.hanging(s.paint(outcomeStyle(best.Verdict), word)+"  ", len(word)+2, strong, head)
	s.blank()
	var rows []table.Row
	named := map[string]int{}
	for _, v := range a.Verdicts {
		named[v.Package]++
	}
	for _, v := range a.Verdicts {
		name := v.Package
		if named[name] > 1 { // the path tells them apart
			name = v.Path
		}
		rows = append(rows, table.Row{s.paint(outcomeStyle(v.Verdict), string(v.Verdict)), Safe(v.Release), Safe(name), reasonOf(v)})
	}
	s.cutLast(rows)
	left := 0
	if !s.Why && len(rows) > maxRanked {
		left = len(rows) - maxRanked
		rows = rows[:maxRanked]
	}
	s.table(table.Row{"verdict", "release", "package", "because"}, rows, s.whyLast(4, 50))
	if left > 0 {
		s.line(0, faint, fmt.Sprintf("and %d more; -why lists every one", left))
	}
}

// Wrote names a file that was written.
func (s *Screen) Wrote(path string) {
	s.blank()
	s.line(0, info, "The report is in "+path+".")
}
