package present

import (
	"fmt"
	"strings"
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
