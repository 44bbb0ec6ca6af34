// Package spelling finds what a misspelt name was meant to be.
package spelling

import (
	"strings"

	"github.com/agext/levenshtein"
)

// Nearest is the known name that comes nearest to a text, whatever the case of letters; ""
// where none is near. Of several the first.
func Nearest(text string, known []string) string {
	best, dist := "", len(text)/2+1
	for _, k := range known {
		if n := levenshtein.Distance(strings.ToLower(text), strings.ToLower(k), nil); n < dist {
			best, dist = k, n
		}
	}
	return best
}
