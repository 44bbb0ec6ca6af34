package example

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestInsert(t *testing.T) {
	for name, c := range map[string]struct {
		text string
		keys []string
		want string
	}{
		"at the end":               {"a: 1\n", []string{"examples"}, "a: 1\n\nexamples:\n  - x\n"},
		"below others":             {"examples:\n  - a\n  # said\n  - b   # two\n\nz: 1\n", []string{"examples"}, "examples:\n  - a\n  # said\n  - b   # two\n  - x\n\nz: 1\n"},
		"not indented":             {"examples:\n- a\nz: 1\n", []string{"examples"}, "examples:\n- a\n- x\nz: 1\n"},
		"nested":                   {"hops:\n  upward: open\n  rules:\n    - a\n  downward: closed\nz: 1\n", []string{"hops", "rules"}, "hops:\n  upward: open\n  rules:\n    - a\n    - x\n  downward: closed\nz: 1\n"},
		"nested, missing":          {"hops:\n    upward: open\n\nz: 1", []string{"hops", "rules"}, "hops:\n    upward: open\n    rules:\n      - x\n\nz: 1\n"},
		"a comment behind the key": {"examples:   # held\n  - a\n", []string{"examples"}, "examples:   # held\n  - a\n  - x\n"},
		"nothing at all":           {"", []string{"examples"}, "examples:\n  - x\n"},
	} {
		got, ok := Insert(c.text, c.keys, []string{"- x"})
		assert.True(t, ok, name)
		assert.Equal(t, c.want, got, name)
	}
	_, ok := Insert("examples: []\n", []string{"examples"}, []string{"- x"})
	assert.False(t, ok)
	_, ok = Insert("hops: {upward: open}\n", []string{"hops", "rules"}, []string{"- x"})
	assert.False(t, ok)
}
