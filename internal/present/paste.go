package present

import (
	"regexp"

	"fitcheck/core/shell"
)

// offered finds commands that a text offers, up to the name.
var offered = regexp.MustCompile(`\bfitcheck (device|survey|header|match|path|stage|runbook|confirm|recover|notes|unpack|stand-in|rulebook (?:check|draft))( -[a-z]| \S*[./]\S*[^.\s])`)

// paste completes the commands that a text offers, so that they work as they are
// printed: where the kit was named by a flag, they name it, too.
func (s *Screen) paste(t string) string { return Paste(t, s.Kit) }

// Paste is the same for a text that goes elsewhere. kit is "" where nobody named one.
func Paste(t, kit string) string {
	if kit == "" {
		return t
	}
	return offered.ReplaceAllString(t, "fitcheck ${1} -kit "+escape(shell.Quote(kit))+"${2}")
}

func escape(t string) string { return regexp.MustCompile(`\$`).ReplaceAllString(t, "$$$$") }
