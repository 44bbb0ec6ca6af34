package fit

import (
	"cmp"
	"fmt"
	"iter"
	"slices"
	"strings"

	"fitcheck/core/device"
	"fitcheck/core/fit/check"
	"fitcheck/core/rulebook"
	"fitcheck/core/survey"
)

// Only is one rulebook for every model; it may be nil.
func Only(rb *rulebook.Rulebook) Rulebooks {
	return func(string) *rulebook.Rulebook { return rb }
}

// MatchAll judges several packages for one device, and puts the best first.
// Packages that complete each other, such as the halves of a pair that were
// downloaded as two files, are judged together as one set where that settles
// what is missing in each; all others one by one.
func MatchAll(d *device.Device, rules Rulebooks, all []*survey.Survey, o Options) []*Verdict {
	verdicts := make([]*Verdict, len(all))
	for i, s := range all {
		verdicts[i] = Match(d, rules, s, o)
	}
	var sets []set
	for i := range all {
		if verdicts[i].incomplete() {
			if s := complete(d, rules, all, verdicts, i, o); len(s.packages) > 1 {
				sets = append(sets, s)
			}
		}
	}
	slices.SortStableFunc(sets, func(a, b set) int { return Better(a.verdict, b.verdict) })
	taken := map[int]bool{}
	var out []*Verdict
	for _, s := range sets {
		if slices.ContainsFunc(s.packages, func(i int) bool { return taken[i] }) {
			continue
		}
		for _, i := range s.packages {
			taken[i] = true
		}
		s.verdict.Notes = append(s.verdict.Notes, fmt.Sprintf("%d packages were judged together as one set: their files complete each other", len(s.packages)))
		out = append(out, s.verdict)
	}
	for i, v := range verdicts {
		if !taken[i] {
			out = append(out, v)
		}
	}
	slices.SortStableFunc(out, Better)
	return out
}

// set is packages that are judged together.
type set struct {
	packages []int
	verdict  *Verdict
}

// complete adds to a package, one by one, the one that serves best of those
// that bring what is lacking.
func complete(d *device.Device, rules Rulebooks, all []*survey.Survey, verdicts []*Verdict, first int, o Options) set {
	have := set{[]int{first}, verdicts[first]}
	for {
		var best set
		for k := range all {
			if slices.Contains(have.packages, k) || !verdicts[k].complements(have.verdict) {
				continue
			}
			var surveys []*survey.Survey
			for _, i := range append(slices.Clone(have.packages), k) {
				surveys = append(surveys, all[i])
			}
			v := Match(d, rules, survey.Join(surveys...), o)
			better := v.misfits() < have.verdict.misfits() || v.misfits() == have.verdict.misfits() && halves(have.verdict, v)
			if better && v.usesAll(surveys) && (best.verdict == nil || Better(v, best.verdict) < 0) {
				best = set{append(slices.Clone(have.packages), k), v}
			}
		}
		if best.verdict == nil {
			return have
		}
		have = best
		if !have.verdict.incomplete() {
			return have
		}
	}
}

// halves tells whether a pair that one lacked a half of is there in the set,
// if perhaps at two versions.
func halves(one, set *Verdict) bool {
	has := func(v *Verdict, name string) bool {
		for c := range v.All() {
			if c.Check == name && c.Outcome == Misfit {
				return true
			}
		}
		return false
	}
	return has(one, check.Paired) && !has(set, check.Complete)
}

// incomplete tells whether all that keeps a package from fitting is that
// something is not in it.
func (v *Verdict) incomplete() bool {
	bad := 0
	for c := range v.All() {
		if c.Outcome != Misfit {
			continue
		}
		if !check.Find(c.Check).Lacking {
			return false
		}
		bad++
	}
	return bad > 0
}

// complements tells whether two packages each bring what the other has not: a
// component, or an image for a member.
func (v *Verdict) complements(other *Verdict) bool {
	if v.Outcome == Misfit && !v.incomplete() || v.Package == other.Package {
		return false
	}
	mine, theirs := v.brings(), other.brings()
	return without(mine, theirs) && without(theirs, mine)
}

