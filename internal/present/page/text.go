package page

import (
	"fmt"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"

	"fitcheck/core/archive"
)

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

// wrap cuts a text at blanks to a number of columns. A word that is longer, such as an
// address or a digest, stands alone on its line, whole: so it can be copied.
func wrap(t string, room int) []string {
	var lines []string
	current := ""
	for word := range strings.SplitSeq(bindCommands(t), " ") {
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

// pad fills a text up to a number of columns.
func pad(t string, n int) string { return text.Pad(t, n, ' ') }

func width(t string) int { return text.StringWidth(t) }

// shorten leaves the end of a text out, or its beginning, where it is wider than the room.
func shorten(t string, room int, front bool) string {
	if width(t) <= room {
		return t
	}
	runes := []rune(t)
	for len(runes) > 0 && width(string(runes))+1 > room {
		if front {
			runes = runes[1:]
		} else {
			runes = runes[:len(runes)-1]
		}
	}
	if front {
		return "…" + string(runes)
	}
	return strings.TrimRight(string(runes), " ") + "…"
}
