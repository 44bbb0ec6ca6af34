package notes

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A word is held where nothing of a name stands around it.
func TestHoldsWord(t *testing.T) {
	for text, want := range map[string]bool{
		"qm-8t": true, "the qm-8t runs": true, "(qm-8t)": true, "qm-8t,": true, "": false, "qm-8": false,
		"qm-8ta": false, "qm-8tz": false, "qm-8t0": false, "qm-8t9": false, "qm-8t-": false, "qm-8t_": false,
		"aqm-8t": false, "zqm-8t": false, "0qm-8t": false, "9qm-8t": false, "-qm-8t": false, "_qm-8t": false,
		"qm-8t2 and qm-8t": true, "xqm-8t, qm-8t": true, "qm-8tqm-8t": false, "qm-8t.": true, "/qm-8t/": true, "qm-8t{": true, "`qm-8t": true, ":qm-8t": true,
	} {
		assert.Equal(t, want, holdsWord(text, "qm-8t"), text)
	}
	assert.False(t, holdsWord("anything", ""))
}
