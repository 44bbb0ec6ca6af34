package present

import (
	"fmt"
	"strings"

	"fitcheck/core/shell"
)

// Scene introduces one case of the demo: what is at stake, and the command.
func (s *Screen) Scene(n, of int, tale, command string) {
	if n > 1 {
		s.blank()
	}
	rule := s.Width
	if rule <= 0 || rule > 100 {
		rule = 100
	}
	s.line(0, faint, strings.Repeat("=", rule))
	s.line(0, plain, fmt.Sprintf("%d of %d. %s", n, of, tale))
	s.blank()
	s.hanging(s.paint(good, "$ "), 2, strong, command)
}

// DemoSummary lists how the cases came out.
func (s *Screen) DemoSummary(cases []DemoCase, dir string) {
	s.head("How the cases came out")
	for _, c := range cases {
		if c.OK {
			s.hanging("  "+s.paint(good, "as told")+"    ", 13, plain, c.Case+": "+c.Expected)
		} else {
			s.hanging("  "+s.paint(bad, "OTHERWISE")+"  ", 13, plain, fmt.Sprintf("%s: expected %s, got %s", c.Case, c.Expected, c.Got))
		}
	}
	s.blank()
	if dir != "" {
		s.line(0, plain, "The kit is in "+dir+": go there and try the commands yourself.")
	} else {
		s.line(0, plain, "To keep the kit and try the commands yourself: fitcheck demo DIR")
	}
}

// DemoEnd says how to go on after the scenes.
func (s *Screen) DemoEnd(all int) {
	s.blank()
	s.line(0, faint, fmt.Sprintf("fitcheck demo -all tells the whole story (%d cases); fitcheck demo DIR writes the kit, to try things on", all))
}

// DemoKit says where to begin with a kit that was written.
func (s *Screen) DemoKit(dir string, files int, begin []string) {
	s.hanging(s.paint(good, "WRITTEN")+"  ", 9, strong, fmt.Sprintf("the demo kit in %s: %s", dir, count(files, "file")))
	s.head("Where to begin")
	s.line(2, plain, "cd "+shell.Quote(dir))
	for _, b := range begin {
		s.line(2, plain, b)
	}
	s.blank()
	s.line(0, plain, "devices/, rulebooks/ and packages/ are made to be read and changed; fitcheck help tells the rest.")
}

// DemoKitJSON is the document "demo" of a kit that was written.
func DemoKitJSON(dir string, files int) any {
	return struct {
		Fitcheck about  `json:"fitcheck"`
		Kit      string `json:"kit"`
		Files    int    `json:"files"`
	}{about{"demo", Edition}, dir, files}
}
