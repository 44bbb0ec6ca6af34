package rulebook_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"fitcheck/core/rulebook"
	"fitcheck/demo"
	"fitcheck/internal/pagetest"
)

// TestWhatIsSaid holds what is said of the rulebooks of the demo kit when one of their lines is missing or its value is
// another, against testdata/said.txt, so that a change of what is said is seen.
func TestWhatIsSaid(t *testing.T) {
	var b strings.Builder
	told := map[string]bool{}
	for _, f := range append(demo.Kit(), whole(t)) {
		if !strings.HasPrefix(f.Path, "rulebooks/") {
			continue
		}
		fmt.Fprintf(&b, "## %s\n", f.Path)
		section := ""
		var sum pagetest.Sum
		look := func(what, text string) {
			rb, err := rulebook.Read(f.Path, []byte(text))
			var all []string
			if err != nil {
				all = strings.Split(err.Error(), "\n")
			} else {
				for _, w := range rb.Warnings() {
					all = append(all, "warning: "+fmt.Sprint(w))
				}
				for _, w := range rb.Faults() {
					all = append(all, "fault: "+fmt.Sprint(w))
				}
			}
			for _, said := range all {
				sum.Add("%s: %s", what, said)
				alike := section + varying.ReplaceAllString(said, "…")
				if strings.HasPrefix(section, "every ") {
					alike = section + said
				}
				if !told[alike] {
					told[alike] = true
					fmt.Fprintf(&b, "%s: %s\n", what, said)
				}
			}
		}
		lines := strings.Split(string(f.Data), "\n")
		with := func(i int, line string) string {
			out := append([]string{}, lines...)
			out[i] = line
			return strings.Join(out, "\n")
		}
		keys := map[string]bool{}
		if f.Path == severalRules {
			for _, m := range key.FindAllStringSubmatch(string(f.Data), -1) {
				keys[m[1]] = true
			}
		}
		for _, k := range slices.Sorted(maps.Keys(keys)) { // the same fault in several places, which are all told
			section = "every " + k
			each := regexp.MustCompile(`([\s{]` + k + `: )([^\s{\[][^,}\]\n]*|'[^'\n]*'|"[^"\n]*")`)
			look("every "+k+" misspelt", regexp.MustCompile(`([\s{])`+k+`:`).ReplaceAllString(string(f.Data), "${1}"+k+"s:"))
			for _, other := range []string{"nonsense", "{a: b}"} {
				look("every "+k+" as "+other, each.ReplaceAllString(string(f.Data), "${1}"+other))
			}
			look("every "+k+" away", regexp.MustCompile(`, `+k+`: (?:[^\s{\[',}][^,}\]\n]*|'[^'\n]*')|`+k+`: (?:[^\s{\[',}][^,}\]\n]*|'[^'\n]*'), `).ReplaceAllString(string(f.Data), ""))
		}
		for i, line := range lines {
			if strings.TrimSpace(line) == "" {
				continue
			}
			if m := top.FindString(line); m != "" {
				section = m
			}
			look(fmt.Sprintf("line %d away", i+1), strings.Join(append(append([]string{}, lines[:i]...), lines[i+1:]...), "\n"))
			if f.Path == "rulebooks/whole.yaml" {
				look(fmt.Sprintf("line %d twice", i+1), with(i, line+"\n"+line))
				for n, m := range inner.FindAllStringIndex(line, -1) {
					look(fmt.Sprintf("line %d, block %d empty", i+1, n+1), with(i, line[:m[0]+1]+line[m[1]-1:]))
				}
			}
			for n, m := range value.FindAllStringSubmatchIndex(line, -1) {
				for _, other := range others(f.Path) {
					look(fmt.Sprintf("line %d, value %d as %s", i+1, n+1, other), with(i, line[:m[2]]+other+line[m[3]:]))
				}
			}
			for n, m := range listed.FindAllStringSubmatchIndex(line, -1) {
				look(fmt.Sprintf("line %d, item %d misspelt", i+1, n+1), with(i, line[:m[3]]+"x"+line[m[3]:]))
			}
			for n, m := range pair.FindAllStringIndex(line, -1) {
				look(fmt.Sprintf("line %d, pair %d away", i+1, n+1), with(i, line[:m[0]]+line[m[1]:]))
			}
			for n, m := range key.FindAllStringSubmatchIndex(line, -1) {
				look(fmt.Sprintf("line %d, key %d misspelt", i+1, n+1), with(i, line[:m[2]]+line[m[2]:m[3]]+"s"+line[m[3]:]))
			}
			fmt.Fprintf(&b, "line %d: in all %s\n", i+1, &sum)
		}
		section = "two at once"
		r := rand.New(rand.NewPCG(1, uint64(len(lines))))
		for n := range 300 { // what is wrong in one place hides nothing of another
			out := slices.Clone(lines)
			var what []string
			for range 2 {
				i := r.IntN(len(lines))
				if m := value.FindAllStringSubmatchIndex(out[i], -1); len(m) > 0 {
					at, other := m[r.IntN(len(m))], others(f.Path)[r.IntN(len(others(f.Path)))]
					out[i] = out[i][:at[2]] + other + out[i][at[3]:]
					what = append(what, fmt.Sprintf("line %d as %s", i+1, other))
				} else {
					out[i] = ""
					what = append(what, fmt.Sprintf("line %d away", i+1))
				}
			}
			look(strings.Join(what, ", "), strings.Join(out, "\n"))
			if n%20 == 19 {
				fmt.Fprintf(&b, "%d times two: in all %s\n", n+1, &sum)
			}
		}
	}
	pagetest.Hold(t, filepath.Join("testdata", "said.txt"), b.String())
}

// severalRules is a rulebook with several of everything.
const severalRules = "rulebooks/quillmere-core.yaml"

// whole is a rulebook in which every key is used.
func whole(t *testing.T) demo.File {
	text, err := os.ReadFile(filepath.Join("testdata", "whole.yaml"))
	require.NoError(t, err)
	_, err = rulebook.Read("whole.yaml", text)
	require.NoError(t, err)
	return demo.File{Path: "rulebooks/whole.yaml", Data: text}
}

func others(path string) []string {
	if path == "rulebooks/whole.yaml" {
		return []string{"nonsense", "{a: b}", "[]", "-1", "70000", "''"}
	}
	return []string{"nonsense", "{a: b}"}
}

var (
	pair    = regexp.MustCompile(`, [a-z_]+: (?:[^\s{\[',}][^,}\]]*|'[^']*')|[a-z_]+: (?:[^\s{\[',}][^,}\]]*|'[^']*'), `)
	value   = regexp.MustCompile(`\w: ([^\s{\[][^,}\]]*|'[^']*'|"[^"]*")`)
	inner   = regexp.MustCompile(`\{[^{}]*\}|\[[^\[\]]*\]`)
	top     = regexp.MustCompile(`^[a-z]+:`)
	listed  = regexp.MustCompile(`[\[,] ?([\w-]+)[\],]`)
	key     = regexp.MustCompile(`(?:^|[\s{])([a-z_]+):`)
	varying = regexp.MustCompile(`[\w./-]+:\d+|"[^"]*"|\d+|known are .*|did you mean .*|[\w-]+(?:\[\d+\])?(?:\.[\w-]+(?:\[\d+\])?)+: |\([^)]*\)`)
)
