package pagetest

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Changes tells in which lines something differs from what it was. What it has told of one place it does not tell of
// another.
type Changes struct {
	Sound []string
	// Alike is what differs from place to place, and makes no other line.
	Alike *regexp.Regexp
	// Most is how many bytes of a line are written; 0 for all of them. See Cut.
	Most int
	told map[string]bool

	all     Sum
	differs bool
}

// Tell writes the lines that were there and are not now, and those that are new.
func (c *Changes) Tell(b *strings.Builder, what string, now []string) {
	if c.told == nil {
		c.told = map[string]bool{}
	}
	for _, side := range []struct {
		sign       string
		some, rest []string
	}{{"-", c.Sound, now}, {"+", now, c.Sound}} {
		for _, l := range side.some {
			if slices.Contains(side.rest, l) {
				continue
			}
			c.differs = true
			c.all.Add("%s: %s %s", what, side.sign, l)
			alike := side.sign + c.Alike.ReplaceAllString(l, "…")
			if c.told[alike] {
				continue
			}
			c.told[alike] = true
			if l = strings.TrimSpace(l); c.Most > 0 {
				l = Cut(l, c.Most)
			}
			fmt.Fprintf(b, "%s: %s %s\n", what, side.sign, l)
		}
	}
}

// End writes a sum over all that differed since the last one, told or not, so that what is told of another place already is
// held, too.
func (c *Changes) End(b *strings.Builder, what string) {
	if c.differs {
		fmt.Fprintf(b, "%s: in all %s\n", what, &c.all)
	}
	c.differs = false
}
