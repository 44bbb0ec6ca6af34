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
		case width(word) > room:
			if current != "" {
				lines = append(lines, current)
			}
			lines = append(lines, word)
			current = ""
		case current == "":
			current = word
		case width(current)+1+width(word) <= room:
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

// width is how many columns a text takes.
func width(t string) int {
	for i := range len(t) {
		if t[i] >= 0x7f || t[i] < 0x20 {
			return text.StringWidth(t)
		}
	}
	return len(t) // nearly all of it is plain, and telling letters that are drawn as one takes long
}

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
