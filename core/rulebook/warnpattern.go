package rulebook

import (
	"fmt"
	"path"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	y "fitcheck/core/yamlfile"
)

// What patterns and globs are hardly meant to be: open at an end, so large that they are slow,
// hidden by another that comes first, or such that nothing can match them.

// patterns goes through the patterns of versions and packages.
func (w *warner) patterns() {
	for _, e := range w.r.Versions.Entries {
		w.anchored(e.Value.Pattern, "versions", "it would read only a part of a version, and take 8.4.2 for 8.4")
		w.large(e.Value.Pattern)
	}
	for i := range w.r.Packages {
		p := &w.r.Packages[i]
		w.anchored(p.File, "names", "it reads names that hold such a name, too")
		w.large(p.File)
		if m := p.Manifest; m != nil {
			w.large(m.Record)
			w.large(m.Heading)
		}
		for k := range p.Items {
			w.large(p.Items[k].Title)
		}
		w.hidden(i)
		w.globs(p)
	}
}

// anchored warns of a pattern that is open at an end.
func (w *warner) anchored(p y.Pattern, of, why string) {
	if !p.Set() {
		return
	}
	tree, err := syntax.Parse(p.Regexp.String(), syntax.Perl)
	if err != nil {
		return
	}
	tree = tree.Simplify()
	var open []string
	if !anchoredAt(tree, syntax.OpBeginText, false) {
		open = append(open, "^ at its beginning")
	}
	if !anchoredAt(tree, syntax.OpEndText, true) {
		open = append(open, "$ at its end")
	}
	if len(open) > 0 {
		w.warn(p.Spot, "add "+strings.Join(open, " and "), "the pattern of %s is not anchored: %s", of, why)
	}
}

// anchoredAt tells whether every match has an anchor at its first or last part, or something there
// that may be anything.
func anchoredAt(re *syntax.Regexp, anchor syntax.Op, last bool) bool {
	switch re.Op {
	case anchor:
		return true
	case syntax.OpStar: // ".*" at an end says that anything may stand there
		return re.Sub[0].Op == syntax.OpAnyCharNotNL || re.Sub[0].Op == syntax.OpAnyChar
	case syntax.OpCapture:
		return anchoredAt(re.Sub[0], anchor, last)
	case syntax.OpConcat:
		if n := len(re.Sub); n > 0 && last {
			return anchoredAt(re.Sub[n-1], anchor, last)
		}
		return len(re.Sub) > 0 && anchoredAt(re.Sub[0], anchor, last)
	case syntax.OpAlternate:
		return !slices.ContainsFunc(re.Sub, func(s *syntax.Regexp) bool { return !anchoredAt(s, anchor, last) })
	}
	return false
}

// maxStates is how many states a pattern may have before it is told to be slow.
const maxStates = 3000

func (w *warner) large(p y.Pattern) {
	if !p.Set() {
		return
	}
	tree, err := syntax.Parse(p.Regexp.String(), syntax.Perl)
	if err != nil {
		return
	}
	if prog, err := syntax.Compile(tree.Simplify()); err == nil && len(prog.Inst) > maxStates {
		w.warn(p.Spot, "repeat less: {1,64} in place of {1,1000}, and no repetition within another", "the pattern has %d states, and is slow wherever it is tried", len(prog.Inst))
	}
}

