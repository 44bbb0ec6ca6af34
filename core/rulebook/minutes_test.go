package rulebook

import (
	"testing"

	"github.com/stretchr/testify/assert"

	y "fitcheck/core/yamlfile"
)

func TestMinutes(t *testing.T) {
	for text, want := range map[string]MinuteSpan{
		"12": {12, 12, true}, "0": {0, 0, true}, "10-20": {10, 20, true}, "10–20": {10, 20, true}, " 10 - 20 ": {10, 20, true}, "5-5": {5, 5, true}, "1048576": {1 << 20, 1 << 20, true}, "0-1048576": {0, 1 << 20, true},
	} {
		var m MinuteSpan
		if assert.NoError(t, m.ReadScalar(text, y.Spot{}), text) {
			assert.Equal(t, want, m, text)
		}
	}
	for _, text := range []string{"", "x", "20-10", "-5", "1048577", "0-1048577", "5-", "-", "1-2-3", "1.5"} {
		var m MinuteSpan
		assert.ErrorContains(t, m.ReadScalar(text, y.Spot{}), "is not a number of minutes", text)
	}
}