// brings lists what is chosen for which member, without its version.
func (v *Verdict) brings() map[[2]string]bool {
	out := map[[2]string]bool{}
	for _, m := range v.Members {
		for _, c := range m.Chosen {
			out[[2]string{m.Name, c.Component}] = true
		}
	}
	return out
}

// without tells whether one holds something that the other does not.
func without(a, b map[[2]string]bool) bool {
	for k := range a {
		if !b[k] {
			return true
		}
	}
	return false
}

// usesAll tells whether an image of every package of a set is chosen.
func (v *Verdict) usesAll(parts []*survey.Survey) bool {
	for _, p := range parts {
		used := false
		for _, m := range v.Members {
			for _, c := range m.Chosen {
				used = used || c.Item == p.Name || strings.HasPrefix(c.Item, p.Name+"::")
			}
		}
		if !used {
			return false
		}
	}
	return true
}

func (v *Verdict) misfits() int {
	n := 0
	for c := range v.All() {
		if c.Outcome == Misfit {
			n++
		}
	}
	return n
}

// All goes through the checks of the package and of every member.
func (v *Verdict) All() iter.Seq[*Check] {
	return func(yield func(*Check) bool) {
		for i := range v.Checks {
			if !yield(&v.Checks[i]) {
				return
			}
		}
		for m := range v.Members {
			for i := range v.Members[m].Checks {
				if !yield(&v.Members[m].Checks[i]) {
					return
				}
			}
		}
	}
}

// Deciding lists the checks that made the verdict what it is, by name.
func (v *Verdict) Deciding() []string {
	var out []string
	for c := range v.All() {
		if c.Outcome == v.Outcome && v.Outcome != Fits && !slices.Contains(out, c.Check) {
			out = append(out, c.Check)
		}
	}
	return out
}

// Brief leaves of a verdict what decides it, without sources, and nothing of what agrees: the
// form in which thousands of them are kept.
func (v *Verdict) Brief() {
	decides := func(all []Check) []Check {
		var out []Check
		for _, c := range all {
			if c.Outcome == v.Outcome && v.Outcome != Fits {
				c.Sources, c.Advice = nil, ""
				out = append(out, c)
			}
		}
		return slices.Clip(out)
	}
	v.Checks, v.Notes, v.Next, v.Weakest = decides(v.Checks), nil, nil, nil
	for i := range v.Members {
		m := &v.Members[i]
		*m = Member{Name: m.Name, About: m.About, Verdict: m.Verdict, Checks: decides(m.Checks), Chosen: slices.Clip(m.Chosen), family: m.family, release: m.release, scheme: m.scheme, schemes: m.schemes}
		for k := range m.Chosen {
			m.Chosen[k].Coverage = nil
		}
	}
}

// Better orders verdicts of several packages for one device: what fits first,
// then what is unsettled; within these the one with less against it, then the
// newer release, then the one whose images lie less deep in other archives.
func Better(a, b *Verdict) int {
	return cmp.Or(a.Outcome.Rank()-b.Outcome.Rank(), bit(a.called)-bit(b.called), a.against-b.against, newer(a, b), a.depth()-b.depth(), strings.Compare(a.Package, b.Package))
}

func bit(b bool) int {
	if b {
		return 1
	}
	return 0
}

func (v *Verdict) depth() int {
	n := 0
	for _, m := range v.Members {
		for _, c := range m.Chosen {
			n = max(n, strings.Count(c.Item, "::"))
		}
	}
	return n
}

func newer(a, b *Verdict) int {
	va, err1 := a.scheme.Parse(a.Release)
	vb, err2 := b.scheme.Parse(b.Release)
	switch {
	case err1 != nil && err2 != nil:
		return 0
	case err1 != nil:
		return 1
	case err2 != nil:
		return -1
	}
	return a.scheme.Compare(vb, va)
}
