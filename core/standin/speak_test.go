package standin

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What is said by a pattern is the shortest and most readable text that it reads.
func TestShortestWords(t *testing.T) {
	for pattern, want := range map[string]string{
		`^a+b$`: "ab", `^a*b$`: "b", `^a?b$`: "b", `^a{3}b$`: "aaab", `^a{0,4}b$`: "b", `^a{2,}b$`: "aab", `^\s*x`: " x", `^\s+x`: " x", `^\S+$`: "x", `^\d\d:\d\d$`: "00:00",
		`^[A-Z]{2}$`: "AA", `^[^a-z ]$`: "0", `^[!-/]$`: "-", `^[#-&]$`: "#", `^[\x00-\x1f!]$`: "!", `^(?:one|two)$`: "one", `^.$`: "-", `^(a|b)c$`: "ac",
		`^end\b`: "end", `^$`: "", `^[[:punct:]]$`: "-", `^[b-y]$`: "x", `^[b-w]$`: "b", `^[1-9]$`: "1", `^[B-Z]$`: "B",
	} {
		re := regexp.MustCompile(pattern)
		line, ok := speak(re, nil, "")
		assert.True(t, ok, pattern)
		assert.Equal(t, want, line, pattern)
		assert.True(t, re.MatchString(line), pattern)
	}
	for pattern, c := range map[string]struct {
		values map[string]string
		want   string
	}{
		`^(?P<a>\w+)(?: of (?P<b>\w+))?$`:                                 {map[string]string{"a": "slot"}, "slot"},
		`^(?P<a>\w+)(?: of (?P<b>\w+))? end$`:                             {map[string]string{"a": "slot", "b": "two"}, "slot of two end"},
		`^(?:empty|(?P<a>\d+))$`:                                          {map[string]string{"a": "7"}, "7"},
		`^(?:empty|(?P<a>\d+))$ `:                                         {nil, ""},
		`^x(?:,(?P<a>\d))*$`:                                              {map[string]string{"a": "3"}, "x,3"},
		`^x(?:,(?P<a>\d)){0,5}$`:                                          {map[string]string{"a": "3"}, "x,3"},
		`^(?P<name>\w)\s{2}(?P<on>\*)?$`:                                  {map[string]string{"name": "B", "on": mark}, "B  *"},
		`^(?P<name>\w)\s*(?P<on>on)?$`:                                    {map[string]string{"name": "B"}, "B "},
		`^(?P<size>\d{1,3})(?P<unit>[KM]) (?P<name>\S+) (?P<rest>.*end)$`: {map[string]string{"size": "12", "unit": "M", "name": "a.img"}, "12M a.img end"},
	} {
		line, ok := speak(regexp.MustCompile(pattern), c.values, "")
		if c.want == "" {
			assert.False(t, ok, pattern)
			continue
		}
		assert.True(t, ok, pattern)
		assert.Equal(t, c.want, line, pattern)
	}
	_, ok := speak(regexp.MustCompile(`^(?P<a>\d+)$`), map[string]string{"a": "seven"}, "")
	assert.False(t, ok, "what the pattern cannot read is not said")
}
