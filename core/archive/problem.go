package archive

import (
	"regexp"
	"strings"
)

// varies are the parts of a sentence that differ from one problem of a kind to the next:
// names, addresses, digests, numbers.
var varies = regexp.MustCompile(`"[^"]*"|\S*(?:::|/)\S*|\b[0-9a-f]{8,}\b|0x[0-9a-f]+|[0-9]+`)

// Kind is what problems that differ only in names and numbers have in common: their class and
// what they say, with … for what varies.
func (p Problem) Kind() string {
	return string(p.Class) + ": " + varies.ReplaceAllString(p.What, "…") + " " + varies.ReplaceAllString(p.Advice, "…")
}

// OfKind are problems of one kind.
type OfKind struct {
	Kind     string
	Problems []Problem
}

// ByKind groups problems, in the order in which kinds first come up. Problems of one kind stay
// in their order.
func ByKind(all []Problem) []OfKind {
	var out []OfKind
	at := map[string]int{}
	for _, p := range all {
		k := p.Kind()
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, OfKind{Kind: k})
		}
		out[i].Problems = append(out[i].Problems, p)
	}
	return out
}

// Phrase is the sentence that a kind of problems has in common.
func (k OfKind) Phrase() string {
	if len(k.Problems) == 1 {
		return k.Problems[0].What
	}
	first := k.Problems[0].What
	for _, p := range k.Problems {
		if p.What != first {
			return strings.TrimSpace(varies.ReplaceAllString(first, "…"))
		}
	}
	return first
}
