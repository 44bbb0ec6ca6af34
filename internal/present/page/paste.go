package page

import (
	"regexp"
	"strings"

	"fitcheck/core/shell"
)

// offered finds commands that a text offers, up to the name.
var offered = regexp.MustCompile(`\bfitcheck (device|survey|header|match|path|stage|runbook|confirm|recover|notes|unpack|stand-in|rulebook (?:check|draft))( -[a-z]| \S*[./]\S*[^.\s])`)

// bound stands for a blank at which no line ends.
const bound = "\u00a0"

// afterCommand are words that go on behind a command that a text offers.
var afterCommand = map[string]bool{"tells": true, "shows": true, "does": true, "and": true, "lists": true, "gives": true, "writes": true, "first": true, "for": true, "with": true, "to": true, "is": true, "or": true}

// bindCommands keeps the words of each command that a text offers together, so that it can
// be copied in one piece.
func bindCommands(t string) string {
	if !strings.Contains(t, "fitcheck ") {
		return t
	}
	words := strings.Split(t, " ")
	var b strings.Builder
	in, quoted := false, false
	for i, w := range words {
		if i > 0 {
			ends := afterCommand[w] && !strings.HasPrefix(words[i-1], "-")
			if in && (quoted || !ends) {
				b.WriteString(bound)
			} else {
				in = false
				b.WriteString(" ")
			}
		}
		b.WriteString(w)
		if w == "fitcheck" {
			in = true
		}
		if strings.Count(w, "'")%2 == 1 {
			quoted = in && !quoted
		}
		if in && !quoted && (strings.HasSuffix(w, ";") || strings.HasSuffix(w, ",") || strings.HasSuffix(w, ":")) {
			in = false
		}
	}
	return b.String()
}

// Paste completes the commands that a text offers, so that they work as they are
// printed: where the kit was named by a flag, they name it, too. kit is "" where nobody
// named one.
func Paste(t, kit string) string {
	if kit == "" {
		return t
	}
	return offered.ReplaceAllString(t, "fitcheck ${1} -kit "+escape(shell.Quote(kit))+"${2}")
}

func escape(t string) string { return regexp.MustCompile(`\$`).ReplaceAllString(t, "$$$$") }
