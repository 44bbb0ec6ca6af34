package rulebook

import (
	"regexp"
	"regexp/syntax"
	"strings"

	"github.com/agext/levenshtein"
)

// NearEnough is how alike a line and a pattern must be at least to be told together.
const NearEnough = 0.45

// lengths is by how many letters the beginning of a line may be longer or shorter than what a
// pattern holds.
const lengths = 6

// Alike tells how much the fixed letters of a pattern are those at the beginning of a line.
func Alike(re *regexp.Regexp, line string) float64 {
	tree, err := syntax.Parse(re.String(), syntax.Perl)
	if err != nil {
		return 0
	}
	var b strings.Builder
	fixed(tree, &b)
	want := strings.ToLower(strings.Join(strings.Fields(b.String()), " "))
	have := strings.ToLower(strings.Join(strings.Fields(line), " "))
	if len(want) < 3 {
		return 0
	}
	best := 0.0
	for n := max(0, len(want)-lengths); n <= len(want)+lengths; n++ { // the words may be longer or shorter
		best = max(best, levenshtein.Similarity(want, have[:min(len(have), n)], nil))
		if n >= len(have) {
			break
		}
	}
	return best
}

// fixed writes the letters that a pattern always holds.
func fixed(re *syntax.Regexp, b *strings.Builder) {
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpConcat:
		for _, s := range re.Sub {
			fixed(s, b)
		}
	case syntax.OpCapture:
	case syntax.OpPlus, syntax.OpStar, syntax.OpCharClass, syntax.OpAnyCharNotNL:
		b.WriteByte(' ')
	}
}
