package path

import (
	"cmp"
	"slices"

	"github.com/agext/levenshtein"
)

// nearest names known releases that are close to a version that is not listed:
// in the order of versions, or by spelling where the text is no version.
func (l *line) nearest(text string) []string {
	var listed []int
	for i := range l.candidates {
		if l.candidates[i].listed {
			listed = append(listed, i)
		}
	}
	const most = 4
	v, err := l.scheme.Parse(text)
	at := l.index(v)
	distance := func(i int) int {
		if err != nil {
			return levenshtein.Distance(text, l.versions[i].Text, nil)
		}
		return max(at-1-i, i-at)
	}
	slices.SortStableFunc(listed, func(a, b int) int { return cmp.Or(distance(a)-distance(b), b-a) })
	listed = listed[:min(most, len(listed))]
	slices.Sort(listed)
	var out []string
	for _, i := range slices.Backward(listed) {
		out = append(out, l.versions[i].Text)
	}
	return out
}
