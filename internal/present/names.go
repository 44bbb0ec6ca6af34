package present

import (
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/maruel/natural"
)

// numberedName is a name that ends in a number.
var numberedName = regexp.MustCompile(`^(.*?)(\d+)$`)

// ranges shortens a list of names: of three and more that follow each other the first and the
// last stand there, "ap-01–ap-17". The list is sorted as people count.
func ranges(names []string) []string {
	names = slices.Clone(names)
	slices.SortFunc(names, natural.Compare)
	var out []string
	for i := 0; i < len(names); {
		k := i + 1
		for k < len(names) && follows(names[k-1], names[k]) {
			k++
		}
		if k-i > 2 {
			out = append(out, names[i]+"–"+names[k-1])
		} else {
			out = append(out, names[i:k]...)
		}
		i = k
	}
	return out
}

// follows tells whether a name is the next of another: ap-08 and ap-09.
func follows(a, b string) bool {
	x, y := numberedName.FindStringSubmatch(a), numberedName.FindStringSubmatch(b)
	if x == nil || y == nil || x[1] != y[1] {
		return false
	}
	n, err1 := strconv.ParseUint(x[2], 10, 63)
	m, err2 := strconv.ParseUint(y[2], 10, 63)
	return err1 == nil && err2 == nil && m == n+1 && (len(x[2]) == len(y[2]) || !strings.HasPrefix(x[2], "0") && !strings.HasPrefix(y[2], "0"))
}
