package image

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

// An image has so many parts, and no more; one that is beyond can be marked all the same.
func TestPartsAreBounded(t *testing.T) {
	m := &Image{}
	for i := range MaxParts {
		m.Part(fmt.Sprint(i), int64(i), 1)
	}
	assert.Len(t, m.Parts, MaxParts)
	assert.Equal(t, fmt.Sprint(MaxParts-1), m.Parts[MaxParts-1].Name)
	m.Part("beyond", 1, 1).Guess = true
	assert.Len(t, m.Parts, MaxParts)
}
