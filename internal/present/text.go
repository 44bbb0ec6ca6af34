// Package present shows results: in a terminal, as plain text, as JSON. It
// decides nothing.
package present

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"fitcheck/core/archive"
	"fitcheck/core/fit"
)

// Screen is where text goes and how much of it may be used.
type Screen struct {
	Out   io.Writer
	Width int // columns; 0 is unbounded, for pipes and files
	Color bool
	// Why shows every line of every verdict, with both sides, and all stretches of images.
	Why bool
	// Brief shows one line a device.
	Brief bool
	// All shows every item of a survey, however long it gets.
	All bool
	// Kit is how the kit was named on the command line; "" where it was not.
	Kit string
	// Evidence holds what the sources of a verdict name, where it is shown.
	Evidence Evidence

	component int // columns for the names of components
}

// Safe makes a text from an input fit to be shown: control characters and
// ones that nobody sees become visible escapes, so that no file name can act on the
// terminal.
func Safe(s string) string {
	if !strings.ContainsFunc(s, archive.Invisible) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if archive.Invisible(r) {
			fmt.Fprintf(&b, `\u%04x`, r)
		} else {
			b.WriteRune(r)
		}
	}
	return b.String()
}

// SafeLines is Safe for a text of several lines.
func SafeLines(text string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = Safe(l)
	}
	return strings.Join(lines, "\n")
}

// style is how a piece of text is painted on a terminal with colours.
type style text.Colors

var (
	plain   style
	strong  = style{text.Bold}
	faint   = style{text.Faint}
	good    = style{text.FgGreen}
	bad     = style{text.FgRed, text.Bold}
	doubt   = style{text.FgYellow}
	info    = style{text.FgCyan}
	heading = style{text.Bold, text.Underline}
)

func outcomeStyle(o fit.Outcome) style {
	switch o {
	case fit.Fits:
		return good
	case fit.Misfit:
		return bad
	case fit.Unsettled:
		return doubt
	}
	return info
}

func (s *Screen) paint(st style, t string) string {
	t = Safe(t)
	if !s.Color || len(st) == 0 {
		return t
	}
	return text.Colors(st).Sprint(t)
}

// line writes one line, wrapped to the width; further lines are indented.
func (s *Screen) line(indent int, st style, t string) {
	s.hanging(strings.Repeat(" ", indent), indent, st, t)
}

// hanging writes a text behind a lead that is painted already; when it wraps,
// further lines stand under the first.
func (s *Screen) hanging(lead string, indent int, st style, t string) {
	for i, l := range s.wrap(Safe(s.paste(t)), indent) {
		if i > 0 {
			lead = strings.Repeat(" ", indent)
		}
		fmt.Fprintln(s.Out, strings.TrimRight(lead+s.paint(st, l), " "))
	}
}

// wrap cuts a text at blanks to what is left of the width. A word that is longer, such as an
// address or a digest, stands alone on its line, whole: so it can be copied.
func (s *Screen) wrap(t string, indent int) []string {
	room := s.Width - indent
	if s.Width <= 0 || room < 20 {
		return []string{t}
	}
	var lines []string
	current := ""
	for _, word := range strings.Split(bindCommands(t), " ") {
		word = strings.ReplaceAll(word, bound, " ")
		switch {
		case text.StringWidth(word) > room:
			if current != "" {
				lines = append(lines, current)
			}
			lines = append(lines, word)
			current = ""
		case current == "":
			current = word
		case text.StringWidth(current)+1+text.StringWidth(word) <= room:
			current += " " + word
		default:
			lines = append(lines, current)
			current = word
		}
	}
	if current == "" && len(lines) > 0 {
		return lines
	}
	return append(lines, current)
}

func (s *Screen) blank() { fmt.Fprintln(s.Out) }

func (s *Screen) head(t string) {
	s.blank()
	s.line(0, heading, t)
}

// pad fills a text up to a number of columns.
func pad(t string, n int) string { return text.Pad(Safe(t), n, ' ') }

// table writes rows under a header, without lines.
func (s *Screen) table(header table.Row, rows []table.Row, columns []table.ColumnConfig) {
	t := table.NewWriter()
	t.SetOutputMirror(s.Out)
	st := table.StyleDefault
	st.Options = table.OptionsNoBordersAndSeparators
	st.Box.PaddingLeft, st.Box.PaddingRight = "", "  "
	st.Format.Header = text.FormatDefault
	if s.Color {
		st.Color.Header = text.Colors(faint)
	}
	t.SetStyle(st)
	t.SuppressTrailingSpaces()
	t.AppendHeader(header)
	t.AppendRows(rows)
	t.SetColumnConfigs(columns)
	t.Render()
}

// Bytes writes a size for people.
func Bytes(n int64) string {
	switch {
	case n < 0:
		return "size not known"
	case n == 1:
		return "1 byte"
	case n < 1<<10:
		return fmt.Sprintf("%d bytes", n)
	case n < 1<<20:
		return fmt.Sprintf("%.1f KiB", float64(n)/(1<<10))
	case n < 1<<30:
		return fmt.Sprintf("%.1f MiB", float64(n)/(1<<20))
	}
	return fmt.Sprintf("%.1f GiB", float64(n)/(1<<30))
}

// within shortens an address inside the package to what follows the
// package's name.
func within(pkg, where string) string {
	if rest, ok := strings.CutPrefix(where, pkg+"::"); ok {
		return "::" + rest
	}
	return where
}
