package present

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"

	"fitcheck/core/device"
	"fitcheck/core/fit"
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
		rows = append(rows, table.Row{Safe(a.Device.Name.Text), s.paint(outcomeStyle(v.Verdict), strings.ToUpper(string(v.Verdict))), Safe(v.Package), Safe(decided(v))})
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
	s.table(table.Row{"device", "verdict", "best package", "by"}, rows, s.last(4, 60))
}

// last lets the last of n columns wrap at what the others leave of the width.
func (s *Screen) last(n, others int) []table.ColumnConfig {
	if s.Width <= 0 {
		return nil
	}
	return []table.ColumnConfig{{Number: 3, WidthMax: max(20, s.Width-others)}, {Number: n, WidthMax: max(16, s.Width-others-16)}}
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
		rows = append(rows, table.Row{s.paint(outcomeStyle(v.Verdict), string(v.Verdict)), Safe(v.Release), Safe(name), Safe(decided(v))})
	}
	s.table(table.Row{"verdict", "release", "package", "by"}, rows, s.last(4, 50))
}

// Wrote names a file that was written.
func (s *Screen) Wrote(path string) {
	s.blank()
	s.line(0, info, "The report is in "+path+".")
}
