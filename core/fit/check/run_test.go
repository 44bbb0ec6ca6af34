package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A check that nobody asks would be a promise that no verdict keeps.
func TestChecksAreAsked(t *testing.T) {
	for _, c := range All() {
		if c.Of == "" { // a command of its own asks the others
			assert.NotEmpty(t, c.Scopes(), "the check %s has no run", c.Name)
		}
		assert.NotEmpty(t, c.Doc, c.Name)
		assert.NotEmpty(t, c.Codes, "the check %s can give no reason", c.Name)
	}
}

// The runs of one scope come in the order of the checks, so that the first reason against
// an image is that of the first check.
func TestRunsInOrder(t *testing.T) {
	last := -1
	each(func(c *Check, _ PerImage) {
		assert.GreaterOrEqual(t, c.Order, last, c.Name)
		last = c.Order
	})
	assert.Positive(t, last)
}