// Samples are texts that a pattern matches: for each group that is named version the versions
// that are given, for each choice each of its alternatives, up to a bound.
func Samples(re *regexp.Regexp, versions []string) []string {
	tree, err := syntax.Parse(re.String(), syntax.Perl)
	if err != nil {
		return nil
	}
	var out []string
	for _, t := range sample(tree, versions) {
		if re.MatchString(t) && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}

const maxSamples = 24

func sample(re *syntax.Regexp, versions []string) []string {
	switch re.Op {
	case syntax.OpLiteral:
		return []string{string(re.Rune)}
	case syntax.OpCharClass:
		return []string{string(plainest(re.Rune))}
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		return []string{"x"}
	case syntax.OpCapture:
		if re.Name == "version" && len(versions) > 0 {
			return slices.Concat(versions[:min(len(versions), 4)], sample(re.Sub[0], versions)[:1])
		}
		return sample(re.Sub[0], versions)
	case syntax.OpStar, syntax.OpQuest:
		return []string{""}
	case syntax.OpPlus:
		return sample(re.Sub[0], versions)
	case syntax.OpRepeat:
		one := sample(re.Sub[0], versions)[0]
		return []string{strings.Repeat(one, min(re.Min, 64))}
	case syntax.OpAlternate:
		var out []string
		for _, s := range re.Sub {
			out = append(out, sample(s, versions)...)
		}
		return out[:min(len(out), maxSamples)]
	case syntax.OpConcat:
		out := []string{""}
		for _, s := range re.Sub {
			var next []string
			for _, head := range out {
				for _, tail := range sample(s, versions) {
					next = append(next, head+tail)
				}
			}
			out = next[:min(len(next), maxSamples)]
		}
		return out
	}
	return []string{""}
}

// plainest picks a digit or letter of a class of characters, where it holds one.
func plainest(ranges []rune) rune {
	for _, want := range []rune{'1', 'a', 'A', '.'} {
		for i := 0; i+1 < len(ranges); i += 2 {
			if ranges[i] <= want && want <= ranges[i+1] {
				return want
			}
		}
	}
	if len(ranges) == 0 {
		return 'x'
	}
	return ranges[0]
}

// listed are the versions of the rulebook, as many as tell.
func (r *Rulebook) listed() []string {
	var out []string
	for i := range r.Releases {
		if i == 3 {
			break
		}
		out = append(out, r.Releases[i].Version.Text)
	}
	return out
}

// hidden finds entries, and rules for items, whose every name one before them takes.
func (w *warner) hidden(i int) {
	p := &w.r.Packages[i]
	if p.File.Set() {
		names := Samples(p.File.Regexp, w.r.listed())
		for k := range i {
			o := &w.r.Packages[k]
			if !o.File.Set() || len(names) == 0 || slices.ContainsFunc(names, func(n string) bool { return !o.File.MatchString(n) }) {
				continue
			}
			w.warn(p.File.Spot, "put the narrower pattern first, or correct one of the two", "the entry in line %d comes first and takes such names: %s", o.Line, names[0])
			break
		}
	}
	for k := range p.Items {
		for j := range k {
			a, b := &p.Items[j], &p.Items[k]
			if !a.Match.Set() || !b.Match.Set() {
				continue
			}
			names := globSamples(b.Match.Pattern)
			if !slices.ContainsFunc(names, func(n string) bool { return !a.Match.Match(n) }) {
				w.warn(b.Match.Spot, "put the narrower glob first, or take one of the two out", "the glob %s never decides: %s in line %d comes first and matches all that it would", b.Match.Pattern, a.Match.Pattern, a.Line)
				break
			}
		}
	}
}

// globSamples are paths that a glob matches, deep and shallow ones.
func globSamples(glob string) []string {
	var out []string
	for _, deep := range []string{"", "x/", "x/yy/z/"} {
		t := strings.ReplaceAll(glob, "**/", deep)
		t = strings.ReplaceAll(t, "**", "q/w")
		for _, star := range []string{"", "r", "stu-1"} {
			out = append(out, strings.NewReplacer("*", star, "?", "v").Replace(t))
		}
	}
	return slices.DeleteFunc(out, func(t string) bool { return strings.ContainsAny(t, "[]{}") })
}

// archived are ends of the names of archives.
var archived = regexp.MustCompile(`(?i)\.(?:zip|tar|tgz|tbz2?|txz|7z|iso|cpio|rpm|tar\.\w+)$`)

// globs warns of globs that can match nothing inside an archive: an address begins with the
// package's own name.
func (w *warner) globs(p *Package) {
	if !p.File.Set() {
		return
	}
	names := Samples(p.File.Regexp, w.r.listed())
	if len(names) == 0 || slices.ContainsFunc(names, func(n string) bool { return !archived.MatchString(n) }) {
		return
	}
	for _, g := range p.Globs() {
		first, rest, deep := strings.Cut(g.Pattern, "/")
		_, err := path.Match(first, names[0])
		ok := err != nil || strings.HasPrefix(first, "**") || slices.ContainsFunc(names, func(n string) bool { m, _ := path.Match(first, n); return m })
		switch {
		case !deep && !strings.HasPrefix(first, "**"):
			w.warn(g.Spot, fmt.Sprintf("write **/%s", g.Pattern), "the glob %s matches nothing inside an archive: it sees whole addresses, such as %s/folder/x", g.Pattern, names[0])
		case deep && !ok:
			w.warn(g.Spot, fmt.Sprintf("write **/%s", g.Pattern), "the glob %s matches nothing inside an archive: an address begins with the package's own name, as in %s/%s", g.Pattern, names[0], rest)
		}
	}
}

// readsNone warns of a pattern whose version group reads none of the versions
// that the rulebook lists.
func (w *warner) readsNone(p y.Pattern) {
	if !p.Set() || len(w.r.Releases) == 0 {
		return
	}
	group := groupPattern(p.Regexp, "version")
	if group == nil {
		return
	}
	for i := range w.r.Releases {
		rel := &w.r.Releases[i]
		texts := []string{rel.Version.Text}
		for _, b := range rel.Brings.Entries {
			texts = append(texts, b.Value.Text)
		}
		for _, t := range texts {
			if group.MatchString(t) || group.MatchString("v"+t) || w.compact() && group.MatchString(squeezed.Replace(t)) {
				return
			}
		}
	}
	w.warn(p.Spot, "correct the group (?P<version>…) of the pattern", "the pattern reads none of the versions that the rulebook lists")
}

// compact tells whether names may write versions run together.
func (w *warner) compact() bool {
	return slices.ContainsFunc(w.r.Versions.Entries, func(e *y.Entry[VersionPattern]) bool { return e.Value.Compact })
}

var squeezed = strings.NewReplacer(".", "", " ", "", "(", "", ")", "", "-", "", "_", "")

// groupPattern is the part of a pattern inside a named group, for a whole
// text.
func groupPattern(re *regexp.Regexp, name string) *regexp.Regexp {
	tree, err := syntax.Parse(re.String(), syntax.Perl)
	if err != nil {
		return nil
	}
	var find func(t *syntax.Regexp) *syntax.Regexp
	find = func(t *syntax.Regexp) *syntax.Regexp {
		if t.Op == syntax.OpCapture && t.Name == name {
			return t.Sub[0]
		}
		for _, s := range t.Sub {
			if found := find(s); found != nil {
				return found
			}
		}
		return nil
	}
	found := find(tree)
	if found == nil {
		return nil
	}
	out, err := regexp.Compile("^(?:" + found.String() + ")$")
	if err != nil {
		return nil
	}
	return out
}
