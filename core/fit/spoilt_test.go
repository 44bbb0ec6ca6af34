package fit

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"fitcheck/internal/pagetest"
)

// TestWhatIsSaidOfSpoiltKits holds what verdicts say when one thing, or two, are not as they ought to be, against
// testdata/spoilt.txt: of each kit the lines that no verdict before had.
func TestWhatIsSaidOfSpoiltKits(t *testing.T) {
	var b strings.Builder
	r := rand.New(rand.NewPCG(9, 3))
	names := slices.Sorted(maps.Keys(spoils))
	before := map[string]bool{}
	tell := func(what string, p plan) {
		var fresh []string
		all := told(p.scene().run(t))
		for _, l := range strings.Split(all, "\n") {
			if alike := anyNumber.ReplaceAllString(l, "N"); l != "" && !before[alike] {
				before[alike] = true
				fresh = append(fresh, l)
			}
		}
		fmt.Fprintf(&b, "## %s (in all %.4x)\n%s\n", what, sha256.Sum256([]byte(all)), strings.Join(append(fresh, ""), "\n"))
	}
	for i := range 14 {
		p := makePlan(r)
		tell(fmt.Sprintf("plan %d", i), p)
		if weak := p; !p.bareTitle {
			weak.sums = "weak"
			tell(fmt.Sprintf("plan %d, by a weak digest", i), weak)
		}
		for _, name := range names {
			if spoilt := p; spoils[name](&spoilt) {
				tell(fmt.Sprintf("plan %d, %s", i, name), spoilt)
			}
		}
		for range 100 {
			one, two := names[r.IntN(len(names))], names[r.IntN(len(names))]
			if both := one + two; one == two || strings.Contains(both, "known") && (strings.Contains(both, "guessed") || strings.Contains(both, "rulebook")) {
				continue // what is not there is not read from anywhere, and not struck out of a rulebook
			}
			if spoilt := p; spoils[one](&spoilt) && spoils[two](&spoilt) {
				tell(fmt.Sprintf("plan %d, %s, and %s", i, one, two), spoilt)
			}
		}
	}
	for _, missing := range []int{1, 2, 49, 50, 51, 52, 99, 100, 101, 102} { // files that the manifest lists
		p := makePlan(rand.New(rand.NewPCG(1, 1)))
		for p.bareTitle || p.heading == "" {
			p = makePlan(r)
		}
		for i := range missing {
			p.fields += fmt.Sprintf("\nmain gone-%d.img 8.4.2", i)
			if p.revs != "" {
				p.fields += " revs=" + p.revs
			}
		}
		v := p.scene().run(t)
		count := 0
		for _, c := range v.checks() {
			if c.Check == "complete" {
				count++
			}
		}
		fmt.Fprintf(&b, "## %d files are missing: %d lines of it\n", missing, count)
		tell("what is said of them", p)
	}
	pagetest.Hold(t, filepath.Join("testdata", "spoilt.txt"), b.String())
}

// anyNumber stands for numbers and digests, which differ from kit to kit.
var anyNumber = regexp.MustCompile(`\b(?:0x)?[0-9a-f]*[0-9][0-9a-f]*\b`)
