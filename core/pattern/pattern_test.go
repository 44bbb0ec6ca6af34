package pattern_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	_ "fitcheck/core/draft"
	_ "fitcheck/core/notes"
	"fitcheck/core/pattern"
)

// All expressions of the program that are compiled when they are used do compile.
func TestAllPatternsCompile(t *testing.T) {
	assert.NotPanics(t, func() { assert.Greater(t, pattern.Compile(), 100) })
}

func TestOneThatDoesNotCompile(t *testing.T) {
	assert.Panics(t, func() { pattern.New("(").MatchString("x") })
}
