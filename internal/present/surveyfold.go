package present

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"fitcheck/core/archive"
	"fitcheck/core/fact"
	"fitcheck/core/image"
	"fitcheck/core/survey"
)

// A survey that is longer than a screen is folded: a line for each item that matters, most
// telling first to be kept, and counts for the rest.
const (
	screenLines = 36 // what is left of 40 with the call and the prompt
	foldedItems = 18
	// foldedRegions is how many regions a map may have that is shown all the same.
	foldedRegions = 16
	foldedFault   = 4 // problems that are told, and
	foldedNotes   = 2 // notes
)

// Survey shows what is in a package: first whether something is wrong, then the items, then
// the problems with advice. What is longer than a screen is folded, unless all of it is
// asked for.
func (s *Screen) Survey(v *survey.Survey) {
	shown := s.telling(v)
	switch {
	case s.All:
		s.surveyInFull(v, shown)
		return
	case len(shown) <= screenLines: // each takes a line at least
		full := &bytes.Buffer{}
		whole := *s
		whole.Out = full
		whole.surveyInFull(v, shown)
		if bytes.Count(full.Bytes(), []byte{'\n'}) <= screenLines {
			s.Out.Write(full.Bytes())
			return
		}
	}
	s.surveyHead(v)
	s.surveyItems(v)
	problems, notes := split(v.Problems)
	s.folded("What is wrong", bad, v.Name, problems, foldedFault)
	s.folded("Worth knowing", info, v.Name, notes, foldedNotes)
}

// itemWeight says how much an item matters to somebody who looks at a survey.
func itemWeight(it *survey.Item) int {
	problems, _ := split(it.Problems)
	inner := it.Part || it.Within
	switch {
	case len(problems) > 0:
		return 0
	case it.Depth == 0 && it.Container != archive.None:
		return 1
	case it.Role != "":
		return 2
	case it.Firmware() && !inner && (it.Component() != "" || len(ofName(it.Image.All(), image.Linux)) > 0), it.Contents != nil:
		return 3
	case it.Firmware() && !inner && it.Kind != "elf" && it.Kind != "dtb": // modules and trees come in hundreds
		return 4
	case it.Firmware():
		return 5
	}
	return 9
}

func (s *Screen) surveyItems(v *survey.Survey) {
	order := make([]int, 0, len(v.Items))
	for i, it := range v.Items {
		if itemWeight(it) < 9 {
			order = append(order, i)
		}
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(itemWeight(v.Items[a]), itemWeight(v.Items[b])) })
	if len(order) > foldedItems {
		order = order[:foldedItems]
	}
	slices.Sort(order)
	shown := map[*survey.Item]bool{}
	for _, i := range order {
		it := v.Items[i]
		shown[it] = true
		s.foldedItem(v, it)
	}
	rest := map[string]int{}
	n := 0
	for _, it := range v.Items {
		if !shown[it] {
			rest[it.Kind]++
			n++
		}
	}
	if n == 0 {
		return
	}
	kinds := slices.SortedFunc(maps.Keys(rest), func(a, b string) int { return cmp.Or(cmp.Compare(rest[b], rest[a]), cmp.Compare(a, b)) })
	var of []string
	for _, k := range kinds[:min(len(kinds), 6)] {
		of = append(of, fmt.Sprintf("%d %s", rest[k], k))
	}
	if len(kinds) > 6 {
		of = append(of, "others")
	}
	s.line(2, faint, fmt.Sprintf("and %s (%s); -all lists every item with its digests", count(n, "more item"), strings.Join(of, ", ")))
}

// foldedItem is the line of an item: what it is, and what it says of itself.
func (s *Screen) foldedItem(v *survey.Survey, it *survey.Item) {
	mark, st := "  ", plain
	if p, _ := split(it.Problems); len(p) > 0 {
		mark, st = "! ", bad
	}
	what := []string{it.Kind, it.Role, it.Component(), Bytes(it.Size)}
	what = slices.DeleteFunc(what, func(t string) bool { return t == "" })
	t := fmt.Sprintf("%s  (%s)", strings.TrimPrefix(within(v.Name, it.Address), "::"), strings.Join(what, ", "))
	var says []string
	for _, n := range []fact.Name{fact.Model, fact.Revision, fact.Version, fact.Arch} {
		if text := saidOf(it, n); text != "" {
			says = append(says, foldedWords[n]+text)
		}
	}
	if it.Image != nil {
		if text := fact.Values(ofName(it.Image.All(), image.Linux)); text != "" {
			says = append(says, "linux "+text)
		}
	}
	if c := it.Contents; c != nil {
		says = append(says, contentsText(c))
		if text := factsText(c.Facts); text != "" {
			says = append(says, text)
		}
	}
	if len(says) > 0 {
		t += "  " + strings.Join(says, "; ")
	}
	s.oneLine(s.paint(st, mark), 2, t)
	if n := len(it.Map); n > 0 && n <= foldedRegions {
		s.deepMap(it.Map, it.Size, 6)
	}
}

// foldedWords lead what an item says of a thing.
var foldedWords = map[fact.Name]string{fact.Model: "for ", fact.Revision: "rev ", fact.Version: "version "}

// saidOf is what the strongest source says of an item that says anything of a thing.
func saidOf(it *survey.Item, n fact.Name) string {
	for _, kind := range []fact.Kind{fact.Manifest, fact.Header, fact.FileName} {
		if w, ok := it.Witness(kind); ok {
			if text := fact.Values(w.About(n)); text != "" {
				return text
			}
		}
	}
	if it.Image != nil {
		return fact.Values(ofName(it.Image.All(), n))
	}
	return ""
}

// oneLine writes a text that is cut where the line ends.
func (s *Screen) oneLine(lead string, indent int, t string) {
	if lines := s.wrap(Safe(t), indent); len(lines) > 1 {
		t = lines[0] + " …"
	}
	fmt.Fprintln(s.Out, lead+Safe(t))
}

// folded tells the first problems of each kind, and counts the others.
func (s *Screen) folded(title string, st style, pkg string, all []archive.Problem, most int) {
	if len(all) <= most {
		s.problems(title, st, pkg, all)
		return
	}
	s.problems(title, st, pkg, all[:most])
	s.line(4, faint, fmt.Sprintf("and %d more; -all tells every one", len(all)-most))
}
