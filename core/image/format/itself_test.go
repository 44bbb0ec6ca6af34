package format_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A header may say that a part is the whole of what it stands in; that is told, and not entered.
func TestPartThatIsItsWhole(t *testing.T) {
	program := selfUnpacking()
	le.PutUint32(program[8:], 0)
	le.PutUint32(program[12:], uint32(len(program)))
	m := readSample(t, program)
	if assert.NotNil(t, m) {
		assert.Contains(t, strings.Join(m.Damaged(), "\n"), "its part kernel is said to begin where it begins itself")
	}
}
