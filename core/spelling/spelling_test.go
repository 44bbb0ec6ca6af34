package spelling

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	known := []string{"latest", "QM-8T", "QM-24T", "QM-8X"}
	for text, want := range map[string]string{"lastest": "latest", "qm8t": "QM-8T", "QM-8": "QM-8T", "QM-24": "QM-24T", "VX-900": "", "": ""} {
		assert.Equal(t, want, Nearest(text, known), text)
	}
}
